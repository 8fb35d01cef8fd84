"""A person's way through the demo study, for pictures of it."""

from __future__ import annotations

import os
import time
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"

from PySide6.QtCore import QEventLoop, QPoint, Qt, QTimer
from PySide6.QtTest import QTest

from kestrelmist.desk.app import application, open_window

HOME = Path(__file__).parent / "screenshots"


class Walk:
    """A person's way through the demo study."""

    def __init__(self, folder: Path):
        application()
        self.window = open_window(folder)
        self.window.resize(1280, 800)
        self.window.show()
        self.window.start()
        self.window.desk.session.trouble.connect(lambda text: print("!", text))
        self.settle()

    def settle(self) -> None:
        calm, end = 0, time.monotonic() + 120
        while calm < 8 and time.monotonic() < end:
            loop = QEventLoop()
            QTimer.singleShot(20, loop.quit)
            loop.exec()
            calm = calm + 1 if self.window.settled else 0

    def keep(self, name: str) -> None:
        self.settle()
        self.window.grab().save(str(HOME / f"{name}.png"))
        print(name)

    def show(self, name: str) -> None:
        self.window.desk.viewing.show_image(self.window.desk.study.find(name).id)
        self.settle()

    def press(self, widget) -> None:
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton)
        self.settle()

    def click(self, world) -> None:
        self.window.desk.viewing.go_to(world)
        self.settle()
        canvas = self.window.table.slices[0].canvas
        x, y = canvas.current_view().to_pixel(world)
        QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(round(x), round(y)))
        self.settle()
