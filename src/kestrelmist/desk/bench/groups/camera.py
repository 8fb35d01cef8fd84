"""A live camera: opened and set beside the picture it shows, in the stages where pictures are taken and measured."""

from __future__ import annotations

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QPushButton, QWidget

from ....core.operation import find_operation
from ....core.scale import scale_of
from ...models.live_camera import cameras
from ...widgets.number_field import number
from ...widgets.plain_text import plain_tip
from ..form_memory import fill
from ..page import GROUPS, BenchContext, Group
from ..rows import Shaded, quietly, row, section, soft

CHOICES = ("specimen", "objective", "resolution")
TOLD = 500
"""Milliseconds between looks at how many pictures come a second."""


class CameraGroup(Shaded):
    """One button while no camera is open; its settings while one is."""

    def __init__(self, context: BenchContext):
        super().__init__()
        self.desk, self.live = context.desk, context.desk.live
        self.open_form = context.open_operation
        self.start = QPushButton("Live camera")
        self.start.setToolTip(plain_tip("Show what a camera sees in the lead pane, to measure on it and take pictures"))
        self.start.setProperty("kind", "small")
        self.which = QComboBox()
        self.which.setAccessibleName("Camera")
        for name, title in cameras():
            self.which.addItem(title, name)
        self.start.clicked.connect(self._toggle)
        line = QHBoxLayout()
        line.setSpacing(7)
        line.addWidget(self.start)
        line.addWidget(self.which)
        line.addStretch(1)
        self.column.addLayout(line)
        self.open = QWidget()
        inner = Shaded()
        box = QHBoxLayout(self.open)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(inner)
        self.choices = {name: QComboBox() for name in CHOICES}
        for name, field in self.choices.items():
            field.setAccessibleName(name.capitalize())
            field.activated.connect(lambda _, name=name, field=field: self.live.set(**{name: field.currentText()}))
        self.exposure = number(0.05, 10_000, 1, "ms", "Exposure")
        self.focus = number(-1e5, 1e5, 1, "µm", "Focus")
        self.x, self.y = number(-1e3, 1e3, 3, "mm", "Stage x"), number(-1e3, 1e3, 3, "mm", "Stage y")
        self.numbers = {"exposure": self.exposure, "focus": self.focus, "x": self.x, "y": self.y}
        for name, field in self.numbers.items():
            field.valueChanged.connect(lambda value, name=name: self.live.set(**{name: value}))
        inner.column.addWidget(section("Camera"))
        for name, field in self.choices.items():
            inner.column.addLayout(row(name.capitalize(), field))
        inner.column.addLayout(row("Exposure", self.exposure))
        inner.column.addLayout(row("Focus", self.focus))
        inner.column.addLayout(row("Stage x, y", self.x, self.y))
        self.told = soft()
        inner.column.addWidget(self.told)
        self.hold, self.take, self.more = QPushButton("Hold"), QPushButton("Take a picture"), QPushButton("Several…")
        self.hold.setCheckable(True)
        self.hold.setToolTip(plain_tip("Keep the picture still, to measure on it"))
        self.more.setToolTip(plain_tip("Pictures through time, with these settings"))
        self.hold.toggled.connect(self.live.hold)
        self.take.clicked.connect(lambda: self.live.take(self.with_marks.isChecked()))
        self.more.clicked.connect(self._several)
        buttons = QHBoxLayout()
        buttons.setSpacing(6)
        for button in (self.hold, self.take, self.more):
            button.setProperty("kind", "small")
            buttons.addWidget(button)
        buttons.addStretch(1)
        inner.column.addLayout(buttons)
        self.with_marks = QCheckBox("With the marks drawn on it")
        inner.column.addWidget(self.with_marks)
        self.column.addWidget(self.open)
        self._tell = QTimer(self, interval=TOLD)
        self._tell.timeout.connect(self._say)
        self.live.changed.connect(self._follow)
        self.desk.marks.listed.connect(self._say)
        self._follow()

    def _toggle(self) -> None:
        if self.live.on:
            self.live.stop()
        else:
            self.live.start(self.which.currentData())

    def _several(self) -> None:
        form = self.open_form(find_operation("take-pictures"))
        given = {k: v for k, v in self.live.given("").items() if v is not None}
        given.pop("calibration", None)  # the form finds it by itself
        given.pop("name")
        fill(form.kept, given)

    def _follow(self) -> None:
        """Show what the camera is set to."""
        live = self.live
        self.start.setText("Close the camera" if live.on else "Live camera")
        self.which.setVisible(not live.on and self.which.count() > 1)
        self.open.setVisible(live.on)
        self._tell.start() if live.on else self._tell.stop()
        if live.camera is None:
            self.open.setEnabled(False)
            self._say()
            return
        self.open.setEnabled(True)
        for name, field in self.choices.items():
            offered = getattr(live.camera.camera, f"{name}s")
            if [field.itemText(n) for n in range(field.count())] != list(offered):
                field.clear()
                field.addItems(list(offered))
            field.setCurrentText(getattr(live.settings, name))
            field.setEnabled(len(offered) > 1)
        with quietly(*self.numbers.values(), self.hold):
            for name, number_field in self.numbers.items():
                number_field.setValue(getattr(live.settings, name))
            self.hold.setChecked(live.still_held)
        self._say()

    def _say(self) -> None:
        live = self.live
        if not live.on:
            return
        record = self.desk.study.items.get(live.still) if live.still is not None else None
        if record is None:
            self.told.setText("Opening the camera …")
            return
        if live.gone:
            self.told.setText("The live picture is off the Shelf: set the camera, or press Hold, to take it anew.")
            return
        if live.still_held:
            rate = "Held still."
        elif not self.desk.viewing.leads(record.id):
            rate = f"The live picture is “{record.name}” on the Shelf."
        elif not live.showing:
            rate = "The picture is taken anew …"
        else:
            rate = f"Live, {live.frames.rate:.0f} pictures a second."
        scale = scale_of(record)
        words = scale.words if scale.unit != "px" else "no calibration fits this set-up: lengths are in pixels"
        self.told.setText(f"{rate} {words[:1].upper()}{words[1:]}.")
        self.with_marks.setEnabled(bool(self.desk.marks.marks))


GROUPS.add("camera", Group("camera", "Gather", CameraGroup, 5))
GROUPS.add("camera-measured", Group("camera-measured", "Measure", CameraGroup, 5))
