"""Which part of the world a pane shows, pixel by pixel."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from ..core.space import AXIS_LETTERS, Space

Vector = tuple[float, float, float]


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
    """A window of pixels on any plane of the world.

    Parameters
    ----------
    centre : three mm
        World position shown at the middle of the picture.
    rightward, downward : three numbers
        Directions of the picture's right and down in the world, of length 1 and at right angles.
    pixel : mm
        Side of a picture pixel.
    width, height : int
        Pixels.
    sides_known : bool
        Whether the world's axes are the subject's.

    Examples
    --------
    >>> view = plane_view(AXIAL, (0.0, 0.0, 3.0), 0.5, 101, 101)
    >>> view.to_world(50, 50).tolist(), view.to_pixel((1.0, 0.0, 3.0))
    ([0.0, 0.0, 3.0], (52.0, 50.0))
    """

    centre: Vector
    rightward: Vector
    downward: Vector
    pixel: float
    width: int
    height: int
    sides_known: bool = True

    @cached_property
    def right(self) -> np.ndarray:
        """World step of one pixel to the right, mm."""
        return _fixed(np.asarray(self.rightward, float) * self.pixel)

    @cached_property
    def down(self) -> np.ndarray:
        """World step of one pixel down, mm."""
        return _fixed(np.asarray(self.downward, float) * self.pixel)

    @cached_property
    def normal(self) -> np.ndarray:
        """Direction across the plane."""
        return _fixed(np.cross(self.rightward, self.downward))

    @cached_property
    def corner(self) -> np.ndarray:
        """World position of the centre of the first pixel."""
        return _fixed(
            np.asarray(self.centre, float) - self.right * (self.width - 1) / 2 - self.down * (self.height - 1) / 2
        )

    def to_world(self, x: float, y: float) -> np.ndarray:
        """World position under a pixel."""
        return self.corner + self.right * x + self.down * y

    def to_pixel(self, world) -> tuple[float, float]:
        """Pixel over which a world position lies, seen along the plane's normal."""
        away = np.asarray(world, float) - self.corner
        return float(away @ self.right) / self.pixel**2, float(away @ self.down) / self.pixel**2

    def to_page(self, points) -> np.ndarray:
        """Page positions (n, 2) of world positions (n, 3), seen along the plane's normal; the middle of the first pixel
        is at 0.5, 0.5."""
        away = np.asarray(points, float) - self.corner
        return np.stack((away @ self.right, away @ self.down), -1) / self.pixel**2 + 0.5

    def voxel_frame(self, space: Space) -> np.ndarray:
        """Voxel coordinates of the first pixel, and their steps to the right and down, (3, 3)."""
        turn = space.inverse[:3, :3]
        return np.array([space.to_voxel(self.corner), turn @ self.right, turn @ self.down])

    def letters(self) -> dict[str, str]:
        """What stands at the picture's left, right, top and bottom edge: the axis each runs along most nearly."""
        across, along = (int(np.argmax(np.abs(way))) for way in (self.rightward, self.downward))
        left, right = AXIS_LETTERS[across] if self.rightward[across] > 0 else AXIS_LETTERS[across][::-1]
        top, bottom = AXIS_LETTERS[along] if self.downward[along] > 0 else AXIS_LETTERS[along][::-1]
        return {"left": left, "right": right, "top": top, "bottom": bottom}

    def moved(self, **changes) -> View:
        return replace(self, **changes)


def _fixed(values: np.ndarray) -> np.ndarray:
    """Values that are worked out once for a view, and shared."""
    values.flags.writeable = False
    return values


def plane_axes(
    plane: Plane, left_on_left: bool = True, along: Space | None = None
) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """Directions of a picture's right and down in the world, of length 1 and at right angles.

    Parameters
    ----------
    left_on_left : bool
        Whether the subject's left is on the picture's left. It is when the subject is seen from above the head
        or from behind, and is not when seen from the feet or the front. Only planes that hold the side axis change.
    along : Space, optional
        The plane runs along the axes of this grid that are nearest to the world's, instead of the world's own.
    """
    right, down = np.zeros(3), np.zeros(3)
    right[plane.right], down[plane.up] = 1.0, -1.0
    if along is not None:
        right, down = own_direction(along, plane.right), -own_direction(along, plane.up)
        down = down - (down @ right) * right  # a sheared grid is seen at right angles all the same
        down /= np.linalg.norm(down)
    if plane.right == 0 and not left_on_left:
        right = -right
    return tuple(right.tolist()), tuple(down.tolist())


def own_direction(space: Space, axis: int) -> np.ndarray:
    """The direction of a grid's axis that is nearest to a world axis, pointing the same way, of length 1."""
    grid = space.world_axis_of.index(axis)
    way = space.affine[:3, grid] / space.spacing[grid]
    return way if way[axis] > 0 else -way


def is_tilted(space: Space) -> bool:
    """Whether a grid does not run along the world's axes."""
    return any(np.abs(own_direction(space, axis)[axis]) < 1 - 1e-9 for axis in range(3))


def plane_view(
    plane: Plane,
    centre,
    pixel: float,
    width: int,
    height: int,
    left_on_left: bool = True,
    sides_known: bool = True,
    along: Space | None = None,
) -> View:
    """A view on one of the three planes; see `plane_axes`."""
    x, y, z = (float(v) for v in centre)
    across, down = plane_axes(plane, left_on_left, along)
    return View((x, y, z), across, down, float(pixel), int(width), int(height), sides_known)  # type: ignore[arg-type]


def fitted(
    plane: Plane,
    space: Space,
    width: int,
    height: int,
    left_on_left: bool = True,
    margin: float = 0.04,
    along: Space | None = None,
) -> View:
    """A view that shows the whole grid with a small margin."""
    corners = space.corners()
    across, down = (np.array(way) for way in plane_axes(plane, left_on_left, along))
    wide, high = np.ptp(corners @ across), np.ptp(corners @ down)
    room = max(1e-9, 1 - 2 * margin)
    pixel = max(wide / (max(width, 1) * room), high / (max(height, 1) * room))
    if along is None:
        centre = (corners.max(0) + corners.min(0)) / 2
    else:
        centre = space.centre
    return plane_view(plane, centre, pixel, max(width, 1), max(height, 1), left_on_left, space.sides_known, along)


def through(view: View, plane: Plane, point, along: Space | None = None) -> View:
    """The view moved across its plane, so that it holds a point of the world."""
    centre = np.array(view.centre)
    if along is None:
        centre[plane.across] = float(point[plane.across])
    else:
        normal = view.normal / np.linalg.norm(view.normal)
        centre = centre + normal * ((np.asarray(point, float) - centre) @ normal)
    return view.moved(centre=tuple(centre.tolist()))
