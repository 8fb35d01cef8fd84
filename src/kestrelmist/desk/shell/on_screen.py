"""How large a window opens: as large as it is good to work with, and never larger than the screen has room for."""

from __future__ import annotations

from PySide6.QtCore import QRect, QSize, QTimer
from PySide6.QtWidgets import QApplication, QWidget

USUAL = QSize(1280, 800)
SHARE = 0.85
"""Of a screen that has more room than the usual size takes."""
TITLE_BAR = 38
"""Pixels that the title bar takes; it is known only when the window stands."""


def size_on(room: QRect) -> QSize:
    """The size of a window on a screen of which `room` is free of panels, its title bar not counted."""
    wide, tall = room.width(), room.height() - TITLE_BAR
    return QSize(
        min(wide, max(USUAL.width(), round(SHARE * wide))), min(tall, max(USUAL.height(), round(SHARE * tall)))
    )


def within(frame: QRect, room: QRect) -> QRect:
    """The frame of a window, moved into the room that there is, and made smaller where it does not fit."""
    size = frame.size().boundedTo(room.size())
    x = max(room.left(), min(frame.left(), room.right() + 1 - size.width()))
    y = max(room.top(), min(frame.top(), room.bottom() + 1 - size.height()))
    return QRect(x, y, size.width(), size.height())


def fit(window: QWidget) -> None:
    """Give a window its size before it is shown; when it stands, see that its frame lies on the screen."""
    if QApplication.platformName() == "offscreen":  # where there is no screen to fit
        return
    size = size_on(window.screen().availableGeometry())
    window.setMinimumSize(window.minimumSize().boundedTo(size))
    window.resize(size)
    QTimer.singleShot(400, window, lambda: _keep_within(window))


def _keep_within(window: QWidget) -> None:
    if window.isMaximized() or window.isFullScreen() or not window.isVisible():
        return
    frame, inner = window.frameGeometry(), window.geometry()
    wanted = within(frame, window.screen().availableGeometry())
    if wanted != frame:
        window.resize(inner.size() - (frame.size() - wanted.size()))
        window.move(wanted.topLeft())
