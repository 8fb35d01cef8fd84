"""Remake the pictures in docs/screenshots from the demo study: `./kestrel shots`.

Walks through the interface as a person does, from the waiting folder to the table, and keeps a picture at each view.
"""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"

from PySide6.QtCore import QEventLoop, QPoint, Qt, QTimer
from PySide6.QtTest import QTest

from kestrelmist.demo.overwintering import demo_study
from kestrelmist.desk.app import application, open_window

HOME = Path(__file__).parent / "screenshots"
JOINTS = ((-4.60, -3.28, -2.02), (4.77, -3.27, -1.85))
IN_THE_SKULL = (-0.6, 3.45, -1.8)


class Walk:
    """A person's way through the demo study."""

    def __init__(self, folder: Path):
        application()
        self.window = open_window(folder)
        self.window.resize(1280, 800)
        self.window.show()
        self.window.start()
        self.window.desk.trouble.connect(lambda text: print("!", text))
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

    def press(self, widget) -> None:
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton)
        self.settle()

    def click(self, world) -> None:
        self.window.desk.go_to(world)
        self.settle()
        canvas = self.window.table.slices[0].canvas
        x, y = canvas.current_view().to_pixel(world)
        QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(round(x), round(y)))
        self.settle()


def main() -> None:
    HOME.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as place:
        walk = Walk(demo_study(Path(place) / "Overwintering"))
        window, desk, bench = walk.window, walk.window.desk, walk.window.bench
        walk.press(bench.gather.waiting)
        walk.keep("gather")
        walk.press(next(c for c in bench.gather.cards if c.series.description == "Head CT").take)
        desk.set_stage("Outline")
        outline = bench.outline
        QTest.keyClicks(outline.labels.new, "Skull")
        QTest.keyClick(outline.labels.new, Qt.Key.Key_Return)
        outline.ready.setCurrentIndex(outline.ready.findText("Bone"))
        outline.ready.activated.emit(outline.ready.currentIndex())
        walk.press(outline.half_way)
        walk.press(outline.tools["grow"])
        walk.click(IN_THE_SKULL)
        walk.press(outline.tools["eraser"])
        desk.set_settings(size=1.5)
        for joint in JOINTS:
            walk.click(joint)
        walk.press(outline.tools["grow"])
        walk.click(IN_THE_SKULL)
        QTest.keyClicks(outline.labels.new, "Lower jaw")
        QTest.keyClick(outline.labels.new, Qt.Key.Key_Return)
        walk.press(outline.labels.rows[1].lock)
        walk.click((2.4, 0.4, -5.4))
        desk.go_to((2.2, 0.4, -1.6))
        desk.set_settings(show_range=False)
        walk.keep("outline")
        window.table.bring_to_lead(window.table.solid)
        walk.keep("solid")
        window.table.bring_to_lead(window.table.slices[0])
        walk.press(bench.go_measure)
        walk.keep("measure")
        window.drawer.hide()
        desk.set_stage("Prepare")
        walk.keep("prepare")
        window.finder.open()
        QTest.keyClicks(window.finder.field, "la")
        walk.keep("finder")
        window.finder.hide()
        desk.set_stage("Outline")
        desk.show_image(1)
        desk.go_to((0.9, -2.0, 2.4))
        window.set_theme("dusk")
        walk.press(outline.tools["brush"])
        window.drawer.open_page("logbook")
        walk.keep("dusk")
        window.set_theme("mist")
        window.close()


if __name__ == "__main__":
    main()
