"""Settings that the program finds when nobody gives them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Found:
    """A value that was found for a setting, and from where, in words that follow it: "from the header"."""

    value: Any
    whence: str


@dataclass(frozen=True)
class LeftOut:
    """What becomes of a setting that nobody gives.

    Parameters
    ----------
    words : str
        What is used then, as a form shows it in the empty field: "estimated", "the middle volume", "as it is".
    find : callable, optional
        `find(given)`: a `Found` from the operation's inputs, as they are opened, and its settings, by their names; None
        when it cannot be told before the work is done. It is what the operation itself finds it with. It looks at what
        is said of things and never at their values, so that a form can ask at any time. Raises Trouble when there is
        nothing to be found.
    was : optional
        The value that stood for it in older recipes: 0 where no number is meant.
    """

    words: str
    find: Callable[[dict[str, Any]], Found | None] | None = None
    was: Any = None

    def means_left(self, value: Any) -> bool:
        """Whether a value is the one that older recipes wrote for it."""
        return self.was is not None and type(value) is not bool and value == self.was


@dataclass(frozen=True)
class Leads:
    """Of an input for a mapping: from the world of one other input to that of another one. Where these lie in two
    worlds and nobody names it, the way that the study knows is taken."""

    source: str
    target: str


@dataclass(frozen=True)
class SeenFrom:
    """Of an input for images that are looked at and not worked on: in the world of another input, through the way that
    the study knows."""

    other: str


@dataclass(frozen=True)
class OwnerOf:
    """Of an input for an image: where nobody names it, it is the one that another input is of."""

    other: str


NO_LIMIT = LeftOut("no limit")


@dataclass(frozen=True)
class Suits:
    """What a thing must be to be offered for an input, by what is known of it without opening it.

    `test` is given a record or the thing itself; `words` say what is wanted: "a map in Hz or rad/s".
    """

    words: str
    test: Callable[[Any], bool]
