"""Less noise: non-local means, total variation, median, edge-preserving diffusion; and how much noise there is."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Annotated, Literal, NamedTuple

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.kernel import kernel
from ...core.left_out import LeftOut
from ...core.operation import operation
from ...core.parameter import Between, ImageValue
from ...core.progress import Progress, silent
from ...core.watched import execute

PATCH, SEARCH = 1, 5
"""Voxels to each side of a patch, and of the box in which patches like it are sought (P. Coupé et al., IEEE Trans. Med.
Imaging 27, 2008)."""
REACH = 2 * (PATCH + SEARCH)
"""Voxels beyond which an image says nothing of a voxel, near enough."""
FALL = 4096
"""Steps of the table of weights."""
FURTHEST = 12.0
"""Where weights end, in units of the table's exponent."""


class Denoised(NamedTuple):
    """The image with less noise, and what was taken away."""

    image: Image
    taken: Image


@operation(
    "prepare",
    "Reduce noise",
    name="reduce-noise",
    keywords=(
        "denoise filter non-local means total variation median edge preserving anisotropic diffusion rician "
        "noise reduction denoising nlm tv bilateral wiener"
    ),
    group="Noise and brightness",
    reach=lambda space, _: REACH * max(space.spacing),
    called={"how": "Method", "kind": "Noise is", "noise": "Its spread"},
    rare="kind",
    methods="Noise was reduced ({how})",
    cites=(
        "Buades 2005",
        "Coupé 2008",
        "Rudin 1992",
        "Chambolle 2004",
        "Whitaker 2001",
        "Wiest-Daesslé 2008",
    ),
)
def reduce_noise(
    image: Image,
    how: Literal["non-local means", "total variation", "median", "diffusion"] = "non-local means",
    *,
    noise: Annotated[ImageValue | None, LeftOut("estimated", was=0.0)] = None,
    kind: Literal["gaussian", "rician"] = "gaussian",
    strength: Annotated[float, Between(0.05, 20)] = 1.0,
    progress: Progress = silent(),
) -> Denoised:
    """Take noise away and leave edges.

    Parameters
    ----------
    how : text
        Non-local means (A. Buades et al., Multiscale Model. Simul. 4, 2005, with the choices of P. Coupé et al., 2008);
        total variation (L. Rudin et al., Physica D 60, 1992, by A. Chambolle, J. Math. Imaging Vis. 20, 2004); the
        median of 3 × 3 × 3 voxels; or curvature-driven diffusion (R. Whitaker and X. Xue, ICIP 2001).
    noise : value
        Standard deviation of the noise; estimated when left out (see `noise-level`).
    kind : text
        "rician" for magnitudes of MR: their bias is taken away too (N. Wiest-Daesslé et al., MICCAI 2008).
    strength : number
        More or less than is usual; 1 is usual.

    Returns
    -------
    image : Image
    taken : Image
        The image less the result: it should look like noise, without anatomy.

    Raises
    ------
    Trouble
        When the image has no finite value, or no noise can be found in it.
    """
    values = image.kji.astype(np.float32)
    there = np.isfinite(values)
    if not there.any():
        raise Trouble(f"“{image.name}” holds no values", "choose an image that shows something")
    filled = np.where(there, values, np.float32(values[there].mean())) if not there.all() else values
    if how == "median":
        made = _median(filled, progress)
    else:
        spread = float(noise) if noise else noise_level(filled, kind)
        if not spread > 0:
            raise Trouble(f"No noise was found in “{image.name}”", "give its standard deviation yourself")
        if how == "non-local means":
            made = non_local_means(filled, spread * strength, kind == "rician", spread, progress)
        elif how == "total variation":
            from skimage.restoration import denoise_tv_chambolle

            progress.at(0.1, "Reducing noise")
            scale = float(filled.std()) or 1.0
            made = denoise_tv_chambolle(filled / scale, weight=1.2 * strength * spread / scale) * scale
        else:
            made = _diffused(filled, spread * strength, image.space.spacing, progress)
    made = np.where(there, made.astype(np.float32), values)
    clean = image.like(made.T, name=f"{image.name}, less noise")
    taken = image.like((values - made).T, name=f"{image.name}, noise taken away", facts=dict(image.facts))
    return Denoised(clean, taken)


SLICES = 4
"""That are worked on between two looks at the cancel button."""


def noise_level(values: np.ndarray, kind: str = "gaussian") -> float:
    """Standard deviation of the noise of a volume [k, j, i].

    From the differences of each voxel to its six neighbours, by the median of their size, which edges hardly change
    (the pseudo-residuals of T. Gasser et al., Biometrika 73, 1986). For "rician" noise the ground, where there is no
    signal and noise looks smaller, is left out.
    """
    axes = [n for n, size in enumerate(values.shape) if size > 2]
    if not axes:
        return 0.0
    inner = tuple(slice(1, -1) if n in axes else slice(None) for n in range(3))
    around = np.zeros(values[inner].shape, np.float32)
    for n in axes:
        for side in (slice(None, -2), slice(2, None)):
            around += values[tuple(side if m == n else s for m, s in enumerate(inner))]
    count = 2 * len(axes)
    left = np.sqrt(count / (count + 1)) * (values[inner] - around / count)
    from scipy import ndimage

    # edges look like noise: the half of the voxels about which values change least tells of noise alone
    steep = ndimage.gaussian_gradient_magnitude(values, [1.5 if n in axes else 0 for n in range(3)])[inner]
    calm = steep <= np.median(steep)
    if calm.sum() > 1000 and np.abs(left[calm]).any():
        left = left[calm]
        values = values[inner][calm]
    else:
        values = values[inner]
    if kind == "rician":
        bright = values > 2 * np.median(np.abs(left)) / 0.6745 * 3
        left = left[bright] if bright.sum() > 1000 else left
    return float(np.median(np.abs(left - np.median(left))) / 0.6745)


def non_local_means(
    values: np.ndarray,
    spread: float,
    rician: bool,
    noise: float,
    progress: Progress | None = None,
    search: int = SEARCH,
) -> np.ndarray:
    """Non-local means of a volume [k, j, i], float32: every voxel becomes the mean of those in its search box, weighted
    by how alike the patches about them are. `spread` is the standard deviation that patches may differ by, `search`
    how many voxels the box reaches to each side."""
    progress = progress or silent()
    source = values * values if rician else values
    reach = [search if n > 1 else 0 for n in values.shape]
    patch = np.array([PATCH if n > 1 else 0 for n in values.shape])
    offsets = [
        (a, b, c)
        for a in range(-reach[0], reach[0] + 1)
        for b in range(-reach[1], reach[1] + 1)
        for c in range(-reach[2], reach[2] + 1)
        if (a, b, c) > (0, 0, 0)
    ]
    count = float(np.prod(2 * patch + 1))
    table = np.exp(-np.linspace(0, FURTHEST, FALL)).astype(np.float32)
    # patches of the same place differ by 2 σ² on average
    scale = np.float32((FALL - 1) / FURTHEST / (2 * spread * spread * count))
    padded, source = np.ascontiguousarray(values, np.float32), np.ascontiguousarray(source, np.float32)
    halves = [offsets[::2], offsets[1::2]]
    sums = [np.zeros(values.shape, np.float32) for _ in halves]
    weights = [np.zeros(values.shape, np.float32) for _ in halves]

    def work(n: int) -> None:
        room = np.empty(values.shape, np.float32), np.empty(values.shape, np.float32)
        for m, offset in enumerate(halves[n]):
            if n == 0:
                progress.at(m / len(halves[0]), "Reducing noise")
            elif progress.cancelled:
                return
            _one_offset(padded, source, *room, np.array(offset), patch, table, scale, sums[n], weights[n])

    with ThreadPoolExecutor(2) as pool:
        list(pool.map(work, range(2)))
    # the voxel itself counts as much as one that is alike
    total = sums[0] + sums[1] + source
    made = total / (weights[0] + weights[1] + np.float32(1))
    return np.sqrt(np.maximum(made - np.float32(2 * noise * noise), 0)) if rician else made


@kernel(fastmath=True)
def _one_offset(values, source, square, along, offset, patch, table, scale, sums, weights):
    """Add what voxels at one offset, and at its opposite, give to each other."""
    nk, nj, ni = values.shape
    dk, dj, di = offset[0], offset[1], offset[2]
    k1, j0, j1, i0, i1 = nk - dk, max(0, -dj), nj - max(0, dj), max(0, -di), ni - max(0, di)
    pk, pj, pi = patch[0], patch[1], patch[2]
    for k in range(k1):
        for j in range(j0, j1):
            one, other, out = values[k, j], values[k + dk, j + dj], square[k, j]
            for i in range(i0, i1):
                d = one[i] - other[i + di]
                out[i] = d * d
        # sums of three along i and j, in the plane; edges take what is there once more
        if pi > 0:
            for j in range(j0, j1):
                row, out = square[k, j], along[k, j]
                out[i0] = row[i0] + row[i0] + row[min(i0 + 1, i1 - 1)]
                for i in range(i0 + 1, i1 - 1):
                    out[i] = row[i - 1] + row[i] + row[i + 1]
                out[i1 - 1] = row[max(i1 - 2, i0)] + row[i1 - 1] + row[i1 - 1]
        else:
            along[k, j0:j1] = square[k, j0:j1]
        for j in range(j0, j1):
            a, b, out = along[k, max(j - pj, j0)], along[k, j], square[k, j]
            c = along[k, min(j + pj, j1 - 1)]
            if pj > 0:
                for i in range(i0, i1):
                    out[i] = a[i] + b[i] + c[i]
            else:
                for i in range(i0, i1):
                    out[i] = b[i]
    last = np.float32(len(table) - 1)
    for k in range(k1):
        for j in range(j0, j1):
            a, b, c = square[max(k - pk, 0), j], square[k, j], square[min(k + pk, k1 - 1), j]
            here, there = source[k, j], source[k + dk, j + dj]
            sum_here, sum_there = sums[k, j], sums[k + dk, j + dj]
            weight_here, weight_there = weights[k, j], weights[k + dk, j + dj]
            for i in range(i0, i1):
                far = (a[i] + b[i] + c[i]) * scale if pk > 0 else b[i] * scale
                if far < last:
                    w = table[int(far)]
                    sum_here[i] += w * there[i + di]
                    weight_here[i] += w
                    sum_there[i + di] += w * here[i]
                    weight_there[i + di] += w


def _diffused(values: np.ndarray, spread: float, spacing, progress: Progress) -> np.ndarray:
    import SimpleITK as sitk

    given = sitk.GetImageFromArray(values)
    filter = sitk.CurvatureAnisotropicDiffusionImageFilter()
    # steps are counted in voxels: a spacing of 1e-6 mm would leave none that is stable
    filter.SetTimeStep(0.0625)
    filter.SetNumberOfIterations(5)
    filter.SetConductanceParameter(float(np.clip(2.0 * spread / (np.abs(np.diff(values)).mean() + 1e-12), 0.5, 9.0)))
    found = execute(
        filter,
        sitk.sitkProgressEvent,
        lambda: progress.at(0.2 + 0.7 * min(filter.GetProgress(), 1.0), "Reducing noise"),
        given,
    )
    progress.at(0.9, "Reducing noise")
    return sitk.GetArrayFromImage(found)


def _median(values: np.ndarray, progress: Progress) -> np.ndarray:
    """Medians of 3 × 3 × 3 voxels, a few slices at a time so that work can be stopped."""
    from scipy import ndimage

    size, made = [3 if n > 1 else 1 for n in values.shape], np.empty_like(values)
    for a in progress.over(range(0, len(values), SLICES), what="Reducing noise"):
        low, high = max(a - 1, 0), min(a + SLICES + 1, len(values))
        part = ndimage.median_filter(values[low:high], size, mode="nearest")
        made[a : a + SLICES] = part[a - low : a - low + SLICES]
    return made
