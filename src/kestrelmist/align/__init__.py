"""Operations that place images in the world."""

from ..core.heading import Heading

HEADINGS = (
    Heading("Two images"),
    Heading("Several images"),
    Heading("Standard space"),
    Heading("This image"),
    Heading("Transforms"),
)
"""Headings under which the Bench lists the operations, in this order."""
