"""Seed maps of a long series, against reading it once."""

from __future__ import annotations

import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.space import Space
from kestrelmist.measure.correlate import correlate

from .row import Row, in_turn

SHAPE, COUNT = (100, 100, 50), 700


def rows() -> list[Row]:
    """A seed's correlation with every voxel, and one matrix-vector product over the same numbers."""
    rng = np.random.default_rng(5)
    data = np.empty((*SHAPE, COUNT), np.float32, order="F")
    for t in range(COUNT):
        data[..., t] = rng.normal(1000, 10, SHAPE)
    image = Image(data, Space(SHAPE, np.eye(4)), "Run", axes=(Axis.even("time", COUNT, 2.0, "s"),))
    labels, place = LabelMap(image.space), tuple(image.space.to_world((10, 20, 30)))
    flat, seed = data.reshape(-1, COUNT, order="F"), data[10, 20, 30].copy()
    correlate(image, labels, place)
    mine, theirs = in_turn(lambda: correlate(image, labels, place), lambda: flat @ seed, 8)
    name = "seed map, 100 × 100 × 50 × 700"
    ratio = mine / theirs
    return [Row(name, mine, theirs, "one NumPy matrix-vector product", "ratio ≤ 1.15", met=ratio <= 1.15)]
