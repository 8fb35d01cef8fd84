"""Class tables: their rows, in their row. Label maps and marks say by its id which one their numbers are of."""

from __future__ import annotations

from ...core.class_table import ClassTable
from ...core.progress import Progress
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store


class ClassTableStore(Store):
    """Keeps class tables."""

    kind, folder = "class table", "classes"

    def prepare(self, study: OpenStudy, thing: ClassTable, progress: Progress) -> Prepared:
        return Prepared(self.kind, thing.name, thing.subject, None, thing.content_hash(), {"rows": thing.as_list()})

    def open(self, study: OpenStudy, record: Record) -> ClassTable:
        return ClassTable.from_list(record.body.get("rows") or [], record.name, record.subject)


STORES.add("class table", ClassTableStore())
