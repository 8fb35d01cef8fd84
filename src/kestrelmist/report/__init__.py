"""Operations that take results out of a study."""

from ..core.heading import Heading

HEADINGS = (
    Heading("Steps"),
    Heading("Recipes"),
    Heading("Pictures"),
    Heading("Figures"),
    Heading("The study", seldom=True),
)
"""Headings under which the Bench lists the operations, in this order."""
