"""Coarse fields for the Solid view: how much of each coarse cell a label fills, or its mean value."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.image import Image
from ..core.kernel import kernel
from ..core.labels import LabelMap

LONGEST = 176
"""Cells along the longest side: fine enough for a small pane, quick enough to follow a brush."""


@dataclass(frozen=True)
class Field:
    """Values 0…255 on a coarse grid [k, j, i], and its affine to the world."""

    values: np.ndarray
    affine: np.ndarray


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
    return Field(values, _coarse_affine(labels.space.affine, low - factor, factor))


def image_field(image: Image, longest: int = 112) -> Field:
    """Mean values on a coarse grid, scaled to 0…255 over the display range."""
    low, high = image.display_range()
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
