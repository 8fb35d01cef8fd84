"""Transforms: sixteen numbers and two worlds, in their row."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

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

    def only(self, things: list[Any], path: Path | None, name: str = "") -> Transform:
        found = super().only(things, path, name)
        return found if path is None else replace(found, name=path.stem)

    def open(self, study: OpenStudy, record: Record) -> Transform:
        return Transform.from_dict(record.body, record.name, record.subject)


STORES.add("transform", TransformStore())
