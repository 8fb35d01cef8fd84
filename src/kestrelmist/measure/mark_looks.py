"""How marks look and how their numbers are told: of some or of all at once."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, Literal

from ..core.errors import Trouble
from ..core.geometry.marks import MarkEdit, Marks
from ..core.geometry.numbers_of import numbers_of
from ..core.left_out import LeftOut
from ..core.operation import operation
from ..core.parameter import Between
from ..core.quantity import nanometres
from .mark_rows import AsIs, colour_of

OF_CLASS, SUITED, AS_SURE = "of class", "suited", "as sure"
"""Words for what is chosen for each mark by itself."""


@operation(
    "measure",
    "Look of marks",
    name="style-marks",
    keywords="colour width line thickness font type size decimals unit number format annotation style all marks",
    called={"which": "Marks", "width": "Line", "letters": "Type size", "unit": "Unit", "digits": "Decimals",
            "spread": "With ±"},
    group="Marks",
)  # fmt: skip
def style_marks(
    marks: Marks,
    which: str = "all",
    *,
    colour: Annotated[str | None, AsIs] = None,
    width: Annotated[float | None, Between(0.1, 200), AsIs] = None,
    letters: Annotated[float | None, Between(4, 400), AsIs] = None,
    unit: Annotated[str | None, AsIs] = None,
    digits: Annotated[str | None, AsIs] = None,
    spread: Annotated[Literal["yes", "no"] | None, LeftOut("as it is")] = None,
) -> MarkEdit:
    """Change colour, line, type size, and how numbers are told, of some marks or all; what is left out stays.

    Parameters
    ----------
    which : text
        Numbers of marks, as in 3, 5-9; or "all".
    colour : text
        As #RRGGBB; "of class" for that of their class.
    width, letters : page units
        Of lines, and of what is written at marks: pixels of a pane.
    unit : text
        In which lengths and areas are told, as um, mm or cm; "suited" for the one that suits.
    digits : text
        Decimals, 0 to 9; "as sure" for as many as the uncertainty allows.
    spread : choice
        Whether the uncertainty is told.

    Raises
    ------
    Trouble
        When a mark is not there, a colour, unit or number is none, or nothing would change.
    """
    numbers = numbers_of(which, marks)
    facts: dict[str, Any] = {}
    if colour is not None:
        facts["colour"] = "" if colour.strip().casefold() in (OF_CLASS, "") else colour_of(colour)
    if unit is not None:
        facts["unit"] = "" if unit.strip().casefold() in (SUITED, "") else unit.strip()
        if facts["unit"] and nanometres(facts["unit"]) is None:
            raise Trouble(f"“{unit[:40]}” is no unit of length", f"write um, mm, cm or {SUITED}")
    if digits is not None:
        text = digits.strip().casefold()
        if text not in (AS_SURE, "") and not (text.isdecimal() and int(text) <= 9):
            raise Trouble(f"“{digits[:40]}” is no number of decimals", f"give 0 to 9, or “{AS_SURE}”")
        facts["digits"] = None if text in (AS_SURE, "") else int(text)
    facts |= {name: value for name, value in (("width", width), ("letters", letters)) if value is not None}
    if spread is not None:
        facts["spread"] = spread == "yes"
    changed = {number: replace(marks[number], **facts) for number in numbers}
    changed = {number: mark for number, mark in changed.items() if mark != marks[number]}
    if not changed:
        raise Trouble("These marks look so already", "say what is to change")
    what = marks[next(iter(changed))].called if len(changed) == 1 else f"{len(changed)} marks"
    return MarkEdit.between(f"Look of {what}", marks, changed)
