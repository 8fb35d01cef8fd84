"""The contact sheet on the Light table, drawn beside the window as it would be written."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ...core.errors import Trouble
from ...scene.primitives import Page, paint
from ...scene.sheet.page import Laid, sheet_page, view_of
from ..models.desk_model import Desk
from ..theme.theme import Theme, words
from .pane_header import PaneHeader
from .qt_painter import QtPainter

UNITS = 720.0
"""Page units that the sheet is wide: as on paper two columns wide, with words of eight points."""


class SheetPane(QWidget):
    """Header and sheet."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.header, self.canvas = PaneHeader("Contact sheet"), SheetCanvas(desk)
        self.header.float.hide()
        self.canvas.told = self.header.set_place
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.header)
        column.addWidget(self.canvas, 1)


class SheetCanvas(QWidget):
    """A click on a slice goes there."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.viewing, self.model = desk, desk.viewing, desk.sheet
        self.page: Page | None = None
        self.laid: Laid | None = None
        self.trouble = ""
        self.told = lambda text: None
        self._picture: QImage | None = None
        self._busy = self._again = False
        self._soon = QTimer(self, singleShot=True, interval=60)
        self._soon.timeout.connect(self._draw)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Contact sheet")
        viewing = desk.viewing
        for signal in (viewing.looks_changed, viewing.lead_ready, viewing.lead_changed, viewing.maps.changed):
            signal.connect(self.later)
        for signal in (desk.layers.changed, desk.marks.changed, self.model.changed, viewing.arrangement_changed):
            signal.connect(self.later)

    @property
    def settled(self) -> bool:
        return not (self._soon.isActive() or self._busy or self._again) or not self.isVisible()

    def later(self) -> None:
        if self.isVisible() and not self._soon.isActive():
            self._soon.start()

    def showEvent(self, event) -> None:
        self.later()

    def resizeEvent(self, event) -> None:
        self.later()

    def _draw(self) -> None:
        if self._busy:
            self._again = True
            return
        stack, plan = self.model.stack(), self.model.showing
        if stack is None or not self.isVisible():
            return
        ratio, record = self.devicePixelRatioF(), self.viewing.record
        width = max(64, int(self.width() * ratio))
        self._busy = True

        def work(progress):
            try:
                return sheet_page([[stack]], plan, width, width / UNITS, self.desk.layers.comparison, None, progress.at)
            except Trouble as trouble:
                return str(trouble)

        def show(found) -> None:
            self._busy = False
            if record is not None and self.viewing.leads(record.id):
                self._take(found)
            if self._again:
                self._again = False
                self._soon.start()

        def failed(error) -> None:
            self._busy = self._again = False

        self.desk.session.work.start("Contact sheet", work, show, failed, lane="preview", loud=False)

    def _take(self, found) -> None:
        if isinstance(found, str):
            self.page, self.laid, self.trouble, self._picture = None, None, found, None
            self.told("")
        else:
            (self.page, self.laid), self.trouble = found, ""
            ground = np.ascontiguousarray(self.page.ground)
            rows, columns = ground.shape
            self._picture = QImage(ground.data, columns, rows, 4 * columns, QImage.Format.Format_RGB32).copy()
            count = len(self.laid.places)
            self.told(f"{count} slice{'' if count == 1 else 's'}")
        self.update()

    @property
    def box(self) -> QRectF:
        """Where the page lies: as large as it fits."""
        if self.page is None:
            return QRectF()
        times = min(self.width() / self.page.width, self.height() / self.page.height)
        wide, tall = self.page.width * times, self.page.height * times
        return QRectF((self.width() - wide) / 2, (self.height() - tall) / 2, wide, tall)

    def paintEvent(self, event) -> None:
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), QColor(Theme.tokens.night))
            if self.page is None or self._picture is None:
                painter.setPen(QColor("#A9B7BE"))
                painter.setFont(words(13))
                where = self.rect().adjusted(20, 0, -20, 0)
                painter.drawText(where, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.trouble)
                return
            box = self.box
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(box, self._picture)
            painter.translate(box.topLeft())
            painter.scale(box.width() / self.page.width, box.height() / self.page.height)
            paint(QtPainter(painter), self.page.over)

    def mousePressEvent(self, event) -> None:
        if self.page is None or self.laid is None:
            return
        box, at = self.box, event.position()
        times = self.laid.width / max(1e-9, box.width())
        x, y = (at.x() - box.x()) * times, (at.y() - box.y()) * times
        for cell in self.laid.cells:
            wide, tall = self.laid.sizes[cell.plane.name]
            if 0 <= x - cell.left < wide and 0 <= y - cell.top < tall:
                view = view_of(cell, self.laid, self.viewing.left_on_left)
                self.viewing.go_to(view.to_world(x - cell.left - 0.5, y - cell.top - 0.5))
                return
