"""Curves: their values and how they are drawn, in their row. A section is of the image it was drawn on."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from ...core.curve import Curve
from ...core.progress import Progress
from ...core.space import Space
from ...core.table import Table
from ...formats.curve_files import curves_of_table, only_curve
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store

WITHIN = "within"
"""What stands behind the image's name when a section is of one volume of a series."""


class CurveStore(Store):
    """Keeps curves."""

    kind, folder = "curve", "curves"

    def prepare(self, study: OpenStudy, thing: Curve, progress: Progress) -> Prepared:
        return Prepared("curve", thing.name or "Curve", thing.subject, None, thing.content_hash(), thing.as_dict())

    def held_by(self, thing: Table) -> list[Curve]:
        return curves_of_table(thing)

    def only(self, things: list[Any], path: Path | None, name: str = "") -> Curve:
        return only_curve(things, path.name if path is not None else name, path)

    def is_of_image(self, thing: Curve) -> bool:
        return thing.mark is not None

    def take(self, study: OpenStudy, prepared: Prepared, key: int) -> dict[str, Any]:
        image, owner = prepared.body.get("image", ""), study.items.get(prepared.of) if prepared.of else None
        within = image.removeprefix(owner.name) if owner is not None and image.startswith(owner.name) else ""
        return {f"body.{WITHIN}": within} if within else {}

    def open(self, study: OpenStudy, record: Record) -> Curve:
        curve = Curve.from_dict(record.body, record.name, record.subject)
        if record.of is None:
            return curve
        return replace(curve, image=f"{record.owner}{record.body.get(WITHIN, '')}")  # as the image is called now

    def moved(self, study: OpenStudy, record: Record, was: Space, now: Space) -> dict[str, Any]:
        before = self.open(study, record)
        after = before.moved(was, now)
        if after is before:
            return {}
        facts = after.as_dict()
        changed = {f"body.{name}": facts[name] for name in ("mark", "along", "along_unit")}
        return changed | {"hash": after.content_hash()}


STORES.add("curve", CurveStore())
