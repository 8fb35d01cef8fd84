"""Operations that bring data in."""

from ..core.heading import Heading

HEADINGS = (
    Heading("This image"),
    Heading("Camera"),
    Heading("Into files"),
    Heading("Labels of files"),
    Heading("Identity", seldom=True),
    Heading("Subjects", seldom=True),
    Heading("Folders", seldom=True),
)
"""Headings under which the Bench lists the operations, in this order."""
