"""A recipe as a study keeps it: its text in every version that it has had."""

from __future__ import annotations

import hashlib
from dataclasses import asdict, dataclass, replace
from typing import Any


@dataclass(frozen=True)
class RecipeVersion:
    """The text (YAML) of one version, who kept it and when, and what was said of it."""

    text: str
    made: str = ""
    who: str = ""
    note: str = ""


@dataclass(frozen=True)
class KeptRecipe:
    """Versions from the first to the one in force.

    Parameters
    ----------
    versions : tuple of RecipeVersion
    name, subject : str
        `subject` is empty: a recipe is nobody's.
    """

    versions: tuple[RecipeVersion, ...] = ()
    name: str = "Recipe"
    subject: str = ""

    @property
    def number(self) -> int:
        """The number of the version in force, counted from 1; 0 when there is none."""
        return len(self.versions)

    @property
    def text(self) -> str:
        """The version in force."""
        return self.versions[-1].text if self.versions else ""

    def with_version(self, version: RecipeVersion) -> KeptRecipe:
        """With one version more; the same when its text is that in force."""
        return self if version.text == self.text else replace(self, versions=(*self.versions, version))

    def as_dict(self) -> dict[str, Any]:
        """As plain values, for JSON."""
        return {"versions": [asdict(one) for one in self.versions]}

    @classmethod
    def from_dict(cls, facts: dict[str, Any], name: str = "Recipe", subject: str = "") -> KeptRecipe:
        """Read back; versions that are damaged are passed over."""
        rows = facts.get("versions") if isinstance(facts, dict) else None
        found = []
        for row in rows if isinstance(rows, list) else []:
            if isinstance(row, dict) and isinstance(row.get("text"), str):
                found.append(RecipeVersion(row["text"], *(str(row.get(key) or "") for key in ("made", "who", "note"))))
        return cls(tuple(found), name, subject)

    def content_hash(self) -> str:
        """SHA-256 of the version in force."""
        return hashlib.sha256(self.text.encode()).hexdigest()
