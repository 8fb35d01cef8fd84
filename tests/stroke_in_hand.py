"""A window with a stroke of the brush in hand, for another process to end."""

from __future__ import annotations

from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtTest import QTest


def begin(window, number: int):
    """Press the brush on the lead pane, further up for each number, and move it when the window is settled; then say
    so, with the process of the Solid view."""
    timer, calm = QTimer(window, interval=100), [0]

    def look() -> None:
        solid = window.table.solid.canvas.process
        calm[0] = calm[0] + 1 if window.settled and solid is not None else 0
        if calm[0] < 3:
            return
        timer.stop()
        window.desk.viewing.set_stage("Outline")
        window.desk.hand.set_tool("brush")
        canvas = window.table.lead.canvas
        at = QPoint(canvas.width() // 2, canvas.height() // 2 - 40 * number)
        QTest.mousePress(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
        for n in range(1, 30):
            QTest.mouseMove(canvas, at + QPoint(3 * n, 2 * n))
        print("stroke", solid.process.pid, flush=True)

    timer.timeout.connect(look)
    timer.start()
    return window
