"""A camera that is live in the lead pane: frames, settings, marks, calibration, pictures that stay."""

import time
import unittest
from unittest import mock

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrelmist.checks.notice import Subject
from kestrelmist.checks.spacing import spacing_unsure
from kestrelmist.core.camera import CAMERAS, CameraKind, CameraSettings, camera_kind, held
from kestrelmist.core.errors import Trouble
from kestrelmist.core.scale import scale_of
from kestrelmist.measure.camera.take_pictures import take_pictures
from kestrelmist.standins.microscope import BEST_FOCUS, RESOLUTIONS, RULER, Microscope
from tests.desk_case import DeskCase, pause

SHARP = BEST_FOCUS[RULER]
SMALL = list(RESOLUTIONS)[1]


class Counted(Microscope):
    """The stand-in, which tells how often it was opened and closed."""

    opened = closed = 0
    breaks = False

    def __init__(self):
        super().__init__()
        Counted.opened += 1
        super().set(CameraSettings("10x", SMALL, RULER, exposure=5.0, focus=SHARP))

    def picture(self):
        if Counted.breaks:
            raise OSError("the cable was pulled")
        return super().picture()

    def close(self):
        Counted.closed += 1
        super().close()


class LiveCameraTest(DeskCase):
    def setUp(self):
        super().setUp()
        Counted.opened = Counted.closed = 0
        Counted.breaks = False
        if "counted" not in CAMERAS.names():
            CAMERAS.add("counted", CameraKind("counted", "Counted stand-in", Counted))
        self.window = self.open(self.place / "study")
        self.live = self.window.desk.live
        self.addCleanup(self.live.stop)

    def until(self, true, seconds=40):
        end = time.monotonic() + seconds
        while not true():
            pause(10)
            if time.monotonic() > end:
                self.fail("it did not come about")

    def start(self):
        self.live.start("counted")
        self.until(lambda: self.live.showing and self.live.frames.rate > 0)
        self.settle(self.window)

    def shelf(self):
        return [r.name for r in self.window.desk.study.records()]

    def test_frames_are_drawn_over_the_picture_that_leads(self):
        self.start()
        self.assertEqual(self.shelf(), ["Live"])
        canvas = self.window.table.working.canvas
        one = canvas.render_pixels().copy()
        seen = []
        self.live.arrived.connect(lambda: seen.append(1))
        canvas.repaint()
        self.until(lambda: len(seen) > 2)
        other = canvas.render_pixels()
        changed = (one != other).mean()
        self.assertGreater(changed, 0.05)  # noise of another frame
        grey = [(v & 255).astype(float) for v in (one, other)]
        self.assertLess(np.abs(grey[0] - grey[1]).mean(), 12)  # of the same specimen
        self.assertEqual(self.troubles, [])

    def test_another_objective_takes_what_leads_anew_and_says_that_nothing_fits(self):
        self.start()
        first = self.live.still
        self.live.set(objective="20x")
        self.until(lambda: self.live.still != first and self.live.showing)
        self.settle(self.window)
        study = self.window.desk.study
        self.assertTrue(study.items.get(first).removed)
        self.assertEqual(len(self.shelf()), 1)
        image = study.image(self.live.still)
        told = [one.sentence for one in spacing_unsure(Subject(image))]
        self.assertIn("Taken with 20x", told[0])
        self.assertIn("without a calibration", told[0])

    def test_frames_of_another_set_up_are_not_shown_with_the_scale_of_before(self):
        self.start()
        with mock.patch.object(self.live, "renew"):
            self.live._soon.timeout.disconnect()
            self.live.set(objective="20x")
            self.until(lambda: self.live.frames.newest.setup.objective == "20x")
            self.assertFalse(self.live.showing)
            parts = self.window.table.working.canvas.sight.parts()
            self.assertIs(self.live.laid_over(parts), parts)
            group = self.window.bench.page("Gather").groups["camera"]
            group._say()
            self.assertIn("taken anew", group.told.text())
        self.live.renew()
        self.until(lambda: self.live.showing)

    def test_nothing_is_drawn_on_a_picture_that_is_no_more_what_is_seen(self):
        self.start()
        first = self.live.still
        self.window.desk.viewing.set_stage("Measure")
        self.window.desk.hand.set_tool("mark-point")
        canvas = self.window.table.working.canvas
        self.live.set(x=0.04)
        self.assertTrue(self.live.behind)
        QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=canvas.rect().center())
        self.window.desk.run("calibrate-ruler", {"spacing": 0.01})
        study = self.window.desk.study
        self.assertIsNone(study.marks.in_hand(first))
        self.assertEqual(len(self.troubles), 2)
        self.assertIn("being taken anew", self.troubles[0])
        self.until(lambda: self.live.still != first and not self.live.behind)
        self.settle(self.window)
        QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=canvas.rect().center())
        self.settle(self.window)
        self.assertEqual(len(study.thing(study.marks.in_hand(self.live.still))), 1)

    def test_opened_and_closed_in_a_row(self):
        for _ in range(5):
            self.live.start("counted")
            self.live.stop()
        self.assertIsNone(self.live.camera)
        self.until(lambda: Counted.closed == Counted.opened)
        pause(50)
        self.assertIsNone(self.live.camera)
        self.start()
        self.assertEqual(self.troubles, [])

    def test_what_was_marked_stays_when_the_stage_moves(self):
        self.start()
        first = self.live.still
        canvas = self.window.table.working.canvas
        self.window.desk.viewing.set_stage("Measure")
        self.window.desk.hand.set_tool("mark-line")
        pause(50)
        a, b = canvas.rect().center(), canvas.rect().center()
        a.setX(a.x() - 90)
        QTest.mousePress(canvas, Qt.MouseButton.LeftButton, pos=a)
        QTest.mouseMove(canvas, b)
        QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, pos=b)
        self.settle(self.window)
        study = self.window.desk.study
        self.assertEqual(len(study.thing(study.marks.in_hand(first))), 1)
        self.live.set(x=0.05)
        self.until(lambda: self.live.still != first and self.live.showing)
        self.settle(self.window)
        self.assertFalse(study.items.get(first).removed)
        self.assertEqual(len(self.shelf()), 2)

    def test_a_calibration_made_of_what_is_live_counts_at_once(self):
        self.start()
        self.live.hold(True)
        self.settle(self.window)
        self.until(lambda: self.live._taking is None)
        first = self.live.still
        self.window.desk.session.run("calibrate-ruler", {"image": first, "spacing": 0.01, "name": "ten"})
        self.settle(self.window)
        self.live.hold(False)
        self.until(lambda: self.live.still != first and self.live.showing)
        self.settle(self.window)
        record = self.window.desk.study.items.get(self.live.still)
        self.assertIn("ten", scale_of(record).how)
        self.assertAlmostEqual(record.grid.spacing[0] / Counted().true_pixel, 1, delta=3e-3)
        self.assertEqual(self.troubles, [])

    def test_a_picture_that_was_undone_is_taken_anew(self):
        self.start()
        first = self.live.still
        self.window.desk.undoing.undo()
        self.settle(self.window)
        self.assertTrue(self.live.gone)
        self.assertFalse(self.live.showing)
        group = self.window.bench.page("Gather").groups["camera"]
        group._say()
        self.assertIn("off the Shelf", group.told.text())
        self.live.set(focus=2.0)
        self.until(lambda: self.live.showing)
        self.settle(self.window)
        self.assertNotEqual(self.live.still, first)
        self.assertEqual(len(self.shelf()), 1)

    def test_held_still(self):
        self.start()
        self.live.hold(True)
        self.settle(self.window)
        came = []
        self.live.arrived.connect(lambda: came.append(1))
        pause(300)
        self.assertEqual(came, [])
        self.assertFalse(self.live.showing)

    def test_a_picture_is_taken_with_its_marks_and_live_goes_on(self):
        self.start()
        study, still = self.window.desk.study, self.live.still
        point = {"shape": "point", "points": "3,4"}
        self.window.desk.run("mark", point)
        self.settle(self.window)
        self.live.take(with_marks=True)
        self.settle(self.window)
        self.assertEqual(self.live.still, still)
        self.assertTrue(self.live.showing)
        self.assertEqual(self.troubles, [])
        new = next(r for r in study.records() if r.id != still)
        self.assertEqual(new.name, "stage ruler, 10x")
        marks = study.thing(study.marks.in_hand(new.id))
        np.testing.assert_allclose(next(iter(marks)).points[0][:2], (3, 4))
        self.assertEqual(Counted.opened, 1)  # both use the one that is open

    def test_closing_lets_the_camera_go_and_clears_what_nobody_used(self):
        self.start()
        self.live.stop()
        self.until(lambda: Counted.closed == 1)
        self.settle(self.window)
        self.assertEqual(self.shelf(), [])
        self.assertEqual(self.troubles, [])

    def test_a_window_closes_while_it_is_live(self):
        self.start()
        self.window.close()
        self.until(lambda: Counted.closed == 1)

    def test_a_camera_that_breaks_is_said_once(self):
        self.start()
        Counted.breaks = True
        self.until(lambda: not self.live.on)
        self.settle(self.window)
        self.assertEqual(len(self.troubles), 1)
        self.assertIn("cable", self.troubles[0])
        self.assertEqual(Counted.closed, 1)

    def test_from_the_bench(self):
        self.window.desk.viewing.set_stage("Measure")
        group = self.window.bench.page("Measure").groups["camera-measured"]
        group.which.setCurrentIndex(group.which.findData("counted"))
        group.start.click()
        self.until(lambda: self.live.showing)
        self.settle(self.window)
        self.assertEqual(group.exposure.value(), 5.0)
        self.assertEqual([group.choices["objective"].itemText(n) for n in range(5)], list(Microscope.objectives))
        group.exposure.setValue(12.0)
        group.choices["objective"].setCurrentText("40x")
        group.choices["objective"].activated.emit(3)
        self.until(lambda: self.live.camera.camera.settings.exposure == 12.0)
        self.until(lambda: self.live.camera.camera.settings.objective == "40x" and self.live.showing)
        self.until(lambda: "pictures a second" in group.told.text())
        self.assertIn("no calibration", group.told.text().casefold())
        group.more.click()
        form = self.window.bench.page("Gather").form
        self.assertEqual(form.values()["objective"], "40x")
        self.assertEqual(form.values()["exposure"], 12.0)


class SharedCameraTest(unittest.TestCase):
    """One camera for all who hold it."""

    def setUp(self):
        if "counted" not in CAMERAS.names():
            CAMERAS.add("counted", CameraKind("counted", "Counted stand-in", Counted))
        Counted.opened = Counted.closed = 0
        Counted.breaks = False

    def test_it_is_opened_once_and_closed_by_the_last(self):
        with held(camera_kind("counted")) as one:
            with one.turn:
                one.camera.set(CameraSettings("40x", SMALL, RULER, exposure=1.0, focus=SHARP))
            image = take_pictures("counted", exposure=1.0)
            self.assertIn("40x", image.name)  # as it is set
            self.assertEqual((Counted.opened, Counted.closed), (1, 0))
        self.assertEqual((Counted.opened, Counted.closed), (1, 1))

    def test_a_camera_that_is_not_there(self):
        with self.assertRaisesRegex(Trouble, "no camera “nowhere”.*there are: .*stand-in"):
            camera_kind("nowhere")
