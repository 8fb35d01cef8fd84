"""The values of an image: clipped, standardised, matched, turned round, in another number type."""

from __future__ import annotations

import math
from typing import Annotated, Literal, NamedTuple

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.left_out import NO_LIMIT
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import ImageValue
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from ...core.values import KERNEL_TYPES, type_holding
from ..grid.lost import caveats_of

TYPES = Literal["uint8", "int16", "uint16", "float32"]
QUANTILES = 1024
"""Steps of the curve that a histogram is matched by."""


Limit = Annotated[ImageValue, NO_LIMIT]


@operation(
    "prepare",
    "Clip",
    name="clip",
    keywords="limit threshold range values window clamp winsorise saturate",
    takes="series",
    version=2,
    group="Values",
    reach=0.0,
    called={"low": "Not below", "high": "Not above"},
    methods="Values were limited to {low} to {high}",
)
def clip(image: Image, low: Limit | None = None, high: Limit | None = None) -> Image:
    """Bring values below one limit and above another one to the limit. Voxels without a value stay so.

    Parameters
    ----------
    low, high : values
        Either may be left out.

    Raises
    ------
    Trouble
        When neither limit is given, or they are the wrong way round.
    """
    if low is None and high is None:
        raise Trouble("Nothing says where to clip", "give a lower or an upper limit")
    if low is not None and high is not None and low > high:
        raise Trouble(f"The range from {low:g} to {high:g} is none", "give the lower value first")

    def change(values: np.ndarray) -> np.ndarray:
        least, most = _limits_that_count(values.dtype, low, high)
        made = values.astype(type_holding(values.dtype, *(v for v in (least, most) if v is not None)))
        for limit, cut in ((least, np.maximum), (most, np.minimum)):
            if limit is not None:
                cut(made, made.dtype.type(limit), out=made)
        return made

    for kind in KERNEL_TYPES:  # what cannot be held is said before anything is worked out
        type_holding(kind, *(v for v in _limits_that_count(np.dtype(kind), low, high) if v is not None))
    return _changed(image, change, "clipped")


def _limits_that_count(kind: np.dtype, low: float | None, high: float | None) -> tuple[float | None, float | None]:
    """The limits without those that lie beyond all numbers of a type, and change nothing."""
    if kind.kind == "f":
        return low, high
    ends = np.iinfo(kind)
    return (
        low if low is not None and low > ends.min else None,
        high if high is not None and high < ends.max else None,
    )


@operation(
    "prepare",
    "Standardise",
    name="standardise",
    keywords="z-score normalise mean deviation mask zscore z score normalize standardize",
    takes="",
    group="Values",
    reach=math.inf,
    called={"mask": "Counts within"},
    methods="Values were standardised to mean 0 and standard deviation 1",
)
def standardise(image: Image, mask: LabelMap | None = None) -> Image:
    """Take the mean away and divide by the standard deviation (n − 1) of the voxels in a mask, or of all.

    Parameters
    ----------
    mask : label map
        Only voxels that carry a label count for mean and spread; all are changed.

    Raises
    ------
    Trouble
        When the mask is empty or lies on another grid, or the values do not differ.
    """
    inside = _inside(image, mask)
    mean, spread = float(inside.mean()), float(inside.std(ddof=1)) if inside.size > 1 else 0.0
    if not spread > 0:
        raise Trouble(f"The values of “{image.name}” do not differ there", "choose another mask or image")
    made = ((image.kji.astype(np.float64) - mean) / spread).astype(np.float32)
    return image.like(made.T, name=f"{image.name}, z-score", unit="SD")


@operation(
    "prepare",
    "Match values",
    name="match-values",
    keywords="histogram match normalise percentile intensity reference histogram matching normalize harmonise",
    group="Values",
    reach=math.inf,
    called={"to": "Like", "how": "Match", "mask": "Look only at"},
    methods="Values were matched to those of a reference ({how})",
    cites=("Gonzalez 2002",),
)
def match_values(
    image: Image,
    to: Image,
    how: Literal["percentiles", "histogram"] = "percentiles",
    *,
    mask: LabelMap | None = None,
    progress: Progress = silent(),
) -> Image:
    """Bring the values of an image onto the scale of another one.

    Parameters
    ----------
    to : image
        The one whose scale is taken; its grid does not matter.
    how : text
        Linearly, so that the 1st and the 99th percentile become those of the other (percentiles); or by the curve that
        gives both the same distribution (histogram; R. C. Gonzalez and R. E. Woods, Digital Image Processing, 2002).
    mask : label map
        Only voxels of the image that carry a label are looked at; all are changed.

    Raises
    ------
    Trouble
        When one of the images holds one value only, or the mask does not fit.
    """
    progress.at(0.0, "Matching")
    own, other = _inside(image, mask), to.sample(4_000_000).astype(np.float64)
    if not other.size:
        raise Trouble(f"“{to.name}” holds no values", "choose an image that shows something")
    values = image.kji.astype(np.float64)
    if how == "percentiles":
        (a, b), (c, d) = np.percentile(own, (1, 99)), np.percentile(other, (1, 99))
        if not b > a or not d > c:
            raise Trouble("One of these images has one value nearly everywhere", "choose images that show something")
        made = (values - a) * (d - c) / (b - a) + c
    else:
        shares = np.linspace(0, 100, QUANTILES + 1)
        progress.at(0.3, "Matching")
        before, after = np.percentile(own, shares), np.percentile(other, shares)
        if before[0] == before[-1]:
            raise Trouble(f"“{image.name}” has one value everywhere", "choose an image that shows something")
        before, first = np.unique(before, return_index=True)
        made = np.interp(values, before, after[first])
        made[~np.isfinite(values)] = np.nan
    return image.like(made.astype(np.float32).T, name=f"{image.name}, matched to {to.name}", unit=to.unit)


@operation(
    "prepare",
    "Turn values round",
    name="turn-values",
    keywords="invert negative logarithm log",
    takes="series",
    group="Values",
    reach=math.inf,
    called={"how": "Turn by"},
    methods="Values were turned round ({how})",
)
def turn_values(image: Image, how: Literal["invert", "logarithm"] = "invert") -> Image:
    """Mirror the values within their range, or take their natural logarithm.

    Parameters
    ----------
    how : text
        "invert" makes the highest value the lowest; "logarithm" needs values above 0: others have none afterwards.

    Raises
    ------
    Trouble
        When no value is above 0 where a logarithm is asked for.
    """
    if how == "invert":
        found = (_ends(image.stored(index).exact()) for index in image.indices())
        ends = [e for e in found if e is not None]
        if not ends:
            raise Trouble(f"“{image.name}” holds no values", "choose another image")
        total = min(e[0] for e in ends) + max(e[1] for e in ends)
        return _changed(image, lambda values: (total - values.astype(np.float64)).astype(np.float32), "inverted")
    if not any((image.stored(index).exact() > 0).any() for index in image.indices()):
        raise Trouble(f"“{image.name}” has no value above 0, so none has a logarithm", "choose another image")
    first = image.frame((0,) * len(image.axes)).data

    def logarithm(values: np.ndarray) -> np.ndarray:
        with np.errstate(all="ignore"):
            return np.where(values > 0, np.log(values.astype(np.float64)), np.nan).astype(np.float32)

    doubts = caveats_of(image, logarithm(first), np.isfinite(first), "the logarithm of what is not above 0")
    return _changed(image, logarithm, "logarithm", unit="", caveats=doubts)


class Converted(NamedTuple):
    """The image in its new number type, and what it cost."""

    image: Image
    lost: Table


@operation(
    "prepare",
    "Number type",
    name="number-type",
    keywords=(
        "convert bits integer float uint8 int16 cast bit depth 8-bit 16-bit 8 bit 16 bit float double data "
        "type datatype"
    ),
    group="Values",
    reach=math.inf,
    called={"round_values": "Round"},
    methods="Values were kept as {type}",
)
def number_type(
    image: Image, type: TYPES = "int16", *, round_values: bool = True, progress: Progress = silent()
) -> Converted:
    """Keep the values in another number type, and say what is lost by it.

    Parameters
    ----------
    type : text
        Whole numbers of 8 or 16 bits with or without a sign, or single precision.
    round_values : bool
        To the nearest whole number; otherwise what is behind the point is cut off.

    Returns
    -------
    image : Image
    lost : Table
        Voxels that lay beyond the type's ends, that had no value, and the largest change of the others.

    Raises
    ------
    Trouble
        When nothing would be left but one value.
    """
    kind, given = np.dtype(type), image.fetch(progress)
    out = np.empty(given.shape, kind, order="F")
    lost = outside = 0
    change, low, high = 0.0, math.inf, -math.inf
    for k in progress.over(range(given.shape[2]), what="Converting"):
        values = given[:, :, k].astype(np.float64)
        there = np.isfinite(values)
        made = np.where(there, values, 0.0) if kind.kind in "iu" else values
        if kind.kind in "iu":
            lost += int((~there).sum())
            made, ends = np.round(made) if round_values else np.trunc(made), np.iinfo(kind)
            beyond = there & ((made < ends.min) | (made > ends.max))
            outside += int(beyond.sum())
            made, there = np.clip(made, ends.min, ends.max), there & ~beyond
        out[:, :, k] = made
        if there.any():
            change = max(change, float(np.abs(out[:, :, k][there].astype(np.float64) - values[there]).max()))
            low, high = min(low, float(values[there].min())), max(high, float(values[there].max()))
    if high > low and out.max() == out.min():
        raise Trouble(
            f"All values of “{image.name}” would become {out.flat[0]:g}", "scale them first, or choose float32"
        )
    table = Table(f"{image.name} as {type}", [Column("voxels"), Column("beyond"), Column("without value")])
    table.columns.append(Column("largest change", image.unit, 6))
    table.rows.append((given.size, outside, lost, change))
    return Converted(image.like(out, name=f"{image.name}, {type}"), table)


def _changed(image: Image, change, words: str, **more) -> Image:
    name = f"{image.name}, {words}"
    if image.axes:
        return image.each_volume(change, name=name, **more)
    return image.like(np.asfortranarray(change(image.data)), name=name, **more)


def _inside(image: Image, mask: LabelMap | None) -> np.ndarray:
    """Finite values of an image within a mask, float64."""
    values = image.data
    if mask is not None:
        require_same_grid(image, mask)
        values = values[mask.data > 0]
    values = np.asarray(values, np.float64).ravel()
    values = values[np.isfinite(values)]
    if not values.size:
        raise Trouble(f"“{image.name}” holds no values there", "choose another mask or image")
    return values


def _ends(values: np.ndarray) -> tuple[float, float] | None:
    """Lowest and highest finite value; None without any."""
    values = values[np.isfinite(values)] if values.dtype.kind == "f" else values
    return (float(values.min()), float(values.max())) if values.size else None
