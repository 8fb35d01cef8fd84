"""A light from the side: slopes that face it are brighter, those that turn away from it darker.

The brightness of a dull surface (J. H. Lambert, Photometria, 1760) under a light from the upper left, relative to that
of a level one.
"""

from __future__ import annotations

import numpy as np

from ..core.image import Image
from ..core.kernel import kernel
from .colouring import compiled
from .sampling import in_bands

DARKEST, BRIGHTEST = 0.25, 1.75
"""Limits of how much darker or brighter a slope is than a level place."""


def steepness(image: Image) -> float:
    """The slope, in values a mm, that is drawn as if it rose at 45°: that of the steepest twentieth of a picture."""
    heights, spacing = image.kji[0], image.space.spacing
    step = max(1, min(heights.shape) // 512)
    found = []
    for part, size in ((heights[::step], spacing[0]), (heights[:, ::step].T, spacing[1])):
        if part.shape[1] > 2:
            rise = np.abs((part[:, 2:] - part[:, :-2]).astype(np.float32)) / (2 * size)
            found.append(rise[np.isfinite(rise)])
    slopes = np.concatenate(found) if found else np.zeros(0)
    return float(np.percentile(slopes, 95)) if slopes.size else 0.0


def light_from_the_side(values: np.ndarray, pixel: float, strength: float, steep: float, out: np.ndarray) -> None:
    """Darken and brighten a picture (height, width) of packed colours by the slopes of the values under it.

    Parameters
    ----------
    values : float32 array (height, width)
        NaN where there is none: nothing changes there.
    pixel : mm
    strength : number
        0 to 1.
    steep : values a mm
        See `steepness`; nothing changes when it is 0.
    """
    if not steep > 0 or not strength > 0:
        return
    scale = float(1.0 / (2 * pixel * steep))
    if compiled(out):
        in_bands(out.shape, lambda a, b: _lit(values, scale, float(strength), out, a, b))
        return
    right, down = np.zeros_like(values), np.zeros_like(values)
    with np.errstate(invalid="ignore", over="ignore"):
        right[:, 1:-1] = (values[:, 2:] - values[:, :-2]) * scale
        down[1:-1] = (values[2:] - values[:-2]) * scale
        face = 1 + (right + down) * np.float32(0.70710678)
        share = face / np.sqrt(1 + right * right + down * down)
    factor = np.clip(1 + strength * (np.nan_to_num(share, nan=1.0) - 1), DARKEST, BRIGHTEST)
    made = np.full(out.shape, 0xFF000000, np.uint32)
    for shift in (0, 8, 16):
        part = ((out >> np.uint32(shift)) & np.uint32(255)) * factor
        made |= np.minimum(part, 255).astype(np.uint32) << np.uint32(shift)
    out[...] = made


@kernel
def _lit(values, scale, strength, out, top, bottom):
    height, width = out.shape
    for y in range(top, bottom):
        for x in range(width):
            right = (values[y, x + 1] - values[y, x - 1]) * scale if 0 < x < width - 1 else 0.0
            down = (values[y + 1, x] - values[y - 1, x]) * scale if 0 < y < height - 1 else 0.0
            share = (1 + (right + down) * 0.70710678) / np.sqrt(1 + right * right + down * down)
            if not (share == share):
                continue
            factor = min(max(1 + strength * (share - 1), 0.25), 1.75)
            colour = out[y, x]
            r = min(int(((colour >> 16) & 255) * factor), 255)
            g = min(int(((colour >> 8) & 255) * factor), 255)
            b = min(int((colour & 255) * factor), 255)
            out[y, x] = np.uint32(0xFF000000 | (r << 16) | (g << 8) | b)
