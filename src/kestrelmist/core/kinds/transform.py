"""Transforms as things of a study."""

from __future__ import annotations

from ..kind import Kind, register
from ..mapping import Mapping

TRANSFORM = register(
    Kind(
        "transform",
        Mapping,
        "thing",
        wanted=lambda p: "name a transform file, or a transform of the study",
        field="thing",
        metavar=lambda p: "TRANSFORM",
        ending=".tfm",
    )
)
