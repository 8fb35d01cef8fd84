"""References: how a thing of a study is named in text.

One form everywhere, on the command line, in YAML, in the logbook and in pickers:

    subject/name            an image, a table or a transform of a subject
    name                    the same, where the name alone tells
    subject/name#labels     the label map of that name on an image
    subject/name@3,1        one volume of a series, by its places along the axes, counted from 1

A part that holds one of the marks / # @ or a double quote stands in double quotes, with quotes inside it doubled. A
reference is never a number: names made of digits are names.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from .errors import Trouble

MARKS = '/#@"'


@dataclass(frozen=True)
class Reference:
    """Which thing is meant.

    Parameters
    ----------
    name : str
    subject : str or None
        None when the name alone is to tell.
    part : str or None
        Name of a label map on the image, or of a series in a folder.
    place : tuple of int
        Places along the axes of a series, counted from 1.

    Examples
    --------
    >>> Reference.parse("HM-07/Head CT#Bones")
    Reference(name='Head CT', subject='HM-07', part='Bones', place=())
    >>> str(Reference("a/b", "1", place=(3, 1)))
    '1/"a/b"@3,1'
    >>> Reference.parse('1/"a/b"@3,1') == Reference("a/b", "1", place=(3, 1))
    True
    """

    name: str
    subject: str | None = None
    part: str | None = None
    place: tuple[int, ...] = ()

    def __str__(self) -> str:
        text = quoted(self.name)
        if self.subject is not None:
            text = f"{quoted(self.subject)}/{text}"
        if self.part is not None:
            text += f"#{quoted(self.part)}"
        return text + (f"@{','.join(map(str, self.place))}" if self.place else "")

    @classmethod
    def parse(cls, text: str) -> Reference:
        """The reference that a text writes; raises Trouble when it is none."""
        pieces = _pieces(text)
        subject = None
        if len(pieces) > 1 and pieces[1][0] == "/":
            subject, pieces = pieces[0][1], pieces[1:]
        name, part = pieces[0][1], None
        place: tuple[int, ...] = ()
        for mark, piece in pieces[1:]:
            if mark == "#" and part is None and not place:
                part = piece
            elif mark == "@" and not place:
                place = place_of(piece, text)
            else:
                raise Trouble(f"“{text}” is no reference", "write subject/name, with parts that hold / # @ in quotes")
        return cls(name, subject, part, place)


def place_of(piece: str, text: str) -> tuple[int, ...]:
    """Places along axes from "3" or "3,1"; raises Trouble when they are not whole numbers from 1 on."""
    parts = re.split(r"[,;\s]+", piece.strip())
    if not all(re.fullmatch(r"[0-9]{1,9}", part) and int(part) > 0 for part in parts):
        raise Trouble(f"“{piece}” is no place along a series in “{text}”", "count from 1, as in name@3 or name@3,1")
    return tuple(int(part) for part in parts)


def quoted(part: str) -> str:
    """A part as it stands in a reference."""
    if part and not any(mark in part for mark in MARKS) and part == part.strip() and not part.startswith("$"):
        return part
    return '"' + part.replace('"', '""') + '"'


def _pieces(text: str) -> list[tuple[str, str]]:
    """The parts of a reference, each with the mark before it."""
    pieces: list[tuple[str, str]] = []
    at, mark = 0, ""
    while True:
        found = re.compile(r'\s*"((?:[^"]|"")*)"\s*|([^/#@"]*)').match(text, at)
        assert found is not None
        quote, plain = found.group(1), found.group(2)
        pieces.append((mark, quote.replace('""', '"') if quote is not None else plain.strip()))
        at = found.end()
        if at >= len(text):
            return pieces
        mark = text[at]
        if mark not in "/#@":
            raise Trouble(f"“{text}” is no reference", "write subject/name, with parts that hold / # @ in quotes")
        at += 1
