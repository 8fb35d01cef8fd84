"""Coarse fields for the Solid view: how much of each coarse cell a label fills, or its mean value."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.image import Image
from ..core.kernel import kernel
from ..core.labels import LabelMap
from .boxes import box_faces, cell_faces
from .showing import display_range

LONGEST = 176
"""Cells along the longest side: fine enough for a small pane, quick enough to follow a brush."""


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


def label_field(labels: LabelMap, number: int, longest: int = LONGEST) -> Field | None:
    """The share of each cell that carries a label, one empty cell around it; None when no voxel does."""
    box = np.array([*labels.kji.shape, -1, -1, -1], np.int64)
    _bounds(labels.kji, number, box)
    if box[3] < 0:
        return None
    low, high = box[:3], box[3:] + 1
    factor = int(max(1, np.ceil((high - low).max() / longest)))
    cells = -(-(high - low) // factor) + 2
    values = np.zeros(cells, np.uint8)
    _fill(labels.kji, number, low - factor, factor, values)
    affine = labels.space.affine
    coarse = _coarse_affine(affine, low - factor, factor)
    if factor == 1:
        return Field(values, coarse)
    none = np.zeros((0, 3), np.int32)
    count = _outside(labels.kji, number, low, high, factor, values, none)
    if count > MOST_BOXES:  # as of noise
        return Field(values, coarse, factor, cell_faces((values > 0) & ~_near_surface(values), coarse))
    thin = np.empty((count, 3), np.int32)
    _outside(labels.kji, number, low, high, factor, values, thin)
    return Field(values, coarse, factor, box_faces(thin, affine))


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
def _bounds(labels, number, box):
    for k in range(labels.shape[0]):
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
def _fill(labels, number, low, factor, values):
    scale = 255.0 / factor**3
    for c in range(values.shape[0]):
        for b in range(values.shape[1]):
            for a in range(values.shape[2]):
                n = 0
                for k in range(max(low[0] + c * factor, 0), min(low[0] + (c + 1) * factor, labels.shape[0])):
                    for j in range(max(low[1] + b * factor, 0), min(low[1] + (b + 1) * factor, labels.shape[1])):
                        for i in range(max(low[2] + a * factor, 0), min(low[2] + (a + 1) * factor, labels.shape[2])):
                            n += labels[k, j, i] == number
                values[c, b, a] = int(n * scale + 0.5)


@kernel
def _outside(labels, number, low, high, factor, values, found):
    """Voxels of a label where the field, between its cells, is below half; how many, and which as there is room."""
    count = 0
    half = (factor - 1) * 0.5
    for k in range(low[0], high[0]):
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
                value = 0.0
                for n in range(8):
                    dc, db, da = n >> 2, (n >> 1) & 1, n & 1
                    share = (z - c if dc else 1 - z + c) * (y - b if db else 1 - y + b) * (x - a if da else 1 - x + a)
                    if share > 0:
                        value += share * values[c + dc, b + db, a + da]
                if value < 127.5:
                    if count < found.shape[0]:
                        found[count, 0], found[count, 1], found[count, 2] = i, j, k
                    count += 1
    return count


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
