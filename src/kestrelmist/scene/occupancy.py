"""Coarse fields for the Solid view: how much of each coarse cell a label fills, or its mean value."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.halves import in_halves
from ..core.image import Image
from ..core.kernel import kernel
from ..core.labels import LabelMap
from .boxes import box_faces, cell_faces
from .showing import display_range

LONGEST, ROUGH = 176, 56
"""Cells along the longest side: fine enough for a small pane; and quick enough to follow a brush."""

MOST_BOXES = 200_000
"""Voxels that are drawn as boxes of their own."""


@dataclass(frozen=True)
class Field:
    """Values 0…255 on a coarse grid [k, j, i], and its affine to the world.

    A cell is `factor` voxels long. `faces`, [n, 4, xyz] in the world, close round what the surface of the field leaves
    outside, such as a sheet or a speck that is smaller than a cell.
    """

    values: np.ndarray
    affine: np.ndarray
    factor: int = 1
    faces: np.ndarray | None = None


def label_field(labels: LabelMap, number: int, longest: int = LONGEST, rough: bool = False) -> Field | None:
    """The share of each cell that carries a label, one empty cell around it; None when no voxel does. A rough one
    leaves out what is thinner than a cell."""
    kji = labels.kji
    boxes, half = np.array([[*kji.shape, -1, -1, -1]] * 2, np.int64), kji.shape[0] // 2
    in_halves(kji.shape[0], lambda a, b: _bounds(kji, number, a, b, boxes[int(a >= half > 0)]), kji.size)
    low, high = boxes[:, :3].min(0), boxes[:, 3:].max(0) + 1
    if high[0] < 1:
        return None
    factor = int(max(1, np.ceil((high - low).max() / longest)))
    cells = -(-(high - low) // factor) + 2
    values = np.zeros(cells, np.uint8)
    in_halves(len(values), lambda a, b: _fill(kji, number, low - factor, factor, values, a, b), values.size * factor**3)
    affine = labels.space.affine
    coarse = _coarse_affine(affine, low - factor, factor)
    if factor == 1 or rough:
        return Field(values, coarse, factor)
    sure = _surely_within(values)
    none = np.zeros((0, 3), np.int32)
    counts = np.zeros((high[0] - low[0], 2), np.int64)

    def count_in(a: int, b: int) -> None:
        _outside(kji, number, low, high, factor, values, sure, none, counts, a, b)

    in_halves(len(counts), count_in, int(np.prod(high - low)))
    count = int(counts[:, 0].sum())
    if count > MOST_BOXES:  # as of noise
        return Field(values, coarse, factor, cell_faces((values > 0) & ~_near_surface(values), coarse))
    thin = np.empty((count, 3), np.int32)
    counts[:, 1] = np.cumsum(counts[:, 0]) - counts[:, 0]
    _outside(kji, number, low, high, factor, values, sure, thin, counts, 0, len(counts))
    return Field(values, coarse, factor, box_faces(thin, affine))


def _surely_within(values: np.ndarray) -> np.ndarray:
    """Cells [c, b, a] of which no corner (c, b, a) to (c + 1, b + 1, a + 1) is below half: nor is anything between."""
    from scipy import ndimage

    return ndimage.minimum_filter(values, (2, 2, 2), origin=(-1, -1, -1), mode="constant") > 127


def _near_surface(values: np.ndarray) -> np.ndarray:
    """Cells that are within the surface of a field, or beside one that is."""
    within = values > 127
    found = within.copy()
    for axis in range(3):
        ahead, behind = [slice(None)] * 3, [slice(None)] * 3
        ahead[axis], behind[axis] = slice(1, None), slice(None, -1)
        found[tuple(ahead)] |= within[tuple(behind)]
        found[tuple(behind)] |= within[tuple(ahead)]
    return found


def image_field(image: Image, longest: int = 112) -> Field:
    """Mean values on a coarse grid, scaled to 0…255 over the display range."""
    low, high = display_range(image)
    factor = int(max(1, np.ceil(max(image.kji.shape) / longest)))
    values = np.zeros([-(-n // factor) for n in image.kji.shape], np.uint8)
    _mean(image.kji, factor, low, 255.0 / (high - low), values)
    return Field(values, _coarse_affine(image.space.affine, np.zeros(3), factor))


def _coarse_affine(affine: np.ndarray, corner_kji, factor: int) -> np.ndarray:
    coarse = affine.copy()
    coarse[:3, :3] *= factor
    coarse[:3, 3] += affine[:3, :3] @ (np.asarray(corner_kji)[::-1] + (factor - 1) / 2)
    return coarse


@kernel
def _bounds(labels, number, start, end, box):
    for k in range(start, end):
        for j in range(labels.shape[1]):
            first = last = -1
            for i in range(labels.shape[2]):
                if labels[k, j, i] == number:
                    if first < 0:
                        first = i
                    last = i
            if first >= 0:
                box[0], box[1], box[2] = min(box[0], k), min(box[1], j), min(box[2], first)
                box[3], box[4], box[5] = max(box[3], k), max(box[4], j), max(box[5], last)


@kernel
def _fill(labels, number, low, factor, values, start, end):
    scale = 255.0 / factor**3
    for c in range(start, end):
        for b in range(values.shape[1]):
            for a in range(values.shape[2]):
                n = 0
                for k in range(max(low[0] + c * factor, 0), min(low[0] + (c + 1) * factor, labels.shape[0])):
                    for j in range(max(low[1] + b * factor, 0), min(low[1] + (b + 1) * factor, labels.shape[1])):
                        for i in range(max(low[2] + a * factor, 0), min(low[2] + (a + 1) * factor, labels.shape[2])):
                            n += labels[k, j, i] == number
                values[c, b, a] = int(n * scale + 0.5)


@kernel
def _outside(labels, number, low, high, factor, values, sure, found, counts, start, end):
    """Voxels of a label where the field, between its cells, is below half: how many in each slice, and which as there
    is room, those of a slice from the place on that its second count says."""
    half = (factor - 1) * 0.5
    for k in range(low[0] + start, low[0] + end):
        count, at = 0, counts[k - low[0], 1]
        z = (k - low[0] + factor - half) / factor
        c = int(z)
        for j in range(low[1], high[1]):
            y = (j - low[1] + factor - half) / factor
            b = int(y)
            for i in range(low[2], high[2]):
                if labels[k, j, i] != number:
                    continue
                x = (i - low[2] + factor - half) / factor
                a = int(x)
                if sure[c, b, a]:
                    continue
                value = 0.0
                for n in range(8):
                    dc, db, da = n >> 2, (n >> 1) & 1, n & 1
                    share = (z - c if dc else 1 - z + c) * (y - b if db else 1 - y + b) * (x - a if da else 1 - x + a)
                    if share > 0:
                        value += share * values[c + dc, b + db, a + da]
                if value < 127.5:
                    if at + count < found.shape[0]:
                        found[at + count, 0], found[at + count, 1], found[at + count, 2] = i, j, k
                    count += 1
        counts[k - low[0], 0] = count


@kernel
def _mean(volume, factor, low, scale, values):
    for c in range(values.shape[0]):
        for b in range(values.shape[1]):
            for a in range(values.shape[2]):
                total, n = 0.0, 0
                for k in range(c * factor, min((c + 1) * factor, volume.shape[0])):
                    for j in range(b * factor, min((b + 1) * factor, volume.shape[1])):
                        for i in range(a * factor, min((a + 1) * factor, volume.shape[2])):
                            value = volume[k, j, i]
                            if np.isfinite(value):
                                total += value
                                n += 1
                values[c, b, a] = int(min(max((total / n - low) * scale, 0.0), 255.0)) if n else 0
