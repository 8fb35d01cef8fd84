"""Marks as things of a study, and changes to them."""

from __future__ import annotations

from ..geometry.marks import MarkEdit, Marks
from ..kind import Kind, register

MARKS = register(
    Kind(
        "marks",
        Marks,
        "thing",
        wanted=lambda p: "name a GeoJSON or CSV file, or marks of the study",
        field="thing",
        metavar=lambda p: "MARKS",
        on_shelf=False,
        ending=".geojson",
        of="image",
        lacking="no marks yet: set some first",
        alters="marks",
        edited=True,
    )
)
MARK_EDIT = register(Kind("mark edit", MarkEdit, "change", alters="marks"))
