"""A pane that shows one plane of one image: header and canvas."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ...core.digits import signed
from ...core.quantity import pretty_unit
from ...scene.pieces import decimals
from ...scene.view import Plane
from ..models.desk_model import Desk
from ..models.sight import Sight
from .hands import WorkingCanvas
from .pane_header import PaneHeader

AXES = "xyz"
FOLLOWING = {"world": "by place", "voxel": "by voxel", "apart": "apart"}
"""What is written in the header of images side by side."""


class SlicePane(QWidget):
    """One plane of the image that leads, or of one that lies beside it."""

    wants_lead = Signal()
    wants_float = Signal()

    def __init__(self, desk: Desk, plane: Plane, sight: Sight | None = None, parent=None):
        super().__init__(parent)
        self.desk, self.viewing = desk, desk.viewing
        self.sight = sight or Sight(desk.viewing, desk.layers, desk.beside, parent=self)
        self.plane, self.header = plane, PaneHeader(plane.name)
        self.canvas = WorkingCanvas(desk, plane, self.sight)
        self.header.clicked.connect(self.wants_lead)
        self.header.floated.connect(self.wants_float)
        self.canvas.wants_float.connect(self.wants_float)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.header)
        column.addWidget(self.canvas, 1)
        viewing = self.viewing
        for signal in (viewing.crosshair_moved, viewing.lead_changed, viewing.lead_ready, viewing.arrangement_changed):
            signal.connect(self._place)
        self._place()

    @property
    def name(self) -> str:
        return self.plane.name

    def _place(self) -> None:
        record = self.sight.record
        if record is None:
            self.header.set_place("")
            return
        space = record.grid
        beside = self.sight.key is not None
        plane = self.plane.name if self.canvas.along is None else f"{self.plane.name}, own axes"
        if space.flat_axis == self.plane.across:
            plane = "Picture" if not space.sides_known else self.plane.name
            place = ""
        else:
            value = signed(self.sight.crosshair[self.plane.across], decimals(space))
            place = f"{AXES[self.plane.across]} {value} {pretty_unit(space.unit)}"
        self.header.set_place(place)
        if beside:
            self.header.set_name(f"{record.name} · {record.subject}", plane)
            self.header.set_leading(self.sight.leads, FOLLOWING[self.viewing.arrangement.follow])
        else:
            self.header.set_name(plane)

    def set_lead(self, lead: bool) -> None:
        self.header.set_lead(lead)
        self.canvas.lead = lead
