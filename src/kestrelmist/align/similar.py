"""What a measure of similarity is, and the list of them. Each is one file of the package `similarity`."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from ..core.registry import Registry

LEAST = 1e-6
"""Sum of weights below which there is nothing to be compared."""


class Measure(Protocol):
    """How unlike the moving image is to what was seen of the fixed one.

    Called with values of the moving image at all places (n,) float32 and which of them lie inside it (n,) uint8, or
    how much each counts (n,) float32, it gives the cost, lower for what is more alike, and by how much it grows with
    each value, (n,) float32.
    """

    def __call__(self, found: np.ndarray, inside: np.ndarray) -> tuple[float, np.ndarray]: ...


@dataclass(frozen=True)
class Seen:
    """What of the fixed image is compared.

    Parameters
    ----------
    values : float32 array (n,)
    limits : two numbers
        Lowest and highest value of the moving image that count; what lies beyond counts as these.
    shape : tuple of int, optional
        Of values of a whole grid [k, j, i], in its order; None when they are taken here and there.
    """

    values: np.ndarray
    limits: tuple[float, float]
    shape: tuple[int, int, int] | None = None


@dataclass(frozen=True)
class Similarity:
    """A measure of similarity.

    Parameters
    ----------
    name, title : str
        Under which it is chosen, and what a person calls it.
    made : callable
        `made(seen)`: the measure against what was seen of the fixed image.
    whole : bool
        Whether it looks at neighbours, so that it needs the values of a whole grid.
    score : callable
        `score(cost)`: what a person is told, higher for what is more alike.
    """

    name: str
    title: str
    made: Callable[[Seen], Measure]
    whole: bool = False
    score: Callable[[float], float] = lambda cost: -cost


SIMILARITIES: Registry[Similarity] = Registry("measure of similarity", f"{__package__}.similarity")


def register(similarity: Similarity) -> Similarity:
    """Make a measure known."""
    return SIMILARITIES.add(similarity.name, similarity)


def similarity_named(name: str) -> Similarity:
    """The measure of that name; raises Trouble when there is none."""
    return SIMILARITIES.named(name)
