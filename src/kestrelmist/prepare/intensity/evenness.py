"""Uneven brightness: a smooth field that multiplies an image is found and divided out."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal, NamedTuple

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.left_out import Found, LeftOut
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Between, Only, Unit
from ...core.progress import Progress, silent
from ...core.space import Space
from ...core.watched import execute

WORK, FINER = 48, 12
"""Voxels along the longest side of the grid on which the field is found, and how many there are at least between two
knots: it is smooth, and needs no more."""
MOST_LEVELS, MOST_SPANS, ITERATIONS = 4, 64, 50
NOISE = 0.1
"""Of the filter that sharpens the histogram; more than the library's own keeps a few tissues from drawing the field."""


class Even(NamedTuple):
    """The image with its brightness evened, and the field that was divided out."""

    image: Image
    field: Image


@operation(
    "prepare",
    "Even brightness",
    name="even-brightness",
    version=2,
    keywords=(
        "bias field n4 shading uneven illumination flat bias field correction inhomogeneity intensity "
        "nonuniformity non-uniformity inu"
    ),
    group="Noise and brightness",
    reach=math.inf,
    called={"mask": "Look only at", "knots": "Follows over"},
    methods="Uneven brightness was corrected by dividing by a smooth field",
    cites=("Tustison 2010",),
)
def even_brightness(
    image: Image,
    mask: LabelMap | None = None,
    knots: Annotated[
        float | None, Unit("mm"), Between(0, 1e6), LeftOut("half the longest side", _half_a_side, 0.0)
    ] = None,
    *,
    progress: Progress = silent(),
) -> Even:
    """Find the smooth field that makes a volume brighter here and darker there, and divide it out (N4: N. J. Tustison
    et al., IEEE Trans. Med. Imaging 29, 2010).

    Parameters
    ----------
    mask : label map
        Voxels that carry a label are looked at; what is brighter than air when left out. All are changed.
    knots : mm
        Distance between the knots of the spline that the field is made of; half of the image's longest side when left
        out. Smaller ones let the field follow the anatomy.

    Returns
    -------
    image : Image
        float32; its mean within the mask is what it was.
    field : Image
        What was divided out, with the mean 1 within the mask.

    Raises
    ------
    Trouble
        When the mask is empty or lies on another grid, or nothing in the image is above 0.
    """
    values = np.nan_to_num(image.kji.astype(np.float32), nan=0.0, posinf=0.0, neginf=0.0)
    inside = _looked_at(image, values, mask)
    try:
        field = found_field(values, inside, image.space.spacing, knots or 0.0, progress)
    except RuntimeError as error:
        raise Trouble(f"No field could be found in “{image.name}”", "give a mask of what is looked at") from error
    return _divided(image, field, inside, "N4")


def found_field(
    values: np.ndarray, inside: np.ndarray, spacing, knots: float, progress: Progress, work: int = WORK
) -> np.ndarray:
    """The field by N4, float32 [k, j, i].

    Parameters
    ----------
    values : float32 array [k, j, i]
    inside : bool array
        What is looked at.
    spacing : mm along i, j, k
    knots : mm
        Between the knots of the spline; half of the longest side when 0.
    work : number
        Voxels along the longest side of the grid on which it is found.

    Raises
    ------
    RuntimeError
        When there is none.
    """
    import SimpleITK as sitk

    shape = values.shape[::-1]
    sides = [s * n for s, n in zip(spacing, shape)]
    apart = knots if knots > 0 else max(sides) / 2
    spans = [max(1, min(round(side / apart), n // 4, MOST_SPANS)) for side, n in zip(sides, shape)]
    # each level halves the distance between knots, and the last has the one that is wanted
    levels = min(1 + int(np.ceil(np.log2(max(spans)))), MOST_LEVELS)
    step = max(1, int(np.ceil(max(shape) / max(work, FINER * max(spans)))))
    picked = tuple(slice(step // 2 if n >= step else 0, None, step) for n in values.shape)
    small, small_mask = values[picked], inside[picked]
    if not small_mask.any():
        picked, small, small_mask = (slice(None),) * 3, values, inside
    wider = [s * (step if n > 1 else 1) for s, n in zip(spacing, shape)]
    given, where = sitk.GetImageFromArray(small), sitk.GetImageFromArray(small_mask.astype(np.uint8))
    for one in (given, where):
        one.SetSpacing(wider)
    filter = sitk.N4BiasFieldCorrectionImageFilter()
    filter.SetMaximumNumberOfIterations([ITERATIONS] * levels)
    filter.SetConvergenceThreshold(1e-5)
    filter.SetWienerFilterNoise(NOISE)
    filter.SetNumberOfControlPoints([int(np.ceil(n / 2 ** (levels - 1))) + 3 for n in spans])
    share = 0.7 / ITERATIONS
    execute(
        filter,
        sitk.sitkIterationEvent,
        lambda: progress.at(0.1 + share * min(filter.GetElapsedIterations(), ITERATIONS), "Finding the field"),
        given,
        where,
    )
    progress.at(0.85, "Dividing it out")
    whole = sitk.GetImageFromArray(values)
    whole.SetSpacing(tuple(spacing))
    origin = [p.start * s if p.start else 0.0 for p, s in zip(picked[::-1], spacing)]
    whole.SetOrigin([-o for o in origin])
    return np.exp(sitk.GetArrayFromImage(filter.GetLogBiasFieldAsImage(whole))).astype(np.float32)


@operation(
    "prepare",
    "Even background",
    name="even-background",
    keywords=(
        "illumination shading flat field section plate vignette polynomial blank background subtraction "
        "shading correction vignetting flat-field correction"
    ),
    takes="series",
    group="Noise and brightness",
    reach=math.inf,
    called={"how": "Background by", "blank": "Empty field", "across": "Window", "mask": "Only within"},
    methods="An uneven background was divided out ({how})",
)
def even_background(
    image: Image,
    how: Literal["polynomial", "median"] = "polynomial",
    degree: Annotated[int, Between(1, 4), Only("how", "polynomial")] = 2,
    *,
    blank: Image | None = None,
    across: Annotated[
        float | None,
        Unit("mm"),
        Between(0, 1e6),
        Only("how", "median"),
        LeftOut("a fifth of the longest side", _fifth_of_a_side, 0.0),
    ] = None,
    mask: LabelMap | None = None,
    progress: Progress = silent(),
) -> Even:
    """Divide the background out of a section, a plate or a picture: a polynomial of the place, a large median, or a
    blank picture.

    Parameters
    ----------
    how : text
        A polynomial that is fitted to all pixels again and again, leaving out what stands out (polynomial); or the
        median of a wide window (median).
    degree : number
        Of the polynomial, 1 to 4.
    blank : image
        A picture of the empty field on the same grid, which is divided out instead.
    across : mm
        Width of the median's window; a fifth of the longest side when 0.
    mask : label map
        Only pixels that carry a label count for the fit.

    Raises
    ------
    Trouble
        When the background is 0 or below somewhere, the blank lies on another grid, or a mask leaves too little.
    """
    first = image.frame((0,) * len(image.axes))
    values = first.kji.astype(np.float32)
    if blank is not None:
        if not blank.space.same_grid(image.space):
            raise Trouble(
                f"“{blank.name}” lies on another grid than “{image.name}”", "choose a blank of this microscope"
            )
        field = blank.kji.astype(np.float32)
    elif how == "polynomial":
        inside = np.isfinite(values)
        if mask is not None:
            require_same_grid(first, mask)
            inside &= mask.kji > 0
        field = _polynomial(values, inside, degree, progress)
    else:
        field = _wide_median(values, image.space.spacing, across or 0.0)
    if not np.isfinite(field).all() or field.min() <= 0:
        raise Trouble(
            "The background found is 0 or below somewhere, so nothing can be divided by it",
            "choose a lower degree, a mask, or the median",
        )
    if image.axes:
        field = field / field.mean()
        made = image.each_volume(
            lambda v: (v.astype(np.float32) / field.T).astype(np.float32), name=f"{image.name}, even"
        )
        return Even(made, first.like(field.T, name=f"{image.name}, background", unit=""))
    return _divided(image, field, np.isfinite(values), "background")


def _looked_at(image: Image, values: np.ndarray, mask: LabelMap | None) -> np.ndarray:
    if mask is not None:
        require_same_grid(image, mask)
        inside = (mask.kji > 0) & (values > 0)
    else:
        from skimage.filters import threshold_otsu

        above = values[values > 0]
        if not above.size:
            raise Trouble(f"“{image.name}” has no value above 0", "choose an image whose values are brightness")
        sample = above[:: max(1, above.size // 1_000_000)]
        # half of Otsu's limit: what is dark only because the field is weak there counts too
        inside = values > (threshold_otsu(sample) / 2 if sample.min() < sample.max() else 0)
    if inside.sum() < 10:
        raise Trouble("There is nothing to look at in this mask", "choose a mask that holds the object")
    return inside


def _divided(image: Image, field: np.ndarray, inside: np.ndarray, name: str) -> Even:
    field = field / np.float32(field[inside].mean())
    values = image.kji.astype(np.float32)
    made = values / field
    before, after = values[inside].mean(dtype=np.float64), made[inside].mean(dtype=np.float64)
    made *= np.float32(before / after) if after else np.float32(1)
    whole = image.like(made.T, name=f"{image.name}, even")
    return Even(whole, image.like(field.T, name=f"{image.name}, field of brightness", unit="", facts={"Method": name}))


def _polynomial(values: np.ndarray, inside: np.ndarray, degree: int, progress: Progress) -> np.ndarray:
    """A polynomial of the place, fitted by least squares to a sample; what lies more than three spreads away is left
    out and it is fitted again (iterated clipping)."""
    places = [np.linspace(-1, 1, n) if n > 1 else np.zeros(1) for n in values.shape]
    powers = [
        (a, b, c)
        for a in range(degree + 1)
        for b in range(degree + 1 - a)
        for c in range(degree + 1 - a - b)
        if not any(p and n == 1 for p, n in zip((a, b, c), values.shape))
    ]
    index = np.argwhere(inside)
    index = index[:: max(1, len(index) // 200_000)]
    if len(index) < 2 * len(powers):
        raise Trouble("There are too few pixels to fit a background to", "choose a lower degree or a larger mask")
    design = np.stack(
        [np.prod([places[n][index[:, n]] ** p for n, p in enumerate(power)], axis=0) for power in powers], 1
    )
    seen = values[tuple(index.T)].astype(np.float64)
    keep = np.ones(len(seen), bool)
    found = np.zeros(len(powers))
    for n in range(12):
        progress.at(n / 12, "Fitting the background")
        found = np.linalg.lstsq(design[keep], seen[keep], rcond=None)[0]
        left = seen - design @ found
        spread = 1.4826 * np.median(np.abs(left[keep] - np.median(left[keep])))
        fresh = np.abs(left - np.median(left[keep])) <= 3 * max(spread, 1e-12)
        if fresh.sum() < 2 * len(powers) or np.array_equal(fresh, keep):
            break
        keep = fresh
    field = np.zeros(values.shape)
    for weight, power in zip(found, powers):
        parts = [places[n] ** p for n, p in enumerate(power)]
        field += weight * parts[0][:, None, None] * parts[1][None, :, None] * parts[2][None, None, :]
    return field.astype(np.float32)


def _half_a_side(given: dict[str, Any]) -> Found:
    return _of_the_longest_side(given["image"].space, 0.5, "half the longest side")


def _fifth_of_a_side(given: dict[str, Any]) -> Found:
    return _of_the_longest_side(given["image"].space, 0.2, "a fifth of the longest side")


def _of_the_longest_side(space: Space, share: float, words: str) -> Found:
    return Found(share * max(n * s for n, s in zip(space.shape, space.spacing)), words)


def _wide_median(values: np.ndarray, spacing, across: float) -> np.ndarray:
    """The median of a wide window, on a coarser grid that it is then spread from."""
    from scipy import ndimage

    size = np.array(values.shape)
    wide = np.array([across / s if across > 0 else max(size) / 5 for s in reversed(spacing)])
    step = np.where(size > 1, np.maximum(1, np.floor(wide / 9)), 1).astype(int)
    coarse = values[tuple(slice(None, None, n) for n in step)]
    window = tuple(int(max(1, 2 * round(w / s / 2) + 1)) if n > 1 else 1 for w, s, n in zip(wide, step, size))
    smooth = ndimage.gaussian_filter(
        ndimage.median_filter(coarse, window, mode="nearest"), [0.5 if n > 1 else 0 for n in size]
    )
    at = np.meshgrid(*(np.minimum(np.arange(n) / s, c - 1) for n, s, c in zip(size, step, coarse.shape)), indexing="ij")
    return ndimage.map_coordinates(smooth, at, order=1, mode="nearest").astype(np.float32)
