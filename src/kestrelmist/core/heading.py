"""Headings under which the Bench lists the operations of a stage, and which of them suit an image."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from .axis import Axis
from .quantity import nanometres


@dataclass(frozen=True)
class Heading:
    """One heading. A stage's package lists its own in `HEADINGS`, in the order in which they come; operations name
    theirs by `group`.

    Parameters
    ----------
    name : str
    meant_for : str
        What kind of image its operations are for: "volume", "series", "heights" or "picture"; empty for any.
    seldom : bool
        Folded until asked for, whatever leads.
    """

    name: str
    meant_for: str = ""
    seldom: bool = False


FIRST = ("series", "heights", "picture")
"""Kinds of images whose own headings come before all others."""


def sorts_of(shape: Sequence[int], axes: Iterable[Axis], unit: str) -> frozenset[str]:
    """What kinds of image one is, as `Heading.meant_for` names them.

    Parameters
    ----------
    shape : three numbers
        Voxels along i, j and k.
    axes : Axis
        The image's own ones, such as time.
    unit : text
        Of its values.
    """
    flat = "heights" if nanometres(unit) is not None else "picture"
    series = {"series"} if any(axis.name == "time" for axis in axes) else set()
    return frozenset({"volume" if shape[2] > 1 else flat} | series)


def arranged(headings: Iterable[Heading], sorts: frozenset[str]) -> tuple[tuple[Heading, bool], ...]:
    """The headings in the order in which an image of these kinds needs them, each with whether it is open: what is
    meant for its kind first, what is for other kinds last and folded. With no kind they are all open as they come."""

    def place(heading: Heading) -> int:
        if not sorts or not heading.meant_for:
            return 1
        return 2 if heading.meant_for not in sorts else 0 if heading.meant_for in FIRST else 1

    return tuple((h, place(h) < 2 and not h.seldom) for h in sorted(headings, key=place))
