"""What an alignment has found so far, for whoever watches it."""

from __future__ import annotations

from dataclasses import dataclass

from .mapping import Mapping


@dataclass(frozen=True)
class FoundSoFar:
    """A state of work under way.

    Parameters
    ----------
    cost : number
        What it goes down; costs of one level can be compared.
    level, levels : int
        The level it is at, from 1 on, and how many there are.
    way : Mapping, optional
        What it would give by now; None where only the cost is new.
    done : bool
        Whether a level has just been ended.
    """

    cost: float
    level: int
    levels: int
    way: Mapping | None = None
    done: bool = False
