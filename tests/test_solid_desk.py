"""The Solid view in the window: looks, the curve under the hand, clicks, crops, distances, undo; after a restart."""

from __future__ import annotations

import unittest
from dataclasses import replace
from unittest import mock

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QInputDialog

from kestrelmist.core import person
from kestrelmist.scene.crop_box import middle_of
from kestrelmist.scene.solid.scene import SURFACE, VOLUME
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, with_solid_view
from tests.making import keep_thing, two_balls

LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier


class SolidDeskTest(DeskCase):
    def setUp(self):
        super().setUp()
        with Study(self.place / "study", create=True) as study:
            self.key = keep_thing(study, two_balls())
            study.run("threshold", label="Ball", low=500.0, high=2000.0)
        self.window = self.open(self.place / "study")
        self.desk = self.window.desk
        self.desk.viewing.show_image(self.key)
        self.settle(self.window)
        self.table = self.window.table
        self.model, self.canvas = self.desk.solid, self.table.solid.canvas
        self.panel = self.window.bench.solid

    def lead(self):
        self.table.bring_to_lead(self.table.solid)
        self.settle(self.window)

    def click_on(self, world) -> None:
        eye = self.canvas.eye
        x, y, _ = eye.to_page(world)
        at = QPointF(float(x), float(y)).toPoint()
        QTest.mouseClick(self.canvas, LEFT, NONE, at)
        self.settle(self.window)

    def ways(self) -> list[str]:
        return [body.way for body in self.canvas.solid.bodies]

    @with_solid_view
    def test_a_look_is_chosen_a_curve_dragged_and_taken_back(self):
        self.assertFalse(self.panel.isVisible())
        self.lead()
        self.assertTrue(self.panel.isVisible())
        self.assertEqual(self.ways(), ["outline", SURFACE])
        self.panel.image.setCurrentText("Bone")
        self.panel.image.activated.emit(self.panel.image.currentIndex())
        self.settle(self.window)
        self.assertEqual(self.ways(), [VOLUME, SURFACE])
        self.assertIn("Bone", self.table.solid.header.place.text())
        before = self.canvas.picture.copy()
        curve = self.panel.volume.curve
        first = self.model.look
        n = len(first.points) - 1
        at = QPointF(curve.x_of(first.points[n][0]), curve.y_of(first.points[n][2])).toPoint()
        to = QPointF(curve.x_of(first.points[n][0]), curve.y_of(0.3)).toPoint()
        QTest.mousePress(curve, LEFT, NONE, at)
        QTest.mouseMove(curve, to)
        QTest.mouseRelease(curve, LEFT, NONE, to)
        self.settle(self.window)
        self.assertAlmostEqual(self.model.look.points[n][2], 0.3, delta=0.02)
        self.assertEqual((self.model.look.name, self.panel.image.currentText()), ("", "Own curve"))
        self.assertNotEqual(before, self.canvas.picture)
        # a point more, typed, and away again
        count = len(self.model.look.points)
        QTest.mouseClick(curve, LEFT, NONE, QPointF(curve.width() * 0.3, 20.0).toPoint())
        self.assertEqual(len(self.model.look.points), count + 1)
        self.panel.volume.opacity.setValue(12.0)
        self.panel.volume.value.setValue(float(self.model.look.points[curve.chosen][0]))
        self.assertAlmostEqual(self.model.look.points[curve.chosen][2], 0.12)
        QTest.keyClick(curve, Qt.Key.Key_Delete)
        self.assertEqual(len(self.model.look.points), count)
        # looks are taken back, the volume and then the outline come again
        for _ in range(6):
            if self.model.shown.image == "outline":
                break
            self.desk.undoing.undo()
        self.settle(self.window)
        self.assertEqual(self.ways(), ["outline", SURFACE])
        self.desk.undoing.redo()
        self.settle(self.window)
        self.assertEqual(self.ways(), [VOLUME, SURFACE])
        self.assertEqual(self.troubles, [])

    @with_solid_view
    def test_a_click_goes_there_and_two_measure(self):
        self.lead()
        self.model.set_camera(self.model.camera.side("front"))
        self.settle(self.window)
        record = self.desk.viewing.record
        middle = record.grid.to_world(np.argwhere(self.desk.viewing.maps.labels.data == 1).mean(0))
        self.desk.viewing.go_to((0.0, 0.0, 0.0))
        numbers = np.argwhere(self.desk.viewing.maps.labels.data == 1)
        near = record.grid.to_world(numbers[len(numbers) // 5])
        self.click_on(near)
        went = self.desk.viewing.crosshair
        self.assertNotEqual(tuple(went), (0.0, 0.0, 0.0))
        x, y, _ = self.canvas.eye.to_page(went)
        a, b, _ = self.canvas.eye.to_page(near)
        self.assertLess(abs(x - a) + abs(y - b), 2.5)
        self.assertIsNotNone(record.grid.nearest_voxel(went))
        self.panel.distance.click()
        far = record.grid.to_world(numbers[-len(numbers) // 5])
        self.click_on(near)
        self.click_on(far)
        self.assertEqual(len(self.model.ends), 2)
        true = np.linalg.norm(np.subtract(*self.model.ends))
        self.assertEqual(self.panel.measured.text(), f"{true:.5g} mm in a straight line")
        self.assertEqual(tuple(self.desk.viewing.crosshair), tuple(went))
        QTest.keyClick(self.canvas, Qt.Key.Key_Escape)
        self.assertFalse(self.panel.distance.isChecked())
        self.assertGreater(abs(middle[0]), 0.0)

    @with_solid_view
    def test_crop_cut_parts_and_sides(self):
        self.lead()
        self.panel.crop.box.click()
        field = self.panel.crop.ends[0][1]
        field.setValue(0.0)
        self.settle(self.window)
        self.assertEqual(self.model.shown.crop[1][0], 0.0)
        self.assertEqual(self.canvas.solid.planes.shape, (6, 4))
        self.assertIn("cropped", self.table.solid.header.place.text())
        self.panel.crop.plane.click()
        cut = np.array(self.model.shown.cut)
        self.assertAlmostEqual(float(np.linalg.norm(cut[:3])), 1.0)
        self.assertAlmostEqual(float(cut[:3] @ self.desk.viewing.crosshair), cut[3])
        self.panel.crop.flip.click()
        np.testing.assert_allclose(self.model.shown.cut, -cut)
        self.panel.parts["slices"].click()
        self.panel.parts["cross"].click()
        self.panel.parts["labels"].click()
        self.settle(self.window)
        self.assertEqual(self.ways(), ["outline", "slice", "slice", "slice", "cross"])
        for n, side in enumerate(("front", "back", "left", "right", "top", "bottom")):
            QTest.keyClick(self.canvas, Qt.Key(Qt.Key.Key_1.value + n))
            self.assertEqual(self.model.camera, self.model.camera.side(side))
        self.panel.sides["left"].click()
        self.assertEqual((self.model.camera.turn, self.model.camera.tilt), (270.0, 0.0))
        self.panel.parallel.click()
        self.assertTrue(self.model.camera.parallel)
        QTest.keyClick(self.canvas, Qt.Key.Key_BracketRight)
        self.assertEqual(self.model.camera.roll, 10.0)
        QTest.keyClick(self.canvas, Qt.Key.Key_Plus)
        self.assertGreater(self.model.camera.zoom, 1.1)
        self.settle(self.window)
        self.assertEqual(self.troubles, [])

    @with_solid_view
    def test_the_box_is_dragged_in_the_scene_and_in_panes(self):
        self.lead()
        self.model.change(crop=((-5.0, -5.0, -5.0), (20.0, 20.0, 20.0)))
        self.settle(self.window)
        eye, here = self.canvas._eye(), self.desk.viewing.crosshair.copy()
        place = middle_of(self.model.shown.crop, (0, 1))
        at, to = (eye.to_page(place - np.array((by, 0, 0)))[:2] for by in (0.0, 6.0))
        at, to = QPointF(*map(float, at)).toPoint(), QPointF(*map(float, to)).toPoint()
        QTest.mousePress(self.canvas, LEFT, NONE, at)
        QTest.mouseMove(self.canvas, to)
        QTest.mouseRelease(self.canvas, LEFT, NONE, to)
        self.settle(self.window)
        self.assertAlmostEqual(self.model.shown.crop[1][0], 14.0, delta=0.5)
        np.testing.assert_array_equal(self.desk.viewing.crosshair, here)  # it was no click
        pane = next(one for one in self.table.slices if one.name == "Axial")
        view = pane.canvas.current_view()
        at, to = (
            view.to_pixel((4.5, y, view.centre[2]))
            for y in (self.model.shown.crop[1][1], self.model.shown.crop[1][1] - 5)
        )
        at, to = QPointF(*map(float, at)).toPoint(), QPointF(*map(float, to)).toPoint()
        QTest.mousePress(pane.canvas, LEFT, NONE, at)
        QTest.mouseMove(pane.canvas, to)
        QTest.mouseRelease(pane.canvas, LEFT, NONE, to)
        self.settle(self.window)
        self.assertAlmostEqual(self.model.shown.crop[1][1], 15.0, delta=2 * view.pixel)
        self.desk.undoing.undo()
        self.assertIsNone(self.model.shown.crop)  # what was done in one go is taken back in one

    @with_solid_view
    def test_what_the_form_shows_is_what_one_sees(self):
        self.lead()
        self.panel.image.setCurrentText("Bone")
        self.panel.image.activated.emit(self.panel.image.currentIndex())
        self.panel.quality.setCurrentIndex(2)
        self.panel.quality.activated.emit(2)
        self.addCleanup(person.remember, **{"quality of solid views": "usual"})
        self.model.change(inside=1, only=1, crop=((0.0, 0.0, 0.0), (30.0, 20.0, 20.0)), apart=0.5)
        self.settle(self.window)
        self.assertEqual((self.model.quality, person.remembered()["quality of solid views"]), ("finest", "finest"))
        for button, name in ((self.panel.picture, "render"), (self.panel.film, "film")):
            self.lead()
            button.click()
            values = self.window.bench.page(self.desk.viewing.stage).form.values_without(("to",))
            self.assertEqual(values["labels"], self.desk.viewing.maps.map.id, name)
            told = [values[word] for word in ("only", "inside", "quality", "crop", "apart_by", "look")]
            self.assertEqual(told, ["Ball", "Ball", "finest", "0, 0, 0, 30, 20, 20", 0.5, "Bone"], name)
        # labels that only say where the volume is, what is seen from the side, and a label that is gone
        self.model.change(labels=False, inside=0, only=77, crop=None, slices=True)
        self.model.set_camera(replace(self.model.camera, across=0.25, up=-0.5))
        self.settle(self.window)
        self.assertEqual([body.way for body in self.model.scene()[0].bodies], ["volume"] + 3 * ["slice"])
        self.lead()
        self.panel.picture.click()
        values = self.window.bench.page(self.desk.viewing.stage).form.values_without(("to",))
        self.assertEqual(values["labels"], self.desk.viewing.maps.map.id)
        told = [values[word] for word in ("draw_labels", "only", "inside", "across", "up")]
        self.assertEqual(told, [False, "", "any label", 0.25, -0.5])
        np.testing.assert_allclose(
            [float(v) for v in values["crosshair"].split(",")], self.desk.viewing.crosshair, atol=1e-4
        )

    @with_solid_view
    def test_another_image_leads_in_the_middle_of_a_drag(self):
        with_box = ((0.0, 0.0, 0.0), (20.0, 20.0, 20.0))
        self.lead()
        self.model.change(crop=with_box)
        self.settle(self.window)
        eye = self.canvas._eye()
        x, y, _ = eye.to_page(middle_of(with_box, (0, 1)))
        at = QPointF(float(x), float(y)).toPoint()
        QTest.mousePress(self.canvas, LEFT, NONE, at)
        self.desk.viewing.lead_changed.emit()
        QTest.mouseMove(self.canvas, at + QPointF(40, 30).toPoint())
        QTest.mouseRelease(self.canvas, LEFT, NONE, at)
        self.assertEqual(self.model.shown.crop, with_box)

    @with_solid_view
    def test_looks_are_kept_by_name_and_all_comes_back(self):
        self.lead()
        self.model.set_ready("Glass")
        self.settle(self.window)
        with mock.patch.object(QInputDialog, "getText", return_value=("My glass", True)):
            self.panel.volume._keep(False)
        with mock.patch.object(QInputDialog, "getText", return_value=("For all", True)):
            self.panel.volume._keep(True)
        with mock.patch.object(QInputDialog, "getText", return_value=("bone", True)):
            self.panel.volume._keep(False)
        self.assertEqual(self.troubles[-1], "“bone” is a ready look: choose another name.")
        self.assertEqual(set(self.model.kept()), {"My glass", "For all"})
        self.assertIn("For all", person.remembered()["volume looks"])
        self.model.change(crop=((-1.0, -2.0, -3.0), (1.0, 2.0, 3.0)))
        shown = self.model.shown
        self.window.close()
        window = self.open(self.place / "study")
        self.assertEqual(window.desk.solid.shown, shown)
        self.assertEqual(set(window.desk.solid.kept()), {"My glass", "For all"})
        window.desk.solid.forget("For all")
        window.desk.solid.forget("My glass")
        self.assertEqual(window.desk.solid.kept(), {})

    @with_solid_view
    def test_the_process_is_killed_in_the_middle_and_the_scene_is_as_it_was(self):
        self.lead()
        self.model.set_ready("Skin")
        self.settle(self.window)
        known = set(self.canvas.feed.known)
        self.model.set_camera(self.model.camera.turned(40, 5))
        self.canvas.process.process.kill()
        self.settle(self.window)
        self.assertEqual((set(self.canvas.feed.known), self.canvas.trouble), (known, ""))
        self.assertEqual(self.model.look.name, "Skin")


if __name__ == "__main__":
    unittest.main()
