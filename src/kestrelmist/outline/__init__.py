"""Operations and tools that mark anatomy as labels."""

from ..core.heading import Heading

HEADINGS = (
    Heading("Labels"),
    Heading("Label maps"),
    Heading("Classes", seldom=True),
    Heading("Shape"),
    Heading("Contours"),
    Heading("Surfaces", seldom=True),
    Heading("Loose pieces"),
    Heading("Versions", seldom=True),
    Heading("Vessels", seldom=True),
    Heading("Cells", seldom=True),
    Heading("By value", seldom=True),
    Heading("By example", seldom=True),
    Heading("By hand", seldom=True),
)
"""Headings under which the Bench lists the operations, in this order."""
