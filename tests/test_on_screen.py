"""How large a window opens."""

import unittest
from unittest import mock

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QTableView, QWidget

from kestrelmist.desk.app import application
from kestrelmist.desk.shell import on_screen
from kestrelmist.desk.shell.on_screen import TITLE_BAR, fit, size_on, within
from tests.desk_case import DeskCase
from tests.making import two_balls


class SizeTest(unittest.TestCase):
    def test_it_fits_the_screen_with_its_title_bar(self):
        for room, size in (
            ((1280, 800), (1280, 800 - TITLE_BAR)),
            ((1366, 740), (1280, 740 - TITLE_BAR)),
            ((1024, 768), (1024, 768 - TITLE_BAR)),
            ((1920, 1040), (1632, 852)),
            ((3840, 2100), (3264, 1753)),
        ):
            self.assertEqual(size_on(QRect(0, 0, *room)), QSize(*size))

    def test_it_is_moved_in_and_made_smaller_only_where_it_must(self):
        room = QRect(50, 30, 1000, 700)  # beside and below panels
        for frame, wanted in (
            ((60, 40, 800, 600), (60, 40, 800, 600)),
            ((0, 0, 800, 600), (50, 30, 800, 600)),
            ((500, 400, 800, 600), (250, 130, 800, 600)),
            ((100, 100, 1280, 838), (50, 30, 1000, 700)),
            ((1050 - 800, 730 - 600, 800, 600), (1050 - 800, 730 - 600, 800, 600)),
        ):
            self.assertEqual(within(QRect(*frame), room), QRect(*wanted))


class FitTest(DeskCase):
    def test_a_small_screen_gets_a_small_window(self):
        application()
        window = QWidget()
        self.addCleanup(window.deleteLater)
        window.setMinimumSize(1000, 620)
        screen = mock.Mock()
        screen.availableGeometry.return_value = QRect(0, 0, 900, 600)
        with (
            mock.patch.object(QApplication, "platformName", return_value="xcb"),
            mock.patch.object(window, "screen", return_value=screen),
            mock.patch.object(on_screen.QTimer, "singleShot") as later,
        ):
            fit(window)
        self.assertEqual((window.width(), window.height()), (900, 600 - TITLE_BAR))
        self.assertEqual(later.call_count, 1)


class SentenceTest(DeskCase):
    def test_a_sentence_covers_nothing_that_can_be_pressed(self):
        self.study_with_balls().close()
        window = self.open(self.place / "study")
        self.nifti(two_balls(), "more.nii.gz")
        window.desk.viewing.set_stage("Gather")
        window.bench.gather.scan(self.place / "more.nii.gz")
        self.settle(window)
        table = window.plan.findChild(QTableView)
        for text in ("Short.", "Much longer. " * 40, "Short."):
            window.message.say(text, True)
            QApplication.processEvents()
            self.assertTrue(table.isVisible())
            below = table.mapTo(window.middle, QPoint(0, table.height())).y()
            self.assertLessEqual(below, window.message.geometry().top())
            high = table.height()
        QTest.mouseClick(window.message, Qt.MouseButton.LeftButton)
        QApplication.processEvents()
        self.assertGreater(table.height(), high)
        self.assertEqual(window.middle.contentsMargins().bottom(), 0)
