"""Sampling through a mapping that bends space: a block of pixels at a time, each asked for its place."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..core.image import Image
from ..core.mapping import Mapping
from ..core.space import Space
from .view import View

BLOCK = 1 << 14
"""Pixels that are asked for at a time."""


def values(view: View, image: Image, smooth: bool) -> np.ndarray:
    """Values under a view's pixels, float32 (height, width), NaN where there are none."""
    from scipy import ndimage

    assert image.through is not None
    out = np.full(view.width * view.height, np.nan, np.float32)
    for pixels, at in _places(view, image.space, image.through):
        out[pixels] = ndimage.map_coordinates(
            image.kji, at, order=1 if smooth else 0, output=np.float32, mode="nearest", prefilter=False
        )
    return out.reshape(view.height, view.width)


def nearest(view: View, volume: np.ndarray, space: Space, through: Mapping, dtype) -> np.ndarray:
    """Numbers or packed colours of the nearest voxels, 0 outside."""
    out = np.zeros(view.width * view.height, dtype)
    for pixels, at in _places(view, space, through):
        k, j, i = np.rint(at).astype(np.int64)
        out[pixels] = volume[k, j, i]
    return out.reshape(view.height, view.width)


def _places(view: View, space: Space, through: Mapping) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Pixels that lie within a grid, and where: (k, j, i) a column, block by block."""
    start = np.asarray(view.to_world(0.0, 0.0))
    last = np.array(space.shape) - 1
    for n in range(0, view.width * view.height, BLOCK):
        pixels = np.arange(n, min(n + BLOCK, view.width * view.height))
        y, x = np.divmod(pixels, view.width)
        at = space.to_voxel(through.to(start + x[:, None] * view.right + y[:, None] * view.down))
        inside = np.all((at >= -0.5) & (at <= last + 0.5), axis=1)
        yield pixels[inside], np.clip(at[inside], 0, last).T[::-1]
