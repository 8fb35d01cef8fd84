"""The things that are given to an operation, opened: those of a study, of files, and what was handed over."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import Operation
from ..core.parameter import Parameter
from ..core.progress import Progress
from ..core.sentence import is_none
from ..core.space import Space
from ..core.through import seen_through
from .given import Given
from .open_study import OpenStudy
from .store import store_for


def opened_arguments(
    study: OpenStudy | None,
    operation: Operation,
    inputs: dict[str, tuple[Given, ...]],
    progress: Progress,
    fetch: bool = True,
) -> dict[str, Any]:
    """The inputs of an operation by name, opened.

    Parameters
    ----------
    fetch : bool
        Whether values are read; without, what is said of things is all that is known.
    """
    arguments: dict[str, Any] = {}
    for p in operation.inputs:
        onto = next((a.space for a in arguments.values() if isinstance(a, Image)), None)
        opened = opened_inputs(study, p, inputs.get(p.name, ()), progress, fetch, onto)
        if p.seen_from is not None and study is not None:
            opened = [_seen(study, one, arguments.get(p.seen_from.other)) for one in opened]
        if p.many:
            arguments[p.name] = opened
        elif opened:
            arguments[p.name] = opened[0]
        elif p.required and p.kind.of:  # of files: one that is still to be made
            owner = next(arguments[q.name] for q in operation.inputs if q.kind.name == p.kind.of)
            arguments[p.name] = store_for(p.kind.name).blank(owner)
    return arguments


def _seen(study: OpenStudy, image: Any, other: Any) -> Any:
    """An image as it lies in the world of another one."""
    way = None if other is None else study.way(image.space.world, other.space.world)
    return image if way is None or not way.made_of else seen_through(image, way.mapping)


def opened_inputs(
    study: OpenStudy | None,
    p: Parameter,
    given: Sequence[Given],
    progress: Progress,
    fetch: bool = True,
    onto: Space | None = None,
) -> list[Any]:
    """The things of an input. Where any number may be given, a file or a table that holds several gives all of them.

    Raises Trouble when one cannot be read.
    """
    found: list[Any] = []
    for one in given:
        several = _opened(study, p, one, progress, fetch, onto)
        found += several if p.many else several[:1]
    return found


def _blank(study: OpenStudy | None, p: Parameter, given: Given) -> Any:
    if given.blank is not None:
        return given.blank
    assert study is not None and given.of is not None  # in another process
    return store_for(p.kind.name).blank(study.find(given.of), given.thing.name)


def _opened(
    study: OpenStudy | None, p: Parameter, given: Given, progress: Progress, fetch: bool, onto: Space | None
) -> list[Any]:
    if given.value is not None:
        return [given.value]
    if p.kind.family == "record":
        record = None if study is None or given.item is None else study.items.get(given.item)
        if record is None:
            raise Trouble(f"There {is_none(given.thing.kind)} “{given.thing.name}” yet", "make some first")
        return [record]
    store = store_for(p.kind.name)
    if given.file is not None:
        things = store.from_file(given.file, given.part, progress, onto)
        if not p.many:
            things = [store.only(things, given.file)]
    elif given.item is None:
        things = [_blank(study, p, given)]
    else:
        assert study is not None
        thing = study.thing(given.item)
        if p.kind.held_in and given.thing.kind == p.kind.held_in:
            things = store.held_by(thing)
            things = things if p.many else [store.only(things, None, thing.title)]
        else:
            things = [thing]
    return [store.ready(thing, given.thing.place, fetch and p.role != "grid", progress) for thing in things]
