"""What lies behind cells, place by place, and how far above it a cell begins."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from ...core.progress import Progress, silent

WIDE = 6.0
"""Diameters of a field, of which one background is taken."""
LOW = 30.0
"""Percentile of a field that counts as background."""
SAMPLES = 4_000_000
BAND = 16_000_000
"""Voxels that are read at once."""


class Readable(Protocol):
    """An array [k, j, i], or something that reads parts of one."""

    @property
    def shape(self) -> tuple[int, ...]:
        """Along k, j, i."""
        ...

    @property
    def size(self) -> int:
        """How many voxels."""
        ...

    def __getitem__(self, part: Any) -> np.ndarray:
        """A part."""
        ...


@dataclass(frozen=True)
class Ground:
    """The background of an image on a coarse grid, and the height above it at which cells begin.

    Parameters
    ----------
    coarse : float32 array [k, j, i]
        One value a field.
    step : voxels along k, j, i
        Of a field.
    limit : number
        In the image's values.
    """

    coarse: np.ndarray
    step: tuple[float, float, float]
    limit: float

    def under(self, part: tuple[slice, slice, slice]) -> np.ndarray:
        """The background of a part, between the middles of fields linearly."""
        found = self.coarse
        for axis, (s, step) in enumerate(zip(part, self.step)):
            at = (np.arange(s.start, s.stop) + 0.5) / step - 0.5
            n = found.shape[axis]
            low = np.clip(np.floor(at).astype(int), 0, max(n - 2, 0))
            share = np.clip(at - low, 0, 1).astype(np.float32)
            share = share.reshape([-1 if a == axis else 1 for a in range(3)])
            upper = np.minimum(low + 1, n - 1)
            found = np.take(found, low, axis) * (1 - share) + np.take(found, upper, axis) * share
        return found


def ground_of(
    values: Readable,
    sign: float,
    diameter: tuple[float, float, float],
    above: float | None,
    progress: Progress = silent(),
) -> Ground:
    """The background of a channel.

    Parameters
    ----------
    values : array [k, j, i]
    sign : 1 or −1
        Whether cells are brighter or darker than what is round them.
    diameter : voxels along k, j, i
    above : number, optional
        The height above it at which cells begin; found by N. Otsu's threshold (IEEE Trans. SMC 9, 1979) when left out.

    Raises
    ------
    Cancelled
    """
    from scipy import ndimage

    shape = values.shape
    counts = [max(1, round(n / max(1.0, WIDE * d))) for n, d in zip(shape, diameter)]
    step = (shape[0] / counts[0], shape[1] / counts[1], shape[2] / counts[2])
    coarse = np.zeros(counts, np.float32)
    thin = max(1, int((values.size / SAMPLES) ** 0.5))
    # many rows of fields at once: a packed file gives whole tiles, however few of their rows are asked for
    high = max(1, int(BAND / max(1.0, step[1] * shape[2])))
    rows = [(k, j) for k in range(counts[0]) for j in range(0, counts[1], high)]
    for k, first in progress.over(rows, len(rows), "Looking at the ground"):
        down = [_field(j, step[1]) for j in range(first, min(first + high, counts[1]))]
        band = values[_field(k, step[0]), slice(down[0].start, down[-1].stop), slice(0, shape[2])]
        for j, part in enumerate(down, first):
            row = band[:, part.start - down[0].start : part.stop - down[0].start : thin]
            for i in range(counts[2]):
                coarse[k, j, i] = sign * _low(sign, row[:, :, _field(i, step[2])][:, :, ::thin])
    if np.isnan(coarse).any():
        filled = coarse[np.isfinite(coarse)]
        coarse = np.where(np.isnan(coarse), filled.mean() if filled.size else 0.0, coarse).astype(np.float32)
    if min(coarse.shape[1:]) > 2:
        coarse = ndimage.median_filter(coarse, size=(1, 3, 3), mode="nearest")
    made = Ground(coarse, step, 0.0)
    if above is not None:
        return Ground(coarse, made.step, float(above))
    return Ground(coarse, made.step, _limit(values, sign, made, diameter))


def _field(n: int, step: float) -> slice:
    return slice(int(n * step), max(int(n * step) + 1, int((n + 1) * step)))


def _low(sign: float, field: np.ndarray) -> float:
    """The value below which the share of the background lies, of values with their sign; NaN when there is none."""
    known = field[np.isfinite(field)] if field.dtype.kind == "f" else field.ravel()
    if not known.size:
        return np.nan
    n = round(LOW / 100 * (known.size - 1))
    return float(np.partition(np.float32(sign) * known.astype(np.float32), n)[n])


def _limit(values: Readable, sign: float, made: Ground, diameter) -> float:
    """Otsu's threshold of heights above the background, of a share of the image that tells of all of it."""
    from skimage.filters import threshold_otsu

    from ...core.gaussian import smoothed

    heights = []
    nk, nj, ni = values.shape
    rows = max(1, int(SAMPLES / max(1, ni * min(nk, 8))))
    count = max(1, min(12, nj // rows))
    blur = [0.1 * d if n > 1 else 0.0 for d, n in zip(diameter, values.shape)]
    for k in np.unique(np.linspace(0, nk - 1, min(nk, 8)).astype(int)):
        for start in np.linspace(0, max(0, nj - rows // count), count).astype(int):
            part = (slice(k, k + 1), slice(start, min(nj, start + max(1, rows // count))), slice(0, ni))
            known = np.nan_to_num(np.asarray(values[part], np.float32), nan=0.0, posinf=0.0, neginf=0.0)
            heights.append((sign * (smoothed(known, blur) - made.under(part)))[0, ::2, ::2].ravel())
    found = np.concatenate(heights)
    found = found[np.isfinite(found)]
    if not found.size or found.min() == found.max():
        return np.inf
    return float(threshold_otsu(np.clip(found, *np.percentile(found, (0.1, 99.9)))))
