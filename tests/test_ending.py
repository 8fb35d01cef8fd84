"""What a desktop session's end and a signal do: everything closes as by Close, whatever is open over it."""

import signal
import unittest
from unittest import mock

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMessageBox

from kestrelmist.desk.shell.ending import SIGNALS, Ending
from kestrelmist.desk.shell.window import Window
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase


class EndingTest(DeskCase):
    def test_a_stroke_in_hand_and_a_question_over_it(self):
        with self.study_with_balls() as study:
            study.run("paint", image=study.records()[0].id, label="Ball", point=(0.0, 0.0, 0.0), diameter=1.0)
        windows = [self.open(self.place / "study"), self.open(self.place / "other")]
        first = windows[0]
        before = int(first.desk.viewing.maps.labels.counts[1])
        first.desk.viewing.set_stage("Outline")
        first.desk.hand.set_tool("brush")
        canvas = first.table.lead.canvas
        at = QPoint(canvas.width() // 2, canvas.height() // 2 - 40)
        QTest.mousePress(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
        for n in range(1, 20):
            QTest.mouseMove(canvas, at + QPoint(3 * n, 0))
        question = QMessageBox(windows[1])
        question.open()
        handlers = {number: signal.getsignal(number) for number in SIGNALS}
        ending = Ending(QApplication.instance(), lambda: windows, Window.leave)
        try:
            with mock.patch.object(QApplication, "exit") as exit_:
                ending.end()
            exit_.assert_called_once_with(0)
        finally:
            ending.let_go()
        self.assertEqual({number: signal.getsignal(number) for number in SIGNALS}, handlers)
        self.assertFalse(question.isVisible())
        for window in windows:
            self.assertTrue(window.desk.study.catalogue.closed)
            self.assertFalse(window.isVisible())
        with Study(self.place / "study") as study:
            self.assertFalse(study.read_only)
            self.assertGreater(int(study.labels(study.records()[0].id).counts[1]), before)

    def test_a_study_that_has_gone_does_not_hold_it_up(self):
        with self.study_with_balls():
            pass
        window = self.open(self.place / "study")
        (self.place / "study").rename(self.place / "away")
        ending = Ending(QApplication.instance(), lambda: [window], Window.leave)
        try:
            with mock.patch.object(QApplication, "exit"):
                ending.end()
        finally:
            ending.let_go()
        self.assertFalse(window.isVisible())
        self.assertIsNone(window.watch.question)


if __name__ == "__main__":
    unittest.main()
