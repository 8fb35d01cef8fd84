"""Marks from a file of any kind that holds some."""

from __future__ import annotations

from pathlib import Path

from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from .format import format_of, words_for


def read_marks(file: Path) -> Marks:
    """The marks of a file; `unit` is "" when it does not say in which they are.

    Raises
    ------
    Trouble
        When there is no such file, it is of another kind, or holds no marks.
    """
    if not file.is_file():
        raise Trouble("This file does not exist", "check the name", file)
    known = format_of(file, "marks")
    if known is None:
        raise Trouble("This kind of file holds no marks", f"{words_for('marks')} can be read", file)
    return known.open(file)
