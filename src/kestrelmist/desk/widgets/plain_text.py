"""Words from files shown as they are. Everything in the window that shows text is made here, or is checked to be plain:
markup in a name is text, not an instruction."""

from __future__ import annotations

import html

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QInputDialog, QLabel, QMessageBox, QSizePolicy, QWidget


class Words(QLabel):
    """A label whose text is shown letter by letter, whatever is in it."""

    def __init__(self, text: str = "", parent: QWidget | None = None):
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)


class Elided(Words):
    """Words on one line, of which what has no room is told by three dots, at the end or in the `middle`. They take what
    room they are given."""

    def __init__(self, text: str = "", middle: bool = False):
        super().__init__(text)
        self._mode = Qt.TextElideMode.ElideMiddle if middle else Qt.TextElideMode.ElideRight
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def minimumSizeHint(self) -> QSize:
        return QSize(0, super().minimumSizeHint().height())

    @property
    def shown(self) -> str:
        """What is seen of it."""
        return self.fontMetrics().elidedText(self.text(), self._mode, self.contentsRect().width())

    def paintEvent(self, event) -> None:
        with QPainter(self) as painter:
            self.style().drawItemText(
                painter,
                self.contentsRect(),
                int(self.alignment()),
                self.palette(),
                self.isEnabled(),
                self.shown,
                self.foregroundRole(),
            )


def plain(text: str) -> str:
    """Text as a part of markup of our own."""
    return html.escape(text).replace("\n", "<br>")


def plain_tip(text: str) -> str:
    """A tool tip that shows markup as it is written; there is no way to tell a tip that it is plain."""
    return f"<qt>{plain(text)}</qt>" if text else ""


def message_box(parent: QWidget | None, what: str, more: str) -> QMessageBox:
    """A question, to which buttons are added."""
    made = QMessageBox(parent)
    made.setWindowTitle("Kestrelmist")
    made.setIcon(QMessageBox.Icon.Warning)
    made.setTextFormat(Qt.TextFormat.PlainText)
    made.setText(what)
    made.setInformativeText(more)
    for label in made.findChildren(QLabel):  # the second text has no format of its own
        label.setTextFormat(Qt.TextFormat.PlainText)
    return made


def ask_text(parent: QWidget | None, title: str, words: str, text: str = "") -> str | None:
    """Ask for a line of text; None when it was called off."""
    dialog = QInputDialog(parent)
    dialog.setWindowTitle(title)
    dialog.setLabelText(words)
    dialog.setTextValue(text)
    for label in dialog.findChildren(QLabel):
        label.setTextFormat(Qt.TextFormat.PlainText)
    given = dialog.textValue() if dialog.exec() else None
    dialog.deleteLater()
    return given
