"""Curves as things of a study."""

from __future__ import annotations

from ..curve import Curve
from ..kind import Kind, register

CURVE = register(
    Kind(
        "curve",
        Curve,
        "thing",
        wanted=lambda p: "name a CSV file with two columns, or a curve of the study",
        field="thing",
        metavar=lambda p: "CURVE",
        on_shelf=False,
        ending=".csv",
        held_in="table",
    )
)
