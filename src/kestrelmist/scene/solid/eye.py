"""From where a scene is seen: a camera, and what it looks at, on a picture of some size."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from .rays import KEY_LIGHT

EACH = 2000
"""Places of each thing that are looked at."""
ANGLE = 28.0
"""Degrees that a picture is tall, as seen by an eye that sees what is near larger."""
NEARLY, ROOM = 98.0, 1.04
"""Percentile of the distances from the middle that is the radius of what is seen, so that an ear or a speck does not
make the rest small; and half of a picture's height, or width, as a share of that."""
SIDES = {
    "front": (0.0, 0.0),
    "back": (180.0, 0.0),
    "right": (90.0, 0.0),
    "left": (270.0, 0.0),
    "top": (0.0, 90.0),
    "bottom": (0.0, -90.0),
}
"""Turn and tilt of the six side views."""
START = (35.0, 22.0)


@dataclass(frozen=True)
class Camera:
    """Where one looks from.

    Parameters
    ----------
    turn, tilt, roll : degrees
        Round the up axis (0 is the front, 90 the subject's right), above the horizon, and clockwise.
    zoom : number
    across, up : number
        By how much what is looked at lies left of and below the middle, in halves of the picture's height at zoom 1.
    parallel : bool
        Whether what is near is drawn as large as what is far.
    """

    turn: float = START[0]
    tilt: float = START[1]
    zoom: float = 1.0
    roll: float = 0.0
    across: float = 0.0
    up: float = 0.0
    parallel: bool = False

    def turned(self, turn: float, tilt: float) -> Camera:
        """The camera after a turn, in degrees."""
        return replace(self, turn=(self.turn + turn) % 360, tilt=max(-90.0, min(90.0, self.tilt + tilt)))

    def zoomed(self, factor: float) -> Camera:
        """The camera nearer by a factor, within reason."""
        return replace(self, zoom=max(0.1, min(50.0, self.zoom * factor)))

    def side(self, name: str) -> Camera:
        """One of the six side views."""
        turn, tilt = SIDES[name]
        return replace(self, turn=turn, tilt=tilt, roll=0.0)


@dataclass(frozen=True)
class Frame:
    """A ball in the world: its middle and radius, mm."""

    middle: tuple[float, float, float] = (0.0, 0.0, 0.0)
    radius: float = 1.0


def around(places: Sequence[np.ndarray]) -> Frame:
    """The ball that holds nearly all of places, each array (n, 3), counted alike whatever their number."""
    if not places:
        return Frame()
    rng = np.random.default_rng(0)  # places stand in rows, of which every n-th would be the same side
    thinned = np.concatenate([one if len(one) <= EACH else one[rng.integers(0, len(one), EACH)] for one in places])
    middle = np.percentile(thinned, (1, 99), axis=0).mean(0)
    radius = float(np.percentile(np.linalg.norm(thinned - middle, axis=1), NEARLY))
    x, y, z = (float(v) for v in middle)
    return Frame((x, y, z), max(radius, 1e-9))


@dataclass(frozen=True)
class Eye:
    """A camera on a ball of the world, and a picture of so many pixels.

    Parameters
    ----------
    camera : Camera
    frame : Frame
        What is looked at.
    width, height : pixels
    light : three numbers
        Towards the light: right, up, towards who looks.
    """

    camera: Camera
    frame: Frame
    width: int
    height: int
    light: tuple[float, float, float] = field(default=KEY_LIGHT)

    @cached_property
    def axes(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Unit vectors of the world: to the right, up, and towards who looks."""
        a, b = np.radians(self.camera.turn), np.radians(self.camera.tilt)
        towards = np.array((np.sin(a) * np.cos(b), np.cos(a) * np.cos(b), np.sin(b)))
        up = np.array((-np.sin(a) * np.sin(b), -np.cos(a) * np.sin(b), np.cos(b)))
        right = np.cross(up, towards)
        r = np.radians(self.camera.roll)
        return right * np.cos(r) + up * np.sin(r), up * np.cos(r) - right * np.sin(r), towards

    @cached_property
    def whole(self) -> float:
        """Half of the picture's height at zoom 1, mm."""
        return ROOM * self.frame.radius / min(1.0, self.width / self.height)

    @cached_property
    def half(self) -> float:
        """Half of the picture's height where the middle of what is seen lies, mm."""
        return self.whole / self.camera.zoom

    @property
    def pixel(self) -> float:
        """Side of a pixel there, mm."""
        return 2 * self.half / self.height

    @cached_property
    def middle(self) -> np.ndarray:
        """The place in the middle of the picture, (3,)."""
        right, up, _ = self.axes
        return np.array(self.frame.middle) + right * self.camera.across * self.whole + up * self.camera.up * self.whole

    @cached_property
    def distance(self) -> float:
        """From the eye to the middle, mm: far enough for all of it to lie before the eye."""
        far = self.half / np.tan(np.radians(ANGLE / 2))
        return far if not self.camera.parallel else far + 4 * self.whole

    @cached_property
    def place(self) -> np.ndarray:
        """Where the eye is, (3,)."""
        return self.middle + self.axes[2] * self.distance

    def rays(self) -> np.ndarray:
        """What the kernel of rays is told, float64 (6, 3); columns and rows are pixels of this picture."""
        right, up, towards = self.axes
        step = self.pixel
        corner = -right * (self.width / 2 * step) + up * (self.height / 2 * step)
        light = right * self.light[0] + up * self.light[1] + towards * self.light[2]
        light = light / np.linalg.norm(light)
        if self.camera.parallel:
            return np.stack((self.place + corner, right * step, -up * step, -towards, light, -towards))
        ahead = -towards * self.distance + corner
        return np.stack((self.place, right * step, -up * step, ahead, light, -towards))

    def ray(self, x: float, y: float) -> tuple[np.ndarray, np.ndarray]:
        """Where the ray through a place of the picture begins, and its direction of length 1."""
        rays = self.rays()
        if self.camera.parallel:
            return rays[0] + x * rays[1] + y * rays[2], rays[3]
        ahead = rays[3] + x * rays[1] + y * rays[2]
        return rays[0], ahead / np.linalg.norm(ahead)

    def to_page(self, world) -> np.ndarray:
        """Pixels (x, y) and the distance before the eye, mm, of world positions: (…, 3)."""
        right, up, towards = self.axes
        away = np.asarray(world, float) - self.place
        depth = -(away @ towards)
        scale = 1.0 if self.camera.parallel else self.distance / np.maximum(depth, 1e-9)
        x = self.width / 2 + away @ right * scale / self.pixel
        y = self.height / 2 - away @ up * scale / self.pixel
        return np.stack((x, y, depth), -1)

    def resized(self, width: int, height: int) -> Eye:
        """The same view on another picture."""
        return replace(self, width=max(1, width), height=max(1, height))
