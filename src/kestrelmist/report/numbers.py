"""Numbers that are typed in a row."""

from __future__ import annotations

import re

from ..core.errors import Trouble


def numbers_of(text: str) -> tuple[float, ...]:
    """Numbers with commas or blanks between them. Raises Trouble when one is none."""
    found = []
    for word in re.split(r"[,;\s]+", text.strip()):
        if not word:
            continue
        try:
            found.append(float(word.replace("−", "-")))
        except ValueError:
            raise Trouble(f"“{word}” is no position", "give numbers in mm, with commas between them") from None
    return tuple(found)
