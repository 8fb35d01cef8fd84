"""Gaussian smoothing, width given as full width at half maximum."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import SMOOTHING, Between, Role, Unit
from ...core.progress import Progress, silent

SLAB = 16
"""Lines that are smoothed between two looks at the cancel button."""
SIGMA_PER_FWHM = 1 / (2 * math.sqrt(2 * math.log(2)))
WIDTHS = 1.75
"""How far a Gaussian reaches, in widths at half maximum."""


@operation(
    "prepare",
    "Smooth",
    keywords="blur gaussian filter noise smoothing gaussian blur fwhm sigma spatial",
    takes="series",
    group="Noise and brightness",
    reach=lambda _, settings: WIDTHS * max(settings["fwhm"], *(settings["along"] or (0.0,))),
    called={"fwhm": "Width (FWHM)", "along": "Or along i, j, k", "mask": "Only within"},
    rare="along",
    methods="Images were smoothed with a Gaussian of {fwhm} full width at half maximum",
    cites=("Knutsson 1993",),
)
def smooth(
    image: Image,
    fwhm: Annotated[float, Unit("mm"), Between(1e-6, 1e4), Role(SMOOTHING)] = 1.0,
    *,
    along: Annotated[tuple[float, float, float] | None, Unit("mm"), Role(SMOOTHING)] = None,
    mask: LabelMap | None = None,
    progress: Progress = silent(),
) -> Image:
    """Smooth with a Gaussian of the same width in mm along every axis, or of another width along each.

    Voxels without a finite value stay as they are and count for nothing: their neighbours are averaged over what is
    there (normalised convolution, H. Knutsson and C.-F. Westin, CVPR 1993). So do those outside a mask.

    Parameters
    ----------
    fwhm : mm
        Full width at half maximum. Widths below the voxel size change little.
    along : three mm
        Widths along the image's own axes i, j, k in place of one; 0 leaves an axis as it is.
    mask : label map
        Only voxels that carry a label are smoothed, among themselves.

    Raises
    ------
    Trouble
        When the image has no scale, so that a width in mm means nothing, a width is below 0, or the mask is empty or
        lies on another grid.
    """
    if image.space.unit == "px":
        raise Trouble(f"“{image.name}” has no scale, so a width in mm means nothing", "set its voxel size first")
    widths = (fwhm, fwhm, fwhm) if along is None else along
    if min(widths) < 0 or max(widths) == 0:
        raise Trouble(f"Widths of {', '.join(f'{w:g}' for w in widths)} mm smooth nothing", "give numbers above 0")
    inside = None
    if mask is not None:
        require_same_grid(image.frame((0,) * len(image.axes)) if image.axes else image, mask)
        inside = mask.kji > 0
        if not inside.any():
            raise Trouble("The mask is empty", "choose one with voxels")
    size = f"{fwhm:g}" if along is None else " × ".join(f"{w:g}" for w in along)
    name, spacing = f"{image.name}, smooth {size} mm", image.space.spacing
    if image.axes:
        return image.each_volume(lambda values: _smoothed(values.T, spacing, widths, inside, silent()).T, name=name)
    return image.like(_smoothed(image.kji, spacing, widths, inside, progress).T, name=name)


def _smoothed(values: np.ndarray, spacing, widths, inside: np.ndarray | None, progress: Progress) -> np.ndarray:
    values = values.astype(np.float32)
    there = np.isfinite(values) if inside is None else np.isfinite(values) & inside
    if there.all():
        return _blurred(values, spacing, widths, progress)
    weights = _blurred(there.astype(np.float32), spacing, widths, progress.part(0.0, 0.5))
    filled = _blurred(np.where(there, values, np.float32(0)), spacing, widths, progress.part(0.5, 1.0))
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(there, filled / weights, values)


def _blurred(values: np.ndarray, spacing, widths, progress: Progress) -> np.ndarray:
    from scipy import ndimage  # loaded when first smoothed

    for axis, (step, width) in enumerate(zip(reversed(spacing), reversed(widths))):
        progress.at(axis / 3, "Smoothing")
        if values.shape[axis] > 1 and width > 0:
            across = (axis + 1) % 3
            parts = []  # in slabs along another axis, which are independent, so that work can be stopped
            for n in range(0, values.shape[across], SLAB):
                progress.at((axis + n / values.shape[across]) / 3, "Smoothing")
                slab = np.take(values, range(n, min(n + SLAB, values.shape[across])), across)
                parts.append(ndimage.gaussian_filter1d(slab, width * SIGMA_PER_FWHM / step, axis=axis, mode="nearest"))
            values = np.concatenate(parts, across)
    return values
