"""An image as the rays take it: levels of its values, coarser copies, and which blocks may be seen."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ...core.halves import in_halves
from ...core.image import Image
from ...core.kernel import kernel, unmarked
from ...core.labels import LabelMap
from .rays import BLOCK, LEVELS
from .shared import SharedArray
from .volume_look import VolumeLook, table_of

OUTER = (0.02, 99.98)
"""Percentiles between which values have levels of their own."""
COARSE = 128
"""Voxels along the longest side of the copy that is drawn while the scene turns."""


@dataclass(frozen=True, eq=False)
class Levels:
    """Values of an image in steps.

    Parameters
    ----------
    voxels : uint16 array [k, j, i]
        0 for nothing, 1 to LEVELS − 1 for values from `low` to `high`.
    affine : array (4, 4)
        Voxel to world.
    low, high : values
    """

    voxels: np.ndarray
    affine: np.ndarray
    low: float
    high: float
    memory: SharedArray | None = None
    """Where the voxels lie when another process may look into them."""

    def __reduce__(self) -> tuple:
        voxels = self.voxels if self.memory is None else self.memory
        return _levels_of, (voxels, self.affine, self.low, self.high)

    @property
    def step(self) -> float:
        """Shortest side of a voxel, mm."""
        return float(np.linalg.norm(self.affine[:3, :3], axis=0).min())


def _levels_of(voxels: np.ndarray | SharedArray, affine: np.ndarray, low: float, high: float) -> Levels:
    """Levels as they come from another process."""
    if isinstance(voxels, SharedArray):
        return Levels(unmarked(voxels.array), affine, low, high, voxels)
    return Levels(voxels, affine, low, high)


def levels_of(image: Image, mask: LabelMap | None = None, numbers: tuple[int, ...] = ()) -> Levels:
    """An image in steps; what is no number, or outside of labels when some are given, is nothing.

    Parameters
    ----------
    mask : LabelMap, optional
        On the grid of the image.
    numbers : tuple of int
        Of its labels; all that are drawn when left out.
    """
    low, high = value_ends(image)
    kji = unmarked(image.kji)
    memory = SharedArray(kji.shape, np.uint16)
    found = memory.array
    allowed = np.ones(65536, np.uint8)
    if mask is not None:
        allowed[:] = 0
        allowed[list(numbers) or slice(1, None)] = 1
    kept = unmarked(mask.kji) if mask is not None else np.zeros((1, 1, 1), np.uint16)
    scale = (LEVELS - 2) / (high - low)
    in_halves(len(kji), lambda a, b: _levels(kji, low, scale, kept, mask is not None, allowed, a, b, found), kji.size)
    return Levels(found, image.space.affine, low, high, memory)


def value_ends(image: Image) -> tuple[float, float]:
    """The values of the lowest and the highest level."""
    sample = np.asarray(image.sample()).ravel()
    sample = sample[np.isfinite(sample)] if sample.dtype.kind == "f" else sample
    if not sample.size:
        return 0.0, 1.0
    low, high = (float(v) for v in np.percentile(sample, OUTER))
    top = float(sample.max())
    high = top if high <= low else high
    return (low, high) if high > low else (low - 0.5 * (abs(low) or 1.0), low + 0.5 * (abs(low) or 1.0))


def coarser(levels: Levels, longest: int = COARSE) -> Levels:
    """A copy of mean levels with at most so many voxels along a side; the same one when it has no more."""
    most = -(-max(levels.voxels.shape) // longest)
    if most < 2:
        return levels
    factors = np.array([max(1, min(most, n // 2)) for n in levels.voxels.shape])  # two slices stay at least
    shape = [-(-n // f) for n, f in zip(levels.voxels.shape, factors.tolist())]
    found = np.empty(shape, np.uint16)
    in_halves(shape[0], lambda a, b: _mean(levels.voxels, factors, a, b, found), levels.voxels.size)
    affine = levels.affine.copy()
    affine[:3, :3] *= factors[::-1]
    affine[:3, 3] += levels.affine[:3, :3] @ ((factors[::-1] - 1) / 2)
    return Levels(found, affine, levels.low, levels.high)


@dataclass(eq=False)
class DrawnVolume:
    """Levels with the ends of their blocks, and how they look at present."""

    levels: Levels
    look: VolumeLook
    ends: np.ndarray = field(init=False)
    """Lowest and highest level of each block that is something, uint16 (k, j, i, 2); 0, 0 for nothing at all."""

    def __post_init__(self):
        shape = [-(-n // BLOCK) for n in self.levels.voxels.shape]
        self.ends = np.zeros((*shape, 2), np.uint16)
        in_halves(shape[0], lambda a, b: _ends(self.levels.voxels, a, b, self.ends), self.levels.voxels.size)

    def seen(self) -> np.ndarray:
        """Which blocks may be seen, uint8 (k, j, i): all that are something where a projection looks for the lowest or
        mean value."""
        low, high = self.ends[..., 0].astype(int), self.ends[..., 1].astype(int)
        if self.look.way in ("lowest", "mean"):
            return (high > 0).astype(np.uint8)
        opaque = np.concatenate(([0], np.cumsum(self.table(1.0)[:, 3] > 0.0005)))
        return ((high > 0) & (opaque[high + 1] > opaque[np.maximum(low, 1)])).astype(np.uint8)

    def table(self, steps: float) -> np.ndarray:
        """Colour and opacity of each level over a length of so many mm, float32 (LEVELS, 4)."""
        table = table_of(self.look, self.levels.low, self.levels.high)
        if self.look.way == "shaded":
            table[:, 3] = 1 - (1 - np.minimum(table[:, 3], 0.9999)) ** (steps / self.look.length(self.levels.step))
        return table

    def places(self) -> np.ndarray:
        """World positions of the corners of blocks that may be seen, (n, 3): of the outermost in each row of blocks."""
        seen = self.seen() != 0
        first = seen & (np.cumsum(seen, 2) == 1)
        last = seen & (np.cumsum(seen[:, :, ::-1], 2)[:, :, ::-1] == 1)
        blocks = np.argwhere(first | last)[:, ::-1]
        size = np.array(self.levels.voxels.shape[::-1])
        low, high = blocks * BLOCK - 0.5, np.minimum((blocks + 1) * BLOCK, size) - 0.5
        ends = np.stack((low, high), 1)
        corners = [
            np.stack((ends[:, a, 0], ends[:, b, 1], ends[:, c, 2]), 1) for a in (0, 1) for b in (0, 1) for c in (0, 1)
        ]
        return np.concatenate(corners) @ self.levels.affine[:3, :3].T + self.levels.affine[:3, 3]


@kernel
def _levels(values, low, scale, mask, masked, allowed, start, end, found):
    for k in range(start, end):
        for j in range(values.shape[1]):
            for i in range(values.shape[2]):
                value = float(values[k, j, i])
                if masked and allowed[mask[k, j, i]] == 0:
                    found[k, j, i] = 0
                elif value == value and abs(value) < 1e300:
                    found[k, j, i] = 1 + int(min(max((value - low) * scale, 0.0), 4094.0) + 0.5)
                else:
                    found[k, j, i] = 0


@kernel
def _mean(voxels, factors, start, end, found):
    for c in range(start, end):
        for b in range(found.shape[1]):
            for a in range(found.shape[2]):
                total, n, cells = 0, 0, 0
                for k in range(c * factors[0], min((c + 1) * factors[0], voxels.shape[0])):
                    for j in range(b * factors[1], min((b + 1) * factors[1], voxels.shape[1])):
                        for i in range(a * factors[2], min((a + 1) * factors[2], voxels.shape[2])):
                            cells += 1
                            if voxels[k, j, i] > 0:
                                total += voxels[k, j, i]
                                n += 1
                found[c, b, a] = (total + n // 2) // n if 2 * n > cells else 0


@kernel
def _ends(voxels, start, end, ends):
    """Of each block and the voxels that it shares with the next one."""
    for c in range(start, end):
        for b in range(ends.shape[1]):
            for a in range(ends.shape[2]):
                low, high = 65535, 0
                for k in range(c * BLOCK, min((c + 1) * BLOCK + 1, voxels.shape[0])):
                    for j in range(b * BLOCK, min((b + 1) * BLOCK + 1, voxels.shape[1])):
                        for i in range(a * BLOCK, min((a + 1) * BLOCK + 1, voxels.shape[2])):
                            value = voxels[k, j, i]
                            if value > 0:
                                low = min(low, value)
                                high = max(high, value)
                ends[c, b, a, 0], ends[c, b, a, 1] = (low, high) if high > 0 else (0, 0)
