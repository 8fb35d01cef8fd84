"""Gaussian smoothing, width given as full width at half maximum."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np

from ..core.image import Image
from ..core.operation import Between, Unit, operation
from ..core.progress import Progress, silent

SIGMA_PER_FWHM = 1 / (2 * math.sqrt(2 * math.log(2)))


@operation("prepare", "Smooth", keywords="blur gaussian filter noise", takes="series")
def smooth(image: Image, fwhm: Annotated[float, Unit("mm"), Between(1e-6, 1e4)] = 1.0,
           progress: Progress = silent()) -> Image:
    """Smooth with a Gaussian of the same width in mm along every axis.

    Parameters
    ----------
    fwhm : mm
        Full width at half maximum. Widths below the voxel size change little.
    """
    name = f"{image.name}, smooth {fwhm:g} mm"
    if image.axes:
        return image.each_volume(lambda values: _smoothed(values.T, image.space.spacing, fwhm, silent()).T, name=name)
    return image.like(_smoothed(image.kji, image.space.spacing, fwhm, progress).T, name=name)


def _smoothed(values: np.ndarray, spacing, fwhm: float, progress: Progress) -> np.ndarray:
    from scipy import ndimage  # loaded when first smoothed

    values = values.astype(np.float32)
    for axis, step in enumerate(reversed(spacing)):
        progress.at(axis / 3, "Smoothing")
        if values.shape[axis] > 1:
            values = ndimage.gaussian_filter1d(values, fwhm * SIGMA_PER_FWHM / step, axis=axis, mode="nearest")
    return values
