"""A coarse field of an image for its pale outline in a solid scene."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.image import Image
from ...core.kernel import kernel, unmarked
from ..showing import display_range


@dataclass(frozen=True)
class Field:
    """Values 0…255 on a coarse grid [k, j, i], and its affine to the world."""

    values: np.ndarray
    affine: np.ndarray


def image_field(image: Image, longest: int = 112) -> Field:
    """Mean values on a coarse grid, scaled to 0…255 over the display range."""
    low, high = display_range(image)
    factor = int(max(1, np.ceil(max(image.kji.shape) / longest)))
    values = np.zeros([-(-n // factor) for n in image.kji.shape], np.uint8)
    _mean(unmarked(image.kji), factor, low, 255.0 / (high - low), values)
    affine = image.space.affine.copy()
    affine[:3, :3] *= factor
    affine[:3, 3] += image.space.affine[:3, :3] @ np.full(3, (factor - 1) / 2)
    return Field(values, affine)


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
