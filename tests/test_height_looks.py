"""How height maps are shown: colours, a light from the side, what is left out, histogram and picked points."""

from unittest import mock

import numpy as np
from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kestrelmist.core.axis import Axis
from kestrelmist.core.heading import arranged, sorts_of
from kestrelmist.core.heights import is_height_map
from kestrelmist.core.operation import find_operation
from kestrelmist.core.quantity import nanometres
from kestrelmist.demo.enamel import enamel
from kestrelmist.prepare import HEADINGS
from kestrelmist.scene.colouring import BACKGROUND
from kestrelmist.scene.drawing import draw
from kestrelmist.scene.first_look import first_look
from kestrelmist.scene.histogram import counts_of, peaks_of
from kestrelmist.scene.layer import ImageLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.relief import relief_of
from kestrelmist.scene.side_light import light_from_the_side, steepness
from kestrelmist.scene.solid.eye import Camera
from kestrelmist.scene.solid.making import made as body_made
from kestrelmist.scene.solid.process import SolidProcess
from kestrelmist.scene.solid.scene import bodies_of_image
from kestrelmist.scene.view import AXIAL, fitted
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase
from tests.making import PlaceCase, straight_space, two_balls
from tests.test_level import height_map


class LightTest(PlaceCase):
    def test_slopes_that_face_the_light_are_brighter(self):
        i, j = np.meshgrid(np.arange(300.0), np.arange(200.0))
        grey = np.full((200, 300), 0xFF808080, np.uint32)
        for values, sign in ((i, 1), (-i, -1), (j, 1), (-j, -1), (0 * i, 0)):
            out = grey.copy()
            light_from_the_side(values.astype(np.float32), 1.0, 1.0, 1.0, out)
            apart = int(out[100, 150] & 255) - 128
            self.assertEqual(np.sign(apart), sign)
            if sign:  # the brightness of a dull surface at 45°
                share = (1 + sign * 2**-0.5) / 2**0.5
                self.assertAlmostEqual(apart, 128 * (max(share, 0.25) - 1), delta=1.5)

    def test_kernel_and_numpy_give_the_same(self):
        rng = np.random.default_rng(1)
        values = np.cumsum(rng.normal(0, 1, (150, 300)), 1).astype(np.float32)
        values[20:30, 40:60] = np.nan
        out = rng.integers(0, 1 << 24, values.shape).astype(np.uint32) | np.uint32(0xFF000000)
        large, small = out.copy(), out[:40, :40].copy()
        light_from_the_side(values, 0.5, 0.7, 2.0, large)
        light_from_the_side(values[:40, :40], 0.5, 0.7, 2.0, small)
        for shift in (0, 8, 16):
            a, b = ((p[1:39, 1:39] >> np.uint32(shift)) & np.uint32(255) for p in (large, small))
            self.assertLessEqual(int(np.abs(a.astype(int) - b.astype(int)).max()), 1)
        self.assertTrue(np.array_equal(large[23:27, 45:55], out[23:27, 45:55]))

    def test_the_first_look(self):
        made = height_map(enamel(1, 128).heights)
        look = first_look(made)
        self.assertEqual(look.colour_map, "Lagoon")
        self.assertGreater(look.light, 0)
        self.assertAlmostEqual(
            steepness(height_map(np.outer(np.ones(50), 3.0 * np.arange(60)), pixel=0.5)), 6.0, places=4
        )
        self.assertEqual(first_look(two_balls()).light, 0)
        self.assertEqual(steepness(height_map(np.full((4, 4), np.nan))), 0.0)
        view = fitted(AXIAL, made.space, 200, 200)
        lit, flat = draw(view, [Drawn(made, look)]), draw(view, [Drawn(made, ImageLook(look.low, look.high, "Lagoon"))])
        self.assertGreater(np.count_nonzero(lit != flat), 10_000)
        self.assertTrue(np.array_equal(lit[0], np.full(200, BACKGROUND)))

    def test_what_is_a_height_map(self):
        self.assertAlmostEqual(nanometres("um"), 1000)
        self.assertEqual([nanometres(unit) for unit in ("HU", "", "foo", "um2")], [None] * 4)
        self.assertTrue(is_height_map(height_map(np.zeros((3, 3)), "µm")))
        self.assertFalse(is_height_map(height_map(np.zeros((3, 3)), "")))
        self.assertFalse(is_height_map(two_balls(unit="mm")))

    def test_peaks(self):
        rng = np.random.default_rng(1)
        values = np.concatenate([rng.normal(-850, 8, 40_000), rng.normal(0, 8, 60_000), rng.uniform(-900, 300, 3000)])
        found = peaks_of(counts_of(values))
        self.assertEqual(len(found), 2)
        np.testing.assert_allclose(sorted(found), (-850, 0), atol=12)
        self.assertEqual(peaks_of(counts_of(np.zeros(0))), [])


class ReliefTest(PlaceCase):
    def test_points_stand_where_they_are(self):
        made = enamel(2, 200)
        image = height_map(made.heights, pixel=1e-4)
        look = first_look(image)
        relief = relief_of(image, look)
        self.assertEqual(relief.heights.shape, (200, 200))
        there = np.isfinite(made.heights) & (made.heights > look.low) & (made.heights < look.high)
        tall = (made.heights - look.low) * 1e-6 * relief.times
        np.testing.assert_allclose(relief.heights[there], tall[there], rtol=1e-3, atol=1e-6)
        self.assertTrue(np.isfinite(relief.heights).all())
        self.assertTrue((relief.colours[np.isnan(made.heights)] == relief.colours[np.isnan(made.heights)][0]).all())
        empty = relief_of(height_map(np.full((9, 9), np.nan)), look)
        self.assertTrue(np.isfinite(empty.heights).all())
        large = relief_of(height_map(np.zeros((900, 1400))), look)
        self.assertLess(large.heights.size, 130_000)
        np.testing.assert_allclose(
            large.affine[:2, 3], height_map(np.zeros((900, 1400))).space.affine[:2, 3], atol=4e-4
        )

    def test_it_is_drawn_by_the_process_though_nobody_reads_its_pictures(self):
        process = SolidProcess()
        self.addCleanup(process.close)
        image = height_map(enamel(2, 300).heights)
        body = bodies_of_image(1, image, first_look(image))
        message = body_made(body, image, {1: image}.__getitem__)
        for n in range(6):  # each more than a pipe holds, while pictures wait to be read
            process.send(*message)
            process.send("view", n, 500, 400, Camera(), None, False, False)
        words, last = [], None
        while last != 5:
            self.assertTrue(process.pipe.poll(30))
            word, *rest = process.pipe.recv()
            words.append(word)
            last = rest[0] if word == "picture" else last
        pixels = np.frombuffer(rest[2], np.uint8).reshape(400, 500, 4)[..., :3]
        self.assertGreater(np.count_nonzero(pixels.max(2) > 120), 5000)
        self.assertIn("made", words)


class FormTest(DeskCase):
    def setUp(self):
        super().setUp()
        self.made = enamel(1, 192)
        lines = "\n".join(" ".join(f"{v:.2f}" for v in row) for row in self.made.heights.tolist())
        head = "# Width: 19.2 µm\n# Height: 19.2 µm\n# Value units: nm\n"
        (self.place / "enamel.txt").write_text(head + lines, encoding="utf-8")
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "enamel.txt")
        self.window = self.open(self.place / "study")
        self.desk = self.window.desk
        self.desk.viewing.set_stage("Prepare")
        self.form = self.window.bench.page("Prepare").open(find_operation("level"))
        self.form.fields["how"].setCurrentText("lines")
        self.form.fields["robust"].setChecked(False)
        self.settle(self.window)

    def test_limits_are_picked_on_the_histogram_and_tinted_at_once(self):
        limits, form = self.form.companion, self.form
        self.assertGreaterEqual(len(limits.histogram.peaks), 2)
        form.fields["each_line"].setChecked(True)
        self.settle(self.window)
        self.assertIsNone(form.values()["limit_below"])
        shown = self.desk.previewing.shown
        self.assertLess(shown.made.tinted.counts[1], 0.01 * shown.made.tinted.kji.size)
        histogram = limits.histogram
        start, end = histogram.x_of(histogram.counts.low), histogram.x_of(-150.0)
        QTest.mousePress(histogram, Qt.MouseButton.LeftButton, pos=QPoint(int(start), 40))
        QTest.mouseMove(histogram, QPoint(int(end), 40))
        QTest.mouseRelease(histogram, Qt.MouseButton.LeftButton, pos=QPoint(int(end), 40))
        self.assertAlmostEqual(form.values()["limit_below"], -150, delta=30)
        self.settle(self.window)
        tinted = self.desk.previewing.shown.made.tinted.data[:, :, 0].T > 0
        self.assertGreater(np.mean(tinted[self.made.etched]), 0.95)
        self.assertLess(np.mean(tinted[self.made.sound]), 0.2)
        canvas = self.window.table.working.canvas
        self.assertTrue(canvas.render_pixels() is not None and canvas.previewed)

    def test_the_form_is_gone_before_its_heights_are_counted(self):
        page, told = self.window.bench.page("Prepare"), []
        with mock.patch("sys.excepthook", lambda *caught: told.append(caught)):
            for _ in range(3):
                form = page.open(find_operation("level"))
                form.companion._known = None
                form.companion._count()
                page.close_form()
                QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
                self.settle(self.window)
        self.assertEqual((told, self.troubles), ([], []))

    def test_labels_of_the_map_come_along_onto_the_level_one(self):
        self.assertIsNone(self.form.along)  # there are none yet
        key = self.desk.viewing.record.id
        self.desk.session.run("threshold", {"label": "Etched", "low": -5000, "high": -500, "image": key})
        self.settle(self.window)
        count = int(self.desk.viewing.maps.labels.counts[1])
        form = self.window.bench.page("Prepare").open(find_operation("level"))
        form.fields["how"].setCurrentText("plane")
        form.fields["leave_out"].setCurrentIndex(form.fields["leave_out"].count() - 1)
        form.along.setChecked(True)
        self.press(form.apply)
        self.settle(self.window)
        made = [r for r in self.desk.study.records() if r.id != key]
        self.assertEqual([r.name for r in made], ["enamel, level", "enamel, background"])
        labels = self.desk.study.labels(made[0].id)
        self.assertEqual([(row.name, int(labels.counts[row.number])) for row in labels.table], [("Etched", count)])
        self.assertEqual(int(self.desk.study.labels(made[1].id).counts[1:].sum()), 0)
        self.assertEqual(self.troubles, [])

    def test_what_suits_the_image_is_listed_first(self):
        time = [Axis.even("time", 5, 1.0, "s")]
        for shape, axes, unit, first, last in (
            ((64, 64, 1), [], "nm", "Height maps", "Sections"),
            ((64, 64, 1), [], "", "Sections", "Height maps"),
            ((64, 64, 9), time, "", "Series", "Sections"),
            ((64, 64, 9), [], "HU", "Grid", "Sections"),
        ):
            order = arranged(HEADINGS, sorts_of(shape, axes, unit))
            self.assertEqual((order[0][0].name, order[-1][0].name, order[-1][1]), (first, last, False))
            self.assertEqual({heading for heading, _ in order}, set(HEADINGS))
        page = self.window.bench.page("Prepare")
        page.close_form()

        def headings():
            found = [u for u in page.headings.under.values() if u.is_open and u.buttons.isVisibleTo(page)]
            return [u.heading.name for u in sorted(found, key=lambda u: u.mapTo(page.home, QPoint()).y())]

        self.settle(self.window)
        self.assertEqual(headings()[0], "Height maps")
        self.desk.study.run("gather", folder=self.place / self._balls())
        self.desk.viewing.show_image(self.desk.study.records()[-1].id)
        self.settle(self.window)
        self.assertEqual((headings()[0], headings()[-1]), ("Grid", "Values"))
        # what a hand has opened stays so, whatever leads
        sections = page.headings.under["Sections"]
        self.assertFalse(sections.is_open)
        self.assertEqual(sections.head.text(), f"Sections · {sections.count}")
        self.press(sections.head)
        self.desk.viewing.show_image(self.desk.study.records()[0].id)
        self.settle(self.window)
        self.assertTrue(sections.buttons.isVisibleTo(page))
        self.press(sections.head)
        self.assertEqual(sections.head.accessibleName(), "Sections, folded")

    def test_settings_that_do_not_count_stay_out_of_the_way(self):
        form = self.form
        seen = lambda: {name for name, field in form.fields.items() if field.isVisibleTo(form)}  # noqa: E731
        always = {"how", "limit_below", "limit_above", "each_line", "leave_out"}
        form.fields["order"].setValue(3)
        form.fields["robust"].setChecked(True)
        for how, more in (
            ("lines", {"along", "order", "robust"}),
            ("plane", {"robust"}),
            ("surface", {"order", "robust"}),
            ("points", {"points"}),
            ("steps", {"along"}),
        ):
            form.fields["how"].setCurrentText(how)
            self.assertEqual(seen(), always | more, how)
            self.assertEqual(form.values()["order"], 3 if "order" in more else 1)
            self.assertTrue(form.values()["robust"])  # as it is left out, where it does not count

    def test_everything_left_out_is_tinted_and_said(self):
        self.form.fields["limit_above"].setText("-1e6")
        self.settle(self.window)
        self.assertIn("left out", self.form.preview.told.text())
        tinted = self.desk.previewing.shown.made.tinted
        self.assertGreater(tinted.counts[1], 0.99 * tinted.kji.size)

    def test_three_points_are_picked_in_the_pane(self):
        form, points = self.form, self.form.fields["points"]
        form.fields["how"].setCurrentText("points")
        self.press(points.button)
        self.assertEqual(self.desk.hand.tool, "pick")
        space, canvas = self.desk.viewing.record.grid, self.window.table.working.canvas
        picked = [space.to_world(v) for v in ((10, 10, 0), (180, 20, 0), (20, 170, 0), (170, 180, 0))]
        for world in picked:
            QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=self.pixel(canvas, world))
        self.assertEqual(len(self.desk.asked.picked), 3)
        given = np.array(form.values()["points"]).reshape(3, 2)
        np.testing.assert_allclose(given, [w[:2] for w in picked[1:]], atol=2e-4)
        self.settle(self.window)
        self.assertIsNotNone(self.desk.previewing.shown.made.thing)
        self.window.bench.page("Prepare").close_form()
        self.assertEqual((self.desk.hand.tool, self.desk.asked.picked), ("point", ()))

    def test_an_image_without_heights(self):
        self.desk.study.run("gather", folder=self.place / self._balls())
        self.desk.viewing.show_image(self.desk.study.records()[-1].id)
        self.settle(self.window)
        self.assertFalse(self.form.companion.histogram.isVisible())
        self.assertIn("need a picture", self.form.companion.told.text())
        self.assertEqual(self.troubles, [])

    def _balls(self) -> str:
        self.nifti(two_balls(straight_space((20, 20, 20))))
        return "balls.nii.gz"
