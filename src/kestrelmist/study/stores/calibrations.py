"""Calibrations: what they say, in their row. Another one of a name stands beside the first as its next version."""

from __future__ import annotations

from dataclasses import replace

from ...core.calibration import Calibration
from ...core.errors import Trouble
from ...core.progress import Progress
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store


class CalibrationStore(Store):
    """Keeps calibrations."""

    kind, folder = "calibration", "calibrations"

    def prepare(self, study: OpenStudy, thing: Calibration, progress: Progress) -> Prepared:
        thing = self._numbered(study, thing)
        name = thing.name if thing.version == 1 else f"{thing.name}, version {thing.version}"
        return Prepared(self.kind, name, thing.subject, None, thing.content_hash(), {"calibration": thing.as_dict()})

    def open(self, study: OpenStudy, record: Record) -> Calibration:
        return Calibration.from_dict(record.body.get("calibration") or {}, subject=record.subject)

    def _numbered(self, study: OpenStudy, thing: Calibration) -> Calibration:
        """With the number that follows those of its name; as it is where it is there already."""
        same = []
        for record in study.items.of_kind(self.kind):
            try:
                one = self.open(study, record)
            except Trouble:
                continue
            if one.name.casefold() == thing.name.casefold():
                same.append(one)
        if not same or any(one.content_hash() == thing.content_hash() for one in same):
            return thing
        last = max(same, key=lambda one: one.version)
        return replace(thing, version=last.version + 1, before=last.content_hash())


STORES.add("calibration", CalibrationStore())
