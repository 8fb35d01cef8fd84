"""The way between two worlds, found among the transforms of a study."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np

from ..core.chain import joined
from ..core.errors import Trouble
from ..core.mapping import Mapping
from ..core.transform import Transform
from ..core.world import World
from .items import ImageRecord, Record
from .open_study import OpenStudy

AGREE = 0.01
"""mm by which two ways may differ before they are said to disagree."""
SPREAD = 50.0
"""mm from the middle of a world at which they are compared."""


@dataclass(frozen=True)
class Way:
    """How one world is reached from another: the mapping, and the things of the study it is made of."""

    mapping: Mapping
    made_of: tuple[Record, ...] = ()
    turned: tuple[bool, ...] = ()
    """Which of them are gone along backwards."""

    @property
    def words(self) -> str:
        """How it was found, in words that follow it."""
        names = ", ".join(f"“{r.name}”" for r in self.made_of)
        return f"by {names}" if names else "the same space"


def way_between(study: OpenStudy, source: World, target: World) -> Way | None:
    """The shortest way from a world to another; None when there is none, or one of them is not known.

    Raises
    ------
    Trouble
        When two ways of the same length disagree; both are named.
    """
    if not source.id or not target.id:
        return None
    if source.is_one_with(target):
        return Way(Transform(np.eye(4), source, target, "the same space"))
    routes = _shortest(study, source.id, target.id)
    ways = [_followed(study, route, source, target) for route in routes]
    for other in ways[1:]:
        _require_agreement(ways[0], other)
    return ways[0] if ways else None


def _shortest(study: OpenStudy, start: str, end: str) -> list[list[tuple[Record, bool]]]:
    """All shortest routes, each as transforms and whether they are gone along backwards."""
    steps = _steps(study)
    found: list[list[tuple[Record, bool]]] = []
    away = {start: 0}
    waiting: deque[tuple[str, list[tuple[Record, bool]]]] = deque([(start, [])])
    while waiting:
        world, route = waiting.popleft()
        if found and len(route) >= len(found[0]):
            break
        for following, record, turned in steps.get(world, ()):
            longer = [*route, (record, turned)]
            if following == end:
                found.append(longer)
            elif away.get(following, len(longer)) >= len(longer):
                away[following] = len(longer)
                waiting.append((following, longer))
    return [route for route in found if len(route) == len(found[0])]


def _steps(study: OpenStudy) -> dict[str, list[tuple[str, Record, bool]]]:
    """Of each world, by its id: where a transform leads from it, which one, and whether it is gone along backwards."""
    steps: dict[str, list[tuple[str, Record, bool]]] = {}
    for record in study.transforms():
        one, other = (str(record.body.get(end, {}).get("id") or "") for end in ("source", "target"))
        if one and other and one != other and record.body.get("kind") != "per volume":
            steps.setdefault(one, []).append((other, record, False))
            steps.setdefault(other, []).append((one, record, True))
    return steps


def reached(study: OpenStudy, start: str) -> set[str]:
    """Ids of all worlds that some way leads to from one, itself with them."""
    steps, found, waiting = _steps(study), {start}, [start]
    while waiting:
        for other, _, _ in steps.get(waiting.pop(), ()):
            if other not in found:
                found.add(other)
                waiting.append(other)
    return found


def missing_link(study: OpenStudy, image: ImageRecord, onto: ImageRecord) -> tuple[ImageRecord, ImageRecord]:
    """Two images whose alignment would close the gap between the spaces of two others that no way leads between: one of
    what is reached from each; of one subject where there are such, and anatomy before series."""
    near, far = (reached(study, one.grid.world.id) for one in (image, onto))
    images = study.records()
    here = [r for r in images if r.grid.world.id in near] or [image]
    there = [r for r in images if r.grid.world.id in far] or [onto]

    def worth(pair: tuple[ImageRecord, ImageRecord]) -> tuple:
        one, other = pair
        return (
            one.subject != other.subject,
            bool(one.axes) + bool(other.axes),
            one.grid.flat_axis is not None or other.grid.flat_axis is not None,
            (one.id != image.id) + (other.id != onto.id),
            one.modality != other.modality,
        )

    return min(((one, other) for one in here for other in there), key=worth)


def _followed(study: OpenStudy, route: list[tuple[Record, bool]], source: World, target: World) -> Way:
    whole: Mapping | None = None
    for record, turned in route:
        step: Mapping = study.thing(record.id)
        step = step.inverse() if turned else step
        whole = step if whole is None else joined(whole, step)
    assert whole is not None
    records = tuple(record for record, _ in route)
    named = whole.named(" then ".join(r.name for r in records), records[0].subject)
    return Way(named.between(source, target), records, tuple(turned for _, turned in route))


def _require_agreement(one: Way, other: Way) -> None:
    points = SPREAD * np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1), (-1, -1, -1)], float)
    first, second = one.mapping.to(points), other.mapping.to(points)
    with np.errstate(invalid="ignore"):
        apart = np.linalg.norm(first - second, axis=1)
    if np.nanmax(apart, initial=0.0) > AGREE:
        raise Trouble(
            f"Two ways lead from {one.mapping.source} to {one.mapping.target}, {one.words} and {other.words}, and they"
            f" disagree by {np.nanmax(apart):.3g} mm",
            "take the wrong one off the Shelf",
        )
