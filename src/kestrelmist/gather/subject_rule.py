"""Whose a file is, by what its header or its path says."""

from __future__ import annotations

import re
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
