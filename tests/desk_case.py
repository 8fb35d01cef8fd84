"""A window under test: waits that let workers run, clicks at world positions."""

from __future__ import annotations

import os
import time
from unittest import mock

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEvent, QEventLoop, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QMouseEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QWidget

from kestrelmist.desk.app import application
from kestrelmist.desk.shell.window import Window
from kestrelmist.desk.solid.feed import SolidFeed
from kestrelmist.desk.theme.theme import dressed_afterwards
from kestrelmist.study.study import Study
from tests.making import PlaceCase


def pause(milliseconds: int) -> None:
    """Run the event loop for a while; unlike a plain wait this lets worker threads have the interpreter."""
    loop = QEventLoop()
    QTimer.singleShot(milliseconds, loop.quit)
    loop.exec()


def with_solid_view(test):
    """Mark a test that looks at the Solid view; in the others its process is not started, which saves two seconds
    each."""
    test.with_solid_view = True
    return test


class DeskCase(PlaceCase):
    """Opens windows on studies and closes them again."""

    def setUp(self):
        super().setUp()
        if not hasattr(getattr(self, self._testMethodName), "with_solid_view"):
            unbuilt = mock.patch.object(SolidFeed, "build", lambda feed: None)
            unbuilt.start()
            self.addCleanup(unbuilt.stop)

    def open(self, folder) -> Window:
        self.app = application()
        study = Study(folder, create=True)
        with dressed_afterwards():
            window = Window(study)
        self.troubles: list[str] = []
        window.desk.session.trouble.connect(self.troubles.append)
        window.bench.checks._soon.setInterval(20)  # a person's pause is longer than a test's
        window.resize(1280, 800)
        window.show()
        window.start()
        self.addCleanup(self.shut, window)
        self.settle(window)
        return window

    def shut(self, window: Window) -> None:
        if window.isVisible():
            window.close()
        for button in (Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton):
            if QApplication.mouseButtons() & button:  # a test that ended in the midst of a drag
                QTest.mouseRelease(QWidget(), button)
        # closed windows that live on are dressed again with every new one
        window.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        QApplication.processEvents()

    def settle(self, window: Window, seconds: float = 150) -> None:
        """Wait until nothing is read, computed, checked or drawn any more."""
        end, calm = time.monotonic() + seconds, 0
        while calm < 4:
            pause(10)
            calm = calm + 1 if window.settled else 0
            if time.monotonic() > end:
                jobs = [j.title for j in window.desk.session.work.jobs]
                checks, solid = window.bench.checks.settled, window.table.solid.canvas.settled
                self.fail(f"the window did not settle: {jobs}, checks {checks}, solid {solid}")

    def pixel(self, canvas, world) -> QPoint:
        x, y = canvas.current_view().to_pixel(world)
        return QPoint(round(x), round(y))

    def click(self, window: Window, pane: int, world, button=Qt.MouseButton.LeftButton) -> None:
        """Click in a slice pane (0 coronal, 1 axial, 2 sagittal) at a world position on its present slice."""
        canvas = window.table.slices[pane].canvas
        QTest.mouseClick(canvas, button, Qt.KeyboardModifier.NoModifier, self.pixel(canvas, world))
        self.settle(window)

    def drag(self, window: Window, pane: int, start, end, button=Qt.MouseButton.LeftButton) -> None:
        canvas = window.table.slices[pane].canvas
        a, b = self.pixel(canvas, start), self.pixel(canvas, end)
        QTest.mousePress(canvas, button, Qt.KeyboardModifier.NoModifier, a)
        for share in (0.5, 1.0):
            at = QPointF(a) + (QPointF(b) - QPointF(a)) * share
            QApplication.sendEvent(
                canvas,
                QMouseEvent(
                    QEvent.Type.MouseMove,
                    at,
                    canvas.mapToGlobal(at),
                    Qt.MouseButton.NoButton,
                    button,
                    Qt.KeyboardModifier.NoModifier,
                ),
            )
        QTest.mouseRelease(canvas, button, Qt.KeyboardModifier.NoModifier, b)
        self.settle(window)

    def wheel(self, canvas, notches: int, modifiers=Qt.KeyboardModifier.NoModifier) -> None:
        middle = QPointF(canvas.width() / 2, canvas.height() / 2)
        QApplication.sendEvent(
            canvas,
            QWheelEvent(
                middle,
                canvas.mapToGlobal(middle),
                QPoint(),
                QPoint(0, 120 * notches),
                Qt.MouseButton.NoButton,
                modifiers,
                Qt.ScrollPhase.NoScrollPhase,
                False,
            ),
        )

    def press(self, widget) -> None:
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton)
