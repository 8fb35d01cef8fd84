"""Keys and gestures: one list by which they are handled and from which the sheet is made; where they lead."""

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QInputDevice, QKeySequence, QPointingDevice, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kestrelmist.core.image import Image
from kestrelmist.desk.command import COMMANDS, HANDLINGS, what_does
from kestrelmist.desk.shell.sheet import told
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import straight_space, tilted_space


class ListTest(DeskCase):
    def test_no_key_means_two_things(self):
        seen: dict[tuple, str] = {}
        for one in COMMANDS:
            for keys in one.keys:
                key = QKeySequence(keys).toString()
                self.assertTrue(key, one.name)
                self.assertNotIn(key, seen, one.name)
                seen[key] = one.name

    def test_what_buttons_and_fingers_do(self):
        self.assertEqual(what_does("Right", set()), "range")
        self.assertEqual(what_does("Left", {"Shift"}), "point")
        self.assertEqual(what_does("Left", set()), "")
        self.assertEqual((what_does("Wheel", set()), what_does("Wheel", {"Ctrl"})), ("step", "zoom"))
        self.assertEqual((what_does("Fingers", set()), what_does("Fingers", {"Alt"})), ("pan", "step"))

    def test_the_sheet_tells_all(self):
        lines = [line for _, group in told() for line in group]
        self.assertEqual(len(lines), len([c for c in COMMANDS if c.keys]) + len(list(HANDLINGS)))
        self.study_with_balls().close()
        window = self.open(self.place / "study")
        QTest.keyClick(window, Qt.Key.Key_F1)
        self.assertTrue(window.sheet.isVisible())
        shown = {label.text() for label in window.sheet.findChildren(type(window.readout.scale))}
        for one in COMMANDS:
            if one.keys:
                self.assertIn(one.title, shown)
        QTest.keyClick(window.sheet, Qt.Key.Key_Escape)
        self.assertFalse(window.sheet.isVisible())
        titles = [line.name for line, _ in window.findable.fixed()]
        for one in COMMANDS:  # and the Finder reaches each of them
            if not one.name.startswith("stage-") and one.name != "finder":
                self.assertIn(one.title, titles)


class GoingTest(DeskCase):
    def setUp(self):
        super().setUp()
        space = tilted_space((30, 28, 26), (0.5, 0.5, 0.5), 12.0)
        values = np.zeros(space.shape, np.float32)
        values[12, 14, 13], values[20, 5, 6] = 50, 90
        write_nifti(self.place / "tilted.nii", np.asfortranarray(values), space)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "tilted.nii", subject="T-1")
        self.space = space
        self.window = self.open(self.place / "study")
        self.viewing, self.canvas = self.window.desk.viewing, self.window.table.lead.canvas
        self.canvas.setFocus()

    def key(self, key, modifier=Qt.KeyboardModifier.NoModifier) -> None:
        QTest.keyClick(self.canvas, key, modifier)
        self.settle(self.window)

    def test_six_steps_the_origin_the_middle_and_the_highest_value(self):
        self.key(Qt.Key.Key_M)
        np.testing.assert_allclose(self.viewing.crosshair, self.space.centre)
        start = self.viewing.crosshair.copy()
        ways = {
            Qt.Key.Key_Right: (0, 1),
            Qt.Key.Key_Left: (0, -1),
            Qt.Key.Key_Up: (2, 1),
            Qt.Key.Key_Down: (2, -1),
            Qt.Key.Key_PageUp: (1, 1),
            Qt.Key.Key_PageDown: (1, -1),
        }
        for key, (axis, sign) in ways.items():
            self.viewing.go_to(start)
            self.key(key)
            moved = self.viewing.crosshair - start
            self.assertGreater(sign * moved[axis], 0.1)
            np.testing.assert_allclose(np.delete(moved, axis), 0, atol=1e-12)
        self.viewing.arrange(left_on_left=False)
        self.viewing.go_to(start)
        self.key(Qt.Key.Key_Right)
        self.assertLess(self.viewing.crosshair[0], start[0])  # the picture's right is the subject's left now
        self.key(Qt.Key.Key_O)
        np.testing.assert_array_equal(self.viewing.crosshair, (0, 0, 0))
        self.viewing.go_to(self.space.to_world((14, 13, 11)))
        self.key(Qt.Key.Key_H)
        np.testing.assert_allclose(self.space.to_voxel(self.viewing.crosshair), (12, 14, 13), atol=1e-6)
        self.viewing.go_to((900, 0, 0))
        self.key(Qt.Key.Key_H)
        self.assertIn("no value near", self.troubles[-1])

    def test_the_centre_of_a_label_and_a_typed_voxel(self):
        self.key(Qt.Key.Key_L)
        self.assertIn("empty or there is none", self.troubles[-1])
        desk = self.window.desk
        self.viewing.set_stage("Outline")
        middle = self.space.to_world((10, 12, 5))
        desk.session.run("paint", {"image": 1, "label": "Blob", "point": tuple(middle), "diameter": 2.0})
        self.settle(self.window)
        desk.hand.choose_label(1)
        self.key(Qt.Key.Key_L)
        np.testing.assert_allclose(self.space.to_voxel(self.viewing.crosshair), (10, 12, 5), atol=1e-6)
        field = self.window.bench.look.go
        field.setText("v 3 4 5")
        QTest.keyClick(field, Qt.Key.Key_Return)
        np.testing.assert_allclose(self.space.to_voxel(self.viewing.crosshair), (3, 4, 5), atol=1e-6)
        field.setText("v 30 4 5")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertIn("There is no such voxel in “tilted”: type from 0 0 0 to 29 27 25", self.troubles[-1])
        self.key(Qt.Key.Key_G)
        self.assertTrue(field.hasFocus())

    def test_along_the_images_own_axes(self):
        self.key(Qt.Key.Key_M)
        straight = self.canvas.render_pixels().copy()
        self.key(Qt.Key.Key_W)
        view = self.canvas.current_view()
        frame = np.abs(view.voxel_frame(self.space))
        for way in frame[1:]:
            self.assertEqual((way > 1e-9).sum(), 1)  # right and down run along one axis of the grid each
        self.assertIn("own axes", self.window.table.lead.header.title)
        self.assertFalse(np.array_equal(self.canvas.render_pixels(), straight))
        start = self.space.to_voxel(self.viewing.crosshair)
        self.key(Qt.Key.Key_PageUp)
        moved = self.space.to_voxel(self.viewing.crosshair) - start
        self.assertEqual(np.count_nonzero(np.abs(moved) > 1e-6), 1)
        self.key(Qt.Key.Key_W)
        self.assertNotIn("own axes", self.window.table.lead.header.title)

    def test_crosshair_side_and_scale_by_key_and_kept(self):
        canvas, grab = self.canvas, lambda: self.canvas.grab().toImage()
        self.key(Qt.Key.Key_M)
        x, y = (round(v) for v in canvas.current_view().to_pixel(self.viewing.crosshair))
        seen = lambda: [grab().pixelColor(x + n, 60).name() for n in range(-3, 4)]  # noqa: E731
        self.assertEqual(seen().count("#c9c49b"), 1)
        self.key(Qt.Key.Key_C)
        self.assertEqual(seen().count("#c9c49b"), 0)
        self.viewing.arrange(crosshair_width=3.0, crosshair="#FF0000")
        self.assertEqual(seen().count("#ff0000"), 3)
        self.key(Qt.Key.Key_X)
        self.assertFalse(self.viewing.left_on_left)
        canvas.zoom(2.0)
        self.key(Qt.Key.Key_S)
        pixels = [pane.canvas.current_view().pixel for pane in self.window.table.slices]
        np.testing.assert_allclose(pixels, pixels[0])
        self.key(Qt.Key.Key_1)
        self.assertAlmostEqual(canvas.current_view().pixel, 0.5)
        self.key(Qt.Key.Key_R)
        self.assertEqual(self.window.table.lead.name, "Axial")
        self.window.close()
        window = self.open(self.place / "study")
        arrangement = window.desk.viewing.arrangement
        self.assertEqual((arrangement.left_on_left, arrangement.crosshair_width), (False, 3.0))
        self.assertIn("from the feet", window.readout.side.text())

    def test_fingers_move_and_pinch(self):
        canvas, device = (
            self.canvas,
            QPointingDevice(
                "pad",
                7,
                QInputDevice.DeviceType.TouchPad,
                QPointingDevice.PointerType.Finger,
                QInputDevice.Capability.Position | QInputDevice.Capability.PixelScroll,
                5,
                1,
            ),
        )
        before, slice_ = np.array(canvas.current_view().centre), self.viewing.crosshair.copy()
        middle = QPointF(canvas.width() / 2, canvas.height() / 2)
        event = QWheelEvent(
            middle,
            canvas.mapToGlobal(middle),
            QPoint(12, -30),
            QPoint(48, -120),
            Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier,
            Qt.ScrollPhase.ScrollUpdate,
            False,
            Qt.MouseEventSource.MouseEventNotSynthesized,
            device,
        )
        QApplication.sendEvent(canvas, event)
        moved = np.array(canvas.current_view().centre) - before
        np.testing.assert_allclose(moved[[0, 2]] / canvas.view.pixel, (-12, -30), atol=1e-6)
        np.testing.assert_array_equal(self.viewing.crosshair, slice_)


class FadeTest(DeskCase):
    def test_held_it_fades_and_let_go_it_comes_back(self):
        with Study(self.place / "study", create=True) as study:
            for name, value in (("Low", 10), ("High", 200)):
                values = np.asfortranarray(np.full((10, 10, 10), value, np.int16))
                values[0] = 0
                write_nifti(self.place / f"{name}.nii", values, straight_space((10, 10, 10), 1.0))
                study.run("gather", folder=self.place / f"{name}.nii", subject="T-1")
            low, high = (r.id for r in study.records())
        window = self.open(self.place / "study")
        window.desk.viewing.show_image(low)
        self.settle(window)
        layers, canvas = window.desk.layers, window.table.lead.canvas
        plain = canvas.render_pixels().copy()
        layers.lay_over(high)
        self.settle(window)
        over = canvas.render_pixels().copy()
        self.assertFalse(np.array_equal(over, plain))
        QTest.keyPress(canvas, Qt.Key.Key_F)
        pause(20)
        np.testing.assert_array_equal(canvas.render_pixels(), plain)  # what lay above was seen: it is gone while held
        QTest.keyRelease(canvas, Qt.Key.Key_F)
        pause(20)
        np.testing.assert_array_equal(canvas.render_pixels(), over)
        QTest.keyPress(canvas, Qt.Key.Key_F)
        window.bench.look.go.setFocus()  # the keyboard goes elsewhere while it is held
        pause(20)
        np.testing.assert_array_equal(canvas.render_pixels(), over)
        layers.compare_by(way="swipe", share=0.5)
        middle = QPoint(canvas.width() // 2, canvas.height() // 2)
        QTest.mousePress(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, middle)
        QTest.mouseMove(canvas, QPoint(canvas.width() // 4, middle.y()))
        QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, middle)
        self.assertEqual(layers.comparison.way, "swipe")
        image = Image(np.zeros((2, 2, 2), np.int16), straight_space((2, 2, 2), 1.0))
        self.assertFalse(image.axes)
