"""Which part of the world a pane shows, pixel by pixel."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..core.space import AXIS_LETTERS, Space


@dataclass(frozen=True)
class Plane:
    """One of the three planes through the world: its name, the axis it stands across, and the picture's axes."""

    name: str
    across: int
    right: int
    up: int


AXIAL = Plane("Axial", 2, 0, 1)
CORONAL = Plane("Coronal", 1, 0, 2)
SAGITTAL = Plane("Sagittal", 0, 1, 2)
PLANES = (CORONAL, AXIAL, SAGITTAL)


@dataclass(frozen=True)
class View:
    """A window of pixels on a plane.

    Parameters
    ----------
    plane : Plane
    centre : three mm
        World position shown at the middle of the picture.
    pixel : mm
        Side of a picture pixel.
    width, height : int
        Pixels.
    left_on_left : bool
        Whether the subject's left is on the picture's left. It is when the subject is seen from above the head
        or from behind, and is not when seen from the feet or the front. Only planes that hold the side axis change.
    """

    plane: Plane
    centre: tuple[float, float, float]
    pixel: float
    width: int
    height: int
    left_on_left: bool = True
    sides_known: bool = True

    @property
    def right(self) -> np.ndarray:
        """World step of one pixel to the right, mm."""
        step = np.zeros(3)
        step[self.plane.right] = -self.pixel if self.plane.right == 0 and not self.left_on_left else self.pixel
        return step

    @property
    def down(self) -> np.ndarray:
        """World step of one pixel down, mm."""
        step = np.zeros(3)
        step[self.plane.up] = -self.pixel
        return step

    @property
    def corner(self) -> np.ndarray:
        """World position of the centre of the first pixel."""
        return np.asarray(self.centre, float) - self.right * (self.width - 1) / 2 - self.down * (self.height - 1) / 2

    def to_world(self, x: float, y: float) -> np.ndarray:
        """World position under a pixel."""
        return self.corner + self.right * x + self.down * y

    def to_pixel(self, world) -> tuple[float, float]:
        """Pixel over which a world position lies, seen along the plane's normal."""
        away = np.asarray(world, float) - self.corner
        return float(away @ self.right) / self.pixel**2, float(away @ self.down) / self.pixel**2

    def voxel_frame(self, space: Space) -> np.ndarray:
        """Voxel coordinates of the first pixel, and their steps to the right and down, (3, 3)."""
        turn = space.inverse[:3, :3]
        return np.array([space.to_voxel(self.corner), turn @ self.right, turn @ self.down])

    def letters(self) -> dict[str, str]:
        """What stands at the picture's left, right, top and bottom edge."""
        low, high = AXIS_LETTERS[self.plane.right]
        if self.right[self.plane.right] < 0:
            low, high = high, low
        return {"left": low, "right": high, "top": AXIS_LETTERS[self.plane.up][1], "bottom": AXIS_LETTERS[self.plane.up][0]}

    def moved(self, **changes) -> View:
        return replace(self, **changes)


def fitted(plane: Plane, space: Space, width: int, height: int, left_on_left: bool = True, margin: float = 0.04) -> View:
    """A view that shows the whole grid with a small margin."""
    corners = space.corners()
    extent = corners.max(0) - corners.min(0)
    room = max(1e-9, 1 - 2 * margin)
    pixel = max(extent[plane.right] / (max(width, 1) * room), extent[plane.up] / (max(height, 1) * room))
    return View(plane, tuple((corners.max(0) + corners.min(0)) / 2), float(pixel), max(width, 1), max(height, 1), left_on_left)
