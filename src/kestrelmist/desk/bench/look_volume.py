"""How the volume of the image that leads looks in the Solid view: ready looks, the curve, light, what its rays show."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QColor, QIcon, QPixmap
from PySide6.QtWidgets import (
    QCheckBox,
    QColorDialog,
    QComboBox,
    QHBoxLayout,
    QInputDialog,
    QMenu,
    QSlider,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...core.digits import decimals_for
from ...core.errors import Trouble
from ...core.quantity import pretty_unit
from ...scene.histogram import SAMPLE, counts_of
from ...scene.solid.ready_looks import READY
from ..models.desk_model import Desk
from ..theme.theme import icon
from ..widgets.number_field import number
from ..widgets.plain_text import plain_tip
from .curve_editor import CurveEditor
from .rows import quietly, row

WAYS = (
    ("As rays meet it", "shaded"),
    ("Highest values", "highest"),
    ("Lowest values", "lowest"),
    ("Mean values", "mean"),
)
WIDE = 56


class VolumePanel(QWidget):
    """The curve, and what else belongs to a volume."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.viewing, self.model = desk, desk.viewing, desk.solid
        self.curve = CurveEditor()
        self.value, self.opacity = (
            number(-1e12, 1e12, 3, "", "Value of the point", follows=True),
            number(0, 100, 1, "%", "Opacity of the point", follows=True),
        )
        self.colour, self.away, self.more = QToolButton(), QToolButton(), QToolButton()
        self.colour.setAccessibleName("Colour of the point")
        self.colour.setToolTip(plain_tip("Choose the colour of the point"))
        self.away.setAccessibleName("Take the point away")
        self.away.setToolTip(plain_tip("Take the point away"))
        self.away.setIcon(icon("x", 14))
        self.more.setText("Keep …")
        self.more.setToolTip(plain_tip("Keep this look under a name, in the study or for all studies"))
        self.more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(self.more)
        self.more.setMenu(self.menu)
        self.menu.aboutToShow.connect(self._fill_menu)
        self.rays, self.lit, self.edges, self.inside = QComboBox(), QCheckBox("Lit"), QSlider(), QComboBox()
        self.rays.setAccessibleName("What rays show")
        self.inside.setAccessibleName("Only what lies in a label")
        self.edges.setOrientation(Qt.Orientation.Horizontal)
        self.edges.setRange(0, 100)
        self.edges.setAccessibleName("How much only edges are seen")
        for words, way in WAYS:
            self.rays.addItem(words, way)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        column.addWidget(self.curve)
        line = QHBoxLayout()
        line.setSpacing(5)
        for widget, stretch in ((self.value, 3), (self.opacity, 2), (self.colour, 0), (self.away, 0)):
            line.addWidget(widget, stretch)
        column.addLayout(line)
        column.addLayout(row("Rays", self.rays, width=WIDE))
        light = QHBoxLayout()
        light.setSpacing(7)
        light.addLayout(row("Edges", self.edges, width=WIDE), 1)
        light.addWidget(self.lit)
        column.addLayout(light)
        only = row("Only in", self.inside, width=WIDE)
        only.addWidget(self.more)
        column.addLayout(only)
        self._soon = QTimer(self, singleShot=True, interval=120)
        self._soon.timeout.connect(self._count)
        self._known: object = None
        self.curve.changed.connect(self.model.set_look)
        self.curve.chosen_changed.connect(self._point)
        self.value.valueChanged.connect(lambda v: self._move(value=v))
        self.opacity.valueChanged.connect(lambda v: self._move(opacity=v / 100))
        self.colour.clicked.connect(self._choose_colour)
        self.away.clicked.connect(self._take_away)
        self.rays.activated.connect(lambda n: self._set(way=WAYS[n][1]))
        self.lit.toggled.connect(lambda on: self._set(lit=on))
        self.edges.valueChanged.connect(lambda v: self._set(edges=v / 100))
        self.inside.activated.connect(lambda n: self.model.change(inside=self.inside.itemData(n)))
        viewing = self.viewing
        for signal in (self.model.changed, viewing.lead_ready, viewing.maps.changed, viewing.maps.chosen):
            signal.connect(self.follow)
        viewing.lead_ready.connect(self._soon.start)

    def _set(self, **changes) -> None:
        look = self.model.look
        if look is not None:
            self.model.set_look(replace(look, **changes))

    def _move(self, value: float | None = None, opacity: float | None = None) -> None:
        look, n = self.model.look, self.curve.chosen
        if look is not None and n < len(look.points):
            now, _, clear = look.points[n]
            self.model.set_look(look.moved(n, now if value is None else value, clear if opacity is None else opacity))

    def _take_away(self) -> None:
        self.curve.take_away()

    def _choose_colour(self) -> None:
        look, n = self.model.look, self.curve.chosen
        if look is None or n >= len(look.points):
            return
        chosen = QColorDialog.getColor(QColor(look.points[n][1]), self, "Colour of the point")
        if chosen.isValid():
            self.model.set_look(look.coloured(n, chosen.name().upper()))

    def _fill_menu(self) -> None:
        self.menu.clear()
        self.menu.addAction("Keep in this study …", lambda: self._keep(False))
        self.menu.addAction("Keep for all studies …", lambda: self._keep(True))
        look = self.model.look
        if look is not None and look.name in self.model.kept():
            self.menu.addAction("Forget this look", lambda: self.model.forget(look.name))

    def _keep(self, for_all: bool) -> None:
        look = self.model.look
        first = look.name if look is not None and all(one.name != look.name for one in READY) else ""
        name, said = QInputDialog.getText(self, "Keep this look", "Name", text=first)
        if not said or not name.strip():
            return
        try:
            self.model.keep(name, for_all)
        except Trouble as trouble:
            self.desk.session.trouble.emit(str(trouble))

    def _count(self) -> None:
        """Count beside the window; what is counted already is not counted again."""
        image = self.viewing.image
        if image is None or not self.viewing.ready or not self.isVisible() or self._known == id(image):
            return
        self._known = id(image)
        grey = image.grey()

        def show(counts) -> None:
            if self._known == id(image):
                self.curve.show_counts(counts)

        def work(progress):
            values = np.asarray(grey.sample(SAMPLE))
            return counts_of(values, True)

        self.desk.session.work.start("Histogram", work, show, lane="preview", loud=False)

    def showEvent(self, event) -> None:
        self._soon.start()
        self.follow()

    def follow(self) -> None:
        look = self.model.look
        self.curve.show_look(look)
        if look is None:
            return
        with quietly(self.rays, self.lit, self.edges, self.inside):
            self.rays.setCurrentIndex([way for _, way in WAYS].index(look.way))
            self.lit.setChecked(look.lit)
            self.edges.setValue(round(100 * look.edges))
            self.lit.setEnabled(look.way == "shaded")
            self.edges.setEnabled(look.way == "shaded")
            self.inside.clear()
            self.inside.addItem("Everywhere", -1)
            labels = self.viewing.maps.labels
            if labels is not None and self.viewing.maps.map is not None:
                self.inside.addItem("Any label", 0)
                for one in labels.table:
                    if labels.counts[one.number]:
                        self.inside.addItem(one.name, one.number)
            at = self.inside.findData(self.model.shown.inside)
            self.inside.setCurrentIndex(max(at, 0))
        self._point()

    def _point(self) -> None:
        look, n = self.model.look, self.curve.chosen
        if look is None or n >= len(look.points):
            return
        value, colour, opacity = look.points[n]
        low, high = self.curve.ends
        with quietly(self.value, self.opacity):
            record = self.viewing.record
            self.value.setSuffix(f" {pretty_unit(record.unit)}" if record is not None and record.unit else "")
            self.value.digits = decimals_for(low, high)
            self.value.setValue(value)
            self.opacity.setValue(round(100 * opacity, 1))
        pixmap = QPixmap(16, 16)
        pixmap.fill(QColor(colour))
        self.colour.setIcon(QIcon(pixmap))
        self.away.setEnabled(len(look.points) > 2)
