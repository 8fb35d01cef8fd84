"""The arrangement of panes: one lead pane and a column of three side panes, or the lead pane alone."""

from __future__ import annotations

from PySide6.QtWidgets import QGridLayout, QWidget

from ...scene.view import AXIAL, CORONAL, SAGITTAL
from ..desk_model import Desk
from ..solid.solid_pane import SolidPane
from .slice_pane import SlicePane


class LightTable(QWidget):
    """Three planes and the Solid view; any of them can lead. Which does is part of what is looked at."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("ground")
        self.viewing = desk.viewing
        self.slices = [SlicePane(desk, plane) for plane in (CORONAL, AXIAL, SAGITTAL)]
        self.solid = SolidPane(desk)
        self._by_name = {pane.name: pane for pane in (*self.slices, self.solid)}
        for pane in self.panes:
            pane.wants_lead.connect(lambda pane=pane: self.bring_to_lead(pane))
        self._before_picture: tuple[str, bool] | None = None
        self.viewing.lead_changed.connect(self._suit)
        self.viewing.arrangement_changed.connect(self._arrange)
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(2, 2, 2, 2)
        self._grid.setSpacing(2)
        self._grid.setColumnStretch(0, 17)
        self._grid.setColumnStretch(1, 8)
        self._laid: tuple = ()
        self._arrange()

    @property
    def panes(self) -> list:
        """All panes, the lead pane first."""
        return [self._by_name[name] for name in self.viewing.arrangement.order]

    @property
    def lead(self):
        return self.panes[0]

    @property
    def alone(self) -> bool:
        return self.viewing.arrangement.alone

    def bring_to_lead(self, pane) -> None:
        """Swap a side pane with the lead pane."""
        if pane is not self.lead:
            self.viewing.arrange(order=self.viewing.arrangement.led_by(pane.name).order)

    def set_alone(self, alone: bool) -> None:
        """Show the lead pane only, or all four."""
        self.viewing.arrange(alone=alone)

    def _suit(self) -> None:
        """A picture of one slice is shown face on and alone; a volume brings the panes back."""
        record = self.viewing.record
        if record is None:
            return
        flat = record.grid.flat_axis
        if flat is not None:
            if self._before_picture is None:
                self._before_picture = (self.lead.name, self.alone)
            name = next(pane.name for pane in self.slices if pane.plane.across == flat)
            order = self.viewing.arrangement.led_by(name).order
            self.viewing.arrange(alone=True, order=order)
        elif self._before_picture is not None:
            (name, alone), self._before_picture = self._before_picture, None
            self.viewing.arrange(alone=alone, order=self.viewing.arrangement.led_by(name).order)

    def _arrange(self) -> None:
        arrangement = self.viewing.arrangement
        if self._laid == (arrangement.order, arrangement.alone):
            return
        self._laid = (arrangement.order, arrangement.alone)
        panes, alone = self.panes, arrangement.alone
        for pane in panes:
            self._grid.removeWidget(pane)
        self._grid.addWidget(panes[0], 0, 0, 3, 1)
        for n, pane in enumerate(panes[1:]):
            self._grid.addWidget(pane, n, 1)
        for n in range(3):
            self._grid.setRowStretch(n, 1)
        self._grid.setColumnStretch(1, 0 if alone else 8)
        for n, pane in enumerate(panes):
            pane.setVisible(n == 0 or not alone)
            pane.set_lead(n == 0)
        self._grid.activate()
        for pane in self.slices:
            pane.canvas.refresh()
