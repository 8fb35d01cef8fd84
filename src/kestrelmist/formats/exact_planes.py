"""The values of an image, plane by plane, in one number type that holds each of them: what every writer needs."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..core.image import Image
from ..core.progress import Progress, silent
from ..core.values import colour_channels


def number_type(image: Image, progress: Progress | None = None) -> np.dtype:
    """The smallest type among those of the volumes that holds all values; float32 stands for scaled float64.

    Reads every volume when they are scaled, so that none is written in a type too small for it.
    """
    progress = progress or silent()
    kind: np.dtype | None = None
    for n, index in enumerate(image.indices()):
        progress.at(n / image.count, "Looking at the values")
        own = _kept(image.stored(index, progress.part(n / image.count, (n + 1) / image.count)).exact().dtype)
        kind = own if kind is None else _kept(np.promote_types(kind, own))
    assert kind is not None  # there is one volume at least
    return kind


def _kept(kind: np.dtype) -> np.dtype:
    return np.dtype({"bool": np.uint8, "float16": np.float32}.get(kind.name, kind)).newbyteorder("=")


def exact_planes(image: Image, dtype: np.dtype, progress: Progress | None = None) -> Iterator[np.ndarray]:
    """Planes [j, i] (or [j, i, 3] of colours), little endian, k running fastest and then the axes, the first one
    first."""
    for index in image.indices():
        got = image.stored(index, silent() if progress is None else progress.part(progress.fraction, progress.fraction))
        values = colour_channels(got.values) if image.colour else got.exact()
        for k in range(image.space.shape[2]):
            plane = values[:, :, k]
            yield np.ascontiguousarray(plane.transpose(1, 0, 2) if image.colour else plane.T, dtype.newbyteorder("<"))
