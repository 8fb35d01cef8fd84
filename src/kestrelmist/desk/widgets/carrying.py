"""An image carried from the Shelf or the table, and where it may be dropped."""

from __future__ import annotations

from PySide6.QtCore import QMimeData, Qt
from PySide6.QtGui import QDrag, QPixmap
from PySide6.QtWidgets import QWidget

KIND = "application/x-kestrelmist-image"


def carried(key: int) -> QMimeData:
    """What is carried: the image with this id."""
    data = QMimeData()
    data.setData(KIND, str(key).encode())
    return data


def carry(widget: QWidget, key: int, picture: QPixmap) -> None:
    """Take an image up; returns when it was dropped."""
    drag = QDrag(widget)
    drag.setMimeData(carried(key))
    drag.setPixmap(picture)
    drag.exec(Qt.DropAction.CopyAction)


def key_of(data: QMimeData) -> int | None:
    """The image that is carried, None when it is something else."""
    if not data.hasFormat(KIND):
        return None
    text = bytes(data.data(KIND).data()).decode("ascii", "replace")
    return int(text) if text.isdigit() else None
