"""Displacement fields: a shift for every voxel of a grid."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from .bend import Bend
from .cell import cell, within
from .errors import Trouble
from .halves import in_halves
from .kernel import kernel
from .mapping import Mapping, worlds_of
from .space import Space
from .turned_round import TurnedRound
from .world import SCANNER, World

BLOCK = 1 << 17
"""Points that are worked on at a time."""
MANY = 30_000
"""Points that are worth a kernel: panes ask for fewer at a time, and must not wait for a compiler."""
ROUNDS, CLOSE = 100, 1e-4
"""Steps on the way back at most, and how near (in voxels) ends it."""


@dataclass(frozen=True, eq=False)
class DisplacementField(Mapping):
    """Where each position of a world goes: a shift in mm at every voxel of a grid, linear in between, and none beyond
    the outer voxels, as ITK has it.

    Parameters
    ----------
    shifts : float32 array (I, J, K, 3)
        In mm to the right, front and up.
    space : Space
        The grid, in `source`.
    source, target : World
    name, subject : str

    Raises
    ------
    Trouble
        When it is of another shape than its grid, or some shift is no number.
    """

    shifts: np.ndarray = field(repr=False)
    space: Space = field(repr=False)
    source: World = SCANNER
    target: World = SCANNER
    name: str = ""
    subject: str = ""

    def __post_init__(self):
        if self.shifts.shape != (*self.space.shape, 3):
            raise Trouble(
                f"A displacement field has three numbers for each voxel of its grid, and this one is"
                f" {' × '.join(map(str, self.shifts.shape))}",
                "write it anew",
            )
        for k in range(self.space.shape[2]):  # a field may be larger than what is free
            if not np.isfinite(self.shifts[:, :, k]).all():
                raise Trouble("Some shifts of this displacement field are no numbers (NaN)", "write it without them")

    @property
    def words(self) -> str:
        """What kind it is, for a person."""
        return "displacement field"

    def to(self, points) -> np.ndarray:
        """Positions of `target` for positions of `source`; see `Mapping`."""
        points = np.asarray(points, float)
        flat = points.reshape(-1, 3)
        out = np.empty_like(flat)
        for n in range(0, len(flat), BLOCK):
            block = flat[n : n + BLOCK]
            out[n : n + BLOCK] = block + self._shift(block)
        return out.reshape(points.shape)

    def back(self, points) -> np.ndarray:
        """By repeated correction: a place is where the shift of it leads to the point (P. A. Fletcher's fixed point as
        in M. Chen et al., Med. Phys. 35, 2008); NaN where the field folds and no such place is found."""
        points = np.asarray(points, float)
        flat = points.reshape(-1, 3)
        out = np.empty_like(flat)
        for n in range(0, len(flat), BLOCK):
            out[n : n + BLOCK] = self._found_back(flat[n : n + BLOCK])
        return out.reshape(points.shape)

    def bend(self) -> Bend:
        """See `Mapping`."""
        return Bend(np.eye(4), self.shifts, self.space, np.eye(4))

    def inverse(self) -> Mapping:
        """The way back."""
        return TurnedRound(self, self.name, self.subject)

    def facts(self) -> tuple[dict[str, Any], list[np.ndarray]]:
        """See `Mapping`."""
        return {"kind": "displacement field", "space": self.space.as_dict(), "shifts": 0, **worlds_of(self)}, [
            np.asarray(self.shifts)
        ]

    @classmethod
    def from_facts(cls, facts: dict, arrays: list[np.ndarray]) -> DisplacementField:
        """Read back from `facts`."""
        source, target = (World.from_dict(facts[key]) for key in ("source", "target"))
        return cls(arrays[facts["shifts"]], Space.from_dict(facts["space"]), source, target)

    def _shift(self, points: np.ndarray) -> np.ndarray:
        voxels = self.space.to_voxel(points)
        out = np.zeros_like(points)
        if len(points) >= MANY:
            in_halves(len(points), lambda first, last: _shifts_at(self.shifts, voxels, out, first, last))
            return out
        last = np.array(self.space.shape) - 1
        inside = np.all((voxels >= -0.5) & (voxels <= last + 0.5), axis=1)
        if not inside.any():
            return out
        from scipy import ndimage

        at, found = np.clip(voxels[inside], 0, last).T, np.empty((int(inside.sum()), 3))
        for n in range(3):
            part = self.shifts[..., n]
            found[:, n] = ndimage.map_coordinates(part, at, order=1, output=float, mode="nearest", prefilter=False)
        out[inside] = found
        return out

    def _found_back(self, points: np.ndarray) -> np.ndarray:
        near = CLOSE * float(min(self.space.spacing))
        at = points - self._shift(points)
        step = 1.0
        off = points - at - self._shift(at)
        far = np.linalg.norm(off, axis=1)
        for n in range(ROUNDS):
            open_ones = far > near
            if not open_ones.any():
                break
            step = 1.0 if n < ROUNDS // 2 else 0.5  # what swings round the place settles with shorter steps
            tried = at[open_ones] + step * off[open_ones]
            away = points[open_ones] - tried - self._shift(tried)
            at[open_ones], off[open_ones] = tried, away
            far[open_ones] = np.linalg.norm(away, axis=1)
        at[far > 1000 * near] = np.nan  # a tenth of a voxel
        return at


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _shifts_at(shifts, voxels, out, first, last):
    """Shifts at voxel coordinates (n, 3), linear between voxels; none beyond the outer ones, or at no place (NaN)."""
    ni, nj, nk = shifts.shape[0], shifts.shape[1], shifts.shape[2]
    for n in range(first, last):
        x, y, z = voxels[n, 0], voxels[n, 1], voxels[n, 2]
        if not within(x, y, z, ni, nj, nk):
            continue
        (a, d, u), (b, e, v), (c, f, w) = cell(x, ni), cell(y, nj), cell(z, nk)
        for m in range(3):
            x00 = shifts[a, b, c, m] + u * (shifts[d, b, c, m] - shifts[a, b, c, m])
            x01 = shifts[a, e, c, m] + u * (shifts[d, e, c, m] - shifts[a, e, c, m])
            x10 = shifts[a, b, f, m] + u * (shifts[d, b, f, m] - shifts[a, b, f, m])
            x11 = shifts[a, e, f, m] + u * (shifts[d, e, f, m] - shifts[a, e, f, m])
            y0, y1 = x00 + v * (x01 - x00), x10 + v * (x11 - x10)
            out[n, m] = y0 + w * (y1 - y0)
