"""Versions of a label map: names on places in its journal."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from ...core.errors import Trouble
from ...core.kind import is_edited
from ...core.labels import LabelMap
from ...core.names import typed_name
from ...core.patch import LabelEdit
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from ..catalogue import now
from ..stores.label_maps import difference
from .changes import LabelChange
from .history import Stale
from .logbook import Step

if TYPE_CHECKING:
    from ..study import Study

BEFORE = "Before the last session"
"""The version that needs no name: how a map was before the last earlier session that changed it."""


DAYS = 60
"""Earlier days that are told of."""


@dataclass(frozen=True)
class Version:
    """A name on a place in the journal of a label map."""

    name: str
    seq: int
    made: str


def versions_of(study: Study, key: int) -> list[Version]:
    """Versions of a label map, the newest of each sort first: the state before the last earlier session, those that
    were named, and the end of each earlier day."""
    rows = study.catalogue.rows("SELECT * FROM version WHERE item_id = ? ORDER BY id DESC", key)
    named = [Version(r["name"], r["seq"], r["made"]) for r in rows]
    before = before_last_session(study, key)
    taken = {v.name.casefold() for v in named}
    days = [v for v in ends_of_days(study, key) if v.name.casefold() not in taken]
    return ([before] if before is not None else []) + named + days


def ends_of_days(study: Study, key: int) -> list[Version]:
    """How a map was at the end of each earlier day on which it was changed; needs no naming."""
    rows = study.catalogue.rows(
        "SELECT max(seq) AS seq, max(made) AS made FROM change WHERE item_id = ? AND substr(made, 1, 10) < ?"
        " GROUP BY substr(made, 1, 10) ORDER BY seq DESC LIMIT ?",
        key,
        now()[:10],
        DAYS,
    )
    return [Version(f"End of {r['made'][:10]}", r["seq"], r["made"]) for r in rows]


def before_last_session(study: Study, key: int) -> Version | None:
    """The state before the last earlier session that changed a map; None when there was none."""
    found = study.catalogue.rows(
        "SELECT max(session_id) AS last FROM change WHERE item_id = ? AND session_id < ?",
        key,
        study.session if study.session is not None else 1 << 60,
    )[0]["last"]
    if found is None:
        return None
    started = study.catalogue.rows("SELECT started FROM session WHERE id = ?", found)[0]["started"]
    first = study.catalogue.rows(
        "SELECT min(seq) AS first FROM change WHERE item_id = ? AND session_id = ?", key, found
    )[0]["first"]
    return Version(BEFORE, first - 1, started)


def name_version(study: Study, key: int, name: str) -> None:
    """Give the present state a name; raises Trouble when it is empty or taken."""
    record = study.items.get(key)
    if record is None or not is_edited(record.kind):
        raise Trouble("Only label maps have versions", "choose a label map")
    plain = typed_name(name)
    if not plain:
        raise Trouble("A version needs a name", "type one")
    if any(v.name.casefold() == plain.casefold() for v in versions_of(study, key)):
        raise Trouble(f"There is a version “{plain}” of “{record.name}” already", "choose another name")
    seq = study.history.revision(key)
    with study.catalogue.change() as db:
        db.execute("INSERT INTO version (item_id, seq, name, made) VALUES (?, ?, ?, ?)", (key, seq, plain, now()))
        step = Step("name-version", f"Name version “{plain}”", {"name": plain}, {"labels": (study.as_thing(record),)})
        study.logbook.write(step)


def find_version(study: Study, key: int, name: str) -> Version:
    """The version of that name; raises Trouble when there is none."""
    there = versions_of(study, key)
    for version in there:
        if version.name.casefold() == name.strip().casefold():
            return version
    have = ", ".join(f"“{v.name}”" for v in there) or "none yet"
    raise Trouble(f"There is no version “{name}”", f"choose one of: {have}")


def state_of(study: Study, key: int, name: str, progress: Progress | None = None) -> LabelMap:
    """A label map as it was in a version; the map itself stays as it is."""
    return state_at(study, key, find_version(study, key, name).seq, progress)


def state_at(study: Study, key: int, seq: int, progress: Progress | None = None) -> LabelMap:
    """A label map as it was at a place in its journal: what has happened since is taken back, the newest first."""
    labels = study.label_map(key)
    then = labels.copied()
    since = study.history.changes_since(key, seq)
    for _, change in (progress or silent()).over(list(reversed(since)), what="Going back"):
        if isinstance(change, LabelChange):
            change.edit.reversed().apply(then)
    return then


def edit_back(study: Study, key: int, version: Version, progress: Progress | None = None) -> tuple[LabelEdit, int]:
    """The edit that brings a map back to a version, and the revision it fits."""
    revision = study.history.revision(key)
    then = state_at(study, key, version.seq, progress)
    return difference(study.label_map(key), then, f"Back to “{version.name}”"), revision


def back_to(study: Study, key: int, name: str, progress: Progress | None = None) -> None:
    """Bring a map back to a version, as a step that can be undone."""
    edit, revision = edit_back(study, key, find_version(study, key, name), progress)
    keep_back(study, key, edit, revision)


def keep_back(study: Study, key: int, edit: LabelEdit, revision: int) -> None:
    """Keep the edit of `edit_back`; raises Stale when the map has changed since."""
    record = study.items.get(key)
    assert record is not None
    if edit.empty:
        raise Trouble(f"“{record.name}” is as it was in this version", "nothing is to be done")
    step = Step("back-to-version", edit.title, {}, {"labels": (study.as_thing(record),)})
    study.history.do([LabelChange(key, edit, revision)], step, edit.title)


def as_table(study: Study, key: int) -> Table:
    """The versions of a map as a table."""
    record = study.items.get(key)
    table = Table(
        f"Versions of {record.name if record else ''}", [Column("version"), Column("made"), Column("changes_since")]
    )
    for version in versions_of(study, key):
        count = study.catalogue.rows(
            "SELECT count(*) AS n FROM change WHERE item_id = ? AND seq > ?", key, version.seq
        )[0]["n"]
        table.rows.append((version.name, version.made[:16].replace("T", " "), count))
    return table


__all__ = [
    "BEFORE",
    "Stale",
    "Version",
    "as_table",
    "back_to",
    "before_last_session",
    "edit_back",
    "find_version",
    "keep_back",
    "name_version",
    "state_at",
    "state_of",
    "versions_of",
]
