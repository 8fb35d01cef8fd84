"""The Path: stages in which something was done for what leads; headings that follow it."""

from importlib import import_module
from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest

from kestrelmist.core.operation import STAGES, all_operations
from kestrelmist.desk.theme.theme import Theme
from kestrelmist.study.journal.logbook import BY_HAND, Step, Thing
from kestrelmist.study.journal.stages_done import StagesDone
from tests.desk_case import DeskCase, pause

LEFT = Qt.MouseButton.LeftButton


class StagesDoneTest(DeskCase):
    def setUp(self):
        super().setUp()
        self.study = self.study_with_balls()
        self.addCleanup(self.study.close)
        self.done = StagesDone(self.study)

    def of(self, key: int) -> list[str]:
        return sorted(self.done.of(self.study.items.get(key)))

    def test_what_led_to_an_image_and_what_was_done_with_it(self):
        self.assertEqual(self.of(1), ["gather"])
        (smooth,) = self.study.run("smooth", image=1, fwhm=1.0)
        (clipped,) = self.study.run("clip", image=smooth, high=500.0)
        self.study.run("set-origin", image=clipped, point=(0.0, 0.0, 0.0))
        self.assertEqual((self.of(1), self.of(smooth)), (["gather", "prepare"],) * 2)
        self.assertEqual(self.of(clipped), ["align", "gather", "prepare"])
        self.study.run("add-label", labels=smooth, label="Ball")
        self.study.run("threshold", image=smooth, label="Ball", low=500.0, high=2000.0)
        self.study.run("measure-labels", image=smooth)
        self.assertEqual(self.of(smooth), ["gather", "measure", "outline", "prepare"])
        # what was drawn on an image it was made of is another matter
        self.assertEqual(self.of(clipped), ["align", "gather", "prepare"])
        self.study.run("undo", times=3)
        self.assertNotIn("outline", self.of(smooth))
        self.study.run("redo", times=3)
        self.assertIn("outline", self.of(smooth))

    def test_what_a_hand_has_drawn_and_names_that_look_like_ids(self):
        (other,) = self.study.run("smooth", image=1, fwhm=1.0)
        record = self.study.items.get(other)
        thing = Thing("image", record.name, record.subject, "", (), record.id, record.hash)
        self.study.logbook.write(Step(BY_HAND, "Brush", {}, {"image": (thing,)}))
        self.assertEqual(self.of(other), ["gather", "prepare"])  # nothing of it is a map that was drawn on
        self.study.run("rename", thing=other, name='"item": 1, x')
        (last,) = self.study.run("clip", image=other, high=5.0)
        step = next(s for s in reversed(self.study.logbook.entries()) if s.operation == "clip")
        self.assertEqual(self.done._inputs[step.id] if self.done.of(self.study.items.get(last)) else None, (other,))

    def test_a_long_logbook_is_read_once(self):
        thing = Thing("image", "x", "A", "", (), 1, "h")
        with self.study.catalogue.change():
            for n in range(20_000):
                self.study.logbook.write(Step(("smooth", BY_HAND)[n % 2], "x", {}, {"image": (thing,)}))
        rows, read = self.study.catalogue.rows, []

        def counting(query, *values):
            found = rows(query, *values)
            read.append((query.split(" FROM")[0], len(found)))
            return found

        with mock.patch.object(self.study.catalogue, "rows", counting):
            self.assertEqual(self.of(1), ["gather", "prepare"])
            self.assertEqual(max(count for _, count in read), 10_001)  # strokes are not read one by one
            read.clear()
            self.assertEqual(self.of(1), ["gather", "prepare"])
            self.assertEqual({count for _, count in read}, {0})

    def test_every_operation_stands_under_a_heading_of_its_stage(self):
        headings = {stage: {h.name for h in import_module(f"kestrelmist.{stage}").HEADINGS} for stage in STAGES}
        for operation in all_operations().values():
            if operation.function.__module__.startswith("kestrelmist."):
                self.assertIn(operation.group, headings[operation.stage], operation.name)


class InTheWindowTest(DeskCase):
    def wait_for(self, state) -> None:
        for _ in range(600):
            if state():
                return
            pause(20)
        self.fail("it did not come")

    def test_the_path_fills_and_empties_with_what_leads(self):
        with self.study_with_balls() as study:
            (smooth,) = study.run("smooth", image=1, fwhm=1.0)
        window = self.open(self.place / "study")
        path, desk = window.path.stages, window.desk
        desk.viewing.show_image(smooth)
        self.wait_for(lambda: "Prepare" in path.done)
        self.assertEqual(path.done, {"Gather", "Prepare"})
        self.assertEqual(path.told("Align"), f"Align: nothing was done for “{desk.viewing.record.name}”.")
        self.assertIn("Prepare: something was done", path.accessibleDescription())
        at = path.stop("Measure").toPoint()
        QTest.mouseClick(path, LEFT, pos=at)
        self.assertEqual(desk.viewing.stage, "Measure")
        self.assertEqual(path.done, {"Gather", "Prepare"})  # going on does not fill what was left out
        seen = path.grab().toImage()
        colours = [seen.pixelColor(path.stop(stage).toPoint()).name() for stage in ("Prepare", "Align", "Measure")]
        t = Theme.tokens
        self.assertEqual(colours, [QColor(c).name() for c in (t.rust, t.panel, t.rust_tint)])
        desk.run_now("set-origin", {"image": smooth, "point": (0.0, 0.0, 0.0)})
        self.wait_for(lambda: "Align" in path.done)
        desk.undoing.undo()
        self.wait_for(lambda: "Align" not in path.done)
        QTest.keyClick(path, Qt.Key.Key_Left)
        self.assertEqual(desk.viewing.stage, "Outline")
