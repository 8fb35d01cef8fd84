"""What was bridged by shape is brought to the edges of an image: in the drawn slices one has seen what lies inside and
outside, and how both look."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...core.errors import Trouble
from ...core.progress import Progress
from ..strokes.likeness import likeness
from ..strokes.walker import walked
from .stack import Stack

BAND = 6.0
"""Voxels to each side of the shape within which the image counts."""
FIRM, LIKE, HOLD, EDGE, BLUR = 4.0, 2.0, 0.1, 2.0, 0.5
"""How firmly the shape counts one voxel beside a drawn slice, how much values count, how firmly each voxel keeps to
both, how sharp edges are, and voxels over which values are taken together."""
MOST = 1 << 27
"""Voxels of a part that are worked on."""


def along_image(
    field: np.ndarray,
    mask: np.ndarray,
    values: np.ndarray,
    stacks: Sequence[Stack],
    spacing,
    goes_on: bool,
    progress: Progress,
) -> np.ndarray:
    """A field like the given one, which follows the edges of an image; above 0 inside, float32 [k, j, i].

    A random walker (L. Grady, IEEE Trans. Pattern Anal. Mach. Intell. 28, 2006) from the drawn slices, within a band
    round the shape, who also knows the shape and how voxels look inside and outside; the shape counts the less the
    further the next drawn slice is.

    Parameters
    ----------
    field : float32 array [k, j, i]
        Of the shape: above 0 inside.
    mask : bool array like it
        What is drawn.
    values : array like it
        Of the image.
    stacks : list of Stack
        Drawn slices of each plane.
    spacing : three lengths along k, j, i
    goes_on : bool
        Whether it may go on beyond the first and the last slice, up to where another one would have been drawn.

    Raises
    ------
    Trouble
        When the image has no value there, or the part is too large.
    Cancelled
    """
    from scipy import ndimage

    if field.size > MOST:
        raise Trouble("The label is too large to follow an image", "bridge by shape alone, or crop the image first")
    known = np.isfinite(values)
    if not known.any():
        raise Trouble("The image has no value where the label lies", "bridge by shape alone")
    plain = np.where(known, values, values[known].mean(dtype=float)).astype(np.float32)
    spread = float(plain.std(dtype=float))
    soft = ndimage.gaussian_filter((plain - np.float32(plain.mean(dtype=float))) / np.float32(spread or 1.0), BLUR)
    progress.at(0.1)
    shape = (field > 0) | mask
    sampling = np.array(spacing, float) / min(spacing)
    depth = ndimage.distance_transform_edt(shape, sampling).astype(np.float32)
    depth -= ndimage.distance_transform_edt(~shape, sampling).astype(np.float32)
    progress.at(0.3)
    step = np.float32(1 / min(spacing))
    away = np.maximum(np.minimum.reduce([np.broadcast_to(one.away * step, field.shape) for one in stacks]), 1)
    in_slice = np.logical_or.reduce([np.broadcast_to(one.drawn_in, field.shape) for one in stacks])
    beyond = np.logical_and.reduce([np.broadcast_to(one.beyond(goes_on), field.shape) for one in stacks])
    seeds = np.full(field.shape, -1, np.int8)
    seeds[depth > BAND], seeds[depth < -BAND] = 1, 0
    seeds[beyond & ~shape] = 0
    seeds[in_slice] = mask[in_slice]
    inside, outside = in_slice & mask, in_slice & ~mask & (depth > -BAND - 2)
    if not outside.any():
        return field
    like = np.clip(likeness(soft, inside, outside), -4, 4)
    odds = np.clip(FIRM * depth / away + np.float32(LIKE) * like, -30, 30)
    prior = (1 / (1 + np.exp(-odds))).astype(np.float32)
    slope = np.sqrt(sum(np.gradient(soft, axis=a) ** 2 for a in range(3) if soft.shape[a] > 1))
    near = slope[np.abs(depth) < BAND]
    usual = float(np.median(near)) or float(near.mean()) or 1.0
    progress.at(0.5)
    ease = np.ones(field.shape, np.float32)
    share = walked(soft, ease, prior, HOLD, seeds, EDGE / usual**2, sampling, progress.stop)
    progress.at(1.0)
    return share - np.float32(0.5)
