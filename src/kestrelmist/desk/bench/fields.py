"""Fields of a form that are more than a line: a place on disk, an area framed on a picture, a thing of the study."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QStyle,
    QStyleOptionComboBox,
    QStylePainter,
    QVBoxLayout,
    QWidget,
)

from ...core.kind import held_in
from ...core.parameter import Parameter
from ...core.sentence import is_none
from ...study.inputs import suiting
from ...study.items import ImageRecord, Record
from ...study.referring import ANY
from ...study.study import Study
from ..models.desk_model import Desk
from ..models.viewing import Viewing
from ..widgets.plain_text import plain_tip
from .suited import listed, with_unit
from .unit_line import UnitLine


class _WithButton(QWidget):
    """A line to type in, and a button beside it."""

    def __init__(self, words: str, name: str, below: bool = False):
        super().__init__()
        self.field, self.button, self.below = QLineEdit(), QPushButton(words), below
        self.button.setAccessibleName(name)
        self.button.setProperty("kind", "small")
        row = QVBoxLayout(self) if below else QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        row.addWidget(self.field, 1)
        row.addWidget(self.button)
        self.setFocusProxy(self.field)

    def showEvent(self, event) -> None:
        # the theme gives line and button their heights when they are shown first, and the form has asked before
        for widget in (self.field, self.button):
            widget.ensurePolished()
        line, button = self.field.sizeHint().height(), self.button.sizeHint().height()
        self.setMinimumHeight(line + button + self.layout().spacing() if self.below else max(line, button))
        super().showEvent(event)

    def text(self) -> str:
        return self.field.text()

    def value(self) -> str | None:
        return self.field.text().strip() or None


class PlaceField(UnitLine):
    """A world position: that of the crosshair, wherever it goes, until the person types another one."""

    def __init__(self, viewing: Viewing, unit: str = "mm", factor: float = 1.0):
        super().__init__(unit)
        self.viewing, self._typed, self.factor = viewing, False, factor
        self.setProperty("kind", "figures")
        self.textEdited.connect(self._edited)
        viewing.crosshair_moved.connect(self._follow)
        self._follow()

    def _edited(self, text: str) -> None:
        self._typed = bool(text.strip())

    def _follow(self) -> None:
        if not self._typed:
            self.setText(listed(self.viewing.named_place(self.viewing.crosshair), self.factor))

    def value(self) -> str | None:
        text = self.text().strip()
        return (text if self.factor == 1.0 else with_unit(text, self.shown)) or None


class PathField(_WithButton):
    """A place on disk: an existing "folder" or "file", or a "new" one."""

    def __init__(self, kind: str):
        names = {"folder": "Choose a folder", "file": "Choose a file", "new": "Name a new file or folder"}
        super().__init__("…", names[kind])
        self.kind = kind
        self.button.clicked.connect(self._choose)

    def _choose(self) -> None:
        start = self.field.text() or str(Path.home())
        name = (
            QFileDialog.getExistingDirectory(self, "Choose a folder", start)
            if self.kind == "folder"
            else QFileDialog.getOpenFileName(self, "Choose a file", start)[0]
            if self.kind == "file"
            else QFileDialog.getSaveFileName(self, "Name a new file or folder", start)[0]
        )
        if name:
            self.field.setText(name)


class ByHandField(_WithButton):
    """A line that is typed, or filled by a tool which a button puts into the hand."""

    tool = ""

    def __init__(self, desk: Desk, button: str, holds: str, words: str):
        super().__init__(button, words, below=True)
        self.hand, self.asks = desk.hand, desk.asked
        self.field.setProperty("kind", "figures")
        self.field.setPlaceholderText(holds)
        self.button.setCheckable(True)
        self.button.toggled.connect(self._ask)
        self.hand.tool_changed.connect(self._tool)
        self.asks.asked_again.connect(self._tool)

    def _ask(self, on: bool) -> None:
        if on:
            self.asks.ask(self, self.tool)
        self.hand.set_tool(self.tool if on else "point")

    @property
    def asked(self) -> bool:
        """Whether what the hand frames or picks is for this field: it asked last, or no other one did."""
        return self.asks.by in (None, self)

    def _tool(self) -> None:
        self.button.blockSignals(True)
        self.button.setChecked(self.hand.tool == self.tool and self.asked)
        self.button.blockSignals(False)

    def put(self, text: str) -> None:
        self.field.setText(text)
        self.field.setCursorPosition(0)


class FramedField(ByHandField):
    """Numbers that are framed by hand in the panes, or typed: the "area" of a picture, or the "voxels" of a box."""

    framed = Signal()
    tool = "frame"

    def __init__(self, desk: Desk, kind: str, holds: str, words: str):
        super().__init__(desk, "Frame it", holds, words)
        self.kind, self._framed = kind, ""
        self.asks.framed_changed.connect(self._follow)
        self._follow()

    def _follow(self) -> None:
        framed = self.asks.framed
        if framed is not None and self.asked:
            self._framed = getattr(framed, self.kind)
            self.put(self._framed)
            self.framed.emit()
        elif framed is None and self._framed and self.field.text() == self._framed:
            self.field.clear()  # it was framed on an image that leads no more; what is typed stays


class PointsField(ByHandField):
    """x and y of three places, picked in a pane or typed."""

    tool = "pick"

    def __init__(self, desk: Desk, unit: str = "mm", factor: float = 1.0):
        super().__init__(desk, "Pick three", f"x, y, x, y, x, y in {unit}", "Pick three points in the pane")
        self._picked, self.unit, self.factor = "", unit, factor
        self.asks.picked_changed.connect(self._follow)

    def _follow(self) -> None:
        places = map(self.hand.viewing.named_place, self.asks.picked)
        text = listed((v for point in places for v in point[:2]), self.factor)
        if not self.asked:
            return
        if text or self.field.text() == self._picked:
            self.put(text)
        self._picked = text

    def value(self) -> str | None:
        """What was picked or typed, with its unit."""
        text = super().value()
        return text if text is None or self.factor == 1.0 else with_unit(text, self.unit)


LISTED = 500
"""Things in a list; of more, those of the subject at hand come first."""


def _some(records: list[Record], study: Study, key: int | None) -> tuple[list[Record], int]:
    """As many as a list has room for, those of the subject of one of them first; and how many are left."""
    if len(records) <= LISTED:
        return records, 0
    near = study.items.get(key) if key is not None else None
    own = [r for r in records if near is not None and r.subject == near.subject]
    first = [r for r in own if near is not None and r.id == near.id]  # however many its subject has
    there = {r.id for r in first}
    own = first + [r for r in own if r.id not in there]
    there = {r.id for r in own}
    return (own + [r for r in records if r.id not in there])[:LISTED], len(records) - LISTED


def _left(count: int) -> str:
    return f"{count} more: show one of their subject first"


class NamesBox(QComboBox):
    """A list of names, of which the chosen one is cut in its middle where it has no room."""

    def paintEvent(self, event) -> None:
        option = QStyleOptionComboBox()
        self.initStyleOption(option)
        room = self.style().subControlRect(
            QStyle.ComplexControl.CC_ComboBox, option, QStyle.SubControl.SC_ComboBoxEditField, self
        )
        text = option.currentText
        option.currentText = self.fontMetrics().elidedText(text, Qt.TextElideMode.ElideMiddle, room.width() - 4)
        painter = QStylePainter(self)
        painter.drawComplexControl(QStyle.ComplexControl.CC_ComboBox, option)
        painter.drawControl(QStyle.ControlElement.CE_ComboBoxLabel, option)
        painter.end()


class ThingField(NamesBox):
    """One thing of the study, chosen from a list that follows what is on the Shelf."""

    def __init__(self, study: Study, p: Parameter, chosen: int | None = None):
        super().__init__()
        self.study, self.parameter = study, p
        self._listed: list[tuple[str, int | None]] = []
        self._fill(chosen)

    def follow(self) -> None:
        """List again what is there. What was chosen stays so, under the name that it has now; when it has gone, nothing
        is chosen."""
        self._fill(self.value())

    def value(self) -> int | None:
        return self.currentData()

    def choose(self, key: int | None) -> None:
        """Choose a thing; none, or what there was where it is not listed."""
        if key is None or self.findData(key) < 0:
            self._fill(key)
        self.setCurrentIndex(max(0, self.findData(key)))

    def _fill(self, chosen: int | None) -> None:
        p, kind, before = self.parameter, self.parameter.thing_kind, self.currentData()
        suiting_ones = suiting(p, self.study.items.of_kind(*(() if kind == ANY else (kind,))))
        records, left = _some(suiting_ones, self.study, chosen)
        gone = chosen is None or all(r.id != chosen for r in records)
        listed: list[tuple[str, int | None]] = [(str(r.reference), r.id) for r in records]
        if not p.required:
            listed.insert(0, ("None", None))
        elif gone and records:
            listed.insert(0, ("Choose one", None))
        if not listed:
            listed = [(f"There {is_none(kind)} yet" if p.suits is None else f"There is none: {p.suits.words}", None)]
        if left:
            listed.append((_left(left), None))
        if listed == self._listed:
            return
        self._listed = listed
        with QSignalBlocker(self):
            self.clear()
            for words, key in listed:
                self.addItem(words, key)
            for n, record in enumerate(records, len(listed) - len(records) - bool(left)):
                self.setItemData(n, plain_tip(record.short_facts), Qt.ItemDataRole.ToolTipRole)
            if left:
                self.model().item(self.count() - 1).setEnabled(False)
            self.setCurrentIndex(0 if gone else self.findData(chosen))
        if self.currentData() != before:
            self.currentIndexChanged.emit(self.currentIndex())


def _nearest_first(study: Study, kind: str, lead: int | None) -> list[Record]:
    """Things of a kind: images on the grid of the one that leads first, then others of its subject."""
    records = study.items.of_kind(kind)
    if holder := held_in(kind):  # such as tables, whose columns are curves
        records = records + study.items.of_kind(holder)
    first = study.items.get(lead) if lead is not None else None
    if not isinstance(first, ImageRecord) or kind != first.kind or len(records) > LISTED:
        return records
    return sorted(records, key=lambda r: (not first.grid.same_grid(r.space), r.subject != first.subject))


class ThingsField(QListWidget):
    """Several things of the study, ticked in a list."""

    def __init__(self, study: Study, kind: str, without: int | None = None):
        super().__init__()
        self.study, self.kind, self.without = study, kind, without
        self._listed: list[tuple[str, int]] = []
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.follow()

    def follow(self) -> None:
        """List again what is there; what is ticked stays so as long as it is there."""
        records, left = _some(_nearest_first(self.study, self.kind, self.without), self.study, self.without)
        records = [r for r in records if r.id != self.without]
        listed, ticked = [(str(r.reference), r.id) for r in records], self.value()
        if listed == self._listed and self.count():
            return
        self._listed = listed
        self.setFixedHeight(116 if len(records) > 2 else 34 + 26 * max(0, len(records) - 1))
        with QSignalBlocker(self):
            self.clear()
            for record in records:
                item = QListWidgetItem(str(record.reference))
                item.setData(Qt.ItemDataRole.UserRole, record.id)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Checked if record.id in ticked else Qt.CheckState.Unchecked)
                item.setToolTip(plain_tip(f"{record.reference}\n{record.short_facts}"))
                self.addItem(item)
            for words in ([_left(left)] if left else []) + ([] if records else ["None yet"]):
                item = QListWidgetItem(words)
                item.setFlags(Qt.ItemFlag.NoItemFlags)
                self.addItem(item)
        if self.value() != ticked and ticked:
            self.itemChanged.emit(self.item(0))

    def choose(self, keys: list[int] | None) -> None:
        """Tick these and no others."""
        for n in range(self.count()):
            key = self.item(n).data(Qt.ItemDataRole.UserRole)
            if key is not None:
                self.item(n).setCheckState(Qt.CheckState.Checked if key in (keys or ()) else Qt.CheckState.Unchecked)

    def tick(self, key: int, on: bool = True) -> None:
        for n in range(self.count()):
            if self.item(n).data(Qt.ItemDataRole.UserRole) == key:
                self.item(n).setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)

    def value(self) -> list[int]:
        ticked = [self.item(n) for n in range(self.count()) if self.item(n).checkState() == Qt.CheckState.Checked]
        return [item.data(Qt.ItemDataRole.UserRole) for item in ticked]
