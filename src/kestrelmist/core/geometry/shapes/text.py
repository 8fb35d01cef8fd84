"""Words at a place."""

from __future__ import annotations

from ..shape import Shape, register

register(
    Shape(
        "text",
        "Text",
        1,
        1,
        "click",
        lambda start, end, plane, even: end[None],
        icon="text",
        order=31,
        more="note annotation caption label words",
        hint="Click where the words are to stand, and type them.",
    )
)
