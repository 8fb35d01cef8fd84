"""Gaussian smoothing, width given as full width at half maximum."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import operation
from ..core.parameter import Between, Unit
from ..core.progress import Progress, silent

SIGMA_PER_FWHM = 1 / (2 * math.sqrt(2 * math.log(2)))


@operation("prepare", "Smooth", keywords="blur gaussian filter noise", takes="series")
def smooth(
    image: Image, fwhm: Annotated[float, Unit("mm"), Between(1e-6, 1e4)] = 1.0, progress: Progress = silent()
) -> Image:
    """Smooth with a Gaussian of the same width in mm along every axis.

    Voxels without a finite value stay as they are and count for nothing: their neighbours are averaged over what is
    there (normalised convolution, H. Knutsson and C.-F. Westin, CVPR 1993).

    Parameters
    ----------
    fwhm : mm
        Full width at half maximum. Widths below the voxel size change little.

    Raises
    ------
    Trouble
        When the image has no scale, so that a width in mm means nothing.
    """
    if image.space.unit == "px":
        raise Trouble(f"“{image.name}” has no scale, so a width in mm means nothing", "set its voxel size first")
    name = f"{image.name}, smooth {fwhm:g} mm"
    if image.axes:
        return image.each_volume(lambda values: _smoothed(values.T, image.space.spacing, fwhm, silent()).T, name=name)
    return image.like(_smoothed(image.kji, image.space.spacing, fwhm, progress).T, name=name)


def _smoothed(values: np.ndarray, spacing, fwhm: float, progress: Progress) -> np.ndarray:
    values = values.astype(np.float32)
    there = np.isfinite(values)
    if there.all():
        return _blurred(values, spacing, fwhm, progress)
    weights = _blurred(there.astype(np.float32), spacing, fwhm, progress.part(0.0, 0.5))
    filled = _blurred(np.where(there, values, np.float32(0)), spacing, fwhm, progress.part(0.5, 1.0))
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(there, filled / weights, values)


def _blurred(values: np.ndarray, spacing, fwhm: float, progress: Progress) -> np.ndarray:
    from scipy import ndimage  # loaded when first smoothed

    for axis, step in enumerate(reversed(spacing)):
        progress.at(axis / 3, "Smoothing")
        if values.shape[axis] > 1:
            values = ndimage.gaussian_filter1d(values, fwhm * SIGMA_PER_FWHM / step, axis=axis, mode="nearest")
    return values
