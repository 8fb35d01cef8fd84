"""Affine transforms between two worlds."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from .errors import Trouble
from .mapping import Mapping, worlds_of
from .world import SCANNER, World


@dataclass(frozen=True, eq=False)
class Transform(Mapping):
    """An affine map of positions in one world to positions in another.

    Parameters
    ----------
    matrix : array (4, 4)
        A position p of `source`, in mm, lies at `matrix @ (p, 1)` in `target`. The last row is 0 0 0 1.
    source, target : World
        The worlds it leads from and to.
    name, subject : str

    Raises
    ------
    Trouble
        When the matrix is not 4 × 4, holds what is no number, has another last row, or flattens space.

    Examples
    --------
    >>> shift = Transform(np.array([[1, 0, 0, 5.0], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1]]))
    >>> shift.to((1, 2, 3)).tolist(), shift.back((6, 2, 3)).tolist()
    ([6.0, 2.0, 3.0], [1.0, 2.0, 3.0])
    """

    matrix: np.ndarray = field(repr=False)
    source: World = SCANNER
    target: World = SCANNER
    name: str = ""
    subject: str = ""

    def __post_init__(self):
        matrix = np.array(self.matrix, float)
        if matrix.shape != (4, 4) or not np.isfinite(matrix).all():
            raise Trouble("A transform is a 4 × 4 matrix of numbers", "check the numbers")
        if np.abs(matrix[3] - (0, 0, 0, 1)).max() > 1e-9:
            raise Trouble("The last row of this transform is not 0 0 0 1, so it is not affine", "choose an affine one")
        scale = np.linalg.norm(matrix[:3, :3], axis=0)
        if np.any(scale == 0) or abs(np.linalg.det(matrix[:3, :3] / scale)) < 1e-9:
            raise Trouble("The matrix of this transform is singular: it flattens space", "write the transform anew")
        matrix.setflags(write=False)
        object.__setattr__(self, "matrix", matrix)

    def __eq__(self, other) -> bool:
        same = isinstance(other, Transform) and (self.source, self.target) == (other.source, other.target)
        return same and bool(np.array_equal(self.matrix, other.matrix))

    def __hash__(self) -> int:
        return hash((self.matrix.tobytes(), self.source, self.target))

    @property
    def words(self) -> str:
        """What kind it is, for a person."""
        return "affine"

    def to(self, points) -> np.ndarray:
        """Positions of `target` for positions of `source`; see `Mapping`."""
        return np.asarray(points, float) @ self.matrix[:3, :3].T + self.matrix[:3, 3]

    def back(self, points) -> np.ndarray:
        """Positions of `source` for positions of `target`; see `Mapping`."""
        return self.inverse().to(points)

    def inverse(self) -> Transform:
        """The way back."""
        return replace(self, matrix=np.linalg.inv(self.matrix), source=self.target, target=self.source)

    def facts(self) -> tuple[dict[str, Any], list[np.ndarray]]:
        """See `Mapping`."""
        return {"matrix": self.matrix.tolist(), **worlds_of(self)}, []

    @classmethod
    def from_facts(cls, facts: dict, arrays: list[np.ndarray]) -> Transform:
        """Read back from `facts`. Raises Trouble when the matrix is not right."""
        source, target = (World.from_dict(facts[key]) for key in ("source", "target"))
        return cls(np.array(facts["matrix"]), source, target)
