"""Surfaces as things of a study."""

from __future__ import annotations

from ..kind import Kind, register
from ..surface.surface import Surfaces

SURFACE = register(
    Kind(
        "surfaces",
        Surfaces,
        "thing",
        wanted=lambda p: "name a file of a surface (STL, OBJ, PLY, GLB, VTP), or a surface of the study",
        field="thing",
        metavar=lambda p: "SURFACE",
        on_shelf=False,
        ending=".ply",
        solid=True,
    )
)
