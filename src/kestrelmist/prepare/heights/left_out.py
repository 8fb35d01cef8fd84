"""What is left out of the fit to a height map."""

from __future__ import annotations

import numpy as np

from ...core.heights import in_nanometres
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.on_grid import require_same_grid
from .lines_fit import Left

FURTHEST = float(np.finfo(np.float32).max)


def left_of(
    image: Image,
    slow: bool,
    below: float | None,
    above: float | None,
    each_line: bool,
    leave_out: LabelMap | None = None,
) -> Left:
    """The heights of a picture as lines, and what of them counts.

    Parameters
    ----------
    slow : bool
        Lines run along the slow axis (j) instead of the fast one (i).
    below, above : nm
        Heights outside these limits do not count.
    each_line : bool
        Limits are counted from the median of each line.
    leave_out : LabelMap
        On the image's grid; voxels that carry a label do not count.

    Raises
    ------
    Trouble
        When limits are given and the values are no lengths, or the labels lie on another grid.
    """
    heights = image.kji[0].astype(np.float32, copy=False)
    heights = np.ascontiguousarray(heights.T if slow else heights)
    low, high = np.full(len(heights), -FURTHEST), np.full(len(heights), FURTHEST)
    if below is not None or above is not None:
        factor = in_nanometres(image)
        zero = medians(heights) if each_line else np.zeros(len(heights))
        low = low if below is None else np.nan_to_num(zero + below / factor, nan=FURTHEST)
        high = high if above is None else np.nan_to_num(zero + above / factor, nan=-FURTHEST)
    painted = np.zeros((0, 0), np.uint8)
    if leave_out is not None:
        require_same_grid(image, leave_out)
        labelled = leave_out.kji[0] > 0
        painted = np.ascontiguousarray(labelled.T if slow else labelled).view(np.uint8)
    return Left(heights, low, high, painted)


def heights_counted(image: Image, slow: bool, each_line: bool, most: int = 1_000_000) -> np.ndarray:
    """Heights in nm as limits count them, of about `most` points, for a histogram; raises Trouble when the values are
    no lengths."""
    factor = in_nanometres(image)
    heights = image.kji[0].astype(np.float32, copy=False)
    heights = heights.T if slow else heights
    step = max(1, int(np.ceil(heights.shape[1] / max(1, most / len(heights)))))
    heights = heights[:, ::step]
    if each_line:
        heights = heights - medians(heights)[:, None].astype(np.float32)
    return heights[np.isfinite(heights)] * np.float32(factor)


def medians(heights: np.ndarray) -> np.ndarray:
    """The median of the finite heights of each line, (lines,) float64; NaN of a line without any."""
    if np.isfinite(heights).all():
        return np.median(heights, axis=1).astype(np.float64)
    found = np.full(len(heights), np.nan)
    for n, line in enumerate(heights):
        there = line[np.isfinite(line)]
        if there.size:
            found[n] = np.median(there)
    return found
