"""Transforms between two worlds."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field, replace

import numpy as np

from .errors import Trouble
from .world import SCANNER, World


@dataclass(frozen=True, eq=False)
class Transform:
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
    >>> shift.apply((1, 2, 3)).tolist()
    [6.0, 2.0, 3.0]
    >>> shift.then(shift.inverse()).matrix.tolist() == np.eye(4).tolist()
    True
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

    def apply(self, points) -> np.ndarray:
        """Positions of `target` for positions of `source`, (3,) or (n, 3), in mm."""
        return np.asarray(points, float) @ self.matrix[:3, :3].T + self.matrix[:3, 3]

    def inverse(self) -> Transform:
        """The way back."""
        return replace(self, matrix=np.linalg.inv(self.matrix), source=self.target, target=self.source)

    def then(self, other: Transform) -> Transform:
        """This transform and then another, as one.

        Raises Trouble when both worlds in between are known and are not the same.
        """
        if self.target.id and other.source.id and not self.target.is_one_with(other.source):
            raise Trouble(
                f"“{self.name}” leads to {self.target} and “{other.name}” starts from {other.source}",
                "join transforms whose ends meet, or turn one of them round",
            )
        return replace(self, matrix=other.matrix @ self.matrix, target=other.target)

    def content_hash(self) -> str:
        """SHA-256 of matrix and worlds."""
        worlds = repr((self.source.as_dict(), self.target.as_dict())).encode()
        return hashlib.sha256(self.matrix.tobytes() + worlds).hexdigest()

    def as_dict(self) -> dict:
        """As plain values, for JSON; name and subject stand in the row that keeps it."""
        return {
            "matrix": self.matrix.tolist(),
            "source": self.source.as_dict(),
            "target": self.target.as_dict(),
        }

    @classmethod
    def from_dict(cls, facts: dict, name: str = "", subject: str = "") -> Transform:
        """Read back from `as_dict`. Raises Trouble when the matrix is not right."""
        source, target = (World.from_dict(facts[key]) for key in ("source", "target"))
        return cls(np.array(facts["matrix"]), source, target, name, subject)
