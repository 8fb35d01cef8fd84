"""What a study knows of its subjects: what somebody said, and what their files say where nobody did."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from dataclasses import replace

from ..core.errors import Trouble
from ..core.subject import Subject, Visit, date_of
from ..formats.bids_names import FACT, parsed, parsed_rest
from ..formats.pack import STANDARD
from .items import ImageRecord, Record
from .journal.changes import Change, ItemChange
from .journal.logbook import Step
from .open_study import OpenStudy
from .stores.subjects import SUBJECTS

VISIT = "visit"
"""Key of the body of an image under which stands the id of its visit."""


def standard_spaces(study: OpenStudy) -> set[str]:
    """Names of the subjects that are no animals or persons but standard spaces."""
    return {record.subject for record in study.records() if STANDARD in record.facts}


def known_subjects(study: OpenStudy) -> list[Subject]:
    """All subjects that have something in the study or of which something is known, by name."""
    images: dict[str, list[ImageRecord]] = {}
    for image in study.records():
        images.setdefault(image.subject, []).append(image)
    rows = {row.subject: row for row in reversed(study.items.of_kind(SUBJECTS.kind))}
    named = {r.subject: None for r in study.items.everything().values() if r.subject and not r.removed}
    names = sorted(named, key=str.casefold)
    return [_known(study, name, rows.get(name), images.get(name, ())) for name in names]


def subject_of(study: OpenStudy, name: str) -> Subject:
    """What is known of a subject: each column as somebody said it, else as the files of its images do; the visits of
    its images."""
    return _known(study, name, _row(study, name), [r for r in study.records() if r.subject == name])


def _known(study: OpenStudy, name: str, row: Record | None, images: Sequence[ImageRecord]) -> Subject:
    known = Subject(name) if row is None else SUBJECTS.open(study, row)
    columns: dict[str, str] = {}
    for image in images:
        for fact, value in image.facts.items():
            if fact.startswith(FACT):
                columns.setdefault(fact.removeprefix(FACT), value)
    known = replace(known, columns=columns | known.columns)
    for image in images:
        if image.body.get(VISIT) is None and (told := visit_in_files(image)) is not None:
            known, _ = known.with_visit(*told)
    return known


def visit_of(study: OpenStudy, image: ImageRecord, subject: Subject | None = None) -> Visit | None:
    """The visit that an image is of; None when nothing says it."""
    subject = subject_of(study, image.subject) if subject is None else subject
    if image.body.get(VISIT) is not None:
        return next((v for v in subject.visits if v.id == image.body[VISIT]), None)
    told = visit_in_files(image)
    return None if told is None else next((v for v in subject.visits if v.name.casefold() == told[0].casefold()), None)


def visit_in_files(image: ImageRecord) -> tuple[str, str] | None:
    """Name and date of a visit as the files of an image give them: a session of BIDS, or the date of the study."""
    date = image.facts.get("StudyDate", "") or image.facts.get("SeriesDate", "")
    try:
        date = date_of(date)
    except Trouble:  # files may hold anything
        date = ""
    named = parsed(image.name) or parsed_rest(image.name)
    session = named.entities.get("ses", "") if named is not None else ""
    return (session or date, date) if session or date else None


def _row(study: OpenStudy, name: str) -> Record | None:
    rows = study.items.of_kind(SUBJECTS.kind)
    return next((r for r in rows if r.subject == name), None)


def say(study: OpenStudy, subjects: list[Subject], step: Step, more: list[Change] | None = None) -> None:
    """Keep what is said of subjects, as one step that can be undone; `more` are changes that go with it.

    Raises Trouble when the study cannot be written.
    """

    def gather(db: sqlite3.Connection) -> tuple[list[Change], Step]:
        changes: list[Change] = []
        for subject in subjects:
            row = _row(study, subject.name)
            if row is None:
                fresh = Record(
                    0, SUBJECTS.kind, subject.name, subject.name, hash="", body=Subject(subject.name).as_dict()
                )
                row = study.items.get(study.items.insert(db, fresh))
                assert row is not None
            before = {f"body.{key}": row.body.get(key) for key in ("columns", "visits")}
            after = {f"body.{key}": value for key, value in subject.as_dict().items()}
            if before != after:
                changes.append(ItemChange(row.id, step.title, before, after))
        return [*changes, *(more or [])], step

    study.history.do(gather, title=step.title)
