"""What of a solid scene is cut away: a box with typed ends, and a plane through the crosshair."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...core.quantity import pretty_unit
from ...scene.solid.eye import Eye, Frame
from ..models.desk_model import Desk
from ..widgets.number_field import number
from ..widgets.plain_text import plain_tip
from .rows import quietly, row

AXES = ("x", "y", "z")


class CropPanel(QWidget):
    """Two ticks, and the box's numbers while there is one."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.viewing, self.model = desk, desk.viewing, desk.solid
        self.box, self.plane, self.flip = (
            QCheckBox("Crop to a box"),
            QCheckBox("Cut by a plane"),
            QPushButton("Turn round"),
        )
        self.plane.setToolTip(plain_tip("Cut through the crosshair, across the way one looks"))
        self.flip.setProperty("kind", "small")
        self.ends = [
            [number(-1e9, 1e9, 2, "", f"{axis} {end} of the box", follows=True) for end in ("from", "to")]
            for axis in AXES
        ]
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        line = QHBoxLayout()
        line.addWidget(self.box)
        line.addStretch(1)
        column.addLayout(line)
        self.numbers = QWidget()
        inside = QVBoxLayout(self.numbers)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(4)
        for axis, pair in zip(AXES, self.ends):
            inside.addLayout(row(axis, *pair, width=20))
        column.addWidget(self.numbers)
        second = QHBoxLayout()
        second.addWidget(self.plane)
        second.addWidget(self.flip)
        second.addStretch(1)
        column.addLayout(second)
        self.box.toggled.connect(self._box)
        self.plane.toggled.connect(self._plane)
        self.flip.clicked.connect(self._turn_round)
        for n, pair in enumerate(self.ends):
            for end, field in enumerate(pair):
                field.valueChanged.connect(lambda v, n=n, end=end: self._move(n, end, v))
        self.model.changed.connect(self.follow)
        self.viewing.lead_ready.connect(self.follow)
        self.viewing.lead_changed.connect(self.follow)
        self.follow()

    def _box(self, on: bool) -> None:
        record = self.viewing.record
        if not on or record is None:
            self.model.change(crop=None)
            return
        corners = record.grid.corners()
        low, high = corners.min(0), corners.max(0)
        self.model.change(crop=(tuple(map(float, low)), tuple(map(float, high))))

    def _move(self, axis: int, end: int, value: float) -> None:
        crop = self.model.shown.crop
        if crop is None:
            return
        ends = [list(crop[0]), list(crop[1])]
        ends[end][axis] = value
        if ends[0][axis] > ends[1][axis]:
            ends[1 - end][axis] = value
        self.model.change(crop=(tuple(ends[0]), tuple(ends[1])))

    def _plane(self, on: bool) -> None:
        if not on:
            self.model.change(cut=None)
            return
        towards = -Eye(self.model.camera, Frame(), 16, 16).axes[2]
        x, y, z = (float(v) for v in towards)
        self.model.change(cut=(x, y, z, float(np.dot(towards, self.viewing.crosshair))))

    def _turn_round(self) -> None:
        cut = self.model.shown.cut
        if cut is not None:
            self.model.change(cut=tuple(-v for v in cut))

    def follow(self) -> None:
        shown, record = self.model.shown, self.viewing.record
        self.numbers.setVisible(shown.crop is not None)
        self.flip.setVisible(shown.cut is not None)
        with quietly(self.box, self.plane):
            self.box.setChecked(shown.crop is not None)
            self.plane.setChecked(shown.cut is not None)
        if shown.crop is None or record is None:
            return
        unit, least = pretty_unit(record.grid.unit), min(record.grid.spacing)
        for n, pair in enumerate(self.ends):
            for end, field in enumerate(pair):
                with quietly(field):
                    field.set_range(-1e9, 1e9, max(least / 10, 1e-9))
                    field.setSuffix(f" {unit}")
                    field.setValue(shown.crop[end][n])
