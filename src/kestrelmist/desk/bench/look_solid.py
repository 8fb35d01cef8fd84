"""What the Solid view shows, beside it on the Bench while it leads."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QHBoxLayout, QPushButton, QSlider, QVBoxLayout, QWidget

from ...scene.solid.ready_looks import READY
from ..models.desk_model import Desk
from ..widgets.plain_text import plain_tip
from .crop_panel import CropPanel
from .look_volume import WIDE, VolumePanel
from .rows import quietly, row, section, soft

PARTS = (
    ("labels", "Labels"),
    ("surfaces", "Surfaces"),
    ("slices", "Planes"),
    ("marks", "Marks"),
    ("cross", "Crosshair"),
    ("over", "Layers over it"),
)
QUALITY = (
    ("Quick", "Coarser, for large volumes and slow machines", "quick"),
    ("As usual", "Coarse while it turns, fine at rest", "usual"),
    ("Finest", "For pictures: twice as slow at rest, and finer while it turns", "finest"),
)
SIDES = ("front", "back", "left", "right", "top", "bottom")


class SolidPanel(QWidget):
    """Shown while the Solid view leads."""

    def __init__(self, desk: Desk, open_operation):
        super().__init__()
        self.desk, self.viewing, self.model = desk, desk.viewing, desk.solid
        self.image = QComboBox()
        self.image.setAccessibleName("How the image is shown in the Solid view")
        self.volume = VolumePanel(desk)
        self.crop = CropPanel(desk)
        self.parts = {name: QCheckBox(words) for name, words in PARTS}
        self.only = QComboBox()
        self.only.setAccessibleName("Which labels stand in the scene")
        self.opacity, self.apart = (QSlider(Qt.Orientation.Horizontal) for _ in range(2))
        self.opacity.setRange(5, 100)
        self.opacity.setAccessibleName("Opacity of labels and surfaces")
        self.apart.setRange(0, 200)
        self.apart.setAccessibleName("How far labels are moved apart")
        self.parallel, self.distance = QCheckBox("Parallel"), QCheckBox("Distance")
        self.parallel.setToolTip(plain_tip("Draw what is near as large as what is far, with a scale bar"))
        self.distance.setToolTip(plain_tip("Click two places on surfaces to measure between them"))
        self.quality = QComboBox()
        self.quality.setAccessibleName("How finely the Solid view is drawn")
        for words, tip, word in QUALITY:
            self.quality.addItem(words, word)
            self.quality.setItemData(self.quality.count() - 1, plain_tip(tip), Qt.ItemDataRole.ToolTipRole)
        self.measured, self.drawn = soft(), soft()
        self.picture, self.film = QPushButton("Picture …"), QPushButton("Film …")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        column.addWidget(section("Solid view"))
        column.addLayout(row("Image", self.image, width=WIDE))
        column.addWidget(self.volume)
        grid = QGridLayout()
        grid.setSpacing(4)
        for n, box in enumerate(self.parts.values()):
            grid.addWidget(box, n // 2, n % 2)
        column.addLayout(grid)
        column.addLayout(row("Label", self.only, width=WIDE))
        column.addLayout(row("Opacity", self.opacity, width=WIDE))
        column.addLayout(row("Apart", self.apart, width=WIDE))
        column.addWidget(self.crop)
        self.sides = {}
        buttons = QGridLayout()
        buttons.setSpacing(4)
        for n, side in enumerate(SIDES):
            button = QPushButton(side.capitalize())
            button.setProperty("kind", "small")
            button.setToolTip(plain_tip(f"Look from the {side} ({n + 1})"))
            button.clicked.connect(lambda _=False, side=side: self.model.set_camera(self.model.camera.side(side)))
            self.sides[side] = button
            buttons.addWidget(button, n // 3, n % 3)
        column.addLayout(buttons)
        line = QHBoxLayout()
        line.addWidget(self.parallel)
        line.addWidget(self.distance)
        line.addStretch(1)
        column.addLayout(line)
        column.addWidget(self.measured)
        out = QHBoxLayout()
        out.addWidget(self.picture)
        out.addWidget(self.film)
        column.addLayout(row("Quality", self.quality, width=WIDE))
        column.addLayout(out)
        column.addWidget(self.drawn)
        self.image.activated.connect(self._choose)
        for name, box in self.parts.items():
            box.toggled.connect(lambda on, name=name: self.model.change(**{name: on}))
        self.opacity.valueChanged.connect(lambda v: self.model.change(label_opacity=v / 100))
        self.apart.valueChanged.connect(lambda v: self.model.change(apart=v / 100))
        self.only.activated.connect(lambda n: self.model.change(only=self.only.itemData(n)))
        self.parallel.toggled.connect(self._parallel)
        self.distance.toggled.connect(self.model.set_measuring)
        self.picture.clicked.connect(lambda: open_operation("render", self.model.settings()))
        self.film.clicked.connect(lambda: open_operation("film", self.model.settings(film=True)))
        self.model.changed.connect(self.follow)
        self.model.camera_changed.connect(self._camera)
        self.model.measured.connect(self._measured)
        self.model.looks_kept.connect(self.follow)
        self.quality.activated.connect(lambda n: self.model.set_quality(QUALITY[n][2]))
        viewing = self.viewing
        for signal in (viewing.lead_changed, viewing.lead_ready, viewing.arrangement_changed, viewing.maps.chosen):
            signal.connect(self.follow)
        viewing.maps.changed.connect(self._labels_changed)
        self.follow()

    @property
    def wanted(self) -> bool:
        """Whether the Solid view leads."""
        arrangement = self.viewing.arrangement
        others = arrangement.beside or arrangement.times or arrangement.sheet
        return arrangement.order[0] == "Solid" and not others

    def _choose(self, n: int) -> None:
        way = self.image.itemData(n)
        if way in ("outline", "none"):
            self.model.change(image=way)
        elif way != "own":
            self.model.set_ready(self.image.itemText(n))

    def _labels_changed(self) -> None:
        """Names are listed anew when there are others; not at each stroke."""
        labels = self.viewing.maps.labels
        names = [one.name for one in labels.table if labels.counts[one.number]] if labels is not None else []
        if names != [self.only.itemText(n) for n in range(1, self.only.count())]:
            self.follow()

    def _parallel(self, on: bool) -> None:
        self.model.set_camera(replace(self.model.camera, parallel=on))

    def _camera(self) -> None:
        with quietly(self.parallel):
            self.parallel.setChecked(self.model.camera.parallel)
        by = self.model.drawn_by
        words = "" if by is None else f"Drawn by {by}." if by else "Drawn by the processor: no graphics card answers."
        if words != self.drawn.text():
            self.drawn.setText(words)

    def _measured(self) -> None:
        with quietly(self.distance):
            self.distance.setChecked(self.model.measuring)
        ends, record = self.model.ends, self.viewing.record
        words = ""
        if self.model.measuring and record is not None:
            words = "Click on a surface." if not ends else "Click on another place."
            if len(ends) == 2:
                words = f"{float(np.linalg.norm(np.subtract(*ends))):.5g} {record.grid.unit} in a straight line"
        self.measured.setText(words)
        self.measured.setVisible(bool(words))

    def follow(self) -> None:
        self.setVisible(self.wanted and self.viewing.record is not None)
        shown = self.model.shown
        flat = self.viewing.record is not None and min(self.viewing.record.grid.shape) < 2
        with quietly(self.image, self.only, self.opacity, self.apart, self.quality, *self.parts.values()):
            self.quality.setCurrentIndex(self.quality.findData(self.model.quality))
            self.only.clear()
            self.only.addItem("All that are drawn", 0)
            labels = self.viewing.maps.labels
            for one in labels.table if labels is not None else ():
                if labels is not None and labels.counts[one.number]:
                    self.only.addItem(one.name, one.number)
            self.only.setCurrentIndex(max(0, self.only.findData(shown.only)))
            self.image.clear()
            self.image.addItem("Outline", "outline")
            self.image.addItem("Not shown", "none")
            if not flat:
                for one in READY:
                    self.image.addItem(one.name, "ready")
                for name in self.model.kept():
                    self.image.addItem(name, "ready")
            at = self.image.findData(shown.image)
            if shown.image == "volume" and not flat:
                look = self.model.look
                at = -1 if look is None or not look.name else self.image.findText(look.name)
                if at < 0:
                    self.image.addItem("Own curve", "own")
                    at = self.image.count() - 1
            self.image.setCurrentIndex(max(at, 0))
            for name, box in self.parts.items():
                box.setChecked(bool(getattr(shown, name)))
            self.opacity.setValue(round(100 * shown.label_opacity))
            self.apart.setValue(round(100 * shown.apart))
        self.volume.setVisible(shown.image == "volume" and not flat)
        self._camera()
        self._measured()
