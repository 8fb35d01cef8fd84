"""Values from 0 to 0.01 and to 1e6, all equal, all negative, NaN, infinite; no unit at all, odd units, tiny voxels."""

import math
import unittest

import numpy as np
from PIL import Image as Picture

from kestrelmist.checks.notice import Subject, run_checks
from kestrelmist.core.digits import decimals_for, rounded, signed
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LARGEST, LabelMap, LabelTable
from kestrelmist.core.quantity import Quantity
from kestrelmist.core.space import Space, picture_space
from kestrelmist.formats.sequence import read_sequence
from kestrelmist.measure.regions.measure_labels import measure_labels
from kestrelmist.outline.ranges import half_way_limit, ready_ranges
from kestrelmist.prepare.intensity.scale import scale
from kestrelmist.prepare.intensity.smooth import smooth
from kestrelmist.scene.colours import first_map, first_range
from kestrelmist.scene.histogram import BINS, value_counts
from kestrelmist.scene.showing import display_range, value_text
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase
from tests.making import PlaceCase, straight_space, two_balls

RNG = np.random.default_rng(11)
SPACE = straight_space((24, 20, 16), 0.5)


def filled(values, unit: str = "") -> Image:
    return Image(np.broadcast_to(np.asarray(values), SPACE.shape).copy(), SPACE, "Made", "T-1", "MR", unit)


def noise(low: float, high: float) -> Image:
    return filled(RNG.uniform(low, high, SPACE.shape))


class DigitsTest(unittest.TestCase):
    def test_decimals_follow_the_range(self):
        for low, high, decimals in ((0, 0.01, 6), (0, 1e6, 0), (-1e-9, 1e-9, 12), (0, 1, 4), (300, 300, 3)):
            self.assertEqual(decimals_for(low, high), decimals, (low, high))
        self.assertEqual(rounded(0.00123456789, 0, 0.01), 0.001235)
        self.assertEqual(decimals_for(0, math.inf), 3)

    def test_no_sign_before_nothing(self):
        self.assertEqual([signed(v, 2) for v in (-0.001, 0.0, -0.004)], [" 0.00"] * 3)
        self.assertEqual(signed(-0.006, 2), "−0.01")

    def test_ready_ranges_are_apart_on_every_scale(self):
        for low, high in ((0, 0.01), (0, 1e6), (-5, -4), (-1e-9, 1e-9)):
            for ready in ready_ranges(noise(low, high)):
                self.assertLess(ready.low, ready.high)
                a, b = (rounded(v, low, high) for v in (ready.low, ready.high))
                self.assertLess(a, b, (low, high, ready))
        for ready in ready_ranges(filled(5.0)):
            self.assertTrue(math.isfinite(ready.low) and math.isfinite(ready.high))


class HistogramTest(unittest.TestCase):
    def test_counts_on_every_scale(self):
        for low, high in ((0, 0.01), (0, 1e6), (-5, -4)):
            counts = value_counts(noise(low, high))
            self.assertAlmostEqual(counts.low, low, delta=(high - low) * 0.01)
            self.assertAlmostEqual(counts.high, high, delta=(high - low) * 0.01)
            self.assertGreater(int((counts.heights > 0).sum()), BINS * 0.9)
            self.assertLess(np.median(counts.heights[counts.heights > 0]), 1.01)

    def test_flat_empty_and_holed(self):
        flat = value_counts(filled(7.0))
        self.assertEqual(int((flat.heights > 0).sum()), 1)
        self.assertLess(flat.low, 7.0)
        self.assertGreater(flat.high, 7.0)
        nothing = value_counts(filled(np.nan))
        self.assertEqual((nothing.heights.sum(), nothing.low, nothing.high), (0, 0.0, 1.0))
        image = noise(0, 1)
        image.data[::3] = np.nan
        image.data[1, 1, 1] = np.inf
        holed = value_counts(image)
        self.assertTrue(0 <= holed.low < holed.high <= 1)
        np.testing.assert_array_equal(np.isfinite(holed.heights), True)

    def test_half_way_with_holes_and_small_values(self):
        for factor in (1.0, 1e-5, 1e5):
            values = np.where(two_balls().data > 0, 10.0, 2.0) * factor
            values += RNG.normal(0, 0.2 * factor, values.shape)
            values[:6] = 0
            values[20, 10:20] = np.nan
            image = Image(values, straight_space(), "Made")
            self.assertAlmostEqual(half_way_limit(image, 6 * factor) / factor, 6.0, delta=0.4)
        with self.assertRaisesRegex(Trouble, "one side of"):
            half_way_limit(filled(np.nan), 1.0)


class HolesTest(unittest.TestCase):
    """Voxels without a value."""

    def holed(self) -> Image:
        image = noise(10, 20)
        image.data[5:7, 5:7, 5:7] = np.nan
        image.data[0, 0, 0] = np.inf
        return image

    def test_scale_counts_what_is_there(self):
        image = self.holed()
        there = np.isfinite(image.data)
        made = scale(image, 0.0, 1.0).data
        low, high = np.percentile(image.data[there], (1, 99))
        np.testing.assert_allclose(made[there], (image.data[there] - low) / (high - low), atol=1e-6)
        np.testing.assert_array_equal(np.isnan(made), np.isnan(image.data))
        with self.assertRaisesRegex(Trouble, "holds no values"):
            scale(filled(np.nan))

    def test_smooth_keeps_a_hole_a_hole(self):
        image = self.holed()
        made = smooth(image, 1.5).data
        np.testing.assert_array_equal(np.isfinite(made), np.isfinite(image.data))
        flat = filled(3.0)
        flat.data[4, 4, 4] = np.nan
        made = smooth(flat, 2.0).data
        self.assertTrue(np.isnan(made[4, 4, 4]))
        np.testing.assert_allclose(made[np.isfinite(made)], 3.0, rtol=1e-6)  # neighbours are not drawn towards nothing

    def test_measures_leave_holes_out(self):
        image = self.holed()
        labels = LabelMap(SPACE, np.zeros(SPACE.shape, np.uint16), LabelTable().with_new("A")[0])
        labels.kji[4:8, 4:8, 4:8] = 1
        labels.counts[1] = 64
        labels.counts[0] -= 64
        table = measure_labels(image, labels)
        row = dict(zip([c.name for c in table.columns], table.rows[0]))
        inside = image.data[4:8, 4:8, 4:8]
        self.assertEqual(row["voxels"], 64)
        self.assertAlmostEqual(row["mean"], float(np.nanmean(inside)), places=4)
        self.assertAlmostEqual(row["sd"], float(np.nanstd(inside, ddof=1)), places=4)

    def test_ranges_and_texts(self):
        image = self.holed()
        low, high = display_range(image)
        self.assertTrue(10 <= low < high <= 20)
        self.assertEqual(display_range(filled(np.nan)), (0.0, 1.0))
        self.assertEqual(value_text(image, SPACE.to_world((5, 5, 5))), "none")


class TwoSidedTest(unittest.TestCase):
    def test_values_on_both_sides_of_zero_are_shown_about_zero(self):
        difference = noise(-2, 5)
        self.assertEqual(first_map(difference), "Tarn and ember")
        low, high = first_range(difference)
        self.assertEqual(low, -high)
        self.assertAlmostEqual(high, 5, delta=0.1)
        for image in (noise(0, 5), noise(-5, -1), filled(RNG.uniform(-900, 900, SPACE.shape), "HU")):
            self.assertNotEqual(first_map(image), "Tarn and ember", display_range(image))

    def test_zero_has_the_middle_colour_and_both_ends_differ(self):
        from kestrelmist.scene.colours import colour_table

        table = colour_table("Tarn and ember")
        parts = np.stack([(table >> s) & 255 for s in (16, 8, 0)]).astype(int)
        self.assertLess(np.ptp(parts[:, 127:129]), 40)  # grey in the middle
        self.assertGreater(parts[2, 20], parts[0, 20])  # blue below
        self.assertGreater(parts[0, 235], parts[2, 235])  # red above


class UnitsTest(unittest.TestCase):
    def test_temperatures_raised_units_and_uncertainty(self):
        warm = Quantity(4.0, "degC", 0.5).to("K")
        self.assertAlmostEqual(warm.value, 277.15)
        self.assertAlmostEqual(warm.uncertainty, 0.5)
        self.assertAlmostEqual(Quantity(39.2, "degF").to("degC").value, 4.0)
        self.assertAlmostEqual(Quantity(2.0, "um2").to("mm2").value, 2e-6)
        self.assertAlmostEqual(Quantity(1.0, "mm³").to("um3").value / 1e9, 1.0)
        self.assertAlmostEqual(Quantity(1.0, "s-1").to("1/s").value, 1.0)
        for unit, other in (("mm", "s"), ("HU", "mm"), ("frogs", "mm"), ("px", "mm")):
            with self.assertRaises(ValueError):
                Quantity(1.0, unit).to(other)

    def test_pictures_are_measured_in_pixels_areas_and_volumes(self):
        numbers = np.zeros((30, 20, 1), np.uint16)
        numbers[3:8, 3:7] = 1
        for space, expected in (
            (picture_space(30, 20, None), ("area", "pixels", 20.0)),
            (picture_space(30, 20, (0.5, 0.25)), ("area", "mm2", 2.5)),
        ):
            image = Image(np.ones((30, 20, 1), np.float32), space, "Made")
            table = measure_labels(image, LabelMap(space, numbers, LabelTable().with_new("A")[0]))
            column = next(c for c in table.columns if c.name in ("area", "volume"))
            self.assertEqual((column.name, column.unit, table.column(column.name)[0]), expected)
        deep = picture_space(30, 20, None, slices=3)
        labels = LabelMap(deep, np.repeat(numbers, 3, 2), LabelTable().with_new("A")[0])
        table = measure_labels(Image(np.ones((30, 20, 3), np.float32), deep, "Made"), labels)
        column = next(c for c in table.columns if c.name in ("area", "volume"))
        self.assertEqual((column.name, column.unit, table.column("volume")[0]), ("volume", "voxels", 60.0))

    def test_voxels_of_a_nanometre_and_a_metre(self):
        for size in (1e-6, 1e3):
            space = Space((10, 9, 8), np.diag([size, size, size, 1.0]))
            image = Image(RNG.uniform(0, 1, space.shape), space, "Made")
            numbers = np.zeros(space.shape, np.uint16)
            numbers[2:4, 2:4, 2:4] = 1
            labels = LabelMap(space, numbers, LabelTable().with_new("A")[0])
            self.assertAlmostEqual(measure_labels(image, labels).column("volume")[0] / (8 * size**3), 1.0, places=9)
            made = smooth(image, max(1e-6, size)) if size < 1 else smooth(image, 1e3)
            self.assertLess(made.data.std(), image.data.std())


class ChecksOfLargePicturesTest(unittest.TestCase):
    def test_labels_of_a_picture_are_right_on_its_coarse_level(self):
        space = picture_space(2000, 1200, (0.001, 0.001))
        coarse = picture_space(500, 300, (0.004, 0.004))
        whole = Image(np.zeros((2000, 1200, 1), np.uint8), space, "Section", "T-1")
        shown = Image(np.zeros((500, 300, 1), np.uint8), coarse, "Section", "T-1")
        said = " ".join(n.sentence for n in run_checks(Subject(shown, LabelMap(space), whole=whole), "outline"))
        self.assertNotIn("grid", said)
        wrong = LabelMap(picture_space(900, 300, (0.004, 0.004)))
        said = " ".join(n.sentence for n in run_checks(Subject(shown, wrong, whole=whole), "outline"))
        self.assertIn("grid", said)

    def test_a_check_that_raises_is_a_notice_and_hides_no_other(self):
        from kestrelmist.checks.notice import CHECKS, Notice, check

        calls = []

        @check("outline", rank=0)
        def broken_check(subject):
            calls.append(1)
            raise ZeroDivisionError("no")

        @check("outline", rank=1)
        def sound_check(subject):
            return [Notice("look", "Sound.")]

        for name in ("broken_check", "sound_check"):
            self.addCleanup(CHECKS.remove, name)
        image = two_balls()
        said = [n.sentence for n in run_checks(Subject(image, LabelMap(image.space)), "outline")]
        self.assertEqual(sum("broken check failed (ZeroDivisionError: no)" in s for s in said), 1)
        self.assertIn("Sound.", said)
        self.assertEqual(len(calls), 1)


class LabelNumbersTest(unittest.TestCase):
    def test_merging_at_the_last_number(self):
        from kestrelmist.formats.label_files import label_map_of

        space = Space((3, 1, 1), np.eye(4))
        values = np.array([0, LARGEST, 1], np.float32).reshape(3, 1, 1)
        self.assertEqual(int(label_map_of(Image(values, space, "Made"), "l.nii").counts[LARGEST]), 1)
        for wrong in (LARGEST + 1, -1, 0.5, np.nan):
            values[1] = wrong
            with self.assertRaises(Trouble):
                label_map_of(Image(values, space, "Made"), "l.nii")


class ScaleDeskTest(DeskCase):
    def opened(self, values: np.ndarray, name: str = "Made", space: Space | None = None):
        from kestrelmist.formats.nifti import write_nifti

        write_nifti(self.place / f"{name}.nii", values, straight_space() if space is None else space)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / f"{name}.nii", subject="T-1")
        window = self.open(self.place / "study")
        window.desk.viewing.set_stage("Outline")
        self.settle(window)
        return window

    def test_limits_between_nothing_and_a_hundredth_can_be_typed(self):
        window = self.opened((two_balls().data * 1e-5).astype(np.float32))
        window.desk.hand.set_tool("grow")
        group = window.bench.outline.groups["range"]
        group.low.setValue(0.00345)
        group.low.editingFinished.emit()
        self.settle(window)
        self.assertAlmostEqual(window.desk.hand.settings.low, 0.00345, places=6)
        self.assertGreater(group.low.decimals(), 4)
        texts = {group.ready.itemText(n) for n in range(group.ready.count())}
        self.assertIn("Upper half", texts)
        group.ready.setCurrentIndex(group.ready.findText("Upper half"))
        group.ready.activated.emit(group.ready.currentIndex())
        self.assertGreater(window.desk.hand.settings.high, window.desk.hand.settings.low)
        self.assertGreater(window.desk.hand.settings.low, 0.001)

    def test_an_image_of_nothing_but_holes_opens(self):
        window = self.opened(np.full(two_balls().data.shape, np.nan, np.float32))
        self.assertEqual(self.troubles, [])
        self.assertEqual(window.bench.outline.groups["range"].histogram.counts.heights.sum(), 0)
        self.assertEqual(window.readout.fields["Value"].text(), "none")

    def test_the_voxel_size_is_asked_for_as_it_is(self):
        from kestrelmist.core.operation import find_operation

        window = self.opened(two_balls().data)
        window.desk.viewing.go_to((3.0, 2.0, 1.0))
        window.bench.open_operation(find_operation("set-spacing"))
        self.settle(window)
        form = window.bench.page("Prepare").form
        np.testing.assert_allclose(form.values()["spacing"], (0.5, 0.5, 0.5))

    def test_lengths_on_a_fine_grid_are_asked_for_in_micrometres(self):
        from kestrelmist.core.operation import find_operation

        space = straight_space((40, 30, 20), 0.0005)
        window = self.opened(np.arange(24000, dtype=np.float32).reshape((40, 30, 20), order="F"), space=space)
        window.desk.viewing.go_to(space.to_world((20, 10, 5)))
        bench = window.bench

        def form(name: str, stage: str):
            bench.open_operation(find_operation(name))
            self.settle(window)
            return bench.page(stage).form

        crop = form("crop", "Prepare")
        self.assertEqual(crop.fields["margin"].suffix(), " µm")
        crop.fields["margin"].setValue(2.5)
        crop.fields["box"].setText("-3, -3, -3, 3, 3, 3")
        self.assertEqual(crop.values()["margin"], 0.0025)
        np.testing.assert_allclose(crop.values()["box"], [-0.003] * 3 + [0.003] * 3)
        crop.fields["box"].setText("-3um, -3um, -3um, 0.003mm, 0.003mm, 0.003mm")
        np.testing.assert_allclose(crop.values()["box"], [-0.003] * 3 + [0.003] * 3)
        smooth = form("smooth", "Prepare")
        smooth.fields["fwhm"].setValue(2.0)
        self.press(smooth.apply)
        self.settle(window)
        step = window.desk.study.logbook.last(1)[0]
        self.assertEqual((step.operation, step.settings["fwhm"]), ("smooth", 0.002))
        again = form("smooth", "Prepare")  # the last settings come back, in the unit that is shown
        self.assertEqual((again.fields["fwhm"].value(), again.values()["fwhm"]), (2.0, 0.002))
        origin = form("set-origin", "Align")
        places = [float(v) for v in origin.fields["point"].text().split(",")]
        np.testing.assert_allclose(places, 1000 * window.desk.viewing.crosshair)
        np.testing.assert_allclose(origin.values()["point"], window.desk.viewing.crosshair)
        resampled = form("resample", "Prepare")
        resampled.fields["spacing"].setText("1, 1, 2")
        np.testing.assert_allclose(resampled.values()["spacing"], (0.001, 0.001, 0.002))
        line = form("profile", "Measure")
        self.assertEqual((line.fields["from_"].placeholderText(), line.fields["from_"].text()), ("x, y, z in µm", ""))
        self.assertEqual([line.fields["from_"].shown, origin.fields["point"].shown], ["µm", "µm"])
        mark = form("mark", "Measure")
        mark.fields["shape"].setCurrentText("line")
        mark.fields["points"].setText("1, -2, 3; 4um, 5, 6")  # with a unit of its own nothing is added
        self.assertEqual(mark.values()["points"], "1, -2, 3; 4um, 5, 6")
        mark.fields["points"].setText("1, −2, 3; 4, 5, 6")
        self.press(mark.apply)
        self.settle(window)
        np.testing.assert_allclose(window.desk.marks.marks[1].array, [(0.001, -0.002, 0.003), (0.004, 0.005, 0.006)])

    def test_places_on_a_picture_without_scale_count_in_pixels(self):
        from kestrelmist.core.operation import find_operation

        Picture.fromarray(np.zeros((30, 40), np.uint8)).save(self.place / "plain.png")
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "plain.png", subject="T-1")
        window = self.open(self.place / "study")
        self.settle(window)
        window.bench.open_operation(find_operation("mark"))
        self.settle(window)
        form = window.bench.page("Measure").form
        points = form.fields["points"]
        self.assertEqual((points.placeholderText(), points.shown), ("x, y, z in px", "px"))
        points.setText("3, -4")
        self.press(form.apply)
        self.settle(window)
        self.assertEqual(window.desk.marks.marks[1].points, ((3.0, -4.0, 0.0),))

    def test_a_crosshair_at_nearly_nothing_has_no_sign(self):
        window = self.opened(two_balls().data)
        window.desk.viewing.go_to((-0.001, -0.004, 0.0))
        self.settle(window)
        self.assertRegex(window.readout.fields["World"].text(), r"^ +0\.00 +0\.00 +0\.00 mm$")


class SeveralFilesTest(PlaceCase):
    def test_a_stack_of_single_files_keeps_each_ones_slope(self):
        import nibabel

        folder = self.place / "flat"
        values = RNG.integers(0, 100, (6, 5, 4)).astype(np.int16)
        for n, slope in enumerate((1.0, 0.5, 2.0)):
            for place, part in ((folder, values[:, :, :1]), (self.place / "deep", values)):
                place.mkdir(exist_ok=True)
                file = nibabel.Nifti1Image(part, np.eye(4))
                file.header.set_slope_inter(slope, 10 * n)
                file.to_filename(place / f"run{n:03d}.nii")
        files = sorted(folder.iterdir())
        stack = read_sequence(files, "slice")
        run = read_sequence([self.place / "deep" / f.name for f in files], "time")
        for n, slope in enumerate((1.0, 0.5, 2.0)):
            np.testing.assert_allclose(stack.data[:, :, n], values[:, :, 0] * slope + 10 * n, rtol=1e-6)
            np.testing.assert_allclose(run.frame((n,)).data, values * slope + 10 * n, rtol=1e-6)
        self.assertEqual(stack.space.shape, (6, 5, 3))
