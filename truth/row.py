"""One line of the truth table: how far a result is from what is known, and how far it may be."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

LEAST, MOST = 0.92, 0.985
"""Shares of cases that an uncertainty stated for 95 of 100 may hold."""


@dataclass(frozen=True)
class Row:
    """A result against the truth.

    Parameters
    ----------
    what : str
        What was worked out, and of which made-up case.
    found : number
        What came out: an overlap, an error, a share of cases.
    at_least, at_most : number, optional
        Limits of it.
    unit : str
    against : str
        What it is held against.
    """

    what: str
    found: float
    at_least: float | None = None
    at_most: float | None = None
    unit: str = ""
    against: str = ""

    @property
    def met(self) -> bool:
        """Whether it lies within its limits."""
        low = self.at_least is None or self.found >= self.at_least
        return low and (self.at_most is None or self.found <= self.at_most)

    @property
    def limit(self) -> str:
        """The limits in words."""
        ends = [f"≥ {self.at_least:g}"] if self.at_least is not None else []
        ends += [f"≤ {self.at_most:g}"] if self.at_most is not None else []
        return ", ".join(ends)


Rows = Callable[[int], list[Row]]
"""`rows(seed)`: made of cases of that seed and those after it."""


def coverage(what: str, held: float, against: str = "95 of 100 stated", at_least: float = LEAST) -> Row:
    """How often a stated uncertainty holds the truth."""
    return Row(what, held, at_least, MOST if at_least == LEAST else None, "of the cases", against)
