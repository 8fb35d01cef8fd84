"""A column of many rows, of which those in sight are widgets.

Hundreds of images or labels cost as little as ten: a row out of sight is known by its place alone, and gets its widget
when it comes near.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass
from itertools import accumulate
from typing import Any

from PySide6.QtCore import QEvent, Qt
from PySide6.QtWidgets import QAbstractButton, QApplication, QFrame, QScrollArea, QWidget

NEAR = 190
"""Pixels above and below what is in sight for which there are widgets too: the next ones that a key goes to."""


@dataclass(frozen=True)
class Row:
    """What stands at a place: its widget stays while what it shows is equal."""

    key: Hashable
    shows: Any
    height: int
    make: Callable[[Any], QWidget]


class Column(QScrollArea):
    """Rows below each other, with a bar when there are more than there is room for."""

    def __init__(self, gap: int, right: int = 0):
        super().__init__(widgetResizable=True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.gap, self.right = gap, right
        self.rows: list[Row] = []
        self.widgets: dict[Hashable, QWidget] = {}
        """Those that there are, from above."""
        self._shown: dict[Hashable, Row] = {}
        self._tops: list[int] = [0]
        self.inside = QWidget()
        self.inside.setProperty("kind", "scrolled")
        self.inside.installEventFilter(self)
        self._start = QWidget(self)  # never seen: the place in the window's order of keys that the rows come after
        self._start.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self._start.hide()
        self.setWidget(self.inside)
        self.verticalScrollBar().valueChanged.connect(self._lay)

    @property
    def tall(self) -> int:
        """The height of all rows."""
        return max(0, self._tops[-1] - self.gap)

    def fill(self, rows: Sequence[Row], anew: bool = False) -> None:
        """Have these rows; `anew` makes all widgets again, for another theme."""
        self.rows = list(rows)
        self._tops = list(accumulate((row.height + self.gap for row in self.rows), initial=0))
        self.inside.setMinimumHeight(self.tall)
        if anew:
            for key in list(self.widgets):
                self._drop(key)
        self._lay()

    def bring_into_sight(self, key: Hashable, margin: int = 6) -> None:
        """Scroll until a row is seen whole."""
        at = next((n for n, row in enumerate(self.rows) if row.key == key), None)
        if at is not None:
            # the bar has the length of a column that grew just now when this is done
            QApplication.sendPostedEvents(None, QEvent.Type.LayoutRequest.value)
            half = self.rows[at].height // 2
            self.ensureVisible(0, self._tops[at] + half, 0, half + margin)

    def eventFilter(self, watched, event) -> bool:
        if event.type() == QEvent.Type.Resize:
            self._lay()
        return super().eventFilter(watched, event)

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._lay()

    def _lay(self) -> None:
        """Have the widgets of what is in sight or near it, each at its place."""
        up = self.verticalScrollBar().value() - NEAR
        down = up + self.viewport().height() + 2 * NEAR
        first = max(0, bisect_right(self._tops, up) - 1)
        last = min(len(self.rows), bisect_left(self._tops, down))
        near = range(first, last)
        held = next((key for key in self.widgets if self._has_keys(key)), None)
        with_keys = [] if held is None else [n for n, row in enumerate(self.rows) if row.key == held]
        wanted = {self.rows[n].key: n for n in sorted({*near, *with_keys})}
        for key in list(self.widgets):
            if key not in wanted or self.rows[wanted[key]] != self._shown[key]:
                self._drop(key)
        width, before, kept = self.inside.width() - self.right, self._start, self.widgets
        self.widgets = {}
        for key, n in wanted.items():
            row = self.rows[n]
            widget = kept.get(key)
            if widget is None:
                widget = row.make(row.shows)
                widget.setParent(self.inside)
                self._shown[key] = row
            self.widgets[key] = widget
            widget.setGeometry(0, self._tops[n], width, row.height)
            widget.show()
            for stop in (widget, *widget.findChildren(QAbstractButton)):
                if stop.focusPolicy() & Qt.FocusPolicy.TabFocus:
                    QWidget.setTabOrder(before, stop)
                    before = stop

    def _has_keys(self, key: Hashable) -> bool:
        """Whether the keyboard is with a row, which then stays, out of sight too."""
        at, widget = QApplication.focusWidget(), self.widgets[key]
        return at is not None and (at is widget or widget.isAncestorOf(at))

    def _drop(self, key: Hashable) -> None:
        widget = self.widgets.pop(key)
        del self._shown[key]
        widget.hide()
        widget.deleteLater()
