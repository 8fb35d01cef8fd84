"""Mappings made of others: several in a row, one for every volume of a series."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import reduce
from typing import Any

import numpy as np

from .bend import Bend
from .errors import Trouble
from .mapping import Mapping, worlds_of
from .transform import Transform
from .world import SCANNER, World


@dataclass(frozen=True, eq=False)
class Chain(Mapping):
    """Several mappings, one after the other."""

    steps: tuple[Mapping, ...]
    name: str = ""
    subject: str = ""

    def __post_init__(self):
        if not self.steps:
            raise Trouble("A chain of no transforms leads nowhere", "name at least one")

    @property
    def source(self) -> World:  # type: ignore[override]
        """Where it starts."""
        return self.steps[0].source

    @property
    def target(self) -> World:  # type: ignore[override]
        """Where it leads."""
        return self.steps[-1].target

    @property
    def parts(self) -> tuple[Mapping, ...]:
        """What is done one after the other."""
        return self.steps

    @property
    def words(self) -> str:
        """What kind it is, for a person."""
        return "chain of " + ", ".join(step.words for step in self.steps)

    def to(self, points) -> np.ndarray:
        """Positions of `target` for positions of `source`; see `Mapping`."""
        for step in self.steps:
            points = step.to(points)
        return np.asarray(points, float)

    def back(self, points) -> np.ndarray:
        """Positions of `source` for positions of `target`; see `Mapping`."""
        for step in reversed(self.steps):
            points = step.back(points)
        return np.asarray(points, float)

    def inverse(self) -> Mapping:
        """The way back."""
        return replace(self, steps=tuple(step.inverse() for step in reversed(self.steps)))

    @property
    def each_volume(self) -> bool:
        """See `Mapping`."""
        return any(step.each_volume for step in self.steps)

    def of_volume(self, volume: int) -> Mapping:
        """See `Mapping`."""
        return replace(self, steps=tuple(step.of_volume(volume) for step in self.steps)) if self.each_volume else self

    def between(self, source: World, target: World) -> Chain:
        """The same between two worlds."""
        first, last = self.steps[0], self.steps[-1]
        if len(self.steps) == 1:
            return replace(self, steps=(first.between(source, target),))
        ends = (first.between(source, first.target), *self.steps[1:-1], last.between(last.source, target))
        return replace(self, steps=ends)

    def bend(self) -> Bend | None:
        """See `Mapping`."""
        bends = [n for n, step in enumerate(self.steps) if not isinstance(step, Transform)]
        one = self.steps[bends[0]].bend() if len(bends) == 1 else None
        if one is None:
            return None
        before, after = (
            reduce(lambda first, step: step.matrix @ first, steps, np.eye(4))  # type: ignore[attr-defined]
            for steps in (self.steps[: bends[0]], self.steps[bends[0] + 1 :])
        )
        return Bend(one.before @ before, one.shifts, one.space, after @ one.after)

    def prepared(self) -> Chain:
        """See `Mapping`."""
        for step in self.steps:
            step.prepared()
        return self

    def facts(self) -> tuple[dict[str, Any], list[np.ndarray]]:
        """See `Mapping`."""
        told: list[dict[str, Any]] = []
        arrays: list[np.ndarray] = []
        for step in self.steps:
            facts, more = step.facts()
            told.append({"facts": facts, "arrays": [len(arrays) + n for n in range(len(more))]})
            arrays += more
        return {"kind": "chain", "steps": told, **worlds_of(self)}, arrays


@dataclass(frozen=True, eq=False)
class PerVolume(Mapping):
    """An affine transform for every volume of a series, such as the motion of a head.

    Parameters
    ----------
    matrices : array (n, 4, 4)
        As in `Transform`, in the order of the volumes.
    """

    matrices: np.ndarray = field(repr=False)
    source: World = SCANNER
    target: World = SCANNER
    name: str = ""
    subject: str = ""

    def __post_init__(self):
        if self.matrices.ndim != 3 or not len(self.matrices):
            raise Trouble("Transforms of volumes are 4 × 4 numbers for each", "check the numbers")
        for matrix in self.matrices:
            Transform(matrix)

    @property
    def words(self) -> str:
        """What kind it is, for a person."""
        return f"one affine for each of {len(self.matrices)} volumes"

    def at(self, volume: int) -> Transform:
        """That of one volume, counted from 0."""
        if not 0 <= volume < len(self.matrices):
            raise Trouble(
                f"“{self.name}” has {len(self.matrices)} transforms, and none for volume {volume + 1}",
                "use it with the series it was made of",
            )
        return Transform(self.matrices[volume], self.source, self.target, self.name, self.subject)

    @property
    def each_volume(self) -> bool:
        """See `Mapping`."""
        return True

    def of_volume(self, volume: int) -> Transform:
        """See `Mapping`."""
        return self.at(volume)

    def to(self, points) -> np.ndarray:
        """Positions of `target` for positions of `source`; see `Mapping`."""
        raise self._many()

    def back(self, points) -> np.ndarray:
        """Positions of `source` for positions of `target`; see `Mapping`."""
        raise self._many()

    def _many(self) -> Trouble:
        return Trouble(f"“{self.name}” is {self.words}, and one is wanted", "choose the transform of one volume")

    def inverse(self) -> PerVolume:
        """The way back."""
        matrices = np.linalg.inv(self.matrices)
        return replace(self, matrices=matrices, source=self.target, target=self.source)

    def facts(self) -> tuple[dict[str, Any], list[np.ndarray]]:
        """See `Mapping`."""
        return {"kind": "per volume", "matrices": 0, **worlds_of(self)}, [np.asarray(self.matrices, float)]

    @classmethod
    def from_facts(cls, facts: dict, arrays: list[np.ndarray]) -> PerVolume:
        """Read back from `facts`."""
        source, target = (World.from_dict(facts[key]) for key in ("source", "target"))
        return cls(arrays[facts["matrices"]], source, target)


def joined(first: Mapping, second: Mapping) -> Mapping:
    """Two mappings as one, the first and then the second: affine ones become a single matrix.

    Raises Trouble when both worlds in between are known and are not the same, or they cannot be joined.
    """
    if first.target.id and second.source.id and not first.target.is_one_with(second.source):
        raise Trouble(
            f"“{first.name}” leads to {first.target} and “{second.name}” starts from {second.source}",
            "join transforms whose ends meet, or turn one of them round",
        )
    if isinstance(first, Transform) and isinstance(second, Transform):
        return replace(first, matrix=second.matrix @ first.matrix, target=second.target)
    if isinstance(first, PerVolume) and isinstance(second, Transform):
        return replace(first, matrices=second.matrix @ first.matrices, target=second.target)
    if isinstance(first, Transform) and isinstance(second, PerVolume):
        return replace(second, matrices=second.matrices @ first.matrix, source=first.source)
    steps: list[Mapping] = []
    for part in (*first.parts, *second.parts):
        if steps and isinstance(steps[-1], Transform) and isinstance(part, Transform):
            steps[-1] = joined(steps[-1], part)
        else:
            steps.append(part)
    return Chain(tuple(steps), first.name, first.subject)


def in_a_row(mappings: Sequence[Mapping], start: World, end: World = SCANNER) -> Mapping:
    """Several mappings as one, the first and then the next. Where the next does not go on from the one before, or from
    the world that the first is to start from, another one that does comes before it, as they may have been ticked in a
    list; and each is turned round where only that lets it go on, or, of one alone, lead to where it is to end.

    Raises Trouble when there are none, or two do not meet.
    """
    if not mappings:
        raise Trouble("There is no transform to go by", "name at least one")
    left, in_order, here = list(mappings), [], start
    there = end if len(mappings) == 1 else SCANNER
    while left:
        nearest = next((m for m in left if leads(m, here, there) or leads(m, there, here)), left[0])
        left.remove(nearest)
        if not leads(nearest, here, there) and leads(nearest, there, here):
            nearest = nearest.inverse().named(f"{nearest.name}, turned round")
        in_order.append(nearest)
        here = nearest.target
    whole = reduce(joined, in_order)
    return whole if len(in_order) == 1 else whole.named(" then ".join(mapping.name for mapping in in_order))


def leads(mapping: Mapping, start: World, end: World) -> bool:
    """Whether it leads from one world to another, as far as is known of both."""
    ends = (mapping.source, start), (mapping.target, end)
    return all(not one.id or not other.id or one.is_one_with(other) for one, other in ends)
