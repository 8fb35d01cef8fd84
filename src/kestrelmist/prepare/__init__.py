"""Operations that make new images from images."""

from ..core.heading import Heading

HEADINGS = (
    Heading("Grid"),
    Heading("Noise and brightness"),
    Heading("Taken out", "volume"),
    Heading("Series", "series"),
    Heading("Field maps", "volume"),
    Heading("Height maps", "heights"),
    Heading("Sections", "picture"),
    Heading("Sets"),
    Heading("Values"),
)
"""Headings under which the Bench lists the operations, in this order."""
