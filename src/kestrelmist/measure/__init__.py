"""Operations that turn images and labels into tables."""

from ..core.heading import Heading

HEADINGS = (
    Heading("Calibration", "picture"),
    Heading("Heights", "heights"),
    Heading("Courses", "series"),
    Heading("Lines"),
    Heading("Marks"),
    Heading("Labels"),
    Heading("Several subjects"),
    Heading("Tables"),
)
"""Headings under which the Bench lists the operations, in this order."""
