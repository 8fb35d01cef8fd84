"""The channels of an image as a classifier looks at them, and blocks of them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from ...core.classifier import Learnt
from ...core.errors import Trouble
from ...core.image import Image
from ...core.progress import Progress
from ...core.space import Space
from ..channels import Channel, channels_of
from .features import features_of, reach_of

BLOCK = 1 << 19
"""Voxels of a block, of which all features are in memory at once."""
WHOLE, BANDS = 1 << 27, 24
"""Voxels up to which all are read to see their spread, and bands of rows that are read of more."""
LEAST = 0.3
"""Standard deviation of a Gaussian in voxels, below which a scale is finer than the image."""


@dataclass(frozen=True)
class Seen:
    """An image made ready to be looked at.

    Parameters
    ----------
    space : Space
    channels : list of Channel
        As arrays [k, j, i], of which parts are read.
    names : tuple of str
    """

    space: Space
    channels: list[Channel]
    names: tuple[str, ...]
    image: Image


def seen(image: Image, progress: Progress) -> Seen:
    """The channels of an image: those of a series along channels, red, green and blue of colours, or the one there is.

    Raises
    ------
    Trouble
        When it is a series along something else.
    """
    several = channels_of(image, progress)
    return Seen(image.space, several, tuple(one.name for one in several), image)


def sigmas_of(learnt: Learnt, space: Space) -> list[tuple[float, float, float]]:
    """Standard deviations in voxels along k, j, i, for every scale.

    Raises
    ------
    Trouble
        When the image has no scale and the classifier has one, or its voxels are too large for the finest.
    """
    if learnt.unit != space.unit:
        whose = "has no scale" if space.unit == "px" else f"is in {space.unit}"
        raise Trouble(f"The image {whose}, and the classifier was taught in {learnt.unit}", "give the image a scale")
    along = [space.spacing[n] if space.shape[n] > 1 else np.inf for n in (2, 1, 0)]
    if learnt.flat:
        along[0] = np.inf
    finest = min(learnt.scales) / min(along)
    if finest < LEAST:
        raise Trouble(
            f"The voxels of the image ({min(along):.3g} {space.unit}) are too large for what was learnt at"
            f" {min(learnt.scales):.3g} {learnt.unit}",
            "use a finer image, or train on one like this",
        )
    return [tuple(s / step for step in along) for s in learnt.scales]  # type: ignore[misc]


def spread_of(values: Channel) -> tuple[float, float]:
    """What is 0 and what is 1 of values counted from the 1st percentile to the 99th; of a picture that is larger than
    is read at once, of bands of it."""
    k, j, i = values.shape
    if values.size <= WHOLE:
        known = values[:, :, :].reshape(-1)[:: max(1, values.size // 1_000_000)]
    else:
        layers = np.unique(np.linspace(0, k - 1, min(k, BANDS)).astype(int))
        rows = max(1, 1_000_000 // (i * BANDS))
        starts = [
            (int(n), max(0, int(at))) for n in layers for at in np.linspace(0, j - rows, max(1, BANDS // len(layers)))
        ]
        known = np.concatenate([values[n : n + 1, at : at + rows, 0:i].reshape(-1) for n, at in starts])
    known = known[np.isfinite(known)] if known.dtype.kind == "f" else known
    if not known.size:
        return 0.0, 1.0
    low, high = (float(v) for v in np.percentile(known, (1, 99)))
    return low, (high if high > low else low + 1.0)


Corner = tuple[slice, slice, slice]


def blocks(shape: tuple[int, int, int], flat: bool) -> list[Corner]:
    """Parts of a grid [k, j, i] that hold no more than BLOCK voxels."""
    nk, nj, ni = shape
    wide = min(ni, 1024)
    high = max(1, min(nj, BLOCK // wide, 512))
    layers = 1 if flat else max(1, min(nk, BLOCK // (wide * high)))
    return [
        (slice(k, min(nk, k + layers)), slice(j, min(nj, j + high)), slice(i, min(ni, i + wide)))
        for k in range(0, nk, layers)
        for j in range(0, nj, high)
        for i in range(0, ni, wide)
    ]


def features_in(
    image: Seen, learnt: Learnt, part: Corner, ranges: Sequence[tuple[float, float]] | None = None
) -> np.ndarray:
    """Features of the voxels of a part, float32 [k, j, i, feature]; what lies round it is looked at as well."""
    sigmas = sigmas_of(learnt, image.space)
    reach = reach_of(sigmas)
    shape = image.channels[0].shape
    wide = tuple(slice(max(0, s.start - r), min(n, s.stop + r)) for s, r, n in zip(part, reach, shape))
    cut = []
    for n, channel in enumerate(image.channels):
        values = np.asarray(channel[wide[0], wide[1], wide[2]], np.float32)
        if ranges is not None:
            low, high = ranges[n]
            values = (values - np.float32(low)) / np.float32(high - low)
        cut.append(np.where(np.isfinite(values), values, np.float32(0)) if values.dtype.kind == "f" else values)
    found = features_of(cut, sigmas, learnt.flat)
    inner = tuple(slice(p.start - w.start, p.stop - w.start) for p, w in zip(part, wide))
    found = found[inner]
    if not learnt.position:
        return found
    places = np.empty((*found.shape[:3], found.shape[3] + 3), np.float32)
    places[..., : found.shape[3]] = found
    for axis, (p, n) in enumerate(zip(part, shape)):
        along = ((np.arange(p.start, p.stop) + 0.5) / n).astype(np.float32)
        places[..., found.shape[3] + 2 - axis] = along.reshape([-1 if a == axis else 1 for a in range(3)])
    return places


def each_block(image: Seen, flat: bool, progress: Progress, what: str) -> Iterator[Corner]:
    """All parts of an image, one after another."""
    several = blocks(image.channels[0].shape, flat)
    yield from progress.over(several, len(several), what)
