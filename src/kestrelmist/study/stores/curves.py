"""Curves: their values and how they are drawn, in their row."""

from __future__ import annotations

from ...core.curve import Curve
from ...core.progress import Progress
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store


class CurveStore(Store):
    """Keeps curves."""

    kind, folder = "curve", "curves"

    def prepare(self, study: OpenStudy, thing: Curve, progress: Progress) -> Prepared:
        return Prepared("curve", thing.name or "Curve", thing.subject, None, thing.content_hash(), thing.as_dict())

    def open(self, study: OpenStudy, record: Record) -> Curve:
        return Curve.from_dict(record.body, record.name, record.subject)


STORES.add("curve", CurveStore())
