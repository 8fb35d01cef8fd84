"""A course through time that is kept: its values, when they were taken, and how it is drawn."""

from __future__ import annotations

import hashlib
import math
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Any, Literal, get_args

import numpy as np

from .axis import Axis
from .errors import Trouble
from .geometry.mark import Mark
from .space import Space

COLOURS = ("#A44E28", "#1F6E8C", "#6B7F2A", "#8A4FA0", "#C98A12", "#3F6FD8", "#A9271F", "#4B7750")
"""Colours that curves are given in turn; told apart by colour-blind eyes with their dashes."""
Dashes = Literal["solid", "dashed", "dotted", "dash-dot"]
DASHES: tuple[Dashes, ...] = get_args(Dashes)
WIDTHS = (0.5, 8.0)


@dataclass(frozen=True, eq=False)
class Curve:
    """Values along the axis of a series.

    Parameters
    ----------
    values : array (n,)
        Raw values, NaN where there is none.
    along : array (n,) or None
        Where along the axis they stand, in `along_unit`; None when only their number is known.
    along_unit : str
        "s" for seconds.
    unit : str
        Of the values.
    of : str
        What they are the course of: "voxel at 1, 2, 3 in Odour run".
    colour : str
        "#RRGGBB".
    width : pixels
    dashes : str
        One of DASHES.
    name, subject : str
    mark : Mark, optional
        Of a section: the mark that it was read along, with the width over which it was averaged.
    image : str
        Of a section: a reference to the image it was drawn on.

    Raises
    ------
    Trouble
        When there are no values, or as many places as values are not given, or the style is none.
    """

    values: np.ndarray
    along: np.ndarray | None = None
    along_unit: str = ""
    unit: str = ""
    of: str = ""
    colour: str = COLOURS[0]
    width: float = 1.5
    dashes: str = "solid"
    name: str = ""
    subject: str = ""
    mark: Mark | None = None
    image: str = ""

    def __post_init__(self):
        values = np.array(self.values, np.float64).ravel()
        along = None if self.along is None else np.array(self.along, np.float64).ravel()
        if not values.size or (along is not None and along.size != values.size):
            raise Trouble("A curve needs as many times as it has values", "give both columns whole")
        for array in (values, along):
            if array is not None:
                array.setflags(write=False)
        object.__setattr__(self, "values", values)
        object.__setattr__(self, "along", along)
        require_style(self.colour, self.width, self.dashes)

    @classmethod
    def over(cls, axis: Axis, values, **said) -> Curve:
        """The curve of values at the places of a series' axis; `said` as in Curve."""
        along = np.array(axis.values) if axis.values else None
        return cls(values, along, axis.unit if along is not None else "", **said)

    @property
    def step(self) -> float | None:
        """Distance between values along the axis when it is even, None otherwise."""
        if self.along is None or self.along.size < 2:
            return None
        steps = np.diff(self.along)
        return float(steps.mean()) if np.allclose(steps, steps.mean(), rtol=1e-3) else None

    def places(self) -> np.ndarray:
        """Where the values stand, or their numbers from 1 on."""
        return np.arange(1.0, self.values.size + 1) if self.along is None else self.along

    def moved(self, was: Space, now: Space) -> Curve:
        """A section of an image that has been placed elsewhere: the line stays on its voxels, and distances along it
        grow with them. Other curves stay as they are."""
        if self.mark is None:
            return self
        mark = self.mark.moved(lambda points: now.to_world(was.to_voxel(points)))
        before, after = self.mark.length, mark.length
        along = self.along if self.along is None or not before > 0 else self.along * (after / before)
        return replace(self, mark=mark, along=along, along_unit=now.unit)

    def content_hash(self) -> str:
        """SHA-256 of values and times: how it is drawn does not count."""
        along = b"" if self.along is None else self.along.tobytes()
        return hashlib.sha256(self.values.tobytes() + along + self.along_unit.encode()).hexdigest()

    def as_dict(self) -> dict:
        """As plain values, for JSON; name and subject stand in the row that keeps it."""
        return {
            "values": [None if math.isnan(v) else v for v in self.values.tolist()],
            "along": None if self.along is None else self.along.tolist(),
            "along_unit": self.along_unit,
            "unit": self.unit,
            "of": self.of,
            **({"mark": self.mark.as_dict(), "image": self.image} if self.mark is not None else {}),
            **self.style,
        }

    @property
    def style(self) -> dict:
        """How it is drawn."""
        return {"colour": self.colour, "width": self.width, "dashes": self.dashes}

    @classmethod
    def from_dict(cls, facts: dict, name: str = "", subject: str = "") -> Curve:
        """Read back from `as_dict`; a style that nobody knows becomes the first."""
        colour, width, dashes = facts.get("colour", COLOURS[0]), facts.get("width", 1.5), facts.get("dashes", "solid")
        try:
            require_style(colour, width, dashes)
        except (Trouble, TypeError):
            colour, width, dashes = COLOURS[0], 1.5, "solid"
        values = np.array([math.nan if v is None else v for v in facts["values"]])
        along, unit, of = facts.get("along"), facts.get("along_unit", ""), facts.get("of", "")
        drawn, mark = (colour, width, dashes), facts.get("mark")
        where = _mark_of(mark), str(facts.get("image", ""))
        return cls(values, along, unit, facts.get("unit", ""), of, *drawn, name, subject, *where)


def _mark_of(facts: Any) -> Mark | None:
    """The mark of a section; None where it cannot be made out, as the values are worth more than where they are of."""
    with suppress(Trouble):
        return None if facts is None else Mark.from_dict(facts)
    return None


def require_style(colour: str, width: float, dashes: str) -> None:
    """Raises Trouble when a curve cannot be drawn so."""
    digits = colour[1:] if colour[:1] == "#" else ""
    if len(digits) != 6 or any(c not in "0123456789abcdefABCDEF" for c in digits):
        raise Trouble(f"“{colour}” is no colour", "write it as #RRGGBB")
    if not WIDTHS[0] <= width <= WIDTHS[1]:
        raise Trouble(f"A line {width:g} pixels wide is not drawn", f"choose {WIDTHS[0]:g} to {WIDTHS[1]:g}")
    if dashes not in DASHES:
        raise Trouble(f"“{dashes}” is no kind of line", f"choose one of: {', '.join(DASHES)}")
