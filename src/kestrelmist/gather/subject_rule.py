"""Whose a file is, by what its header or its path says."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from ..core.errors import Trouble

UNNAMED = "Unnamed subject"


@dataclass(frozen=True)
class SubjectRule:
    """Where subjects' names come from: a source, and a regular expression whose first group is the name."""

    source: str = "patient id"
    pattern: str = "(.+)"

    def checked(self) -> re.Pattern:
        try:
            return re.compile(self.pattern or "(.+)")
        except re.error as error:
            raise Trouble(
                f"The pattern “{self.pattern}” is not a regular expression ({error})", "write for example (HM-[0-9]+)"
            ) from None

    def subject(self, values: dict[str, str]) -> str:
        """The name found in one of the values, "" when the pattern does not fit."""
        found = self.checked().search(values.get(self.source, ""))
        return "" if found is None else (found.group(1) if found.re.groups else found.group(0)).strip()


def name_finder(names: Iterable[str]) -> Callable[[str], str]:
    """A function that gives the longest of some names that stands in a text with no letter or digit beside it; "" when
    none does. Looked for by their lengths: there may be thousands of names and of texts."""
    known = {name for name in names if name}
    lengths = sorted({len(name) for name in known}, reverse=True)

    def longest(text: str) -> str:
        starts = [n for n in range(len(text)) if n == 0 or not _joins(text[n - 1])]
        for length in lengths:
            for at in starts:
                name = text[at : at + length]  # shorter at the end, where it was or will be looked for as itself
                if len(name) < length:
                    break
                if name in known and not _joins(text[at + length : at + length + 1]):
                    return name
        return ""

    return longest


def _joins(letter: str) -> bool:
    return letter.isascii() and letter.isalnum()
