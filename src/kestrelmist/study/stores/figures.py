"""Figures: their panels in their row."""

from __future__ import annotations

from ...core.figure import Figure
from ...core.progress import Progress
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store, hash_of


class FigureStore(Store):
    """Keeps figures."""

    kind, folder = "figure", "figures"

    def prepare(self, study: OpenStudy, thing: Figure, progress: Progress) -> Prepared:
        return Prepared(self.kind, thing.name, thing.subject, None, thing.content_hash(), thing.as_dict())

    def open(self, study: OpenStudy, record: Record) -> Figure:
        return Figure.from_dict(record.body, record.name, record.subject)

    def identity(self, study: OpenStudy, record: Record) -> str:
        return hash_of(record.body_text) if record.body else record.hash


STORES.add("figure", FigureStore())
