"""Numbers of marks as a person types them."""

from __future__ import annotations

import re

from ..errors import Trouble
from .marks import Marks

RANGE = re.compile(r"(\d+)(?:-(\d+))?")


def numbers_of(text: str, marks: Marks) -> list[int]:
    """Numbers from "3, 5-9", or all there are for "all".

    Raises
    ------
    Trouble
        When something is no number, or no mark has it.
    """
    if text.strip().casefold() == "all":
        return list(marks.marks)
    found: list[int] = []
    for part in filter(None, re.split(r"[,\s]+", text.strip())):
        match = RANGE.fullmatch(part)
        if match is None or len(part) > 30:
            raise Trouble(f"“{part[:40]}” is no number of a mark", "write numbers as in 3, 5-9, or all")
        first, last = int(match[1]), int(match[2] or match[1])
        if last - first > 1_000_000:
            raise Trouble(f"“{part}” is too many", "write all")
        found += list(range(first, last + 1))
    for number in found:
        marks[number]
    return list(dict.fromkeys(found))
