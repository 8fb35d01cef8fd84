"""What is wrong with a window as it stands: cut words, things over one another, controls that no key reaches, pale
ink."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRect, Qt
from PySide6.QtGui import QFontMetrics, QImage
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSlider,
    QAbstractSpinBox,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QScrollBar,
    QSizeGrip,
    QTabBar,
    QToolButton,
    QWidget,
)

from kestrelmist.desk.theme.tokens import contrast
from kestrelmist.desk.widgets.plain_text import Elided

CONTROLS = (QAbstractButton, QLineEdit, QComboBox, QAbstractSpinBox, QAbstractItemView)
WORDS = (QLabel, QAbstractButton)
LEAST, SOFTENED = 4.5, 0.4
"""The contrast of words, and how much of it is lost where thin strokes are drawn smooth."""
SLACK = 1


def shown(root: QWidget) -> list[QWidget]:
    """All that is seen below a widget, it too."""
    return [one for one in (root, *root.findChildren(QWidget)) if one.isVisible() and not one.size().isEmpty()]


def called(one: QWidget) -> str:
    """How a finding names a widget."""
    text = getattr(one, "text", None)
    words = str(text()) if callable(text) else ""
    owner = one.parentWidget()
    return (
        f"{type(one).__name__} “{(words or one.accessibleName() or one.objectName())[:60]}” in {type(owner).__name__}"
    )


def cut(one: QWidget) -> str:
    """How the words of a widget are cut; "" when they are not."""
    if isinstance(one, QLabel):
        text = one.text()
        if not text or one.pixmap() and not one.pixmap().isNull():
            return ""
        if isinstance(one, Elided):
            return ""  # it ends in dots, and its tip has all of it
        if one.wordWrap():
            wanted = one.heightForWidth(one.width())
            return f"needs {wanted} of {one.height()} in height" if wanted > one.height() + SLACK else ""
        wide, high = one.sizeHint().width(), QFontMetrics(one.font()).height()
        if wide > one.width() + SLACK:
            return f"needs {wide} of {one.width()}"
        return f"needs {high} of {one.height()} in height" if high > one.height() + SLACK + 1 else ""
    if isinstance(one, (QPushButton, QCheckBox)) and one.text() or isinstance(one, QToolButton) and _tells(one):
        wide = one.minimumSizeHint().width() if isinstance(one, QToolButton) else one.sizeHint().width()
        text = QFontMetrics(one.font()).horizontalAdvance(one.text().replace("&", ""))
        room = one.width() - (wide - text if isinstance(one, QCheckBox) else 6)
        return f"needs {text} of {room}" if text > room + SLACK else ""
    return ""


def _tells(one: QToolButton) -> bool:
    return bool(one.text()) and one.toolButtonStyle() != Qt.ToolButtonStyle.ToolButtonIconOnly


def outside(one: QWidget) -> str:
    """How far a control stands outside of what it is in; "" when it does not. What scrolls may be taller."""
    parent = one.parentWidget()
    if parent is None or one.isWindow() or isinstance(parent.parentWidget(), QScrollArea):
        return ""
    over = one.geometry().right() - parent.size().width() + 1
    below = one.geometry().bottom() - parent.size().height() + 1
    if over > SLACK and isinstance(one, (*CONTROLS, *WORDS)):
        return f"{over} too wide"
    if below > SLACK and isinstance(one, (*CONTROLS, *WORDS)):
        return f"{below} too low"
    return ""


def overlapping(widgets: list[QWidget]) -> list[str]:
    """Words and controls of one widget that lie over one another."""
    found = []
    by_parent: dict[QWidget, list[QWidget]] = {}
    for one in widgets:
        if isinstance(one, (*CONTROLS, QLabel)) and not one.isWindow():
            by_parent.setdefault(one.parentWidget(), []).append(one)
    for several in by_parent.values():
        for n, one in enumerate(several):
            for other in several[n + 1 :]:
                both = one.geometry().intersected(other.geometry())
                if both.width() > 2 and both.height() > 2:
                    found.append(f"{called(one)} lies over {called(other)} by {both.width()} × {both.height()}")
    return found


def unreachable(one: QWidget) -> str:
    """Why no key reaches a control, or nobody hears what it is; "" when all is well."""
    if not isinstance(one, (*CONTROLS, QAbstractSlider)) or isinstance(one, (QScrollBar, QSizeGrip, QTabBar)):
        return ""
    parent = one.parentWidget()
    if isinstance(parent, (QAbstractSpinBox, QComboBox, QAbstractItemView, QLineEdit)) or one.isWindow():
        return ""  # part of a control
    if one.isEnabled() and not one.focusPolicy() & Qt.FocusPolicy.TabFocus and one.focusProxy() is None:
        return "is not reached by Tab"
    text = getattr(one, "text", None)
    words = text() if callable(text) and isinstance(one, QAbstractButton) else ""
    return "" if (one.accessibleName() or words.strip()) else "has no accessible name"


def pale(one: QWidget, picture: QImage) -> str:
    """The contrast of words with their ground in a picture of the window, when it is too little."""
    if not isinstance(one, WORDS) or not one.isEnabled() or not str(one.text()).strip():
        return ""
    if isinstance(one, QToolButton) and not _tells(one):
        return ""
    seen = one.visibleRegion().boundingRect()
    area = QRect(one.mapTo(one.window(), seen.topLeft()), seen.size()).intersected(picture.rect())
    if area.width() < 8 or area.height() < min(QFontMetrics(one.font()).height(), one.height()) - 2:
        return ""
    pixels = np.frombuffer(picture.constBits(), np.uint32).reshape(picture.height(), picture.width())
    part = pixels[area.top() : area.bottom() + 1, area.left() : area.right() + 1] & 0xFFFFFF
    colours, counts = np.unique(part, return_counts=True)
    ground = f"#{int(colours[counts.argmax()]):06x}"
    best = max(contrast(f"#{int(colour):06x}", ground) for colour in colours)
    return f"has a contrast of {best:.1f} on {ground}" if best < LEAST - SOFTENED else ""


def faults(root: QWidget, colours: bool = True) -> list[str]:
    """Everything that is wrong with what is seen of a window, or of a part of it."""
    widgets = shown(root)
    found = overlapping(widgets)
    picture = root.window().grab().toImage().convertToFormat(QImage.Format.Format_RGB32) if colours else None
    for one in widgets:
        for said in (cut(one), outside(one), unreachable(one), "" if picture is None else pale(one, picture)):
            if said:
                found.append(f"{called(one)} {said}")
    return found
