"""The system's type size: whoever has set large letters has large ones here, with all that is round them."""

from __future__ import annotations

import os

from PySide6.QtGui import QFontDatabase, QGuiApplication

from ...core.person import letters

USUAL = (8.0, 11.5)
"""Points that desktops come with: the program's own size is made for them."""
LARGEST = 2.0
STEP = 0.05
SCALE = "QT_SCALE_FACTOR"


def scale_for(points: float) -> float:
    """How much larger everything is drawn for a type size of the system, in points."""
    if points <= 0 or USUAL[0] <= points <= USUAL[1]:
        return 1.0
    whole = points / (USUAL[1] if points > USUAL[1] else USUAL[0])
    return round(min(LARGEST, max(0.8, whole)) / STEP) * STEP


def system_points() -> float:
    """The size of the system's letters. Only a program that runs can be asked: it is one for just that."""
    asked = QGuiApplication([])
    try:
        return QFontDatabase.systemFont(QFontDatabase.SystemFont.GeneralFont).pointSizeF()
    finally:
        asked.shutdown()


def suit_type_size() -> None:
    """Have Qt draw everything larger when the person wants it, or when the system's letters are; before there is an
    application. Who has set a scale for Qt has chosen."""
    if SCALE in os.environ or os.environ.get("QT_QPA_PLATFORM") == "offscreen":
        return
    own = letters()
    scale = own if own != 1.0 else scale_for(system_points())
    if scale != 1.0:
        os.environ[SCALE] = f"{scale:.2f}"
