"""Subjects: their columns and visits, in a row of their own."""

from __future__ import annotations

from ...core.progress import Progress
from ...core.subject import Subject
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store


class SubjectStore(Store):
    """Keeps what is known of subjects."""

    kind, folder = "subject", "subjects"

    def prepare(self, study: OpenStudy, thing: Subject, progress: Progress) -> Prepared:
        return Prepared(self.kind, thing.name, thing.name, None, thing.content_hash(), thing.as_dict())

    def open(self, study: OpenStudy, record: Record) -> Subject:
        return Subject.from_dict(record.body, record.subject)


SUBJECTS = SubjectStore()
STORES.add(SUBJECTS.kind, SUBJECTS)
