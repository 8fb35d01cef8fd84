"""The Outline stage: labels, tools, their settings, and more operations by name."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QHBoxLayout, QPushButton, QSizePolicy, QToolButton, QWidget

from ...core.errors import Trouble
from ...core.quantity import pretty_unit
from ...operations import all_operations
from ...outline.ranges import half_way_limit, ready_ranges
from ..desk_model import Desk
from ..light_table.hand_tools import TOOLS
from ..theme.theme import icon
from .histogram import Histogram, counts_of
from .label_list import LabelList
from .operation_list import OperationPages, operation_buttons
from .rows import Shaded, number, page, row, section, soft, title


class OutlineBench(OperationPages):
    """Its home page follows the tool in hand."""

    def __init__(self, desk: Desk):
        home, column = page()
        super().__init__(desk, home)
        self.subject = soft()
        self.labels = LabelList(desk)
        self.before = QPushButton("State before the last session")
        self.before.setProperty("kind", "link")
        self.before.clicked.connect(self.go_back)
        self.before.hide()
        column.addWidget(title("Outline"))
        column.addWidget(self.subject)
        column.addWidget(self.labels)
        column.addWidget(self.before)
        column.addWidget(section("Tools"))
        column.addWidget(self._tool_buttons())
        self.hint = soft()
        column.addWidget(self.hint)
        self.size_group, self.range_group, self.grow_group = self._size(), self._range(), self._grow()
        for group in (self.size_group, self.range_group, self.grow_group):
            column.addWidget(group)
        column.addWidget(section("More tools"))
        more = [o for o in all_operations().values() if o.stage == "outline" and o.name not in ("grow", "paint", "erase")]
        column.addWidget(operation_buttons(lambda: self, more))
        desk.image_changed.connect(self._image)
        desk.tool_changed.connect(self._tool)
        desk.settings_changed.connect(self._settings)
        desk.labels_changed.connect(self._before)
        self._tool()

    def dress(self) -> None:
        for name, button in self.tools.items():
            button.setIcon(icon(next(t.icon for t in TOOLS if t.name == name), 16))
        self.labels.refresh()

    def _tool_buttons(self) -> QWidget:
        widget = QWidget()
        grid = QGridLayout(widget)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        self.tools: dict[str, QToolButton] = {}
        for n, tool in enumerate(t for t in TOOLS if t.name != "frame"):
            button = QToolButton(text=f" {tool.title}", checkable=True)
            button.setProperty("kind", "tool")
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            button.setIconSize(QSize(16, 16))
            button.setToolTip(tool.hint)
            button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            button.clicked.connect(lambda _=False, name=tool.name: self.desk.set_tool(name))
            grid.addWidget(button, n // 2, n % 2)
            self.tools[tool.name] = button
        for name, button in self.tools.items():
            button.setIcon(icon(next(t.icon for t in TOOLS if t.name == name), 16))
        return widget

    def _size(self) -> Shaded:
        group = Shaded()
        self.size = number(0.001, 1000, 2, "mm", "Brush size")
        self.shape = QComboBox()
        self.shape.setAccessibleName("Brush shape")
        self.shape.addItem("Ball, all planes", "ball")
        self.shape.addItem("Disc, this plane", "disc")
        self.only = QCheckBox("Paint only inside the range")
        group.column.addLayout(row("Size", self.size))
        group.column.addLayout(row("Shape", self.shape))
        group.column.addWidget(self.only)
        self.size.valueChanged.connect(lambda v: self.desk.set_settings(size=v))
        self.shape.activated.connect(lambda _: self.desk.set_settings(shape=self.shape.currentData()))
        self.only.toggled.connect(lambda on: self.desk.set_settings(only_in_range=on, show_range=on or self.desk.settings.show_range))
        return group

    def _range(self) -> Shaded:
        group = Shaded()
        self.ready, self.half_way = QComboBox(), QPushButton("Half-way")
        self.ready.setAccessibleName("Ready ranges")
        self.half_way.setProperty("kind", "small")
        self.half_way.setToolTip("Set the lower limit half-way between the tissues on both sides of it: the fairest boundary"
                                 " where voxels hold some of each")
        self.half_way.clicked.connect(self.set_half_way)
        self.low, self.high = number(-1e9, 1e9, 1, "", "Lowest value"), number(-1e9, 1e9, 1, "", "Highest value")
        self.histogram, self.live = Histogram(), QCheckBox("Show the range on the image")
        line = row("Range", self.ready, width=56)
        line.addWidget(self.half_way)
        group.column.addLayout(line)
        ends = QHBoxLayout()
        ends.setSpacing(7)
        ends.addWidget(self.low, 1)
        ends.addWidget(soft("to"))
        ends.addWidget(self.high, 1)
        group.column.addLayout(ends)
        group.column.addWidget(self.histogram)
        group.column.addSpacing(3)
        group.column.addWidget(self.live)
        self.ready.activated.connect(self._ready)
        self.low.valueChanged.connect(lambda v: self.desk.set_settings(low=v))
        self.high.valueChanged.connect(lambda v: self.desk.set_settings(high=v))
        self.histogram.changed.connect(lambda low, high: self.desk.set_settings(low=round(low, 1), high=round(high, 1)))
        self.live.toggled.connect(lambda on: self.desk.set_settings(show_range=on))
        return group

    def _grow(self) -> Shaded:
        group = Shaded()
        self.neighbours = QComboBox()
        self.neighbours.setAccessibleName("Neighbours")
        for count, words in ((6, "6, by faces"), (18, "18, and edges"), (26, "26, and corners")):
            self.neighbours.addItem(words, count)
        self.neighbours.activated.connect(lambda _: self.desk.set_settings(neighbours=self.neighbours.currentData()))
        group.column.addLayout(row("Neighbours", self.neighbours))
        return group

    def _image(self) -> None:
        record = self.desk.record
        self.subject.setText(f"Mark anatomy as labels on “{record.name}” of {record.subject}." if record else "Choose an image on the Shelf.")
        if not self.desk.ready:
            return
        self.ready.clear()
        self.ready.addItem("Your own")
        for ready in ready_ranges(self.desk.image.grey()):
            self.ready.addItem(ready.name, ready)
        unit = f" {pretty_unit(record.unit)}" if record.unit else ""
        for field in (self.low, self.high):
            field.setSuffix(unit)
        image = self.desk.image.grey()
        self.desk.work.start("Histogram", lambda progress: counts_of(image.kji), lambda found: self.histogram.show_values(*found), loud=False)
        self._settings()
        self._before()

    def _settings(self) -> None:
        s = self.desk.settings
        for field, value in ((self.size, s.size), (self.low, s.low), (self.high, s.high)):
            field.blockSignals(True)
            field.setValue(value)
            field.blockSignals(False)
        for box, on in ((self.only, s.only_in_range), (self.live, s.show_range)):
            box.blockSignals(True)
            box.setChecked(on)
            box.blockSignals(False)
        self.shape.setCurrentIndex(self.shape.findData(s.shape))
        self.neighbours.setCurrentIndex(self.neighbours.findData(s.neighbours))
        self.histogram.show_range(s.low, s.high)
        fits = [n for n in range(1, self.ready.count()) if (self.ready.itemData(n).low, self.ready.itemData(n).high) == (s.low, s.high)]
        if self.ready.count():
            self.ready.setCurrentIndex(fits[0] if fits else 0)

    def _ready(self, index: int) -> None:
        ready = self.ready.itemData(index)
        if ready:
            self.desk.set_settings(low=round(ready.low, 1), high=round(ready.high, 1), show_range=True)

    def set_half_way(self) -> None:
        """Put the lower limit half-way between the tissues around it."""
        desk = self.desk
        if not desk.ready:
            return
        image, low = desk.image.grey(), desk.settings.low
        desk.work.start("Half-way limit", lambda progress: half_way_limit(image, low),
                        lambda limit: desk.set_settings(low=round(limit, 1), show_range=True), loud=False)

    def _tool(self) -> None:
        for name, button in self.tools.items():
            button.setChecked(name == self.desk.tool)
        tool = next(t for t in TOOLS if t.name == self.desk.tool)
        self.hint.setText(tool.hint)
        self.size_group.setVisible(tool.has_size)
        self.range_group.setVisible(tool.name in ("brush", "grow"))
        self.grow_group.setVisible(tool.name == "grow")

    def _before(self) -> None:
        """Offer the state before the last session while there is one and nothing newer stands in its way."""
        store, desk = self.desk.study.label_store, self.desk
        map_id = desk.study.label_map_id(desk.record) if desk.record and desk.ready else None
        found = store.session_before(map_id) if map_id and map_id > 0 and not desk.study.read_only else None
        self.before.setVisible(found is not None)
        if found:
            self.before.setText("Back to the state before")
            self.before.setToolTip(f"Bring the labels back to how they were before the session of {found[1][:16].replace('T', ' ')};"
                                   " this can be undone")
            self.before.setProperty("session", found[0])

    def go_back(self) -> None:
        """Bring back the labels as they were before the last session, as an undoable step."""
        desk = self.desk
        map_id, session = desk.study.label_map_id(desk.record), self.before.property("session")
        labels, stamp = desk.labels, desk.label_stamp()
        job = desk.work.start("Going back", lambda progress: desk.study.label_store.state_before(map_id, session, labels),
                              lambda edit: self._gone_back(edit, stamp))
        job.edits_labels = True

    def _gone_back(self, edit, stamp) -> None:
        if self.desk.label_stamp() != stamp:  # undone or locked meanwhile
            self.go_back()
            return
        try:
            self.desk.require_writable()
        except Trouble as trouble:
            self.desk.trouble.emit(str(trouble))
            return
        self.desk.edit_labels(edit)
