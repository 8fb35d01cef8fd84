"""Calibrations: what they say, in their row. Another one of a name stands beside the first as its next version."""

from __future__ import annotations

from contextlib import suppress
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
        body = {"calibration": thing.as_dict()}
        return Prepared(self.kind, _named(thing), thing.subject, None, thing.content_hash(), body)

    def open(self, study: OpenStudy, record: Record) -> Calibration:
        found = Calibration.from_dict(record.body.get("calibration") or {}, subject=record.subject)
        # one that was renamed goes by its new name
        return found if record.name == _named(found) else replace(found, name=record.name)

    def _numbered(self, study: OpenStudy, thing: Calibration) -> Calibration:
        """With the number that follows those of its name; one that is new is the first."""
        same = []
        for record in study.items.of_kind(self.kind):
            with suppress(Trouble):
                one = self.open(study, record)
                if one.name.casefold() == thing.name.casefold():
                    same.append(one)
        if not same:
            return replace(thing, version=1, before="")
        last = max(same, key=lambda one: one.version)
        return replace(thing, version=last.version + 1, before=last.content_hash())


def _named(thing: Calibration) -> str:
    """What its row is called."""
    return thing.name if thing.version == 1 else f"{thing.name}, version {thing.version}"


STORES.add("calibration", CalibrationStore())
