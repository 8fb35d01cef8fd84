"""What a series looks like on the whole: the mean of some of its volumes."""

from __future__ import annotations

import numpy as np

from .image import Image
from .progress import Progress

MOST = 40
"""Volumes whose mean is taken; more change it by less than the noise."""


def mean_volume(image: Image, progress: Progress) -> np.ndarray:
    """The mean of up to MOST volumes, evenly picked, with 0 in place of missing values; float32 [k, j, i]."""
    places = list(image.indices())
    places = places[:: max(1, -(-len(places) // MOST))]
    total = np.zeros(image.space.shape[::-1], np.float32)
    for n, index in enumerate(places):
        progress.at(n / len(places), "Reading the volumes")
        values = image.frame(index).fetch(progress).T if image.axes else image.kji
        total += np.nan_to_num(values.astype(np.float32), nan=0.0, posinf=0.0, neginf=0.0)
    return total / len(places)
