"""How often the values of an image occur, for the picture of them beside a range."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.image import Image

BINS = 120
SAMPLE = 2_000_000
"""Voxels that are looked at; more would not change a picture 300 pixels wide."""


@dataclass(frozen=True)
class ValueCounts:
    """Heights of the bins between `low` and `high` (float64, BINS), the square root of counts, 1 for a tall one."""

    heights: np.ndarray
    low: float
    high: float

    @property
    def centres(self) -> np.ndarray:
        return self.low + (np.arange(BINS) + 0.5) * (self.high - self.low) / BINS


def value_counts(image: Image) -> ValueCounts:
    """Counts of an even sample of the voxels, from the 0.5 to the 99.95 percentile. Voxels without a finite value are
    left out; an image of one value has one bin that is not empty, and one without any value none."""
    return counts_of(image.sample(SAMPLE))


def counts_of(values: np.ndarray, log: bool = False) -> ValueCounts:
    """Counts of values; heights are the logarithm of counts instead of their square root when `log`."""
    values = np.asarray(values).ravel()
    sample = np.sort(values[np.isfinite(values)] if values.dtype.kind == "f" else values)
    if not sample.size:
        return ValueCounts(np.zeros(BINS), 0.0, 1.0)
    low, high = (float(sample[round(share * (sample.size - 1))]) for share in (0.005, 0.9995))
    if high <= low:
        width = abs(low) * 0.01 or 1.0
        low, high = low - width, high + width
    counted = np.histogram(sample, BINS, (low, high))[0]
    if log:
        heights = np.log1p(counted)
        return ValueCounts(heights / max(heights.max(), 1.0), low, high)
    heights = np.sqrt(counted)
    # the tallest bin is mostly air or ground: what most bins stay below is drawn as tall, so that tissue shows
    most = np.sort(heights[heights > 0])[::-1][3:4]
    return ValueCounts(heights / (most[0] if most.size else max(heights.max(), 1.0)), low, high)


def peaks_of(counts: ValueCounts, most: int = 4) -> list[float]:
    """The values at the highest peaks, those that stand out of what lies between them; the highest first."""
    from scipy import ndimage, signal

    soft = ndimage.gaussian_filter1d(np.minimum(counts.heights, 1.5), 1.5, mode="constant")
    at, found = signal.find_peaks(np.pad(soft, 1), prominence=0.06)
    order = np.argsort(found["prominences"])[::-1][:most]
    return [float(counts.centres[min(max(n - 1, 0), BINS - 1)]) for n in at[order]]
