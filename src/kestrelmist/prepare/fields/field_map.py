"""A map of how far each place is off resonance, from phase images."""

from __future__ import annotations

from typing import Annotated, Any, Literal, NamedTuple

import numpy as np

from ...core.caveat import NOTED, Caveat
from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.left_out import Found, LeftOut
from ...core.mean_volume import mean_volume
from ...core.off_resonance import HERTZ, RADIANS
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Between, Unit
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from ...formats.sidecar import facts_of, number_of, with_facts
from .phase import ROUGH, TURN, coherence, scale_of_phase, unwrapped
from .smooth_field import carried_on, cleaned, eroded, head_mask

LONGEST = 0.1
"""s between two echoes; more is a mistake."""
MOST = 2e5
"""rad/s; a map of more is in another unit."""


class FieldMap(NamedTuple):
    """The map, and how it was made."""

    field: Image
    report: Table


@operation(
    "prepare",
    "Field map",
    name="field-map",
    version=2,
    keywords="phase unwrap magnitude b0 off resonance fieldmap distortion rad/s hz phase unwrapping b0 map",
    takes="series",
    group="Field maps",
    called={
        "holds": "Values are",
        "echo_difference": "Between echoes",
        "turn": "A whole turn is",
        "mask": "Head",
        "erode": "Edge left out",
        "smooth": "Smooth by",
        "second": "Second phase",
        "offset": "Median in head",
    },
    rare="turn erode smooth offset",
    methods="A map of the field off resonance was made from phase images, unwrapped by reliability",
    cites=("Abdul-Rahman 2007",),
)
def field_map(
    image: Image,
    magnitude: Image | None = None,
    second: Image | None = None,
    *,
    holds: Literal["as its unit says", "phase", "Hz", "rad/s"] = "as its unit says",
    echo_difference: Annotated[
        float | None, Unit("s"), Between(0, LONGEST), LeftOut("not needed", _found_apart, 0.0)
    ] = None,
    turn: Annotated[float | None, Between(0, 1e6), LeftOut("found from the values", was=0.0)] = None,
    mask: LabelMap | None = None,
    erode: Annotated[float, Unit("mm"), Between(0, 1e4)] = 0.0,
    smooth: Annotated[float | None, Unit("mm"), Between(0, 1e4), LeftOut("not smoothed", was=0.0)] = None,
    offset: Literal["keep", "remove"] = "keep",
    progress: Progress = silent(),
) -> FieldMap:
    """Make a map of how far each place is off resonance, in rad/s: from a phase difference, from two phase images, or
    from a map in Hz or rad/s that is cleaned only.

    The phase is brought to radians from whatever scale its values fill, turns that were lost are put back in three
    dimensions, single wrong voxels take the median of their neighbours, and the map is carried on past the edge of the
    head, so that it has a value everywhere. Divided by 2π it is in Hz. In a series, turns are put back from volume to
    volume too.

    Parameters
    ----------
    image : image
        The phase difference, or the phase of the first echo; with two echoes along an axis it holds both.
    magnitude : image
        On the same grid; tells where the head is, and which voxels count for more.
    second : image
        Phase of the second echo.
    holds : text
        What the values are; a unit of Hz or rad/s says that it is a map, all else is taken for phase.
    echo_difference : s
        Between the two echoes; taken from the sidecars when left out: of two phases, of the difference, or of the
        difference and the magnitude of the first echo.
    turn : number
        Difference of values that is a whole turn; found from the values when left out.
    mask : label map
        Voxels that carry a label are the head; found from the magnitude, or from how smooth the phase is, when left
        out.
    erode : mm
        What lies this close to the edge of the head is not trusted, but carried on from further inside.
    smooth : mm
        Full width at half maximum of a Gaussian within the head.
    offset : text
        Whether the median within the head is taken away ("remove"), which is an offset of the scanner's frequency.

    Returns
    -------
    field : Image
        rad/s, with a value everywhere.
    report : Table
        The scale that the phase was in, the time between the echoes, the share of the image that is head, and ends,
        median and spread of the map in Hz.

    Raises
    ------
    Trouble
        When the phase is in no known scale, the echo times are not known or contradict each other, a magnitude stands
        where a phase is wanted, images lie on different grids, or nothing is left of the head.
    """
    kind = _kind(image, holds)
    for other in (magnitude, second):
        if other is not None and not other.space.same_grid(image.space):
            raise Trouble(f"“{other.name}” lies on another grid than “{image.name}”", "resample it onto that first")
    pair = _echo_axis(image) if kind == "phase" and second is None else None
    bright = None if magnitude is None else _brightness(magnitude, progress.part(0.0, 0.05))
    rows: list[tuple[str, object, str]] = []
    scale = 1.0 if kind == RADIANS else TURN
    if kind == "phase":
        apart, source = _between_echoes(image, second, magnitude, echo_difference or 0.0)
        found = scale_of_phase(image, turn or 0.0)
        later = None if second is None else scale_of_phase(second, turn or 0.0)
        rows += [("scale of the phase", found.words, ""), ("time between the echoes", 1000 * apart, "ms")]
        rows.append(("taken from", source, ""))
        scale = 1 / apart
    inside = None if mask is None else _labelled(image, mask)

    def radians(index: tuple[int, ...]) -> np.ndarray:
        if pair is not None:
            one, other = (found.radians(image.frame((*index[:pair], n, *index[pair:])).kji) for n in (0, 1))
            return _difference(one, other)
        one = found.radians(_volume(image, index))
        if second is None or later is None:
            return one
        return _difference(one, later.radians(_volume(second, index if second.axes else ())))

    axes = tuple(a for n, a in enumerate(image.axes) if n != pair)
    places = [()] if not axes else [(n,) for n in range(axes[0].size)]
    if len(axes) > 1:
        raise Trouble(f"“{image.name}” has too many axes besides space", "keep one place along one of them first")
    made: list[np.ndarray] = []
    before, spacing = None, image.space.spacing
    for n, index in enumerate(places):
        part = progress.part(n / len(places), (n + 1) / len(places))
        values = radians(index) if kind == "phase" else _volume(image, index).astype(np.float32)
        if inside is None:
            inside = _head(values, bright, kind)
        if not inside.any():
            raise Trouble(f"No head was found in “{image.name}”", "give a magnitude or a mask")
        trusted = eroded(inside, spacing, erode)
        if not trusted.any():
            raise Trouble(f"Nothing is left of the head when {erode:g} mm of its edge go", "erode less")
        if kind == "phase":
            values = unwrapped(values, inside, part.part(0.0, 0.7))
            if before is not None:
                values -= np.float32(TURN * np.round(np.median((values - before)[inside]) / TURN))
            before = values
        trusted = trusted & np.isfinite(values)
        if not trusted.any():
            raise Trouble(f"“{image.name}” has no values where the head is", "give another mask, or erode less")
        flat = np.where(np.isfinite(values), values, 0) * np.float32(scale)
        whole = cleaned(flat, trusted, None if bright is None else bright**2, spacing, smooth or 0.0)
        if offset == "remove":
            whole = whole - np.float32(np.median(whole[trusted]))
        made.append(carried_on(whole, trusted, spacing, part.part(0.7, 1.0)))
    assert inside is not None
    whole = np.stack(made)
    if float(np.percentile(np.abs(whole[:, inside]), 98)) > MOST:
        raise Trouble(f"The map would reach {np.abs(whole).max() / TURN:.3g} Hz", "check the unit or the echo times")
    rows += _described(whole[:, inside], inside)
    facts = with_facts(image, EchoTime1=None, EchoTime2=None, EchoTime=None, EchoTimes=None, ImageComponent=None)
    data = np.asfortranarray(whole.transpose(3, 2, 1, 0)) if axes else np.asfortranarray(whole[0].T)
    result = image.like(data, name=f"{image.name}, field", unit=RADIANS, axes=axes, facts=facts)
    if kind == "phase":
        result.caveats = [*result.caveats, Caveat(NOTED, f"The phase was taken for {found.words}")]
    columns = [Column("what"), Column("value", digits=3), Column("unit")]
    return FieldMap(result, Table(f"Field map of {image.name}", columns, rows))


def _kind(image: Image, holds: str) -> str:
    if holds in (HERTZ, RADIANS, "phase"):
        kind = holds
    else:
        plain = image.unit.replace(" ", "").lower()
        kind = HERTZ if plain in ("hz", "1/s") else RADIANS if plain in ("rad/s", "rad*s-1", "rad·s⁻¹") else "phase"
    component = str(facts_of(image).get("ImageComponent", "")).lower()
    if kind == "phase" and component.startswith("magn"):
        raise Trouble(f"“{image.name}” is a magnitude, and a phase is wanted", "give the phase first")
    return kind


def _echo_axis(image: Image) -> int | None:
    """Which axis of the image holds two echoes."""
    for n, axis in enumerate(image.axes):
        if axis.name == "echo":
            if axis.size != 2:
                raise Trouble(f"“{image.name}” has {axis.size} echoes, and two are wanted", "keep two of them")
            return n
    return None


def _between_echoes(image: Image, second: Image | None, magnitude: Image | None, given: float) -> tuple[float, str]:
    """Time between the echoes, s, and where it comes from."""
    if given > 0:
        return given, "given"
    pairs: list[tuple[str, list[float | None]]] = []
    if second is not None:
        pairs.append(("the two phases", [number_of(image, "EchoTime"), number_of(second, "EchoTime")]))
    pairs.append(("the phase", [number_of(image, f"EchoTime{n}") for n in (1, 2)]))
    for one, words in ((image, "the phase"), (magnitude, "the magnitude")):
        axis = None if one is None else next((a for a in one.axes if a.name == "echo" and len(a.values) == 2), None)
        if axis is not None and axis.unit in ("ms", "s"):
            pairs.append((words, [v * (1e-3 if axis.unit == "ms" else 1.0) for v in axis.values]))
    if magnitude is not None and second is None:
        # a scanner gives the difference the time of its second echo, and the magnitude that of its own
        both = [number_of(magnitude, "EchoTime"), number_of(image, "EchoTime")]
        if None not in both and both[0] != both[1]:
            pairs.append(("magnitude and phase", both))
    for words, (first, later) in pairs:
        if first is None or later is None:
            continue
        if not 0 < abs(later - first) <= LONGEST:
            raise Trouble(f"The echo times of {words} are {first:g} and {later:g} s", "check the sidecars")
        return abs(later - first), f"echo times of {words}"
    raise Trouble(
        f"Nothing says how long the echoes of “{image.name}” are apart",
        "give the time between them in s, as in 0.00246",
    )


def _found_apart(given: dict[str, Any]) -> Found | None:
    if _kind(given["image"], given.get("holds") or "as its unit says") != "phase":
        return None
    apart, source = _between_echoes(given["image"], given.get("second"), given.get("magnitude"), 0.0)
    return Found(apart, f"from the {source}")


def _volume(image: Image, index: tuple[int, ...]) -> np.ndarray:
    return image.frame(index).kji if image.axes else image.kji


def _difference(first: np.ndarray, second: np.ndarray) -> np.ndarray:
    return np.angle(np.exp(1j * (second - first))).astype(np.float32)


def _brightness(magnitude: Image, progress: Progress) -> np.ndarray:
    total = mean_volume(magnitude, progress)
    if total.min() == total.max():
        raise Trouble(f"“{magnitude.name}” holds one value only", "choose another magnitude")
    return total


def _labelled(image: Image, mask: LabelMap) -> np.ndarray:
    require_same_grid(image if not image.axes else image.frame((0,) * len(image.axes)), mask)
    inside = mask.kji > 0
    if not inside.any():
        raise Trouble("The mask is empty", "choose one with voxels")
    return inside


def _head(values: np.ndarray, bright: np.ndarray | None, kind: str) -> np.ndarray:
    """Where the head is: by the magnitude, and where the phase is no noise."""
    there = np.isfinite(values)
    inside = there if bright is None else head_mask(bright) & there
    if kind != "phase":
        return inside if bright is not None else there & (values != 0)
    smooth = coherence(np.where(there, values, 0)) > ROUGH
    return inside & smooth


def _described(values: np.ndarray, inside: np.ndarray) -> list[tuple]:
    hertz = values / TURN
    low, middle, high = (float(v) for v in np.percentile(hertz, (1, 50, 99)))
    return [
        ("share that is head", 100 * float(inside.mean()), "%"),
        ("1 in 100 below", low, HERTZ),
        ("median", middle, HERTZ),
        ("1 in 100 above", high, HERTZ),
        ("standard deviation", float(hertz.std()), HERTZ),
    ]
