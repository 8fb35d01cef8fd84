"""The way from the image that leads to another space, as a row of steps; where one is missing, what closes the gap."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QPushButton

from ....core.errors import Trouble
from ....core.operation import find_operation
from ....formats.pack import STANDARD
from ....study.items import ImageRecord
from ....study.ways import missing_link, way_between
from ...widgets.plain_text import plain_tip
from ..page import GROUPS, BenchContext, Group
from ..rows import Shaded, quietly, row, section, soft

ROOM = 168
"""Pixels of the words of an image in the list."""
MOST = 60
"""Images that are offered to lead to, one of each space."""


class WayGroup(Shaded):
    """Seen when the study has more than one space."""

    def __init__(self, context: BenchContext):
        super().__init__(4)
        self.desk, self.viewing, self.context = context.desk, context.desk.viewing, context
        self.column.addWidget(section("Way"))
        self.onto = QComboBox()
        self.onto.setAccessibleName("Where the way leads")
        self.onto.activated.connect(lambda _: self._tell())
        self.column.addLayout(row("To", self.onto, width=30))
        self.said = soft()
        self.column.addWidget(self.said)
        self.close_gap = QPushButton("Align them")
        self.close_gap.setProperty("kind", "small")
        self.close_gap.clicked.connect(self._close_gap)
        self.column.addWidget(self.close_gap)
        self._gap: tuple[int, int] | None = None
        self.viewing.lead_changed.connect(self.follow)
        self.desk.session.shelf_changed.connect(self.follow)
        self.viewing.stage_changed.connect(self.follow)
        self.follow()

    def follow(self) -> None:
        """Spaces have come or gone, or another image leads."""
        lead = self.viewing.record
        if self.viewing.stage != "Align" or lead is None:
            return
        chosen, worlds = self.onto.currentData(), {}
        for record in self.desk.study.records():
            flat = (record.grid.flat_axis is None) != (lead.grid.flat_axis is None)
            if record.grid.world.id and not flat and not record.grid.world.is_one_with(lead.grid.world):
                worlds.setdefault(record.grid.world.id, record)
        with quietly(self.onto):
            self.onto.clear()
            for record in sorted(worlds.values(), key=lambda r: STANDARD not in r.facts)[:MOST]:
                self.onto.addItem(self._short(f"{record.subject}: {record.name}"), record.id)
            if (at := self.onto.findData(chosen)) >= 0:
                self.onto.setCurrentIndex(at)
        self.setVisible(bool(worlds))
        self._tell()

    def _short(self, text: str) -> str:
        return self.onto.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, ROOM)

    def lines(self, lead: ImageRecord, onto: ImageRecord) -> list[str]:
        """The steps in words; raises Trouble when two ways disagree."""
        way = way_between(self.desk.study, lead.grid.world, onto.grid.world)
        if way is None:
            self._gap = tuple(r.id for r in missing_link(self.desk.study, lead, onto))  # type: ignore[assignment]
            one, other = (self.desk.study.find(key) for key in self._gap or ())
            return [
                "A step is missing.",
                f"“{one.name}” of {one.subject} would have to be aligned with “{other.name}” of {other.subject}.",
            ]
        steps = [f"→ “{r.name}”{', backwards' if back else ''}" for r, back in zip(way.made_of, way.turned)]
        return [f"{lead.name} of {lead.subject}", *steps, f"→ {onto.name} of {onto.subject}"]

    def _tell(self) -> None:
        lead, key = self.viewing.record, self.onto.currentData()
        onto = self.desk.study.items.get(key) if key is not None else None
        self._gap = None
        if lead is not None and isinstance(onto, ImageRecord):
            try:
                self.said.setText("\n".join(self.lines(lead, onto)))
            except Trouble as trouble:
                self.said.setText(str(trouble))
        self.close_gap.setVisible(self._gap is not None)
        self.close_gap.setToolTip(plain_tip("Show the first of them and open “Align two images”"))

    def _close_gap(self) -> None:
        if self._gap is None:
            return
        moves, onto = self._gap
        self.viewing.show_image(moves)
        form = self.context.open_operation(find_operation("align"))
        field = form.fields["onto"]
        field.setCurrentIndex(field.findData(onto))


GROUPS.add("way", Group("way", "Align", WayGroup, 30))
