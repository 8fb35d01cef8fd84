"""The arrangement of panes: one lead pane and a column of three side panes, or the lead pane alone."""

from __future__ import annotations

from PySide6.QtWidgets import QGridLayout, QWidget

from ...scene.view import AXIAL, CORONAL, SAGITTAL
from ..desk_model import Desk
from ..solid.solid_pane import SolidPane
from .slice_pane import SlicePane


class LightTable(QWidget):
    """Three planes and the Solid view; any of them can lead."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("ground")
        self.desk = desk
        self.slices = [SlicePane(desk, plane) for plane in (CORONAL, AXIAL, SAGITTAL)]
        self.solid = SolidPane(desk)
        self.panes = [*self.slices, self.solid]
        for pane in self.panes:
            pane.wants_lead.connect(lambda pane=pane: self.bring_to_lead(pane))
        self.alone = False
        self._alone_for_picture, self._lead_before = False, self.panes[0]
        desk.image_changed.connect(self._suit)
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(2, 2, 2, 2)
        self._grid.setSpacing(2)
        self._grid.setColumnStretch(0, 17)
        self._grid.setColumnStretch(1, 8)
        self._arrange()

    @property
    def lead(self):
        return self.panes[0]

    def bring_to_lead(self, pane) -> None:
        """Swap a side pane with the lead pane."""
        n = self.panes.index(pane)
        if n:
            self.panes[0], self.panes[n] = self.panes[n], self.panes[0]
            self._arrange()

    def set_alone(self, alone: bool) -> None:
        """Show the lead pane only, or all four."""
        self.alone = alone
        self._arrange()

    def _suit(self) -> None:
        """A picture of one slice is shown face on and alone; a volume brings the panes back."""
        flat = self.desk.record.space.flat_axis if self.desk.record else None
        if flat is not None:
            if not self.alone:
                self._alone_for_picture, self._lead_before = True, self.lead
                self.set_alone(True)
            self.bring_to_lead(next(pane for pane in self.slices if pane.plane.across == flat))
        elif self._alone_for_picture and self.desk.record:
            self._alone_for_picture = False
            self.set_alone(False)
            self.bring_to_lead(self._lead_before)

    def _arrange(self) -> None:
        for pane in self.panes:
            self._grid.removeWidget(pane)
        self._grid.addWidget(self.panes[0], 0, 0, 3, 1)
        for n, pane in enumerate(self.panes[1:]):
            self._grid.addWidget(pane, n, 1)
        for n in range(3):
            self._grid.setRowStretch(n, 1)
        self._grid.setColumnStretch(1, 0 if self.alone else 8)
        for n, pane in enumerate(self.panes):
            pane.setVisible(n == 0 or not self.alone)
            pane.set_lead(n == 0)
        self._grid.activate()
        for pane in self.slices:
            pane.canvas.refresh()
