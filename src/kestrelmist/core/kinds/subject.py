"""Subjects as things of a study."""

from __future__ import annotations

from ..kind import Kind, register
from ..subject import Subject

SUBJECT = register(
    Kind(
        "subject",
        Subject,
        "thing",
        wanted=lambda p: "name a subject of the study",
        field="thing",
        metavar=lambda p: "SUBJECT",
        on_shelf=False,
    )
)
