"""Stacks as things of a study."""

from __future__ import annotations

from ...core.kind import Kind, register
from ..laid import LaidStack

STACK = register(
    Kind(
        "stack",
        LaidStack,
        "thing",
        wanted=lambda p: "name a JSON file that describes one, or a stack of the study",
        field="thing",
        metavar=lambda p: "STACK",
        on_shelf=False,
    )
)
