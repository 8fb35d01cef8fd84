"""From a reference to the thing it names: in the study, or a file where one may stand."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ..core.errors import Trouble
from ..core.kind import held_in, stands_for
from ..core.reference import Reference
from ..core.sentence import is_none, several_of
from .items import Record
from .open_study import OpenStudy

ANY = "thing"
"""The kind that stands for all kinds."""
LISTED = 12
"""Names listed in a sentence; more are counted."""


@dataclass(frozen=True)
class Meant:
    """What a reference names: a thing of the study with a place along its axes, or a file with a part in it."""

    record: Record | None = None
    place: tuple[int, ...] = ()
    file: Path | None = None
    part: str | None = None


def meant(study: OpenStudy, wanted: int | str | Reference, kind: str, files: bool = True) -> Meant:
    """The one thing that a reference names.

    Parameters
    ----------
    wanted : int, text or Reference
        A whole number is an id; text never is.
    kind : str
        The kind of thing that is wanted. Where a label map is wanted, an image stands for its label map in hand, and
        where a curve is, a table for its columns.
    files : bool
        Whether a path may stand in its place.

    Raises
    ------
    Trouble
        When nothing or several things fit; all that do are listed.
    """
    if isinstance(wanted, int) and not isinstance(wanted, bool):
        record = study.items.get(wanted)
        if record is None or not (_suits(record, kind) or record.kind == held_in(kind)):
            raise Trouble(f"There {is_none(kind)} with the id {wanted} in this study", _have(study, kind), study.folder)
        return Meant(record)
    if holder := held_in(kind):
        try:
            return meant_of(study, wanted, kind, files=False)
        except Trouble as trouble:
            try:
                return meant_of(study, wanted, holder, files)
            except Trouble:
                raise trouble from None
    return meant_of(study, wanted, kind, files)


def meant_of(study: OpenStudy, wanted: int | str | Reference, kind: str, files: bool) -> Meant:
    """As `meant`, of things of the kind alone."""
    text = str(wanted)
    pool = [r for r in study.items.of_kind() if _suits(r, kind)]
    # a name may hold any mark: written as it is, it goes before what its marks would mean
    plain = [r for r in pool if text.casefold() in _plain_names(r)] if isinstance(wanted, str) else []
    if len(plain) == 1:
        return Meant(plain[0])
    try:
        reference = wanted if isinstance(wanted, Reference) else Reference.parse(text)
    except Trouble:
        if files and Path(text).exists():
            return Meant(file=Path(text))
        raise
    # what is of an image is called by both names, or by its own alone where that is plain enough
    fits = plain or [r for r in pool if _fits(r, reference)]
    fits = fits or [r for r in pool if r.of is not None and text.casefold() == r.name.casefold()]
    if len(fits) == 1:
        return Meant(fits[0], reference.place)
    if not fits and files:
        found = file_meant(text)
        if found is not None:
            return found
    if fits:
        several = ", ".join(str(r.reference) for r in fits[:LISTED])
        what = f"Several {several_of(kind)} are called “{text}” in this study"
        raise Trouble(what, f"write one of: {several}", study.folder)
    called = f"No {kind} {'are' if several_of(kind) == kind else 'is'} called"
    raise Trouble(f"{called} “{text}” in this study", _have(study, kind), study.folder)


def file_meant(text: str) -> Meant | None:
    """A file or folder, and behind its name perhaps a part of it (#) or a place along its axes (@); None when there is
    no such file."""
    if Path(text).exists():
        return Meant(file=Path(text))
    for mark in "@#":
        path, found, rest = text.rpartition(mark)
        if not found or not path:
            continue
        inner = file_meant(path)
        if inner is not None and mark == "@" and not inner.place:
            return Meant(file=inner.file, part=inner.part, place=Reference.parse(f"x@{rest}").place)
        if inner is not None and mark == "#" and inner.part is None and not inner.place:
            return Meant(file=inner.file, part=rest.strip('"'))
    return None


def _suits(record: Record, kind: str) -> bool:
    return kind in (ANY, record.kind) or stands_for(record.kind, kind)


def _plain_names(record: Record) -> set[str]:
    if record.of is not None:
        return {f"{record.subject}/{record.owner}#{record.name}".casefold()}
    return {record.name.casefold(), f"{record.subject}/{record.name}".casefold()}


def _fits(record: Record, wanted: Reference) -> bool:
    own = record.reference
    if wanted.subject is not None and wanted.subject.casefold() != own.subject.casefold():  # type: ignore[union-attr]
        return False
    part = None if wanted.part is None else wanted.part.casefold()
    return wanted.name.casefold() == own.name.casefold() and part == (own.part.casefold() if own.part else None)


def _have(study: OpenStudy, kind: str) -> str:
    names = [str(r.reference) for r in study.items.of_kind(*(() if kind == ANY else (kind,)))]
    if not names:
        return "there is none yet"
    more = f" and {len(names) - LISTED} more" if len(names) > LISTED else ""
    return f"choose one of: {', '.join(names[:LISTED])}{more}"
