"""Kinds that only make sense with a study open: the study itself, and a thing that is named and not opened."""

from __future__ import annotations

from typing import Annotated

from ..core.kind import Kind, register
from ..core.parameter import Role
from .items import Record
from .study import Study

AnyThing = Annotated[Record, Role("thing")]
AnyImage = Annotated[Record, Role("image")]
AnyLabels = Annotated[Record, Role("label map")]
AnyMarks = Annotated[Record, Role("marks")]
AnyCurve = Annotated[Record, Role("curve")]

STUDY = register(Kind("study", Study, "study"))
THING = register(
    Kind(
        "thing",
        Record,
        "record",
        wanted=lambda p: f"name a {p.role} of the study",
        field="thing",
        metavar=lambda p: p.role.upper(),
    )
)
