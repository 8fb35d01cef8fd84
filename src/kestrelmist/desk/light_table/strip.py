"""The strip over the panes: how they lie, how what lies above is compared, the place along the axes, what moves
together."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSignalBlocker, QSize, Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPen, QPixmap
from PySide6.QtWidgets import (
    QButtonGroup,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QSlider,
    QToolButton,
    QWidget,
)

from ...scene.compare import WAYS
from ...scene.layer import LINKED
from ..models.desk_model import Desk
from ..models.film import RATES
from ..theme.theme import Theme, figures, icon
from ..widgets.number_field import number
from ..widgets.plain_text import Words, plain_tip
from .light_table import LightTable

WORDS = {"over": "Over", "fade": "Fade", "swipe": "Swipe", "squares": "Squares", "edges": "Edges"}
LAYOUTS = {
    "alone": ("One pane", "F11", [(0, 0, 16, 12)]),
    "lead": ("One pane that leads, and three", "F12", [(0, 0, 10, 12), (10, 0, 6, 4), (10, 4, 6, 4), (10, 8, 6, 4)]),
    "beside": ("Images side by side", "F6", [(0, 0, 8, 12), (8, 0, 8, 12)]),
    "three": ("Each image in three planes", "F7", [(x, y, 8, 4) for x in (0, 8) for y in (0, 4, 8)]),
    "sheet": ("A contact sheet", "F9", [(x, y, 4, 5) for x in (0, 5, 10) for y in (0, 6)]),
    "times": ("All volumes of the series", "F8", [(x, y, 4, 4) for x in (0, 4, 8, 12) for y in (0, 4, 8)]),
}
"""Arrangements: what each is called, its key, and the boxes of its picture."""
FOLLOWING = {"world": "Move together", "voxel": "Together by voxel", "apart": "Move apart"}
LINKING = {"zoom": "The same zoom", "range": "The same range", "place": "The same place along the axes"}


def layout_icon(name: str) -> QIcon:
    """A small picture of an arrangement."""
    pixmap = QPixmap(36, 28)
    pixmap.fill(Qt.GlobalColor.transparent)
    with QPainter(pixmap) as painter:
        painter.scale(2, 2)
        painter.translate(1, 1)
        for n, (x, y, wide, high) in enumerate(LAYOUTS[name][2]):
            painter.setPen(QPen(QColor(Theme.tokens.ink), 1))
            first = n == 0 and name == "lead"
            painter.setBrush(QColor(Theme.tokens.rust) if first else Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(QPointF(x, y), QPointF(x + wide, y + high)))
    pixmap.setDevicePixelRatio(2)
    return QIcon(pixmap)


class Strip(QWidget):
    """Small and quiet; what has no meaning at present is not seen."""

    def __init__(self, desk: Desk, table: LightTable, parent=None):
        super().__init__(parent)
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(30)
        self.desk, self.viewing, self.layers, self.beside, self.table = (
            desk,
            desk.viewing,
            desk.layers,
            desk.beside,
            table,
        )
        row = QHBoxLayout(self)
        row.setContentsMargins(6, 1, 6, 1)
        row.setSpacing(3)
        self.layouts: dict[str, QToolButton] = {}
        for name in LAYOUTS:
            button = QToolButton()
            button.setCheckable(True)
            button.setProperty("kind", "tool")
            button.setFixedSize(28, 24)
            button.setIconSize(QSize(18, 14))
            button.setAccessibleName(LAYOUTS[name][0])
            button.setToolTip(plain_tip(f"{LAYOUTS[name][0]} ({LAYOUTS[name][1]})"))
            button.clicked.connect(lambda _, name=name: self._arrange(name))
            self.layouts[name] = button
            row.addWidget(button)
        row.addSpacing(6)
        self._compare(row)
        row.addStretch(1)
        self._place(row)
        row.addStretch(1)
        self.follow = QPushButton()
        self.follow.setProperty("kind", "small")
        self.follow.setAccessibleName("What moves together in images side by side")
        self.follow.clicked.connect(self._ask_follow)
        row.addWidget(self.follow)
        self.layers.changed.connect(self._follow)
        for signal in (
            self.viewing.looks_changed,
            self.viewing.arrangement_changed,
            self.viewing.lead_changed,
            self.viewing.place_changed,
            desk.film.changed,
        ):
            signal.connect(self._follow)
        self.dress()

    def _compare(self, row: QHBoxLayout) -> None:
        self.buttons: dict[str, QPushButton] = {}
        group = QButtonGroup(self)
        for n, way in enumerate(WAYS):
            button = QPushButton(WORDS[way])
            button.setCheckable(True)
            button.setProperty("kind", "small")
            button.setAccessibleName(f"Compare: {WORDS[way]}")
            button.setToolTip(plain_tip(f"Compare what lies above: {WORDS[way].lower()} (Ctrl+{n + 1})"))
            button.clicked.connect(lambda _, way=way: self.layers.compare_by(way=way))
            group.addButton(button)
            self.buttons[way] = button
            row.addWidget(button)
        self.share = QSlider(Qt.Orientation.Horizontal)
        self.share.setRange(0, 100)
        self.share.setFixedWidth(90)
        self.share.setAccessibleName("How much of what lies above")
        self.share.valueChanged.connect(lambda value: self.layers.compare_by(share=value / 100))
        self.square = number(1e-9, 1e9, 2, "", "Side of the squares", follows=True)
        self.square.setFixedWidth(84)
        self.square.valueChanged.connect(lambda value: self.layers.compare_by(square=value))
        row.addSpacing(3)
        row.addWidget(self.share)
        row.addWidget(self.square)

    def _place(self, row: QHBoxLayout) -> None:
        self.axis, self.play, self.along, self.number = (
            Words(),
            QToolButton(),
            QSlider(Qt.Orientation.Horizontal),
            Words(),
        )
        self.play.setFixedSize(24, 24)
        self.play.clicked.connect(self.desk.film.toggle)
        self.play.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.play.customContextMenuRequested.connect(self._ask_rate)
        self.along.setFixedWidth(90)
        self.along.setAccessibleName("Place along the first axis")
        self.along.valueChanged.connect(lambda value: self.viewing.go_along(0, value - 1))
        self.number.setFont(figures(12))
        self.number.setMinimumWidth(28)
        self.axis.setProperty("kind", "soft")
        for widget in (self.axis, self.play, self.along, self.number):
            row.addWidget(widget)

    def dress(self) -> None:
        """Put on the icons of the theme in force."""
        for name, button in self.layouts.items():
            button.setIcon(layout_icon(name))
        self._follow()

    def _arrange(self, name: str) -> None:
        if name == "alone":
            self.table.set_alone(True)
        elif name == "lead":
            self.table.set_alone(False)
        elif name == "times":
            self.table.set_times(True)
        elif name == "sheet":
            self.table.set_sheet(True)
        else:
            self.viewing.arrange(three=name == "three")
            if not self.beside.keys:
                self.beside.show(self.beside.suggested())
        self._follow()

    @property
    def laid(self) -> str:
        """The arrangement in force."""
        a = self.viewing.arrangement
        if a.times or a.sheet and not a.beside:
            return "times" if a.times else "sheet"
        return ("three" if a.three else "beside") if a.beside else "alone" if a.alone else "lead"

    def _ask_follow(self) -> None:
        self.follow_menu().exec(self.follow.mapToGlobal(self.follow.rect().bottomLeft()))

    def follow_menu(self) -> QMenu:
        """What can be chosen to move together."""
        menu, a = QMenu(self), self.viewing.arrangement
        for how, words in (("world", "By place in the world"), ("voxel", "By voxel"), ("apart", "Each by itself")):
            action = menu.addAction(words, lambda how=how: self.beside.set_follow(how))
            action.setCheckable(True)
            action.setChecked(a.follow == how)
        menu.addSeparator()
        for what in LINKED:
            action = menu.addAction(LINKING[what], lambda what=what: self.beside.set_linked(what, what not in a.linked))
            action.setCheckable(True)
            action.setChecked(what in a.linked)
        return menu

    def _ask_rate(self, point) -> None:
        menu = QMenu(self)
        for rate in RATES:
            action = menu.addAction(f"{rate} volumes a second", lambda rate=rate: self.desk.film.set_rate(rate))
            action.setCheckable(True)
            action.setChecked(self.desk.film.rate == rate)
        menu.exec(self.play.mapToGlobal(point))

    def _follow(self) -> None:
        how, record, a = self.layers.comparison, self.viewing.record, self.viewing.arrangement
        for name, button in self.layouts.items():
            button.setChecked(name == self.laid)
            button.setEnabled(record is not None)
        axes = record.axes if record is not None else ()
        self.layouts["times"].setVisible(bool(axes))
        several = len(self.layers.rows) > 1 and not a.times
        for way, button in self.buttons.items():
            button.setVisible(several)
            button.setChecked(way == how.way)
        self.share.setVisible(several and how.way in ("fade", "swipe"))
        self.square.setVisible(several and how.way == "squares")
        with QSignalBlocker(self.share), QSignalBlocker(self.square), QSignalBlocker(self.along):
            self.share.setValue(round(100 * how.share))
            self.square.setValue(how.square)
            self.square.setSuffix(f" {record.grid.unit}" if record is not None else "")
            for widget in (self.axis, self.play, self.along, self.number):
                widget.setVisible(bool(axes))
            if axes and self.viewing.place:
                self.axis.setText(axes[0].name.capitalize())
                self.along.setRange(1, axes[0].size)
                self.along.setValue(self.viewing.place[0] + 1)
                self.number.setText(str(self.viewing.place[0] + 1))
        playing = self.desk.film.playing
        self.play.setIcon(icon("pause" if playing else "play", 14))
        words = "Stop the film" if playing else "Play the series as a film"
        self.play.setAccessibleName(words)
        self.play.setToolTip(plain_tip(f"{words} (P); press with the right button for the rate"))
        self.follow.setVisible(bool(a.beside))
        self.follow.setText(FOLLOWING[a.follow])
