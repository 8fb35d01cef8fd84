"""Class tables as things of a study."""

from __future__ import annotations

from ..class_table import ClassTable
from ..kind import Kind, register

CLASS_TABLE = register(
    Kind(
        "class table",
        ClassTable,
        "thing",
        wanted=lambda p: "name a CSV file with columns number and name, or a class table of the study",
        field="thing",
        metavar=lambda p: "CLASS TABLE",
        on_shelf=False,
        ending=".csv",
    )
)
