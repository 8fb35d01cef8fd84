"""The window when its study has gone, is missing its catalogue, or is damaged."""

import shutil
from unittest import mock

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMessageBox

from kestrelmist.desk.shell.lost_study import study_at
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause


class GoneTest(DeskCase):
    def setUp(self):
        super().setUp()
        with self.study_with_balls() as study:
            (self.record,) = study.records()
            study.run("threshold", image=self.record.id, label="Bone", low=500.0, high=2000.0)
        self.window = self.open(self.place / "study")
        self.before = self.window.viewing.maps.labels.data.copy()
        self.wanted = []
        self.window.study_wanted.connect(self.wanted.append)

    def press(self, words: str) -> None:
        question = self.window.watch.question
        self.assertIsNotNone(question)
        self.assertEqual(question.textFormat(), Qt.TextFormat.PlainText)
        (button,) = [b for b in question.buttons() if words in b.text()]
        button.click()
        pause(20)

    def paint(self) -> None:
        self.window.desk.run("paint", {"label": "Bone", "point": (0.0, 5.0, 0.0), "diameter": 2.0})
        self.settle(self.window)

    def test_the_next_step_says_so_and_everything_is_saved_elsewhere(self):
        shutil.rmtree(self.place / "study")
        self.paint()
        self.assertIn("no longer where it was opened; this step was not kept", self.troubles[-1])
        np.testing.assert_array_equal(self.window.viewing.maps.labels.data, self.before)
        self.assertIn("nothing is kept", self.window.path.state.text())
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(self.place / "saved"), "")):
            self.press("Save elsewhere")
        self.settle(self.window)
        self.assertEqual((self.wanted, self.troubles[1:]), ([self.place / "saved"], []))
        self.assertTrue(self.window.close())
        with Study(self.place / "saved") as saved:
            np.testing.assert_array_equal(saved.labels(self.record.name).data, self.before)
            self.assertEqual(saved.image(self.record.name).data.max(), 1000)

    def test_image_theme_and_stage_change_while_everything_is_saved(self):
        shutil.rmtree(self.place / "study")
        self.paint()
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(self.place / "saved"), "")):
            self.press("Save elsewhere")
        self.window.set_theme("dusk")  # the work of saving is under way
        self.window.desk.viewing.set_stage("Measure")
        self.window.desk.viewing.show_image(self.record.id)
        self.window.desk.session.undo()
        self.settle(self.window)
        self.assertEqual(self.wanted, [self.place / "saved"])
        with Study(self.place / "saved") as saved:
            np.testing.assert_array_equal(saved.labels(self.record.name).data, self.before)
        self.window.set_theme("mist")

    def test_it_does_not_close_over_it_without_asking(self):
        shutil.rmtree(self.place / "study")
        self.assertFalse(self.window.close())
        self.assertTrue(self.window.isVisible())
        self.press("Not now")
        self.assertTrue(self.window.isVisible())
        self.assertFalse(self.window.close())
        self.press("Close and lose it")
        self.assertFalse(self.window.isVisible())

    def test_a_folder_that_comes_back_is_gone_on_with(self):
        (self.place / "study").rename(self.place / "away")
        self.paint()
        self.press("Not now")
        (self.place / "away").rename(self.place / "study")
        self.paint()
        self.assertGreater(int(self.window.viewing.maps.labels.counts[1]), int((self.before == 1).sum()))
        self.assertIn("all changes kept", self.window.path.state.text())
        self.assertTrue(self.window.close())


class MissingTest(DeskCase):
    def test_rebuilt_when_wanted_and_left_when_not(self):
        with self.study_with_balls() as study:
            (record,) = study.records()
        (self.place / "study" / "study.db").unlink()
        for words, opened in (("Leave", False), ("Rebuild", True)):

            def answer(question, words=words):
                (button,) = [b for b in question.buttons() if words in b.text()]
                button.click()
                return 0

            with mock.patch.object(QMessageBox, "exec", answer):
                found = study_at(self.place / "study")
            self.assertEqual(found is not None, opened)
            self.assertEqual((self.place / "study" / "study.db").exists(), opened)
        self.assertEqual([r.name for r in found.records()], [record.name])
        (notice,) = found.notices
        self.assertRegex(notice, "^The study was rebuilt: 1 image from the copy of the Shelf")
        found.close()
