"""Which voxels count as joined."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox

from ..page import GROUPS, BenchContext, Group
from ..rows import Shaded, row


class NeighboursGroup(Shaded):
    """By a face, an edge or a corner."""

    def __init__(self, context: BenchContext):
        super().__init__()
        hand = context.desk.hand
        self.neighbours = QComboBox()
        self.neighbours.setAccessibleName("Neighbours")
        for count, words in ((6, "6, by faces"), (18, "18, and edges"), (26, "26, and corners")):
            self.neighbours.addItem(words, count)
        self.neighbours.activated.connect(lambda _: hand.set_settings(neighbours=self.neighbours.currentData()))
        self.column.addLayout(row("Neighbours", self.neighbours))

        def follow() -> None:
            self.neighbours.setCurrentIndex(self.neighbours.findData(hand.settings.neighbours))

        hand.settings_changed.connect(follow)
        follow()


GROUPS.add("neighbours", Group("neighbours", "Outline", NeighboursGroup, 60, of_tool=True))
