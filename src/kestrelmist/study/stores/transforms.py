"""Transforms: sixteen numbers and two worlds, in their row."""

from __future__ import annotations

from ...core.progress import Progress
from ...core.transform import Transform
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store


class TransformStore(Store):
    """Keeps transforms."""

    kind, folder = "transform", "transforms"

    def prepare(self, study: OpenStudy, thing: Transform, progress: Progress) -> Prepared:
        return Prepared(
            "transform", thing.name or "Transform", thing.subject, None, thing.content_hash(), thing.as_dict()
        )

    def open(self, study: OpenStudy, record: Record) -> Transform:
        return Transform.from_dict(record.body, record.name, record.subject)


STORES.add("transform", TransformStore())
