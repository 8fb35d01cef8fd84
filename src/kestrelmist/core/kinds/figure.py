"""Figures as things of a study."""

from __future__ import annotations

from ..figure import Figure
from ..kind import Kind, register

FIGURE = register(
    Kind(
        "figure",
        Figure,
        "thing",
        wanted=lambda p: "name a figure of the study",
        field="thing",
        metavar=lambda p: "FIGURE",
        on_shelf=False,
        ending=".json",
    )
)
