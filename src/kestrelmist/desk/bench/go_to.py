"""A field that goes to a place that is typed."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QLineEdit

from ...core.errors import Trouble
from ...scene.showing import shown_unit
from ..models.desk_model import Desk


class GoTo(QLineEdit):
    """Type a world position to jump there, a voxel of the lead image after a "v", or a place in the standard space
    after an "s"."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.desk = desk
        self.setProperty("kind", "figures")
        self.setAccessibleName("Go to a world position, to a voxel after “v”, to a standard place after “s”")
        self.setToolTip(
            "A place in the world, as in 1.5 −2 4; a voxel, as in v 80 92 70; a place of the standard space, as in"
            " s 2 −3 1"
        )
        self.returnPressed.connect(self._go)
        desk.viewing.lead_changed.connect(self._suit)
        self._suit()

    def _shown(self) -> tuple[str, int]:
        record = self.desk.viewing.record
        return shown_unit(record.grid) if record is not None else ("mm", 1)

    def _suit(self) -> None:
        record = self.desk.viewing.record
        named = record.grid.world.name if record is not None else "scanner"  # a standard space has a name of its own
        where = f" of {named}" if named not in ("scanner", "picture") else ""
        self.setPlaceholderText(f"x, y, z in {self._shown()[0]}{where}")

    def _go(self) -> None:
        unit, factor = self._shown()
        record, text = self.desk.viewing.record, self.text().strip()
        by_voxel, by_standard = (text[:1].casefold() == letter for letter in "vs")
        parts = text.lstrip("vVsS: ").replace("−", "-").replace(";", ",").replace(",", " ").split()
        try:
            place = np.array([float(p) for p in parts])
            if place.shape != (3,) or not np.all(np.isfinite(place)):
                raise ValueError
        except ValueError:
            self.desk.session.trouble.emit(
                f"A position is three numbers in {unit}: type for example 1.5, −2, 4; or a voxel, as in v 80 92 70."
            )
            return
        if by_voxel and record is not None:
            if np.any(place < -0.5) or np.any(place >= np.array(record.grid.shape) - 0.5):
                last = " ".join(str(n - 1) for n in record.grid.shape)
                self.desk.session.trouble.emit(f"There is no such voxel in “{record.name}”: type from 0 0 0 to {last}.")
                return
            self.desk.viewing.go_to(record.grid.to_world(place))
            return
        if by_standard:
            try:
                place = factor * self.desk.standard.own_place(place / factor)
            except Trouble as trouble:
                self.desk.session.trouble.emit(str(trouble))
                return
        self.desk.viewing.go_to(place / factor)
