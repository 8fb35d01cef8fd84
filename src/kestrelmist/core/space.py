"""Where an image is: its grid and the affine from voxels to world millimetres.

World axes: +x to the subject's right, +y to the front, +z up. Voxel (0, 0, 0) is the centre of the first
voxel.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from .errors import Trouble

PICTURE = "picture"
"""Name of the space of a picture whose sides in the body are not known: a photograph, a section, a clip."""

AXIS_LETTERS = (("L", "R"), ("P", "A"), ("I", "S"))
"""Letters of the low and high end of each world axis: left/right, back/front, down/up."""


@dataclass(frozen=True)
class Space:
    """A grid of voxels in the world.

    Parameters
    ----------
    shape : tuple of 3 ints
        Voxels along i, j, k.
    affine : array (4, 4)
        Voxel index to world position, in `unit`.
    unit : str
        Length unit of the world: "mm", or "px" when an image has no scale.
    name : str
        Name of a shared space ("scanner", "picture", or a standard space).
    """

    shape: tuple[int, int, int]
    affine: np.ndarray = field(repr=False)
    unit: str = "mm"
    name: str = "scanner"

    def __post_init__(self):
        affine = np.array(self.affine, float)
        if affine.shape != (4, 4) or not np.all(np.isfinite(affine)):
            raise Trouble("The position matrix is not a 4 × 4 matrix of numbers",
                          "write the file again with its position, or give the voxel size yourself")
        scale = np.linalg.norm(affine[:3, :3], axis=0)
        # relative to the voxel sizes, so that a tiny but sound grid of a microscope passes
        if np.any(scale == 0) or abs(np.linalg.det(affine[:3, :3] / scale)) < 1e-4:
            raise Trouble("The position matrix is zero or flattens space, so no voxel has a place",
                          "write the file again with its position, or give the voxel size yourself")
        affine.setflags(write=False)
        object.__setattr__(self, "affine", affine)
        object.__setattr__(self, "shape", tuple(int(n) for n in self.shape))

    @cached_property
    def inverse(self) -> np.ndarray:
        """World to voxel, (4, 4)."""
        return np.linalg.inv(self.affine)

    @cached_property
    def spacing(self) -> tuple[float, float, float]:
        """Voxel size along i, j, k, in `unit`."""
        return tuple(float(s) for s in np.linalg.norm(self.affine[:3, :3], axis=0))

    @cached_property
    def voxel_volume(self) -> float:
        """Volume of one voxel, in `unit` cubed; sheared grids included."""
        return float(abs(np.linalg.det(self.affine[:3, :3])))

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
        return tuple(int(v) for v in voxel) if inside else None

    @property
    def sides_known(self) -> bool:
        """Whether left and right in the world are the subject's; not so for pictures."""
        return self.name != PICTURE

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

    @cached_property
    def world_axis_of(self) -> tuple[int, int, int]:
        """For each of i, j, k, the world axis it runs most nearly along; each world axis once."""
        direction = np.abs(self.affine[:3, :3] / np.array(self.spacing))
        result = [-1, -1, -1]
        for _ in range(3):
            world, grid = np.unravel_index(np.argmax(direction), (3, 3))
            result[grid] = int(world)
            direction[world, :] = direction[:, grid] = -1
        return tuple(result)

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
        return Space(tuple(shape), affine, self.unit, self.name)

    def sampled(self, step: int) -> Space:
        """The grid of every `step`th voxel, from the first one on."""
        affine = self.affine.copy()
        affine[:3, :3] *= [step if n > 1 else 1 for n in self.shape]
        return Space(tuple(-(-n // step) for n in self.shape), affine, self.unit, self.name)

    def as_dict(self) -> dict:
        return {"shape": list(self.shape), "affine": self.affine.tolist(), "unit": self.unit, "name": self.name}

    @classmethod
    def from_dict(cls, facts: dict) -> Space:
        return cls(tuple(facts["shape"]), np.array(facts["affine"]), facts["unit"], facts["name"])


def picture_space(columns: int, rows: int, spacing: tuple[float, float] | None, slices: int = 1, step: float | None = None) -> Space:
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
