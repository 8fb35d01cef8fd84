"""The preview in the window: what is seen, and what becomes of it when something else happens meanwhile."""

from unittest import mock

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.operation import find_operation
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.scene.layer import ImageLook
from tests.desk_case import DeskCase, pause
from tests.making import straight_space


class PreviewDeskTest(DeskCase):
    def setUp(self):
        super().setUp()
        study = self.study_with_balls()
        space = straight_space((30, 30, 30))
        noise = np.random.default_rng(1).normal(500, 100, space.shape).astype(np.float32)
        write_nifti(self.place / "noise.nii.gz", noise, space)
        study.run("gather", folder=self.place / "noise.nii.gz")
        study.close()
        self.window = self.open(self.place / "study")
        self.desk = self.window.desk
        self.balls, self.noise = (r.id for r in self.desk.study.records())
        self.show_image(self.balls)
        self.desk.viewing.set_stage("Prepare")
        self.canvas = self.window.table.panes[0].canvas

    def show_image(self, key):
        self.desk.viewing.show_image(key)
        self.settle(self.window)

    def form(self, name="smooth", **fields):
        form = self.window.bench.page("Prepare").open(find_operation(name))
        self.settle(self.window)
        for key, value in fields.items():
            form.fields[key].setValue(value)
        self.settle(self.window)
        return form

    def pixels(self, canvas=None):
        return (canvas or self.canvas).render_pixels().copy()

    def test_the_pane_shows_what_the_whole_will_look_like(self):
        look, before = self.desk.viewing.look, self.pixels()
        steps = len(self.desk.study.logbook.entries())
        form = self.form(fwhm=2.0)
        seen = self.pixels()
        self.assertTrue(self.canvas.previewed)
        self.assertGreater(np.count_nonzero(seen != before), 1000)
        self.assertEqual(len(self.desk.study.logbook.entries()), steps)
        self.press(form.apply)
        self.settle(self.window)
        self.assertFalse(form.preview.on)
        self.assertNotEqual(self.desk.viewing.record.id, self.balls)
        self.desk.viewing.set_look(low=look.low, high=look.high)
        whole = self.pixels()
        self.assertFalse(self.canvas.previewed)
        apart = np.abs((seen & 255).astype(int) - (whole & 255).astype(int))
        self.assertLessEqual(int(np.percentile(apart, 99)), 2)
        form.fields["fwhm"].setValue(3.0)  # other settings are looked at again before they are used
        self.settle(self.window)
        self.assertTrue(form.preview.on)
        self.pixels()
        self.assertTrue(self.canvas.previewed)
        self.press(form.preview.box)
        form.fields["fwhm"].setValue(4.0)
        self.settle(self.window)
        self.assertFalse(form.preview.on)  # but not when nobody wants to see it
        with mock.patch.object(form, "values", side_effect=Trouble("A field is wrong")):
            self.settle(self.window)
            self.assertEqual((form.wanted(), self.desk.previewing.words), (None, ""))
        self.assertEqual(self.troubles, [])

    def test_what_labels_gain_and_lose_is_shown_before_it_is_done(self):
        self.desk.run_now("add-label", {"label": "Ball"})
        self.desk.run("threshold", {"label": "Ball", "low": 500.0, "high": 2000.0})
        self.settle(self.window)
        self.desk.viewing.set_stage("Outline")
        before = int(self.desk.viewing.maps.labels.counts[1])
        for name, sign in (("erode", -1), ("dilate", 1)):
            form = self.window.bench.page("Outline").open(find_operation(name))
            self.settle(self.window)
            shown = self.desk.previewing.shown.made
            self.assertEqual(shown.before.space.spacing, (0.5, 0.5, 0.5))
            changed = int((shown.thing if sign > 0 else shown.tinted).counts[1])
            self.assertGreater(changed, 50)
            self.assertEqual(int(self.desk.viewing.maps.labels.counts[1]), before)
            self.assertEqual(form.fields["by"].value(), None)
        self.press(form.apply)
        self.settle(self.window)
        self.assertGreater(int(self.desk.viewing.maps.labels.counts[1]), before + changed - 1)
        self.assertEqual(self.troubles, [])

    def test_another_slice_another_setting_and_away(self):
        form = self.form(fwhm=2.0)
        first, panes = self.pixels(), self.window.table.panes
        self.assertFalse(any(p.canvas.render_pixels() is None or p.canvas.previewed for p in panes[1:3]))
        self.desk.viewing.go_to((-4.0, 2.0, 1.0))
        self.pixels()
        self.assertFalse(self.canvas.previewed)  # that of the other slice is not shown here
        self.settle(self.window)
        self.assertTrue(np.any(self.pixels() != first))
        self.assertTrue(self.canvas.previewed)
        second = self.pixels()
        form.fields["fwhm"].setValue(4.0)
        self.assertTrue(np.array_equal(self.pixels(), second))  # until the new one is there
        self.settle(self.window)
        self.assertGreater(np.count_nonzero(self.pixels() != second), 100)
        self.press(form.preview.box)
        self.settle(self.window)
        self.pixels()
        self.assertFalse(self.canvas.previewed)
        self.assertFalse(self.desk.previewing.on)
        self.assertFalse(self.form().preview.on)  # as it was chosen last

    def test_a_pane_that_is_brought_to_the_lead(self):
        self.form(fwhm=2.0)
        table = self.window.table
        table.bring_to_lead(table.panes[1])
        self.settle(self.window)
        for pane in table.panes[:3]:
            pane.canvas.render_pixels()
        self.assertEqual([p.canvas.previewed for p in table.panes[:3]], [p.canvas.lead for p in table.panes[:3]])

    def test_hold_to_see_what_there_is(self):
        plain = self.pixels()
        self.form(fwhm=2.0)
        seen = self.pixels()
        self.canvas.setFocus()
        QTest.keyPress(self.canvas, Qt.Key.Key_F)
        self.assertTrue(np.array_equal(self.pixels(), plain))
        QTest.keyRelease(self.canvas, Qt.Key.Key_F)
        self.assertTrue(np.array_equal(self.pixels(), seen))
        self.desk.layers.compare_by(way="swipe", share=0.5)
        half = self.pixels()
        middle = half.shape[1] // 2
        self.assertTrue(np.array_equal(half[:, : middle - 1], plain[:, : middle - 1]))
        self.assertTrue(np.array_equal(half[:, middle + 1 :], seen[:, middle + 1 :]))

    def test_values_on_another_scale_look_alike(self):
        self.show_image(self.noise)
        self.desk.viewing.set_look(low=200.0, high=800.0)
        plain = self.pixels()
        self.form("standardise")
        apart = np.abs((self.pixels() & 255).astype(int) - (plain & 255).astype(int))
        self.assertTrue(self.canvas.previewed)
        self.assertLess(int(np.percentile(apart, 99)), 12)  # though values run from -2 to 2 now
        self.assertEqual((self.desk.viewing.look.low, self.desk.viewing.look.high), (200.0, 800.0))

    def test_labels_that_would_be_added(self):
        self.form("take-out-body")
        self.pixels()
        self.assertTrue(self.canvas.previewed)
        self.assertTrue(
            all(p.canvas.previewed for p in self.window.table.panes[:3] if p.canvas.render_pixels() is not None)
        )
        self.assertFalse(self.desk.viewing.maps.labels.counts[1:].any())

    def test_other_things_happen_meanwhile(self):
        self.show_image(self.noise)
        form, desk = self.form("reduce-noise"), self.desk
        for happening in (
            lambda: desk.viewing.show_image(self.balls),
            lambda: desk.viewing.set_stage("Outline"),
            lambda: desk.viewing.set_stage("Prepare"),
            lambda: desk.session.run_now("add-label", {"labels": self.balls, "label": "Rod"}),
            desk.session.undo,
            lambda: desk.viewing.show_image(self.noise),
            lambda: self.window.table.panes[0].canvas.zoom(2.0),
            lambda: self.window.resize(1100, 700),
        ):
            desk.viewing.go_to(desk.viewing.crosshair + 0.5)
            pause(2 * 150 + 30)  # one is being worked out
            happening()
            pause(20)
            record, shown = desk.viewing.record, desk.previewing.shown
            self.canvas.render_pixels()
            if shown is not None and record is not None and shown.of != record.id:
                self.assertFalse(self.canvas.previewed)
        self.settle(self.window)
        self.assertEqual(desk.previewing.shown.of, desk.viewing.record.id)
        desk.viewing.set_stage("Outline")
        self.settle(self.window)
        self.assertIsNone(desk.previewing.shown)
        desk.viewing.set_stage("Prepare")
        self.settle(self.window)
        self.assertIsNotNone(desk.previewing.shown)
        self.window.bench.page("Prepare").close_form()
        self.settle(self.window)
        self.assertIsNone(desk.previewing.shown)
        self.assertEqual(self.troubles, [])
        self.assertIsNotNone(form)

    def test_the_window_is_closed_while_one_is_worked_out(self):
        self.form("reduce-noise")
        self.desk.viewing.go_to((1.0, 1.0, 1.0))
        pause(340)
        self.window.close()
        self.assertTrue(self.desk.session.closed)
        self.assertEqual(self.troubles, [])

    def test_what_is_wrong_is_said_below_the_box(self):
        form = self.form("calculate")
        form.fields["formula"].setText("a +")
        self.settle(self.window)
        self.assertTrue(form.preview.told.isVisible())
        self.assertIn("No preview", form.preview.told.text())
        self.assertIsNone(self.desk.previewing.shown)
        form.fields["formula"].setText("a * 2")
        self.settle(self.window)
        self.assertIsNotNone(self.desk.previewing.shown)
        self.assertFalse(form.preview.told.isVisible())
        self.assertEqual(self.troubles, [])  # nothing was asked for that could fail

    def test_forms_without_one(self):
        self.assertIsNone(self.form("crop").preview)
        self.assertIsNone(self.form("turn").preview)

    def test_a_colour_picture(self):
        from kestrelmist.formats.tiff_write import save_ome_tiff

        rgb = np.random.default_rng(2).integers(0, 255, (64, 48, 1, 3)).astype(np.uint8)
        space = straight_space((64, 48, 1))
        save_ome_tiff(self.place / "colour.ome.tif", Image(rgb, space, "Section", colour=True))
        self.desk.study.run("gather", folder=self.place / "colour.ome.tif")
        self.show_image(self.desk.study.records()[-1].id)
        self.form("turn-values")
        shown = self.desk.previewing.shown
        self.assertIsInstance(shown.look, ImageLook)
        self.assertFalse(shown.made.thing.colour)
