"""A coarser level for what is too large to be shown whole and comes without one: every nth voxel, as it is."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..core.image import KERNEL_TYPES, Image
from .layout import Layout
from .planes import Planes, in_parts

MOST = 1 << 29
"""Bytes of a volume that is shown as it is."""


def sampled_levels(source: Layout | Planes, image: Image, dtype: np.dtype) -> list[Image]:
    """One level of every nth voxel that fits the screen, for a large volume; none for others.

    Plain files of the kernels' own number types need none: they are drawn straight from disk.
    """
    size = int(np.prod(image.space.shape, dtype=object)) * 4
    if size <= MOST or (isinstance(source, Layout) and (source.raw.packing or _drawn_from_disk(source, dtype))):
        return []
    step = next(n for n in range(2, 1000) if size / n ** sum(k > 1 for k in image.space.shape) <= MOST / 2)
    coarse = replace(source, step=step)
    made = image.like(coarse.fetch, space=image.space.sampled(step))
    return [in_parts(made, coarse) if isinstance(coarse, Planes) else made]


def _drawn_from_disk(source: Layout, dtype: np.dtype) -> bool:
    return dtype in KERNEL_TYPES and dtype.isnative and (source.slope, source.intercept) == (1, 0)
