"""Looks by hand: where a range comes from, what is hidden, colours on both sides of zero, labels, channels."""

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from kestrelmist.core.axis import Axis
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import picture_space
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.formats.saving import save_image
from kestrelmist.scene.colour_bars import colour_bars
from kestrelmist.scene.colours import colour_table
from kestrelmist.scene.drawing import draw
from kestrelmist.scene.first_look import over_look
from kestrelmist.scene.histogram import counts_of
from kestrelmist.scene.layer import ImageLook, LabelLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.ready_looks import range_of_share, ready_looks, share_named
from kestrelmist.scene.view import AXIAL, fitted
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import PlaceCase, straight_space


def rgb(pixel) -> list[int]:
    return [int(pixel) >> shift & 255 for shift in (16, 8, 0)]


class DrawnTest(PlaceCase):
    def test_edges_are_as_wide_as_asked(self):
        space = straight_space((60, 60, 1), 1.0)
        labels = LabelMap(space, table=LabelTable().with_new("Square", "#FF0000")[0])
        labels.data[10:50, 10:50] = 1
        labels.recount()
        for small in (60, 240):  # by numpy, and by the kernels where they are loaded
            view = fitted(AXIAL, space, small, small, margin=0.0)
            side = 40 * small // 60
            for width in (1, 2, 5):
                picture = draw(view, [Drawn(labels, LabelLook(0.0, True, None, width))])
                self.assertEqual(int((picture == 0xFFFF0000).sum()), side**2 - (side - 2 * width) ** 2)
            half = draw(view, [Drawn(labels, LabelLook(1.0, False, opacity=0.5))])
            self.assertAlmostEqual(rgb(half[small // 2, small // 2])[0], (255 + 0x0B) / 2, delta=2)
            two = LabelTable().with_new("Square", "#FF0000")[0].with_new("Other")[0]
            labels.table = two
            self.assertEqual(int((draw(view, [Drawn(labels, LabelLook(1.0, True, 2))]) == 0xFFFF0000).sum()), 0)

    def test_channels_are_lights_that_add_up(self):
        space = picture_space(4, 1, (1.0, 1.0))
        one = Image(np.array([0, 100, 0, 100], np.float32).reshape(4, 1, 1), space)
        two = Image(np.array([0, 0, 50, 50], np.float32).reshape(4, 1, 1), space)
        look = ImageLook(smooth=False, channels=(("#FF0000", 0, 100, True), ("#00FF00", 0, 100, True)))
        view = fitted(AXIAL, space, 4, 1, margin=0.0)
        picture = draw(view, [Drawn(one, look, channels=(one, two))])
        self.assertEqual([rgb(p) for p in picture[0]], [[0, 0, 0], [255, 0, 0], [0, 128, 0], [255, 128, 0]])
        off = ImageLook(smooth=False, channels=(("#FF0000", 0, 100, False), ("#00FF00", 0, 50, True)))
        picture = draw(view, [Drawn(one, off, channels=(one, two))])
        self.assertEqual([rgb(p) for p in picture[0]], [[0, 0, 0], [0, 0, 0], [0, 255, 0], [0, 255, 0]])

    def test_ready_ranges(self):
        values = np.arange(1001, dtype=np.float32)
        image = Image(values.reshape(1001, 1, 1), straight_space((1001, 1, 1), 1.0), unit="HU")
        names = [name for name, _, _ in ready_looks(image)]
        self.assertIn("CT bone", names)
        image.unit = ""
        self.assertNotIn("CT bone", [name for name, _, _ in ready_looks(image)])
        self.assertEqual(range_of_share(values, *share_named("5 to 95 %")), (50, 950))
        self.assertEqual(range_of_share(np.array([np.nan, 3.0]), 0, 100), (3.0, 6.0))
        self.assertEqual(range_of_share(np.array([np.nan]), 0, 100), (0.0, 1.0))
        counts = counts_of(np.repeat([0.0, 10.0], (990, 10)), log=True)
        self.assertAlmostEqual(counts.heights.max(), 1.0)
        self.assertAlmostEqual(counts.heights[-1], np.log1p(10) / np.log1p(990), places=3)

    def test_bars_of_both_sides_with_their_limits(self):
        look = ImageLook(2.0, 6.0, "Ember", below_map="Deep water")
        above, below = colour_bars([(look, "t", "a map")], 800, 600)
        self.assertEqual((above.upper, above.lower, below.upper, below.lower), ("6", "2", "−2", "−6"))
        self.assertEqual((above.unit, below.unit), ("t", ""))
        self.assertEqual(above.colours[0], colour_table("Ember")[255])
        self.assertEqual(below.colours[0], colour_table("Deep water")[0])
        self.assertEqual(below.colours[-1], colour_table("Deep water")[255])
        self.assertEqual(
            colour_bars([(look, "t", "a map")] * 9, 300, 600)[-1].x > 150, True
        )  # what would hide more is left out
        self.assertEqual(colour_bars([(look, "t", "a map")], 300, 100), [])

    def test_a_map_in_much_nothing_is_shown_by_what_it_holds(self):
        values = np.zeros((30, 30, 30), np.float32)
        values[10:14, 10:14, 10:14], values[20:23, 20:23, 20:23] = 8.0, -6.0
        look = over_look(Image(np.asfortranarray(values), straight_space((30, 30, 30), 1.0)))
        self.assertLess(look.low, 3.5)
        self.assertGreater(look.high, 5.9)


class LookPanelTest(DeskCase):
    def setUp(self):
        super().setUp()
        values = np.zeros((40, 40, 40), np.float32)
        values[:20] = np.linspace(0, 100, 40)[None, :, None]
        values[20:] = 900.0
        values[30:36, 10:16, 10:16] = -500.0
        write_nifti(self.place / "Values.nii", np.asfortranarray(values), straight_space((40, 40, 40), 0.5))
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "Values.nii", subject="T-1")
        self.window = self.open(self.place / "study")
        self.desk, self.viewing = self.window.desk, self.window.desk.viewing
        self.panel, self.layers = self.window.bench.look, self.window.desk.layers
        self.panel.more.setChecked(True)
        self.viewing.go_to((0, 0, 0))
        self.settle(self.window)

    def limits(self) -> tuple[float, float]:
        return self.layers.look.low, self.layers.look.high

    def colour(self, world) -> list[int]:
        canvas = self.window.table.lead.canvas
        x, y = (round(v) for v in canvas.current_view().to_pixel(world))
        return rgb(canvas.render_pixels()[y, x])

    def test_the_histogram_is_dragged(self):
        histogram = self.panel.range.histogram
        for _ in range(200):  # it is counted beside the window
            if histogram.counts.heights.max() > 0:
                break
            pause(20)
        self.assertGreater(histogram.counts.heights.max(), 0)
        low, high = self.limits()
        start = QPoint(round(histogram.x_of(high)), 20)
        QTest.mousePress(histogram, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
        QTest.mouseMove(histogram, QPoint(start.x() // 2 + 20, 20))
        QTest.mouseRelease(histogram, Qt.MouseButton.LeftButton)
        self.assertEqual(self.limits()[0], low)
        self.assertAlmostEqual(self.limits()[1], histogram.value_at(start.x() // 2 + 20), delta=1e-3 * abs(high))
        whole = histogram.counts
        self.panel.range.in_view.setChecked(True)
        pause(200)
        self.settle(self.window)
        self.assertFalse(np.array_equal(histogram.counts.heights, whole.heights))
        self.panel.range.log.setChecked(True)
        pause(200)
        self.settle(self.window)
        self.assertAlmostEqual(histogram.counts.heights.max(), 1.0)

    def test_ready_ranges_and_the_range_of_an_area(self):
        ready = self.panel.range.ready
        true = np.percentile(self.viewing.image.data, (5, 95))
        for name, wanted in (("All values", (-500.0, 900.0)), ("5 to 95 %", true)):
            at = ready.findText(name)
            ready.setCurrentIndex(at)
            ready.activated.emit(at)
            self.settle(self.window)
            np.testing.assert_allclose(self.limits(), wanted, atol=6)
        self.press(self.panel.range.area)
        self.assertEqual(self.desk.hand.tool, "range-of-area")
        self.window.table.bring_to_lead(self.window.table.slices[1])  # axial: the ramp runs along y
        self.settle(self.window)
        self.drag(self.window, 1, (-8.0, -8.0, 0), (-3.0, 0.0, 0))
        low, high = self.limits()
        ends = [np.interp(y, np.linspace(-9.75, 9.75, 40), np.linspace(0, 100, 40)) for y in (-8.0, 0.0)]
        np.testing.assert_allclose((low, high), ends, atol=3)
        self.assertEqual(self.desk.hand.tool, "point")
        self.desk.hand.set_tool("range-of-area")
        before = self.limits()
        self.viewing.set_stage("Outline")  # in the middle of nothing: nothing happens
        self.drag(self.window, 1, (60.0, -8.0, 0), (70.0, 0.0, 0))
        self.assertEqual(self.limits(), before)

    def test_hidden_below_and_above(self):
        rest = self.panel.rest
        ground = [0x0B, 0x10, 0x13]
        self.assertNotEqual(self.colour((5.0, 0, 5.0)), ground)
        rest.hide_above.setChecked(True)
        rest.most.setValue(500.0)
        self.assertEqual(self.colour((5.0, 0, 5.0)), ground)
        rest.hide_above.setChecked(False)
        self.assertNotEqual(self.colour((5.0, 0, 5.0)), ground)
        rest.hide_below.setChecked(True)
        rest.least.setValue(200.0)
        self.assertEqual(self.colour((-5.0, 0, 5.0)), ground)
        self.panel.low.setValue(300.0)  # the limit that hides goes along with the range
        self.assertEqual(self.layers.look.hide_below, 300.0)
        self.press(self.panel.reset)
        self.assertIsNone(self.layers.look.hide_below)

    def test_colours_below_zero_with_limits_of_their_own(self):
        rest, look = self.panel.rest, lambda: self.layers.look
        at = rest.below.findText("Deep water")
        rest.below.setCurrentIndex(at)
        rest.below.activated.emit(at)
        self.assertEqual(look().below_map, "Deep water")
        self.assertGreater(look().low, 0)
        self.panel.low.setValue(100.0)
        self.panel.high.setValue(900.0)
        rest.common.setChecked(False)
        self.assertTrue(rest.apart.isVisible())
        rest.below_low.setValue(200.0)
        rest.below_high.setValue(500.0)
        self.viewing.go_to((6.4, -4.0, -3.6))
        self.assertEqual(self.colour((6.4, -4.0, -3.6)), rgb(colour_table("Deep water")[255]))
        rest.below_low.setValue(501.0)
        self.assertNotEqual(self.colour((6.4, -4.0, -3.6)), rgb(colour_table("Deep water")[255]))
        rest.common.setChecked(True)
        self.assertIsNone(look().below_low)
        rest.below.setCurrentIndex(0)
        rest.below.activated.emit(0)
        self.assertIsNone(look().below_map)

    def test_turned_round_true_voxels_opacity_and_bars(self):
        rest = self.panel.rest
        before = self.colour((5.0, 0, 5.0))
        rest.inverted.setChecked(True)
        self.assertEqual(self.colour((5.0, 0, 5.0)), [255 - v for v in before])
        canvas = self.window.table.lead.canvas
        canvas.zoom(6.0)
        smooth = len(np.unique(canvas.render_pixels()))
        rest.smooth.setChecked(False)
        self.assertLess(len(np.unique(canvas.render_pixels())), smooth)
        rest.opacity.setValue(0)
        self.assertEqual(self.colour(canvas.sight.crosshair), [0x0B, 0x10, 0x13])
        rest.opacity.setValue(100)
        self.panel.colours.setCurrentText("Ember")
        self.panel.colours.textActivated.emit("Ember")
        shown = canvas.grab().toImage()
        rest.bars.setChecked(False)
        self.assertNotEqual(canvas.grab().toImage(), shown)
        self.assertEqual(self.viewing.arrangement.bars, False)

    def test_each_label_map_has_a_look_of_its_own(self):
        session, panel = self.desk.session, self.panel.label_panel
        for name, x in (("First", -5.0), ("Second", 5.0)):
            session.run("paint", {"image": 1, "label": name, "point": (x, 0.0, 0.0), "diameter": 4.0})
            self.settle(self.window)
        first = self.viewing.maps.map.id
        panel.edges.setChecked(False)
        panel.fill.setValue(100)
        self.assertEqual(panel.how.currentText(), "As set below")
        self.assertEqual(self.viewing.maps.look.fill, 1.0)
        number = self.viewing.maps.labels.table.named("First").number
        self.desk.hand.choose_label(number)
        panel.only.setChecked(True)
        hidden = self.colour((5.0, 0, 0))
        self.assertEqual(self.viewing.maps.look.only, number)
        self.desk.hand.choose_label(self.viewing.maps.labels.table.named("Second").number)  # the one in hand is drawn
        self.assertNotEqual(self.colour((5.0, 0, 0)), hidden)
        session.run("new-labels", {"image": 1, "name": "Other"})
        self.settle(self.window)
        self.assertNotEqual(self.viewing.maps.map.id, first)
        self.assertEqual(self.viewing.maps.look, LabelLook())
        self.viewing.maps.choose(first)
        self.settle(self.window)
        self.assertEqual((self.viewing.maps.look.fill, self.viewing.maps.look.edges), (1.0, False))


class UndoLooksTest(DeskCase):
    """Undo takes back what was done last, be it a step of the study or a look."""

    def test_looks_and_steps_in_the_order_of_doing(self):
        write_nifti(self.place / "Values.nii", np.zeros((20, 20, 20), np.float32), straight_space((20, 20, 20), 0.5))
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "Values.nii", subject="T-1")
        window = self.open(self.place / "study")
        desk, viewing = window.desk, window.desk.viewing

        def press(key, modifier=Qt.KeyboardModifier.ControlModifier):
            QTest.keyClick(window, key, modifier)
            self.settle(window)

        def state():
            return viewing.look.colour_map, viewing.look.high, [row.name for row in viewing.maps.labels.table]

        first = state()
        self.assertIn("Undo: Gather", window.path.undo.toolTip())
        viewing.set_look(colour_map="Ember")
        self.assertIn("look of Values", window.path.undo.toolTip())
        self.assertTrue(desk.run_now("add-label", {"label": "Nerve"}), self.troubles)
        self.assertIn("Nerve", state()[2])
        for high in (5.0, 6.0, 7.0):  # as a limit is dragged
            viewing.set_look(high=high)
        last = state()
        press(Qt.Key.Key_Z)
        self.assertEqual(state(), ("Ember", first[1], ["Nerve"]))
        self.assertIn("Undo: New label", window.path.undo.toolTip())
        press(Qt.Key.Key_Z)
        self.assertEqual(state(), ("Ember", first[1], []))
        press(Qt.Key.Key_Z)
        self.assertEqual(state(), first)
        for _ in range(3):
            press(Qt.Key.Key_Y)
        self.assertEqual(state(), last)
        self.assertFalse(window.path.redo.isEnabled())
        press(Qt.Key.Key_Z)
        viewing.maps.set_look(fill=0.9)  # something new: what was taken back is gone
        self.assertFalse(window.path.redo.isEnabled())
        press(Qt.Key.Key_Z)
        self.assertEqual(viewing.maps.look.fill, LabelLook().fill)

    def test_what_a_held_key_shows_is_no_change(self):
        with self.study_with_balls() as study:
            study.run("smooth", fwhm=1.0)
        window = self.open(self.place / "study")
        desk = window.desk
        title = desk.undoing.undo_title
        desk.layers.fade_all()
        pause(1100)  # longer than what is taken for one change
        desk.layers.fade_back()
        self.assertEqual(desk.undoing.undo_title, title)
        desk.layers.compare_by(way="fade", share=0.2)
        desk.layers.compare_by(way="over", share=0.2)
        desk.layers.compare_by(share=desk.layers.comparison.share)
        self.assertEqual(desk.undoing.undo_title, "how layers are compared")

    def test_a_study_that_is_opened_again_begins_anew(self):
        write_nifti(self.place / "Values.nii", np.zeros((20, 20, 20), np.float32), straight_space((20, 20, 20), 0.5))
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "Values.nii", subject="T-1")
        window = self.open(self.place / "study")
        window.desk.viewing.maps.set_look(fill=0.9)
        window.desk.viewing.set_look(colour_map="Ember")
        window.close()
        again = self.open(self.place / "study")
        again.desk.viewing.set_look(high=3.0)
        again.desk.undoing.undo()
        self.assertEqual((again.desk.viewing.look.colour_map, again.desk.viewing.maps.look.fill), ("Ember", 0.9))
        self.assertEqual(again.desk.undoing.undo_title, "Gather “Values”")


class ChannelsTest(DeskCase):
    def test_channels_of_a_section_together(self):
        values = np.zeros((30, 20, 1, 2), np.uint16)
        values[:15, ..., 0], values[:, :10, :, 1] = 1000, 400
        axes = (Axis("channel", 2, labels=("lipid", "nuclei")),)
        picture = Image(np.asfortranarray(values), picture_space(30, 20, (0.001, 0.001)), "Section", axes=axes)
        save_image(self.place / "Section.ome.tif", picture)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "Section.ome.tif", subject="T-1")
        window = self.open(self.place / "study")
        viewing, panel = window.desk.viewing, window.bench.look.channels
        panel.together.setChecked(True)
        self.settle(window)
        self.assertEqual([box.text() for box in panel.shown], ["lipid", "nuclei"])
        for n, (colour, high) in enumerate((("#FF0000", 1000.0), ("#0000FF", 400.0))):
            panel.change(n, colour=colour, low=0.0, high=high)
        canvas = window.table.lead.canvas
        space = viewing.record.grid

        def at(i: int, j: int) -> list[int]:
            x, y = (round(v) for v in canvas.current_view().to_pixel(space.to_world((i, j, 0))))
            return rgb(canvas.render_pixels()[y, x])

        self.assertEqual(
            [at(5, 5), at(5, 15), at(22, 5), at(22, 15)], [[255, 0, 255], [255, 0, 0], [0, 0, 255], [0] * 3]
        )
        panel.shown[0].setChecked(False)
        self.assertEqual(at(5, 5), [0, 0, 255])
        window.close()
        window = self.open(self.place / "study")
        self.assertEqual([c[0] for c in window.desk.viewing.look.channels], ["#FF0000", "#0000FF"])
        self.assertEqual(len(window.desk.viewing.channels), 2)
        window.bench.look.channels.together.setChecked(False)
        self.settle(window)
        self.assertEqual(window.desk.viewing.channels, ())
