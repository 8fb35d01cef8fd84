"""The first sentence of a text."""

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
