"""Volumes of a series: the first ones left out, counts checked, slices brought to one time."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.left_out import Found, LeftOut
from ...core.operation import operation
from ...core.parameter import Between, Unit
from ...core.progress import Progress
from ...formats.grid_facts import of_volumes, slice_axis
from ...formats.sidecar import facts_of, repetition_of, with_facts

REACH = 4
"""Volumes to each side that the windowed sinc through time takes."""
Many = Annotated[int, Between(0, 1_000_000)]


@operation(
    "prepare",
    "Leave volumes out",
    name="drop-volumes",
    keywords=(
        "first last discard dummy steady state count repetition time check series dummy scans discard volumes "
        "non-steady initial"
    ),
    takes="series colour",
    group="Series",
    called={"first": "At the start", "last": "At the end", "expected": "There should be"},
    methods="The first {first} and last {last} volumes were left out",
)
def drop_volumes(
    image: Image,
    first: Many = 0,
    last: Many = 0,
    *,
    expected: Annotated[Many | None, LeftOut("not checked", was=0)] = None,
    repetition_time: Annotated[float | None, Unit("s"), Between(0, 1e6), LeftOut("not checked", was=0.0)] = None,
) -> Image:
    """Leave out the first and the last volumes of a series; before that, its count and repetition time can be checked.

    Parameters
    ----------
    first, last : number
        Volumes to leave out at the beginning and at the end.
    expected : number
        Volumes that the task has, before any is left out.
    repetition_time : s
        What the task was run with.

    Raises
    ------
    Trouble
        When the image is no series, nothing would be left, or what was expected is not so.
    """
    if not image.axes:
        raise Trouble(f"“{image.name}” is one volume, not a series", "choose a series")
    axis = image.axes[0]
    if expected and axis.size != expected:
        raise Trouble(f"“{image.name}” has {axis.size} {axis.plural}, and {expected} were expected", "look at the run")
    if repetition_time:
        step = repetition_of(image)
        if step is None:
            raise Trouble(f"The repetition time of “{image.name}” is not known", "give it to the series first")
        if abs(step - repetition_time) > 1e-3 * repetition_time:
            raise Trouble(
                f"The repetition time of “{image.name}” is {step:g} s, and {repetition_time:g} s was expected",
                "look at the run",
            )
    left = axis.size - first - last
    if left < 1:
        raise Trouble(f"Of {axis.size} volumes none would be left", "leave out fewer")
    picked = slice(first, axis.size - last)
    shorter = replace(axis, size=left, labels=tuple(axis.labels[picked]), values=tuple(axis.values[picked]))
    axes = (shorter, *image.axes[1:])

    def fetch(index: tuple[int, ...], progress: Progress):
        return image.stored((index[0] + first, *index[1:]), progress)

    words = [f"without the first {first}" if first else "", f"without the last {last}" if last else ""]
    name = ", ".join([image.name, *(w for w in words if w)])
    facts = of_volumes(image, range(first, axis.size - last)) if axis.name == "direction" else image.facts
    return image.like(fetch, axes=axes, name=name, facts=facts)


def _step_of(given: dict[str, Any]) -> Found | None:
    step = repetition_of(given["image"])
    return None if not step else Found(step, "from the series")


@operation(
    "prepare",
    "Bring slices to one time",
    name="time-slices",
    keywords=("slice timing correction interleaved multiband series temporal slice time correction stc"),
    takes="series",
    group="Series",
    reach=0.0,
    through_time=True,
    version=2,
    called={"pattern": "Taken in order", "to": "Bring to", "how": "Interpolation", "multiband": "At once"},
    rare="multiband to how",
    methods="Slices were brought to one time by interpolation through time ({how})",
    cites=("Henson 1999", "Catmull 1974"),
)
def time_slices(
    image: Image,
    pattern: Literal["sidecar", "ascending", "descending", "interleaved", "interleaved, even first"] = "sidecar",
    *,
    multiband: Annotated[int, Between(1, 64)] = 1,
    to: Annotated[float, Between(0, 1)] = 0.5,
    how: Literal["sinc", "cubic", "linear"] = "sinc",
    repetition_time: Annotated[float | None, Unit("s"), Between(0, 1e6), LeftOut("not known", _step_of, 0.0)] = None,
) -> Image:
    """Bring every slice to the time it would have been taken at, had all been taken at once, by interpolation through
    time (R. N. A. Henson et al., NeuroImage 9, 1999). Worked out volume by volume, when it is looked at.

    Parameters
    ----------
    pattern : text
        Times of the slices from how the series was taken (sidecar), or by their order along the axis they were taken
        along (k, where SliceEncodingDirection says no other): ascending, descending, every second one first from the
        first slice or from the second (even).
    multiband : number
        Slices that are taken at once.
    to : share
        The time that all are brought to, as a share of the repetition time; 0.5 is the middle.
    how : text
        A sinc with a window of four volumes to each side (Lanczos), a cubic (E. Catmull and R. Rom, 1974), or linear.
        At the ends the first and the last volume are taken again.
    repetition_time : s
        Between volumes; taken from the series when left out.

    Raises
    ------
    Trouble
        When the image is no series, its repetition time or its slice times are not known, or do not fit.
    """
    if not image.axes or len(image.axes) > 1:
        raise Trouble(f"“{image.name}” is not a series of volumes in time", "choose one")
    step = repetition_time or repetition_of(image)
    if not step:
        raise Trouble(f"The repetition time of “{image.name}” is not known", "give it in s")
    along = slice_axis(facts_of(image))
    slices, count = image.space.shape[along], image.axes[0].size
    if count < 2:
        raise Trouble(f"“{image.name}” has one volume, so nothing lies between two", "choose a longer series")
    times = (
        _from_sidecar(image, slices, step) if pattern == "sidecar" else _by_pattern(pattern, slices, multiband, step)
    )
    shifts = to - times / step  # in volumes: how much later than it was taken
    facts = with_facts(image, SliceTimingCorrected=True, StartTime=round(to * step, 9), SliceTiming=None)

    def fetch(index: tuple[int, ...], progress: Progress) -> np.ndarray:
        out = np.empty(image.space.shape, np.float32, order="F")
        near: dict[int, np.ndarray] = {}
        for k in range(slices):
            at = index[0] + shifts[k]
            total = None
            for n, weight in _weights(at, how):
                m = min(max(n, 0), count - 1)
                if m not in near:
                    near[m] = image.frame((m,)).fetch(progress)
                part = np.float32(weight) * near[m].take(k, along)
                total = part if total is None else total + part
            np.moveaxis(out, along, 0)[k] = total
        return out

    return image.like(fetch, name=f"{image.name}, slices timed", facts=facts)


def _weights(at: float, how: str) -> list[tuple[int, float]]:
    """Volumes and their weights for a place between them."""
    first = int(np.floor(at))
    share = at - first
    if share < 1e-9:
        return [(first, 1.0)]
    if how == "linear":
        return [(first, 1 - share), (first + 1, share)]
    if how == "cubic":
        t, t2, t3 = share, share**2, share**3
        found = (-t + 2 * t2 - t3) / 2, (2 - 5 * t2 + 3 * t3) / 2, (t + 4 * t2 - 3 * t3) / 2, (t3 - t2) / 2
        return [(first - 1 + n, w) for n, w in enumerate(found)]
    near = np.arange(first - REACH + 1, first + REACH + 1)
    away = at - near
    weights = np.sinc(away) * np.sinc(away / REACH)
    return list(zip(near.tolist(), (weights / weights.sum()).tolist()))


def _from_sidecar(image: Image, slices: int, step: float) -> np.ndarray:
    given = facts_of(image).get("SliceTiming")
    if given is None:
        raise Trouble(f"Nothing says when the slices of “{image.name}” were taken", "choose a pattern")
    try:
        times = np.array(given, float)
    except (TypeError, ValueError):
        raise Trouble(
            f"The times of the slices of “{image.name}” are no numbers", "mend its sidecar, or choose a pattern"
        ) from None
    if times.shape != (slices,):
        raise Trouble(
            f"“{image.name}” has {slices} slices, and the times of {times.size} are given", "choose a pattern"
        )
    if not np.isfinite(times).all() or times.min() < 0 or times.max() > step * 1.001:
        raise Trouble(
            f"The times of the slices of “{image.name}” do not lie within its repetition time of {step:g} s",
            "check the sidecar: times are in s",
        )
    return times


def slice_times(image: Image, pattern: str, multiband: int, repetition_time: float = 0.0) -> list[float]:
    """When each slice of an image was taken by a pattern, s after the start of its volume."""
    step = repetition_time or repetition_of(image)
    if not step:
        raise Trouble(f"The repetition time of “{image.name}” is not known", "give it in s")
    return [
        round(float(t), 9)
        for t in _by_pattern(pattern, image.space.shape[slice_axis(facts_of(image))], multiband, step)
    ]


def _by_pattern(pattern: str, slices: int, multiband: int, step: float) -> np.ndarray:
    if slices % multiband:
        raise Trouble(f"{slices} slices cannot be taken {multiband} at once", "give another number")
    groups = slices // multiband
    order = list(range(groups))
    if pattern == "descending":
        order.reverse()
    elif pattern == "interleaved":
        order = order[::2] + order[1::2]
    elif pattern.startswith("interleaved,"):
        order = order[1::2] + order[::2]
    times = np.empty(groups)
    times[order] = np.arange(groups) * step / groups
    return np.tile(times, multiband)
