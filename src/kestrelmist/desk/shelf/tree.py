"""What stands on the Shelf, and where: subjects that fold, what was made of an image under it, what fits the filter."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from ...study.items import Record

DEEPEST = 4
"""How far what was made of what was made is set in."""


@dataclass(frozen=True)
class Subject:
    """The heading of a subject: how many things it has, and whether they are folded away."""

    name: str
    count: int
    folded: bool


@dataclass(frozen=True)
class Stand:
    """A thing, how far it is set in, and what it is called there: what its name adds to that of what it was made of."""

    record: Record
    depth: int
    label: str


def added(name: str, before: str) -> str:
    """What a name adds to another one; all of it where it does not begin like that.

    >>> added("Run, still, smooth 1 mm", "Run, still"), added("Brain", "Run"), added("Run (2)", "Run")
    ('smooth 1 mm', 'Brain', 'Run (2)')
    """
    rest = name.removeprefix(before)
    return rest.lstrip(", ·") if rest != name and rest[:1] in ",·" and rest.lstrip(", ·") else name


def stands(
    records: Iterable[Record],
    folded: frozenset[str] = frozenset(),
    typed: str = "",
    on_shelf: Callable[[str], bool] = lambda kind: True,
) -> list[Subject | Stand]:
    """Headings and things, from above.

    Parameters
    ----------
    records : iterable of Record
        By subject, in the order they came.
    folded : set of str
        Names of subjects whose things are folded away.
    typed : str
        Words that name, subject or kind of a thing have to hold; then nothing is folded.
    """
    words = typed.casefold().split()
    by_subject: dict[str, list[Record]] = {}
    kinds: dict[str, bool] = {}
    for record in records:
        if record.kind not in kinds:
            kinds[record.kind] = on_shelf(record.kind)
        if kinds[record.kind] and (not words or _fits(record, words)):
            by_subject.setdefault(record.subject, []).append(record)
    found: list[Subject | Stand] = []
    for name, several in by_subject.items():
        away = name in folded and not words
        found.append(Subject(name, len(several), away))
        if not away:
            found += _tree(several)
    return found


def _fits(record: Record, words: Sequence[str]) -> bool:
    text = f"{record.name} {record.subject} {record.kind}".casefold()
    return all(word in text for word in words)


def _tree(records: list[Record]) -> list[Stand]:
    """Things of a subject, each with what was made of it below."""
    there = {r.id for r in records}
    under: dict[int | None, list[Record]] = {}
    for record in records:
        # what is older cannot be made of it: a damaged row makes no ring
        parent = record.made_of if record.made_of in there and (record.made_of or 0) < record.id else None
        under.setdefault(parent, []).append(record)
    if len(under) == 1 and None in under:
        return [Stand(r, 0, r.name) for r in records]
    found: list[Stand] = []
    waiting: list[tuple[Record, int, str]] = [(r, 0, "") for r in reversed(under.get(None, []))]
    while waiting:
        record, depth, before = waiting.pop()
        found.append(Stand(record, depth, added(record.name, before) if before else record.name))
        below = [(r, min(depth + 1, DEEPEST), record.name) for r in under.get(record.id, [])]
        waiting += reversed(below)
    return found
