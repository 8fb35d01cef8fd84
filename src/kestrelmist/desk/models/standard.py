"""Standard spaces that the image which leads has a way to: where a place lies in them, and in which region."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QObject, Signal

from ...core.errors import Trouble
from ...core.labels import LabelMap
from ...core.mapping import Mapping
from ...formats.pack import STANDARD
from ...study.items import ImageRecord
from .viewing import Viewing


@dataclass(frozen=True, eq=False)
class StandardSpace:
    """One of them: its name, the way there from the image that leads, and its regions."""

    name: str
    way: Mapping
    regions: LabelMap | None
    unit: str

    def place(self, world) -> np.ndarray | None:
        """Where a place of the image lies in it; None where the way says nothing."""
        found = self.way.to(np.asarray(world, float))
        return found if np.isfinite(found).all() else None

    def region(self, place) -> str:
        """The name of the region at a place of the standard space; "" without any."""
        if self.regions is None or place is None:
            return ""
        number = self.regions.at(place)
        row = self.regions.table.get(number) if number else None
        return row.name if row is not None else ""


class Standard(QObject):
    """Looked for beside the window whenever another image leads, or something comes onto the Shelf or goes."""

    changed = Signal()

    def __init__(self, viewing: Viewing):
        super().__init__(viewing)
        self.viewing, self.session = viewing, viewing.session
        self.known: list[StandardSpace] = []
        self._asked: tuple | None = None
        viewing.lead_changed.connect(self._look)
        self.session.shelf_changed.connect(self._look)

    def _templates(self) -> list[ImageRecord]:
        """An image of each standard space of the study, the first there was."""
        found: dict[str, ImageRecord] = {}
        for record in self.viewing.study.records():
            if STANDARD in record.facts:
                found.setdefault(record.grid.world.id, record)
        return list(found.values())

    def _look(self) -> None:
        lead, study = self.viewing.record, self.viewing.study
        templates = self._templates() if lead is not None else []
        maps = [tuple(m.id for m in study.label_maps(template.id)) for template in templates]
        ways = tuple((r.id, r.hash) for r in study.transforms())
        asked = None if lead is None else (lead.id, lead.grid, tuple(t.id for t in templates), tuple(maps), ways)
        if asked == self._asked:
            return
        self._asked = asked
        if lead is None or not templates:
            self._put(asked, [])
            return
        world, unit = lead.grid.world, lead.grid.unit

        def work(progress) -> list[StandardSpace]:
            found = []
            for template in templates:
                try:
                    way = study.way(world, template.grid.world)
                except Trouble:  # two that disagree: said where somebody asks for one
                    continue
                if way is not None:
                    regions = study.labels(template.id) if study.label_maps(template.id) else None
                    name = str(template.facts.get(STANDARD) or template.name)
                    found.append(StandardSpace(name, way.mapping.prepared(), regions, unit))
            return found

        def put(found: list[StandardSpace]) -> None:
            self._put(asked, found)

        self.session.work.start("Looking for standard spaces", work, put, lambda _: None, lane="preview", loud=False)

    def _put(self, asked: tuple | None, found: list[StandardSpace]) -> None:
        if asked == self._asked and (found or self.known):
            self.known = found
            self.changed.emit()

    def lines(self, world) -> list[tuple[str, str]]:
        """For each space the place in it, in the unit of the image that leads, and the region there."""
        told = []
        for one in self.known:
            place = one.place(world)
            words = "outside" if place is None else " ".join(f"{v:+.2f}".replace("-", "−") for v in place)
            told.append((f"In {one.name}" if len(self.known) > 1 else "Standard", words))
            if one.regions is not None:
                told.append(("Region", one.region(place) or "none"))
        return told

    def own_place(self, place) -> np.ndarray:
        """Where a place of the first standard space lies in the image that leads; raises Trouble without one."""
        if not self.known:
            raise Trouble(
                "No way leads from this image to a standard space",
                "open one (“Open an atlas”), and align it with this image",
            )
        found = self.known[0].way.back(np.asarray(place, float))
        if not np.isfinite(found).all():
            raise Trouble(f"This place of {self.known[0].name} is not reached from this image", "type another")
        return found
