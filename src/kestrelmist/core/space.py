"""Where an image is: its grid and the affine from voxels to world millimetres.

World axes: +x to the subject's right, +y to the front, +z up. Voxel (0, 0, 0) is the centre of the first
voxel.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from .errors import Trouble
from .quantity import measure_unit
from .world import PICTURE, SCANNER, World

AXIS_LETTERS = (("L", "R"), ("P", "A"), ("I", "S"))
"""Letters of the low and high end of each world axis: left/right, back/front, down/up."""
UNITS = ("mm", "px")
"""Units of a world: readers bring every other length to mm."""


@dataclass(frozen=True, eq=False)
class Space:
    """A grid of voxels in a world. Two spaces are equal when shape, affine, unit and world are.

    Parameters
    ----------
    shape : tuple of 3 ints
        Voxels along i, j, k.
    affine : array (4, 4)
        Voxel index to world position, in `unit`.
    unit : str
        Length unit of the world: "mm", or "px" when an image has no scale.
    world : World
        The world it lies in: a scanner's space, the plane of a picture, a standard space.

    Raises
    ------
    Trouble
        When the affine is no 4 × 4 matrix of numbers, or flattens space, or the unit is another one.

    Examples
    --------
    >>> space = Space((4, 4, 2), np.diag([0.5, 0.5, 2.0, 1.0]))
    >>> space.spacing
    (0.5, 0.5, 2.0)
    >>> space.to_world((1, 0, 1)).tolist()
    [0.5, 0.0, 2.0]
    >>> space.nearest_voxel((0.6, 0.1, 2.9))
    (1, 0, 1)
    """

    shape: tuple[int, int, int]
    affine: np.ndarray = field(repr=False)
    unit: str = "mm"
    world: World = SCANNER

    def __post_init__(self):
        affine = np.array(self.affine, float)
        if affine.shape != (4, 4) or not np.all(np.isfinite(affine)):
            raise Trouble(
                "The position matrix is not a 4 × 4 matrix of numbers",
                "write the file again with its position, or give the voxel size yourself",
            )
        scale = np.linalg.norm(affine[:3, :3], axis=0)
        # relative to the voxel sizes, so that a tiny but sound grid of a microscope passes
        if np.any(scale == 0) or abs(np.linalg.det(affine[:3, :3] / scale)) < 1e-4:
            raise Trouble(
                "The position matrix is zero or flattens space, so no voxel has a place",
                "write the file again with its position, or give the voxel size yourself",
            )
        if self.unit not in UNITS:
            raise Trouble(
                f"The length unit of a grid is “mm”, or “px” when nothing is known of it, and not “{self.unit}”",
                "bring the position matrix to mm",
            )
        affine.setflags(write=False)
        object.__setattr__(self, "affine", affine)
        object.__setattr__(self, "shape", tuple(int(n) for n in self.shape))

    def __eq__(self, other) -> bool:
        return isinstance(other, Space) and self._key == other._key

    def __hash__(self) -> int:
        return hash(self._key)

    @cached_property
    def _key(self) -> tuple:
        return self.shape, self.affine.tobytes(), self.unit, self.world

    @cached_property
    def inverse(self) -> np.ndarray:
        """World to voxel, (4, 4)."""
        return np.linalg.inv(self.affine)

    @cached_property
    def spacing(self) -> tuple[float, float, float]:
        """Voxel size along i, j, k, in `unit`."""
        i, j, k = (float(s) for s in np.linalg.norm(self.affine[:3, :3], axis=0))
        return i, j, k

    @cached_property
    def voxel_volume(self) -> float:
        """Volume of one voxel, in `unit` cubed; sheared grids included."""
        return float(abs(np.linalg.det(self.affine[:3, :3])))

    @property
    def extent(self) -> tuple[str, float, str]:
        """What a region of this grid has: ("volume", size of a voxel, its unit), or of a picture ("area", size of a
        pixel, its unit). Without a scale, sizes are 1 and the units are voxels and pixels."""
        if self.flat_axis is None:
            return "volume", 1.0 if self.unit == "px" else self.voxel_volume, measure_unit(self.unit, 3)
        across = [n for n in range(3) if self.shape[n] > 1][:2] or [0, 1]
        if len(across) == 1:
            across.append(next(n for n in range(2) if n not in across))
        a, b = (self.affine[:3, n] for n in across)
        area = 1.0 if self.unit == "px" else float(np.linalg.norm(np.cross(a, b)))
        return "area", area, measure_unit(self.unit, 2)

    def to_world(self, voxel) -> np.ndarray:
        """World position of voxel coordinates, (3,) or (n, 3)."""
        return np.asarray(voxel, float) @ self.affine[:3, :3].T + self.affine[:3, 3]

    def to_voxel(self, world) -> np.ndarray:
        """Voxel coordinates (not rounded) of a world position, (3,) or (n, 3)."""
        return np.asarray(world, float) @ self.inverse[:3, :3].T + self.inverse[:3, 3]

    def nearest_voxel(self, world) -> tuple[int, int, int] | None:
        """Index of the voxel that holds a world position, None outside the grid."""
        voxel = np.floor(self.to_voxel(world) + 0.5).astype(int)
        inside = np.all(voxel >= 0) and np.all(voxel < self.shape)
        i, j, k = (int(v) for v in voxel)
        return (i, j, k) if inside else None

    def stepped(self, world, axis: int, count: int, own: bool = False) -> np.ndarray:
        """A position moved by `count` voxels along a world axis, to the middle of a voxel when the grid runs along it,
        and not beyond the grid.

        Parameters
        ----------
        own : bool
            Along the grid's own axis that is nearest to the world's, instead.
        """
        grid = self.world_axis_of.index(axis)
        voxel = self.to_voxel(world)
        sign = 1 if self.affine[axis, grid] > 0 else -1
        target = np.floor(voxel[grid] + 0.5) + sign * count
        if own:
            voxel[grid] = np.clip(target, 0, self.shape[grid] - 1)
            return self.to_world(voxel)
        moved = np.array(world, float)
        # stay on the line along the world axis: only this coordinate changes
        moved[axis] += (target - voxel[grid]) / self.inverse[grid, axis]
        corners = self.corners()
        moved[axis] = np.clip(moved[axis], corners[:, axis].min(), corners[:, axis].max())
        return moved

    @property
    def sides_known(self) -> bool:
        """Whether left and right in the world are the subject's; not so for pictures."""
        return self.world.sides_known

    @property
    def flat_axis(self) -> int | None:
        """The world axis across a picture of one slice, None for a volume."""
        flat = [grid for grid in range(3) if self.shape[grid] == 1]
        return self.world_axis_of[flat[-1]] if flat else None

    @property
    def centre(self) -> np.ndarray:
        """World position of the middle of the grid."""
        return self.to_world((np.array(self.shape) - 1) / 2)

    def corners(self) -> np.ndarray:
        """World positions of the outer corners of the grid, (8, 3)."""
        n = np.array(self.shape)
        picks = np.array(np.meshgrid([0, 1], [0, 1], [0, 1], indexing="ij")).reshape(3, -1).T
        return self.to_world(picks * n - 0.5)

    def across(self, axis: int) -> np.ndarray:
        """Direction of length 1 across the slices that are stacked along one of the grid's axes (0, 1, 2)."""
        found = np.cross(self.affine[:3, (axis + 1) % 3], self.affine[:3, (axis + 2) % 3])
        return found / np.linalg.norm(found)

    @cached_property
    def world_axis_of(self) -> tuple[int, int, int]:
        """For each of i, j, k, the world axis it runs most nearly along; each world axis once."""
        direction = np.abs(self.affine[:3, :3] / np.array(self.spacing))
        result = [-1, -1, -1]
        for _ in range(3):
            world, grid = np.unravel_index(np.argmax(direction), (3, 3))
            result[grid] = int(world)
            direction[world, :] = direction[:, grid] = -1
        return result[0], result[1], result[2]

    def same_grid(self, other: Space) -> bool:
        """Whether every voxel of both stands at the same place, to a thousandth of a voxel."""
        if self.shape != other.shape or self.unit != other.unit:
            return False
        return bool(np.abs(self.corners() - other.corners()).max() < 1e-3 * min(self.spacing))

    def resized(self, shape) -> Space:
        """A grid of another shape over the same extent: outer faces stay where they are."""
        scale = np.array(self.shape) / np.array(shape, float)
        affine = self.affine.copy()
        affine[:3, 3] = self.to_world((scale - 1) / 2)
        affine[:3, :3] *= scale
        return replace(self, shape=tuple(shape), affine=affine)

    def sampled(self, step: int) -> Space:
        """The grid of every `step`th voxel, from the first one on."""
        affine = self.affine.copy()
        affine[:3, :3] *= [step if n > 1 else 1 for n in self.shape]
        i, j, k = (-(-n // step) for n in self.shape)
        return replace(self, shape=(i, j, k), affine=affine)

    def in_world(self, world: World) -> Space:
        """The same grid in another world."""
        return replace(self, world=world)

    def moved(self, matrix) -> Space:
        """The grid after a movement of the world, (4, 4): a voxel at p comes to lie at matrix @ p."""
        return replace(self, affine=np.asarray(matrix, float) @ self.affine)

    def relocated(self, before: Space, after: Space) -> Space:
        """This grid after another one, which it keeps its place to, was moved from `before` to `after`."""
        return replace(self.moved(after.affine @ before.inverse), unit=after.unit, world=after.world)

    def as_dict(self) -> dict:
        """As plain values, for JSON."""
        return {
            "shape": list(self.shape),
            "affine": self.affine.tolist(),
            "unit": self.unit,
            "world": self.world.as_dict(),
        }

    @classmethod
    def from_dict(cls, facts: dict) -> Space:
        """Read back what `as_dict` wrote, or an older study, which knew worlds by name only."""
        world = World.from_dict(facts["world"] if "world" in facts else facts.get("name", "scanner"))
        return cls(tuple(facts["shape"]), np.array(facts["affine"]), facts["unit"], world)


def picture_space(
    columns: int, rows: int, spacing: tuple[float, float] | None, slices: int = 1, step: float | None = None
) -> Space:
    """The grid of a picture without a place of its own: upright, its middle at the origin, sides unknown.

    Parameters
    ----------
    columns, rows : int
    spacing : two lengths in mm, or None
        Pixel size to the right and down; "px" becomes the unit when it is None.
    slices : int
        Pictures one behind the other, away from the eye.
    step : mm, optional
        Distance between them.
    """
    right, down = spacing or (1.0, 1.0)
    affine = np.diag([right, -down, -(step or min(right, down)), 1.0])
    affine[:3, 3] = -affine[:3, :3] @ ((np.array([columns, rows, slices]) - 1) / 2)
    return Space((columns, rows, slices), affine, "mm" if spacing else "px", PICTURE)
