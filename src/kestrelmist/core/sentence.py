"""Words put together: the first sentence of a text, a thing with its article, several of it."""

from __future__ import annotations

import re

END = re.compile(r"(?<![A-Z])(?<!\bal)(?<!\bet al)(?<!\bJ)(?<!\bMed)(?<!\bTrans)(?<!\bImag)\.(?=\s+[A-Z“\"`*])")


def first_sentence(text: str) -> str:
    """As far as the first point that ends a sentence: one behind an initial or in brackets does not.

    >>> first_sentence("Undo what (P. Jezzard, Magn. Reson. Med. 34, 1995) did. Then more.")
    'Undo what (P. Jezzard, Magn. Reson. Med. 34, 1995) did.'
    """
    for found in END.finditer(text):
        head = text[: found.end()]
        if head.count("(") == head.count(")"):
            return head
    return text


def several_of(thing: str) -> str:
    """The plural of a thing.

    >>> several_of("label map"), several_of("marks")
    ('label maps', 'marks')
    """
    return thing if thing.endswith("s") else f"{thing}s"


def is_none(thing: str) -> str:
    """That there is none of a thing.

    >>> is_none("label map"), is_none("marks")
    ('is no label map', 'are no marks')
    """
    return f"{'are' if several_of(thing) == thing else 'is'} no {thing}"


def with_article(thing: str) -> str:
    """A thing with the article before it.

    >>> with_article("ellipse"), with_article("label map")
    ('an ellipse', 'a label map')
    """
    return f"{'an' if thing[:1].lower() in tuple('aeiou') else 'a'} {thing}"
