"""One kind of trial: a function that tries something once, with chance in it, and fails when something is lost."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path


class Failed(Exception):
    """Something was lost, leaked, hung or ended in a way that is no sentence."""


@dataclass
class Case:
    """What was tried how often, and what failed."""

    name: str
    once: Callable[[random.Random, Path], str]
    """Tries once in a folder of its own; returns what came of it in a word, for the count."""
    long: bool = False
    """Takes so long that the tests leave it to `./kestrel trial`."""
    counts: dict[str, int] = field(default_factory=dict)
    failures: list[str] = field(default_factory=list)


CASES: list[Case] = []


def case(name: str, long: bool = False):
    """Make a function one of the cases."""

    def made(once: Callable[[random.Random, Path], str]):
        CASES.append(Case(name, once, long))
        return once

    return made


def require(right: bool, what: str) -> None:
    """Raises Failed with what is wrong."""
    if not right:
        raise Failed(what)
