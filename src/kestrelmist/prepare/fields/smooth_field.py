"""A field that is known in a mask: freed of single wrong voxels, smoothed, and carried on past its edge."""

from __future__ import annotations

import numpy as np

from ...core.progress import Progress, silent

WRONG, SPREADS = 4.0, 3.0
"""A voxel is taken for wrong when it is further from the median of its neighbours than so many robust standard
deviations of the whole, and so many times the range in which half of its neighbours lie."""
WIDTHS = (1.0, 2.0, 4.0, 8.0, 16.0, 32.0)
"""In shortest voxel sizes: how far is looked for what is known, near first."""
ENOUGH = 0.05
FWHM = 2 * np.sqrt(2 * np.log(2))


def head_mask(magnitude: np.ndarray) -> np.ndarray:
    """Where there is signal: brighter than half of what parts bright from dark (N. Otsu, 1979), and of one piece with
    the largest; [k, j, i]."""
    from scipy import ndimage
    from skimage.filters import threshold_otsu

    soft = ndimage.gaussian_filter(magnitude.astype(np.float32), [0.7 if n > 1 else 0 for n in magnitude.shape])
    if soft.max() <= soft.min():
        return np.zeros(magnitude.shape, bool)
    bright = soft > 0.5 * threshold_otsu(soft)
    pieces, count = ndimage.label(bright)
    sizes = np.bincount(pieces.ravel())
    sizes[0] = 0
    return pieces == int(sizes.argmax()) if count else bright


def eroded(mask: np.ndarray, spacing, away: float) -> np.ndarray:
    """A mask without what lies within a distance (mm) of its edge."""
    from scipy import ndimage

    if away <= 0 or not mask.any():
        return mask
    inner = np.pad(mask, 1, mode="edge")  # the edge of the image is no edge of the head
    return (ndimage.distance_transform_edt(inner, sampling=spacing[::-1]) > away)[1:-1, 1:-1, 1:-1]


def cleaned(field: np.ndarray, mask: np.ndarray, weights: np.ndarray | None, spacing, fwhm: float) -> np.ndarray:
    """A field in which voxels that are far from the median of their neighbours take that median, smoothed by a
    Gaussian within the mask; what has more weight counts for more.

    Parameters
    ----------
    field : array [k, j, i]
    mask : bool array
    weights : array, optional
        Such as the square of a magnitude.
    spacing : mm along i, j, k
    fwhm : mm
    """
    from scipy import ndimage

    if not mask.any():
        return field.astype(np.float32)
    size = [3 if n > 2 else 1 for n in field.shape]
    whole = carried_on(field, mask, spacing)
    low, middle, high = (ndimage.percentile_filter(whole, p, size=size, mode="nearest") for p in (25, 50, 75))
    away = np.abs(field - middle)
    wrong = mask & (away > WRONG * 1.4826 * float(np.median(away[mask])) + SPREADS * (high - low))
    found = np.where(wrong, middle, field).astype(np.float32)
    if fwhm <= 0:
        return found
    widths = [fwhm / FWHM / s if n > 1 else 0 for s, n in zip(spacing[::-1], field.shape)]
    share = mask.astype(np.float32) if weights is None else np.where(mask, weights, 0).astype(np.float32)
    share /= max(float(share.max()), 1e-30)
    below = ndimage.gaussian_filter(share, widths, mode="nearest")
    above = ndimage.gaussian_filter(found * share, widths, mode="nearest")
    return np.where(mask & (below > 1e-6), above / np.maximum(below, 1e-6), found).astype(np.float32)


def carried_on(field: np.ndarray, mask: np.ndarray, spacing, progress: Progress | None = None) -> np.ndarray:
    """A field that is known in a mask, with a value everywhere: the mean of what is known near by, further out the
    wider; float32 [k, j, i]."""
    from scipy import ndimage

    progress = progress or silent()
    out, known = np.where(mask, field, 0).astype(np.float32), mask.copy()
    if not mask.any():
        return out
    shortest = min(s for s, n in zip(spacing[::-1], field.shape) if n > 1) if max(field.shape) > 1 else 1.0
    there, values = mask.astype(np.float32), np.where(mask, field, 0).astype(np.float32)
    for n, wide in enumerate(WIDTHS):
        progress.at(n / len(WIDTHS), "Carrying the field on past its edge")
        widths = [wide * shortest / s if m > 1 else 0 for s, m in zip(spacing[::-1], field.shape)]
        below = ndimage.gaussian_filter(there, widths, mode="constant", truncate=3)
        new = ~known & (below > ENOUGH)
        if new.any():
            above = ndimage.gaussian_filter(values, widths, mode="constant", truncate=3)
            out[new] = above[new] / below[new]
            known |= new
        if known.all():
            return out
    near = ndimage.distance_transform_edt(~known, sampling=spacing[::-1], return_distances=False, return_indices=True)
    return out[tuple(near)]
