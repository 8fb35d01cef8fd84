"""How an image was taken, set right by hand."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, Literal

from ...core.axis import Axis
from ...core.caveat import FACTS_BY_HAND, SIDECAR_CONTRADICTS, Caveat
from ...core.errors import Trouble
from ...core.image import Image
from ...core.left_out import Found, LeftOut
from ...core.operation import operation
from ...core.parameter import Between, Unit
from ...core.placement import Placement
from ...formats.sidecar import facts_of, number_of, with_facts
from .volumes_of import slice_times

DIRECTION = "PhaseEncodingDirection"
Pattern = Literal["ascending", "descending", "interleaved", "interleaved, even first"]


def _as_it_is(fact: str) -> LeftOut:
    """What a fact is now, which stays where nothing is said of it."""

    def find(given: dict[str, Any]) -> Found | None:
        value = number_of(given["image"], fact) if fact != DIRECTION else facts_of(given["image"]).get(fact)
        return None if value is None else Found(value, "as it is")

    return LeftOut("not said", find, 0.0 if fact != DIRECTION else "")


Seconds = Annotated[float | None, Unit("s"), Between(0, 1e6)]


@operation(
    "prepare",
    "How it was taken",
    name="say-taken",
    keywords="facts sidecar repetition time echo time slice timing phase encoding direction echo spacing correct",
    takes="series",
    group="Series",
    called={"slices": "Order of slices", "multiband": "At once", "direction": "Read along"},
    rare="multiband",
)
def say_taken(
    image: Image,
    note: str,
    *,
    repetition_time: Annotated[Seconds, _as_it_is("RepetitionTime")] = None,
    echo_time: Annotated[Seconds, _as_it_is("EchoTime")] = None,
    direction: Annotated[Literal["i", "i-", "j", "j-", "k", "k-"] | None, _as_it_is(DIRECTION)] = None,
    echo_spacing: Annotated[Seconds, _as_it_is("EffectiveEchoSpacing")] = None,
    slices: Annotated[Pattern | None, LeftOut("as they are", was="")] = None,
    multiband: Annotated[int, Between(1, 64)] = 1,
) -> Placement:
    """Correct by hand how an image was taken, with a note why. What is left out stays; no value is touched or copied.

    Parameters
    ----------
    note : text
        Why, or where it comes from; it stays with the image.
    repetition_time : s
        Between volumes.
    echo_time : s
        From the pulse to the echo.
    direction : text
        In which lines were read, along the image's own axes.
    echo_spacing : s
        Effective, between neighbouring lines.
    slices : text
        In which order slices were taken along k; their times follow from it and the repetition time.
    multiband : number
        Slices taken at once.

    Raises
    ------
    Trouble
        When nothing is said, there is no note, or it does not fit the image.
    """
    if not note.strip():
        raise Trouble("There is no note", "say why the facts are set right, or where they come from")
    changed: dict[str, Any] = {}
    axes: tuple[Axis, ...] | None = None
    if repetition_time:
        changed["RepetitionTime"] = repetition_time
        at = next((n for n, a in enumerate(image.axes) if a.name == "time"), None)
        if at is not None:
            old = image.axes[at]
            even = Axis.even("time", old.size, repetition_time, "s")
            axes = (*image.axes[:at], replace(even, labels=old.labels), *image.axes[at + 1 :])
    if echo_time:
        changed["EchoTime"] = echo_time
    if direction:
        changed |= {"PhaseEncodingDirection": direction, "PhaseEncodingAxis": None}
    if echo_spacing:
        changed |= {
            "EffectiveEchoSpacing": echo_spacing,
            "TotalReadoutTime": None,
            "BandwidthPerPixelPhaseEncode": None,
        }
    if slices:
        changed["SliceTiming"] = slice_times(image, slices, multiband, repetition_time or 0.0)
    if not changed:
        raise Trouble("Nothing is said of how it was taken", "give at least one fact besides the note")
    said = ", ".join(name for name, value in changed.items() if value is not None)
    doubt = Caveat(FACTS_BY_HAND, f"{said} set by hand: {note.strip()}")
    return Placement(image.space, (SIDECAR_CONTRADICTS,), (doubt,), with_facts(image, **changed), axes)
