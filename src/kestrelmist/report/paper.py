"""How large a picture is on paper: a column of a journal, or so many mm, at so many dots an inch."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated, Literal

from ..core.errors import Trouble
from ..core.left_out import LeftOut
from ..core.parameter import Between, Unit
from ..core.signature import Settings

Columns = Literal["", "one column", "one and a half", "two columns"]
WIDE: dict[str, float] = {"one column": 85.0, "one and a half": 114.0, "two columns": 174.0}
"""mm, as most journals have them."""
INCH, POINT = 25.4, 25.4 / 72
"""mm."""
LETTERS = 8 * POINT / 12
"""mm of a page unit, so that words of 12 units are set in 8 points."""


@dataclass(frozen=True)
class Paper(Settings):
    """How large it is on paper.

    Parameters
    ----------
    columns : choice
        As wide as a column of a journal (85 mm), one and a half (114 mm), or two (174 mm).
    wide : mm
        Or so wide.
    dpi : number
        Pixels to an inch; said in the file.
    """

    columns: Columns = ""
    wide: Annotated[float | None, Unit("mm"), Between(5, 2000), LeftOut("by the columns")] = None
    dpi: Annotated[float, Between(20, 2400)] = 300.0

    @property
    def width(self) -> float | None:
        """mm; None when nothing is said of it. Raises Trouble when two things are."""
        if self.columns and self.wide is not None:
            raise Trouble("A picture is as wide as columns, or so many mm", "give one of the two")
        return WIDE[self.columns] if self.columns else self.wide

    @property
    def millimetres(self) -> float | None:
        """Of a pixel on paper; None when nothing is said of its size."""
        return None if self.width is None else INCH / self.dpi

    @property
    def scale(self) -> float | None:
        """Pixels to a page unit, so that words are set in 8 points."""
        return None if self.millimetres is None else LETTERS / self.millimetres

    def pixels(self, size: tuple[int, int]) -> tuple[int, int]:
        """Width and height in pixels: those that are given, or as wide as on paper, and as tall as they stand to one
        another."""
        if self.width is None:
            return size
        wide = max(16, round(self.width / INCH * self.dpi))
        return wide, max(16, math.floor(wide * size[1] / size[0] + 0.5))


NO_PAPER = Paper()
