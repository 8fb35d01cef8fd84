"""A window whose process is killed, and files that go wrong in the window."""

import os
import signal
import subprocess
import sys
import textwrap

import nibabel
import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from kestrelmist.core.labels import LabelMap
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import straight_space, two_balls

PAINT_AND_WAIT = """
    import sys, time
    from PySide6.QtCore import Qt
    from PySide6.QtTest import QTest
    from tests.desk_case import DeskCase
    from kestrelmist.desk.app import application, open_window
    case = DeskCase("settle")
    application()
    window = open_window({folder!r})
    window.show()
    window.start()
    case.settle(window)
    window.desk.viewing.set_stage("Outline")
    window.desk.run_now("add-label", {{"label": "Ball"}})
    window.desk.hand.set_tool("brush")
    window.desk.hand.set_settings(size=3.0)
    for n in range(4):
        window.desk.viewing.go_to((-6.0 + 3 * n, 0.25, 0.25))
        case.click(window, 0, window.desk.viewing.crosshair)
    case.settle(window)
    # one more stroke is under way when the end comes: the button is still down
    canvas = window.table.slices[0].canvas
    window.desk.viewing.go_to((6.0, 0.25, 5.25))
    finished = int(window.desk.viewing.maps.labels.counts[1])
    at = case.pixel(canvas, window.desk.viewing.crosshair)
    QTest.mousePress(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    time.sleep(0.6)
    from tests.desk_case import pause
    pause(600)
    print(finished, int(window.desk.viewing.maps.labels.counts[1]), flush=True)
    time.sleep(60)
"""


class KilledWindowTest(DeskCase):
    def test_a_killed_window_loses_only_the_gesture_in_hand(self):
        self.study_with_balls().close()
        code = textwrap.dedent(PAINT_AND_WAIT.format(folder=None)).replace(
            "open_window(None)", f"open_window(__import__('pathlib').Path({str(self.place / 'study')!r}))"
        )
        process = subprocess.Popen(
            [sys.executable, "-c", code],
            stdout=subprocess.PIPE,
            text=True,
            cwd=os.getcwd(),
            env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
        )
        finished, in_hand = map(int, process.stdout.readline().split())
        os.kill(process.pid, signal.SIGKILL)
        process.wait()
        process.stdout.close()
        self.assertGreater(in_hand, finished)
        window = self.open(self.place / "study")
        self.assertFalse(window.desk.study.read_only)
        self.assertEqual(int(window.desk.viewing.maps.labels.counts[1]), finished)
        self.assertEqual((window.desk.viewing.stage, window.desk.hand.label.name), ("Outline", "Ball"))
        np.testing.assert_allclose(window.desk.viewing.crosshair, (6.0, 0.25, 5.25))
        self.press(window.bench.outline.groups["label maps"].before)
        self.settle(window)
        self.assertEqual(int(window.desk.viewing.maps.labels.counts[1]), 0)
        self.press(window.path.undo)
        self.assertEqual(int(window.desk.viewing.maps.labels.counts[1]), finished)


class WrongFilesTest(DeskCase):
    def test_nifti_without_a_place_is_refused_and_taken_with_a_spacing(self):
        file = nibabel.Nifti1Image(two_balls().data, np.eye(4))
        file.set_sform(np.diag([0, 0, 0, 1.0]), 2)
        file.set_qform(None, 0)
        path = self.place / "flat.nii"
        nibabel.save(file, path)
        window = self.open(self.place / "study")
        window.gather([path])
        self.settle(window)
        self.assertIn("position matrix of this file is zero", self.troubles[-1])
        self.assertIn("spacing", self.troubles[-1])
        self.assertEqual(window.shelf.cards, {})
        window.finder.open()
        QTest.keyClicks(window.finder.field, "gather a")
        QTest.keyClick(window.finder.field, Qt.Key.Key_Return)
        form = window.bench.gather.form
        form.fields["folder"].field.setText(str(path))
        form.fields["spacing"].setText("0.5, 0.5, 0.5")
        self.press(form.apply)
        self.settle(window)
        self.assertEqual(window.desk.viewing.record.space.spacing, (0.5, 0.5, 0.5))
        self.assertIn("unsure", window.bench.checks.notices[0].sentence)
        self.assertIn("scale unsure", window.readout.scale.text())
        self.press(next(b for b in window.bench.checks.findChildren(QPushButton) if b.text() == "Set size"))
        form = window.bench.page("Prepare").form
        form.fields["spacing"].setText("0.5, 0.5, 0.25")
        self.press(form.apply)
        self.settle(window)
        self.assertEqual(window.desk.viewing.record.space.spacing, (0.5, 0.5, 0.25))
        self.assertIn("scale by hand", window.readout.scale.text())
        window.close()
        with Study(self.place / "study") as study:
            np.testing.assert_array_equal(study.image(1).data, two_balls().data)

    def test_files_that_vanish_are_named(self):
        self.study_with_balls().close()
        for path in (self.place / "study" / "images").rglob("*.dcm"):
            path.unlink()
            break
        window = self.open(self.place / "study")
        self.assertIn("no longer there", self.troubles[-1])
        self.assertIsNone(window.desk.viewing.record)
        self.assertEqual(len(window.shelf.cards), 1)

    def test_labels_of_another_grid_are_noticed_and_replaced(self):
        self.study_with_balls().close()
        window = self.open(self.place / "study")
        window.desk.viewing.set_stage("Outline")
        other = LabelMap(straight_space((40, 36, 31)), np.ones((40, 36, 31), np.uint16))
        window.desk.viewing.maps.labels = other
        window.desk.viewing.maps.changed.emit()
        self.settle(window)
        (notice,) = [n for n in window.bench.checks.notices if n.level == "wrong"]
        self.assertIn("another grid than “Two balls”", notice.sentence)
        self.press(next(b for b in window.bench.checks.findChildren(QPushButton) if b.text() == "Start new labels"))
        self.settle(window)
        self.assertEqual(window.bench.checks.notices[0].level, "fine")
        self.assertEqual(window.desk.viewing.maps.labels.space.shape, (40, 36, 32))
        window.desk.run_now("add-label", {"label": "A"})
        window.close()
        with Study(self.place / "study") as study:
            self.assertEqual([row.name for row in study.labels(1).table], ["A"])

    def test_an_unexpected_failure_is_a_sentence_too(self):
        window = self.open(self.place / "study")

        def fails(progress):
            raise RuntimeError("a wire came loose")

        from unittest import mock

        with mock.patch("traceback.print_exception"):
            window.desk.session.work.start("Testing", fails)
            self.settle(window)
        self.assertIn("“Testing” failed unexpectedly (RuntimeError: a wire came loose)", self.troubles[-1])
        pause(10)
        self.assertTrue(window.message.isVisible())
