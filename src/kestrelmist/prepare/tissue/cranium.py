"""What a skull holds, in CT: the soft tissue that bone encloses best."""

from __future__ import annotations

import numpy as np

from ...core.depth import depth_inside
from ...core.progress import Progress, silent
from ...core.resampling import resampled

WORK = 160
"""Voxels along the longest side of the grid on which it is sought."""
BONE, AIR = 250.0, -300.0
"""HU from which on a voxel is bone, and below which it is air, after a little smoothing."""
NECKS = (0.6, 0.5, 0.42, 0.35, 0.3)
"""Thicknesses at which tissue is cut apart, as shares of the thickest place; the first are tried first."""
PIECES = 3
ENCLOSED = 0.5
"""Share of its surface that has to be bone."""
NEARLY = 0.95
"""Of pieces that are enclosed as well as this share of the best, the one that is cut thickest is taken: it ends soonest
where the skull is open."""


def inside_of_skull(values: np.ndarray, spacing, progress: Progress | None = None) -> np.ndarray:
    """Where the soft tissue is that the skull encloses.

    Tissue is cut apart where it is thin (an opening: J. Serra, Image Analysis and Mathematical Morphology, 1982), and
    the piece is taken most of whose surface is bone.

    Parameters
    ----------
    values : array [k, j, i], HU
        Without missing values.
    spacing : mm along i, j, k

    Returns
    -------
    bool array [k, j, i]; without anything when no piece is enclosed.
    """
    from scipy import ndimage

    progress = progress or silent()
    spacing, there = np.asarray(spacing, float), np.array(values.shape[::-1])
    step = max(float(spacing.min()), float((there * spacing).max()) / WORK)
    i, j, k = (int(n) for n in np.maximum(np.ceil(there * spacing / step), 1))
    offset = (there - 1) / 2 - step / spacing * (np.array((i, j, k)) - 1) / 2
    frame = np.column_stack([np.diag(step / spacing), offset])
    # what becomes coarser is smoothed first, so that thin bone is not missed
    widths = [0.6 * max(step / s, 1.0) for s in spacing[::-1]]
    soft = resampled(ndimage.gaussian_filter(values.astype(np.float32), widths), frame, (i, j, k), "linear", -1000.0)
    soft = np.pad(soft, 1, constant_values=-1000.0)  # the edge of the image encloses nothing
    bone = soft > BONE
    tissue = (soft > AIR) & ~bone
    depth = depth_inside(tissue, step)
    thickest, found = float(depth.max()), []
    for n, share in enumerate(NECKS):
        progress.at(n / len(NECKS), "Seeking what the skull holds")
        neck = share * thickest
        pieces, count = ndimage.label(depth > neck)
        sizes = np.bincount(pieces.ravel())
        sizes[0] = 0
        for piece in np.argsort(sizes)[::-1][: min(PIECES, count)]:
            region = (depth_inside(pieces != piece, step) <= neck) & tissue
            edge = ndimage.binary_dilation(region) & ~region
            found.append((float((bone & edge).sum()) / max(int(edge.sum()), 1), region))
    best = max((f[0] for f in found), default=0.0)
    if best < ENCLOSED:
        return np.zeros(values.shape, bool)
    region = next(r for enclosed, r in found if enclosed >= NEARLY * best)
    region = ndimage.binary_fill_holes(region)[1:-1, 1:-1, 1:-1]
    back, (nk, nj, ni) = np.column_stack([np.diag(spacing / step), -frame[:, 3] * spacing / step]), values.shape
    return resampled(region.astype(np.float32), back, (ni, nj, nk), "linear", 0.0) > 0.5
