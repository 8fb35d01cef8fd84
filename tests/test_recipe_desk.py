import threading
import time
from unittest import mock

import shiboken6
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QInputDialog, QLineEdit, QPushButton

from kestrelmist.core.errors import Cancelled
from kestrelmist.core.progress import Progress
from kestrelmist.desk.models import calm as calm_module
from kestrelmist.desk.models.calm import BetweenGestures
from kestrelmist.study.journal.logbook import Step
from kestrelmist.study.recipes import editing
from kestrelmist.study.recipes.book import DONE, FAILED, book
from kestrelmist.study.recipes.ready import keep_recipe, recipe_called
from kestrelmist.study.recipes.recipe import Recipe, Slot
from kestrelmist.study.recipes.slice_trial import ALONE, NUMBERS
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, application, pause
from tests.test_recipe_runs import balls
from tests.test_recipes import RecipeCase


class RecipeDeskTest(DeskCase, RecipeCase):
    def opened(self, *names: str):
        with self.subjects(*names) as study:
            keep_recipe(study, "Balls", balls(), Step("make-recipe", "Make a recipe"))
        window = self.open(self.place / "study")
        window.viewing.set_stage("Report")
        window.desk.recipes.open("Balls")
        self.settle(window)
        return window, window.desk.recipes, window.recipes

    def press(self, window, button: QPushButton) -> None:
        self.assertTrue(button.isEnabled(), button.text())
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)
        self.settle(window)

    def panel_button(self, window, words: str) -> QPushButton:
        return next(b for b in window.bench.recipe.findChildren(QPushButton) if b.text() == words and b.isVisible())

    def test_it_is_set_up_checked_run_and_judged_by_hand(self):
        window, model, page = self.opened("T-1", "T-2", "T-3")
        self.assertIs(window.middle.currentWidget(), page)
        self.assertEqual([c.head.text() for c in page.steps.cards], ["Smooth", "Threshold", "Measure labels"])
        self.assertEqual((page.run.text(), page.who.rowCount()), ("Run 3", 3))
        QTest.mouseClick(page.steps.cards[0], Qt.MouseButton.LeftButton)
        self.settle(window)
        width = window.bench.recipe.fields["fwhm"]
        self.assertIsInstance(width, QLineEdit)
        self.assertEqual(width.text(), "1.5 mm")
        width.setFocus()
        width.selectAll()
        QTest.keyClicks(width, "2 mm")
        QTest.keyClick(width, Qt.Key.Key_Return)
        self.settle(window)
        self.assertEqual((model.recipe.steps[0].settings, model.version), ({"fwhm": 2.0}, 2))
        self.assertEqual(page.steps.cards[0].foot.text(), "2 mm")
        with mock.patch.object(QInputDialog, "getItem", return_value=("Turn values round  (prepare)", True)):
            QTest.mouseClick(page.steps.cards[0], Qt.MouseButton.LeftButton)
            page.ask_for_step()
        self.settle(window)
        self.assertEqual([s.operation for s in model.recipe.steps][:2], ["smooth", "turn-values"])
        QTest.keyClick(page.steps.cards[1], Qt.Key.Key_Left, Qt.KeyboardModifier.AltModifier)
        self.settle(window)
        self.assertEqual([s.operation for s in model.recipe.steps][:2], ["turn-values", "smooth"])
        window.desk.undoing.undo()
        self.settle(window)
        self.assertEqual([s.operation for s in model.recipe.steps][:2], ["smooth", "turn-values"])
        QTest.keyClick(page.steps.cards[1], Qt.Key.Key_Delete)
        self.settle(window)
        self.assertEqual([s.operation for s in model.recipe.steps], ["smooth", "threshold", "measure-labels"])
        window.viewing.show_image(model.study.find("T-1/Head CT").id)
        self.settle(window)
        steps = len(model.study.logbook.entries())
        self.press(window, page.on_slice)
        told = ["1 Smooth", f"2 Threshold: {ALONE}", f"3 Measure labels: {NUMBERS}"]
        self.assertEqual(page.tried.lines, told)
        self.assertEqual(len(model.study.logbook.entries()), steps)
        page.tried.close()
        self.press(window, page.attempt)  # on one first
        self.settle(window)
        self.assertEqual([book(model.study.folder).order.units], [(("T-1", "T-1", ""),)])
        page.at_once.setValue(0)
        self.assertFalse(page.run.isEnabled())  # until what was chosen is checked
        self.settle(window)
        self.press(window, page.run)
        made = book(model.study.folder)
        self.assertEqual([made.state(u) for u, _, _ in made.order.units], ["was done", DONE, DONE])
        self.assertEqual([page.who.left(n)[1] for n in range(3)], ["moss"] * 3)
        page.view.selectRow(1)
        page.verdicts.activated.emit(page.verdicts.findText("doubtful"))
        self.settle(window)
        self.assertEqual(book(model.study.folder).verdicts["T-2"]["verdict"], "doubtful")
        path = self.place / "report.html"
        page.write_report(path)
        self.settle(window)
        self.assertIn("doubtful", path.read_text())
        self.assertEqual(self.troubles, [])

    def test_notices_are_mended_waived_and_left_out(self):
        window, model, page = self.opened("T-1", "T-2")
        model.study.run("rename", thing="T-2/Head CT", name="Other")
        model.edit("expect", structure="1 mm")
        self.settle(window)
        self.assertEqual((page.run.text(), page.counts.text()), ("Run 1", "ready 1 · lacks something 1"))
        self.press(window, self.panel_button(window, "Make it 1 mm"))
        self.assertEqual(model.recipe.steps[0].settings, {"fwhm": 1.0})
        self.press(window, self.panel_button(window, "Leave it out"))
        self.assertEqual(page.counts.text(), "ready 1 · left out 1")
        self.press(window, self.panel_button(window, "Take T-2 in again"))
        model.set_step(1, {"fwhm": 3.0})
        self.settle(window)
        with mock.patch.object(QInputDialog, "getText", return_value=("the ball is large", True)):
            self.press(window, self.panel_button(window, "Waive…"))
        self.assertEqual([n.check for n in model.plan.open], ["what comes in"])
        self.press(window, page.run)
        noticed = [why for _, said, why in book(model.study.folder).order.noticed.values() if "Smooth" in said]
        self.assertEqual(noticed, ["the ball is large"])
        window.close()
        again = self.open(self.place / "study")
        again.viewing.set_stage("Report")
        again.desk.recipes.open("Balls")
        self.settle(again)
        self.assertEqual([n.check for n in again.desk.recipes.plan.open], ["what comes in"])  # it is remembered

    def test_a_slot_that_nothing_fits_takes_what_is_there(self):
        window, model, page = self.opened("T-1", "T-2")
        model.edit("change-slot", slot="Scan", pattern="*MR")
        self.settle(window)
        self.assertEqual(page.counts.text(), "lacks something 2")
        self.press(window, self.panel_button(window, "It is named “Head CT”"))
        self.assertEqual((page.run.text(), model.recipe.slots[0].pattern), ("Run 2", "Head CT"))
        model.study.run("rename", thing="T-2/Head CT", name="Other")
        self.settle(window)
        self.press(window, self.panel_button(window, "Use “Other”"))
        self.assertEqual((page.run.text(), model.recipe.slots[0].pattern), ("Run 2", "Head CT"))
        model.edit("change-slot", slot="Scan", pattern="T1", of="Hollowmere mean dormouse")
        self.settle(window)
        button = self.panel_button(window, "Open it")
        with mock.patch.object(model.session, "run") as asked:
            button.click()
        asked.assert_called_once_with("open-pack", {})

    def test_what_is_typed_goes_to_the_step_it_was_typed_for(self):
        window, model, page = self.opened("T-1")
        keep_recipe(model.study, "Others", balls(), Step("make-recipe", "Make a recipe"))
        model.choose(1)
        self.settle(window)
        width = window.bench.recipe.fields["fwhm"]
        width.setFocus()
        width.setText("7 mm")
        model.open("Others")  # by the Finder, say
        self.settle(window)
        width.editingFinished.emit() if shiboken6.isValid(width) else None
        texts = [recipe_called(model.study, name)[0].steps[0].settings for name in ("Balls", "Others")]
        self.assertEqual(texts, [{"fwhm": 1.5}, {"fwhm": 1.5}])
        model.choose(1)
        self.settle(window)
        width = window.bench.recipe.fields["fwhm"]
        width.setText("3 mm")
        model.study.run("move-step", recipe="Others", number=1, to=2)  # from elsewhere, in the midst of it
        width.editingFinished.emit()
        self.settle(window)
        settings = [s.settings for s in recipe_called(model.study, "Others")[0].steps if s.operation == "smooth"]
        self.assertEqual(settings, [{"fwhm": 1.5}])
        self.assertEqual(self.troubles, [])

    def test_paused_closed_in_the_midst_and_resumed(self):
        window, model, page = self.opened("T-1", "T-2", "T-3")
        model.choose_for(workers=0)
        self.settle(window)
        QTest.mouseClick(page.run, Qt.MouseButton.LeftButton)
        model.run.pause()
        for _ in range(100):
            pause(50)
            if model.run.book is not None and page.pause.text() == "Go on":
                break
        pause(800)
        done = sum(c.state == DONE for cells in model.run.book.cells.values() for c in cells)
        pause(500)
        self.assertEqual(sum(c.state == DONE for cells in model.run.book.cells.values() for c in cells), done)
        self.assertLess(done, 9)
        self.assertTrue(model.run.running)
        window.close()
        with Study(self.place / "study") as study:
            self.assertGreater(len(book(study.folder).unfinished), 0)
        again = self.open(self.place / "study")
        again.viewing.set_stage("Report")
        again.desk.recipes.open("Balls")
        self.settle(again)
        page = again.recipes
        self.press(again, page.resume)
        made = book(again.desk.study.folder)
        self.assertEqual(made.unfinished, [])
        smooths = [s for s in again.desk.study.logbook.entries() if s.operation == "smooth"]
        self.assertEqual(len(smooths), 3)

    def test_the_hand_draws_and_other_steps_are_done_while_it_runs(self):
        half = {"label": "Half", "low": 550, "high": 5000}
        recipe = editing.with_step(Recipe(title="Half"), "threshold", settings=half)
        recipe = editing.with_slot(recipe, Slot("Scan", "image", "Head CT"), "Image")
        recipe = editing.with_step(recipe, "smooth", settings={"fwhm": 1.0})
        with self.subjects("T-1", "T-2") as study:
            keep_recipe(study, "Half", recipe, Step("make-recipe", "Make a recipe"))
            study.run("paint", image="T-1/Head CT", label="Mine", point=(0, 0, 0), diameter=1.0)
        window = self.open(self.place / "study")
        desk, study = window.desk, window.desk.study
        model, hand, key = desk.recipes, desk.hand, study.find("T-1/Head CT").id
        window.viewing.show_image(key)
        model.open("Half")
        model.choose_for(workers=0)
        self.settle(window)
        desk.viewing.set_stage("Outline")
        model.close()
        self.settle(window)
        hand.set_tool("brush")
        canvas = window.table.lead.canvas
        middle = QPoint(canvas.width() // 2, canvas.height() // 2)
        QTest.mousePress(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, middle)
        self.assertIsNotNone(hand.gesture)
        model.start()
        pause(700)
        self.assertTrue(model.run.running, self.troubles)
        self.assertIsNotNone(hand.gesture)
        self.assertEqual([s for s in study.logbook.entries() if s.operation == "threshold"], [])  # it waits for it
        model.run.pause()
        QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, middle)
        self.assertIsNone(hand.gesture)
        strokes = int(study.labels(key).counts[1])
        desk.run("turn-values", {"image": "T-2/Head CT"})  # beside it
        end = time.monotonic() + 60
        while time.monotonic() < end and not any(s.operation == "turn-values" for s in study.logbook.entries()):
            pause(20)
        self.assertTrue(model.run.running)
        self.assertEqual(desk.undoing.undo_title, "Turn values round")
        desk.undoing.undo()  # not what the run has done
        model.run.pause()
        self.settle(window)
        self.assertFalse(model.run.running)
        made = book(study.folder)
        self.assertEqual([made.state(u) for u, _, _ in made.order.units], [DONE, DONE])
        labels = study.labels(key)
        self.assertEqual([one.name for one in labels.table], ["Mine", "Half"])
        self.assertLess(int(labels.counts[1]), strokes)  # some of it lies in the ball
        self.assertEqual(desk.undoing.undo_title, "Recipe “Half”")
        desk.undoing.undo()
        self.settle(window)
        self.assertEqual([one.name for one in study.labels(key).table], ["Mine"])
        self.assertEqual(int(study.labels(key).counts[1]), strokes)
        self.assertEqual([r.name for r in study.records() if "smooth" in r.name], [])
        self.assertEqual(self.troubles, [])

    def test_a_contour_that_is_left_open_does_not_stop_a_run_for_ever(self):
        application()
        session = mock.Mock(gestures={7: 1})
        session.end_gesture = lambda: session.gestures.update({7: 2})
        calm = BetweenGestures(session, None)
        found = []
        with mock.patch.object(calm_module, "PATIENCE", 0.3):
            worker = threading.Thread(target=lambda: found.append(calm.read([7], lambda: session.gestures[7])))
            worker.start()
            pause(100)
            self.assertEqual(found, [])
            while worker.is_alive():
                pause(20)
        self.assertEqual(found, [2])
        stopped, progress = [], Progress()
        session.gestures[7], calm.progress = 3, progress

        def wait() -> None:
            try:
                calm.change([7], lambda: stopped.append("done"))
            except Cancelled:
                stopped.append("cancelled")

        worker = threading.Thread(target=wait)
        worker.start()
        pause(100)
        progress.cancel()
        worker.join(5)  # the window closes, and waits for it
        pause(200)
        self.assertEqual(stopped, ["cancelled"])

    def test_what_fails_is_said_and_the_window_goes_on(self):
        window, model, page = self.opened("T-1", "T-2")
        model.set_step(2, {"low": 4900.0})
        model.add("threshold")  # what it needs is typed on the Bench
        self.settle(window)
        self.assertEqual((model.chosen, page.run.isEnabled()), (4, False))
        self.assertIn("Step 4: “Threshold” needs label", model.plan.open[0].sentence)
        model.edit("drop-step", number=4)
        model.add("surface")
        model.choose_for(workers=0)
        self.settle(window)
        self.press(window, page.run)
        made = book(model.study.folder)
        self.assertEqual({made.state(u) for u, _, _ in made.order.units}, {FAILED})
        self.assertTrue(any("2 of 2 failed" in t for t in self.troubles), self.troubles)
        page.view.selectRow(0)
        self.settle(window)
        self.assertTrue(page.again.isEnabled())
        self.assertIn("T-1: ", page.chosen_words.text())
        model.choose("Scan")
        self.settle(window)
        pattern = window.bench.recipe.fields["pattern"]
        pattern.setText("Nothing like it")
        pattern.editingFinished.emit()
        self.settle(window)
        self.assertFalse(page.run.isEnabled())
        self.assertEqual(page.counts.text(), "lacks something 2")
        boxes = [b for b in window.bench.recipe.findChildren(QComboBox) if b.isVisible()]
        self.assertEqual(boxes, [])
        model.study.run("rename", thing="Balls", name="Spheres")  # from wherever: it stays in hand
        self.settle(window)
        self.assertEqual((model.name, page.which.currentText(), model.is_open), ("Spheres", "Spheres", True))
        page.shut.click()
        self.settle(window)
        self.assertIs(window.middle.currentWidget(), window.table)
        recipe, name, version = recipe_called(model.study, "Spheres")
        self.assertEqual((name, recipe.slots[0].pattern), ("Spheres", "Nothing like it"))
        self.assertGreater(version, 3)
