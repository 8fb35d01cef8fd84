"""Subjects of a study: what is known of each, and their visits."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field, replace
from typing import Any

from .errors import Trouble
from .names import plain_name, typed_name

PARTICIPANT = "participant_id"
TOLD = ("subject", "visits", "images")
"""Columns of the table of subjects that are told and not said."""
NONE = "n/a"
"""What stands where a table of participants has no value."""


@dataclass(frozen=True)
class Visit:
    """A visit, or session: its id within the subject, its name, and its date (2026-11-29) when that is known."""

    id: int
    name: str
    date: str = ""

    @property
    def words(self) -> str:
        """Name and date, for a person."""
        return f"{self.name} ({self.date})" if self.date and self.date != self.name else self.name


@dataclass(frozen=True)
class Subject:
    """A subject: columns as a table of participants has them (age, sex, group …), and visits. A column that holds
    nothing was taken out: what files say there does not count."""

    name: str
    columns: dict[str, str] = field(default_factory=dict)
    visits: tuple[Visit, ...] = ()

    @property
    def subject(self) -> str:
        """Whose it is: its own."""
        return self.name

    @property
    def known(self) -> dict[str, str]:
        """Its columns without those whose value was taken out."""
        return {name: value for name, value in self.columns.items() if value}

    def with_column(self, column: str, value: str) -> Subject:
        """With a value in a column; an empty one takes out what stands there, and what files say of it. Raises Trouble
        when that is no name of a column."""
        name, text = typed_name(column), plain_name(value)
        if not name or name == PARTICIPANT:
            raise Trouble(f"“{column}” is no column of a subject", "name it, such as age or group")
        if name.casefold() in TOLD:
            raise Trouble(f"The study itself tells what stands under “{name}”", "call the column otherwise")
        if text in ("", NONE):
            return replace(self, columns=self.columns | {name: ""} if name in self.columns else self.columns)
        return replace(self, columns=self.columns | {name: text})

    def with_visit(self, name: str, date: str = "") -> tuple[Subject, Visit]:
        """With a visit of that name, and the visit; one that is there gets the date, when one is given."""
        plain = plain_name(name)
        if not plain:
            raise Trouble("A visit needs a name", "type one, such as before")
        when = date_of(date)
        there = next((v for v in self.visits if v.name.casefold() == plain.casefold()), None)
        if there is None:
            there = Visit(max((v.id for v in self.visits), default=0) + 1, plain, when)
            return replace(self, visits=(*self.visits, there)), there
        made = replace(there, date=when or there.date)
        return replace(self, visits=tuple(made if v.id == there.id else v for v in self.visits)), made

    def content_hash(self) -> str:
        """SHA-256 of what is known."""
        return hashlib.sha256(repr(self.as_dict()).encode()).hexdigest()

    def as_dict(self) -> dict[str, Any]:
        """As plain values, for JSON; the name stands in the row that keeps it."""
        visits = [{"id": v.id, "name": v.name, "date": v.date} for v in self.visits]
        return {"columns": dict(self.columns), "visits": visits}

    @classmethod
    def from_dict(cls, facts: dict[str, Any], name: str) -> Subject:
        """Read back from `as_dict`."""
        visits = tuple(Visit(int(v["id"]), str(v["name"]), str(v.get("date") or "")) for v in facts.get("visits") or ())
        return cls(name, {str(k): str(v) for k, v in (facts.get("columns") or {}).items()}, visits)


def date_of(text: str) -> str:
    """A date as 2026-11-29, from that or from 20261129; "" for none. Raises Trouble when it is none.

    >>> date_of("20261129"), date_of(" 2026-11-29 "), date_of("")
    ('2026-11-29', '2026-11-29', '')
    """
    from datetime import date

    plain = text.strip()
    if not plain:
        return ""
    try:
        return date.fromisoformat(plain).isoformat()
    except ValueError:
        raise Trouble(f"“{text}” is no date", "write it as in 2026-11-29") from None
