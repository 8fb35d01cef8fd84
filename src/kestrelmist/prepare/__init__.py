"""Operations that make new images from images."""

GROUPS = (
    "Grid",
    "Noise and brightness",
    "Taken out",
    "Series",
    "Field maps",
    "Height maps",
    "Sections",
    "Sets",
    "Values",
)
"""Headings under which the Bench lists the operations, in this order."""
