"""Marks brought to another image, to the same places of the body."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from ..chain import in_a_row, leads
from ..errors import Trouble
from ..image import Image
from ..mapping import Mapping
from ..overlap import apart
from ..world import World
from .marks import Marks


def brought(marks: Marks, onto: Image | None, transform: Sequence[Mapping] | None, name: str = "") -> Marks:
    """The marks on another image, through transforms where the two lie in two worlds.

    Raises
    ------
    Trouble
        When nothing says where they go, no way is known, the transforms do not meet or start elsewhere, or a mark lies
        where one says nothing.
    """
    here, there = marks.world, World() if onto is None else onto.space.world
    if onto is None and not transform:
        raise Trouble(f"Nothing says where “{marks.name}” is to be brought", "name an image, or a transform")
    if transform:
        way = in_a_row(transform, here, there)
        if not leads(way, here, there):
            whose = "" if onto is None else f", “{onto.name}” in {there}"
            raise Trouble(
                f"“{way.name}” leads from {way.source} to {way.target}, and “{marks.name}” lies in {here}{whose}",
                "choose the transform that starts where the marks lie",
            )
        places = [way.to(mark.array) for mark in marks]
        if not all(np.isfinite(one).all() for one in places):
            what = f"A mark of “{marks.name}” lies where “{way.name}” says nothing"
            raise Trouble(what, "leave it out, or use another transform")
        marks, there = marks.moved(way), there if onto is not None else way.target
    elif here.id and there.id and not here.is_one_with(there):
        assert onto is not None
        raise apart(marks.name, here, onto.name, there)
    if onto is None:
        return replace(marks, name=name or marks.name, of="")
    if marks.unit != onto.space.unit:
        raise Trouble(f"“{marks.name}” is in {marks.unit}, “{onto.name}” in {onto.space.unit}", "give both a scale")
    marks = replace(marks, name=name or marks.name, subject=onto.subject, of=onto.name)
    return replace(marks, world=there, classes=None)
