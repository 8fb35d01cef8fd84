"""Names of things, labels and subjects: a line that can be read."""

from __future__ import annotations

from .errors import Trouble

LONGEST_NAME = 200
"""Letters of a name; more fits no row, no file name and no sentence."""


def plain_name(text: str) -> str:
    """A name without line ends and other control characters, at most LONGEST_NAME letters.

    >>> plain_name(" two\\nlines "), len(plain_name("x" * 5000))
    ('two lines', 200)
    """
    # a name of a hundred thousand letters is cut before each of them is looked at
    short = text[: 20 * LONGEST_NAME]
    return " ".join("".join(c if c.isprintable() else " " for c in short).split())[:LONGEST_NAME].strip()


def typed_name(text: str) -> str:
    """The name that a person gives; raises Trouble when it is too long to be one."""
    if len(text.strip()) > LONGEST_NAME:
        raise Trouble(f"A name of {len(text)} letters is too long", f"use at most {LONGEST_NAME}")
    return plain_name(text)


def file_name(text: str) -> str:
    """A name that a file may have everywhere, at most 100 letters; "" when nothing is left.

    >>> file_name("../a:b?"), file_name(" .. ")
    ('-a-b-', '')
    """
    kept = "".join("-" if c in '/\\:*?"<>|' else c for c in plain_name(text))
    return kept.lstrip(". ")[:100].rstrip(". ")


def printable(text: str) -> str:
    """A text without what no file can hold: control characters and halves of others."""
    return "".join(c if ord(c) >= 32 and not 0xD800 <= ord(c) < 0xE000 else "\ufffd" for c in text)
