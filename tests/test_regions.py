"""Statistics of regions, against independent libraries, closed formulas and brute force."""

import math
import unittest
from unittest import mock

import numpy as np
import SimpleITK as sitk
from scipy.special import ellipeinc, ellipkinc
from skimage.measure import regionprops, regionprops_table

from kestrelmist.core.axis import Axis
from kestrelmist.core.calibration import Calibration
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import Space, picture_space
from kestrelmist.core.through import seen_through
from kestrelmist.core.transform import Transform
from kestrelmist.measure.calibrating.use_calibration import use_calibration
from kestrelmist.measure.regions.feret import ferets
from kestrelmist.measure.regions.intensities import intensities
from kestrelmist.measure.regions.measure_cells import measure_cells
from kestrelmist.measure.regions.measure_labels import measure_labels, measure_series
from kestrelmist.measure.regions.sums import region_sums
from kestrelmist.measure.regions.surface import surfaces

RNG = np.random.default_rng(5)


def mapped(space: Space, numbers: np.ndarray) -> LabelMap:
    """A label map of numbers [k, j, i], each of which is a label."""
    table = LabelTable()
    for n in range(1, int(numbers.max()) + 1):
        table, _ = table.with_new(f"L{n}")
    return LabelMap(space, np.asfortranarray(numbers.astype(np.uint16).T), table)


def by_name(table, row: int = 0) -> dict:
    return dict(zip([c.name for c in table.columns], table.rows[row]))


def ellipsoid_area(a: float, b: float, c: float) -> float:
    """By elliptic integrals."""
    a, b, c = sorted((a, b, c), reverse=True)
    if a - c < 1e-9:
        return 4 * math.pi * a * a
    turn, part = math.acos(c / a), a * a * (b * b - c * c) / (b * b * (a * a - c * c))
    sine, cosine = math.sin(turn), math.cos(turn)
    both = ellipeinc(turn, part) * sine**2 + ellipkinc(turn, part) * cosine**2
    return 2 * math.pi * (c * c + a * b / sine * both)


class AgainstLibrariesTest(unittest.TestCase):
    def test_pictures_as_scikit_image_has_them(self):
        v, u = np.indices((60, 80))
        numbers = np.zeros((60, 80), np.uint16)
        numbers[np.hypot((u - 22) / 1.7, v - 20) < 10] = 1
        numbers[(abs(u - 60) + abs(v - 30) < 14) & (u > 55)] = 2
        numbers[40:55, 5:40] = 3
        values = RNG.normal(100, 20, numbers.shape).astype(np.float32)
        space = picture_space(80, 60, (1.0, 1.0))
        image = Image(np.asfortranarray(values.T[:, :, None]), space, "Picture")
        table = measure_labels(image, mapped(space, numbers[None]), "all")
        for n, one in enumerate(regionprops(numbers, values)):
            row = by_name(table, n)
            inside = values[numbers == n + 1].astype(float)
            for name, true in (
                ("pixels", one.area),
                ("mean", one.intensity_mean),
                ("minimum", one.intensity_min),
                ("maximum", one.intensity_max),
                ("i", one.centroid[1]),
                ("j", one.centroid[0]),
                ("major_axis", one.axis_major_length),
                ("minor_axis", one.axis_minor_length),
                ("perimeter", one.perimeter_crofton),
                ("extent", one.extent),
                ("median", np.median(inside)),
                ("p5", np.percentile(inside, 5)),
                ("p95", np.percentile(inside, 95)),
                ("sd", inside.std(ddof=1)),
                ("total", inside.sum()),
            ):
                self.assertAlmostEqual(row[name] / true, 1, delta=1e-6, msg=name)
            self.assertAlmostEqual(row["circularity"], 4 * math.pi * one.area / one.perimeter_crofton**2, places=6)

    def test_volumes_as_simple_itk_has_them(self):
        k, j, i = np.indices((30, 40, 50))
        numbers = np.zeros(k.shape, np.uint16)
        numbers[((k - 12) / 8) ** 2 + ((j - 15) / 12) ** 2 + ((i - 18) / 10) ** 2 <= 1] = 1
        numbers[18:27, 25:38, 30:46] = 2
        values = RNG.normal(40, 7, numbers.shape).astype(np.float32)
        affine = np.diag([0.5, 0.4, 0.8, 1.0])
        affine[:3, 3] = (3, -2, 7)
        space = Space((50, 40, 30), affine)
        table = measure_labels(Image(np.asfortranarray(values.T), space), mapped(space, numbers), "all")
        labels, image = sitk.GetImageFromArray(numbers), sitk.GetImageFromArray(values)
        for one in (labels, image):
            one.SetSpacing((0.5, 0.4, 0.8))
            one.SetOrigin((3, -2, 7))
        found = sitk.LabelIntensityStatisticsImageFilter()
        found.Execute(labels, image)
        for n in (1, 2):
            row = by_name(table, n - 1)
            pairs = [("volume", found.GetPhysicalSize(n)), ("mean", found.GetMean(n)), ("total", found.GetSum(n))]
            pairs += [("sd", found.GetStandardDeviation(n)), ("minimum", found.GetMinimum(n))]
            pairs += [("maximum", found.GetMaximum(n)), ("elongation", found.GetElongation(n))]
            pairs += [("flatness", found.GetFlatness(n)), *zip("xyz", found.GetCentroid(n))]
            for name, true in pairs:
                self.assertAlmostEqual(row[name] / true, 1, delta=1e-6, msg=name)
            moments = sorted(found.GetPrincipalMoments(n), reverse=True)
            for name, moment in zip(("longest_axis", "middle_axis", "shortest_axis"), moments):
                self.assertAlmostEqual(row[name], 2 * math.sqrt(5 * moment), places=6)
        away = np.linalg.norm(np.subtract(found.GetCentroid(1), found.GetCentroid(2)))
        self.assertAlmostEqual(table.column("nearest")[0], away, places=6)

    def test_modes_and_entropy(self):
        space = Space((4, 1, 1), np.eye(4))
        for values, mode, entropy in (
            (np.array([3, 3, 7, 9], np.int16), 3.0, 1.5),
            (np.array([5, 5, 5, 5], np.uint8), 5.0, 0.0),
            (np.array([0.0, 1.0, 1.0, 1.0], np.float32), 1 - 0.5 / 256, 0.811278),
        ):
            image = Image(values.reshape(4, 1, 1), space)
            row = by_name(measure_labels(image, mapped(space, np.ones((1, 1, 4), int)), "mode, entropy"))
            self.assertAlmostEqual(row["mode"], mode, places=6)
            self.assertAlmostEqual(row["entropy"], entropy, places=5)


class IntensitiesTest(unittest.TestCase):
    def test_small_and_large_regions_by_the_same_definitions(self):
        for values in (
            RNG.normal(3, 2, 4000).astype(np.float32),
            RNG.integers(-5, 9, 4000).astype(np.int16),
            np.repeat(np.float32(2.5), 4000),
            RNG.uniform(0, 0.01, 4000).astype(np.float32),
            RNG.normal(0, 1e6, 4000).astype(np.float32),
        ):
            ends = np.array([0, 1, 2, 777, 4000])
            small = intensities(values.copy(), ends[:-1], ends[1:])
            with mock.patch("kestrelmist.measure.regions.intensities.SMALL", 0):
                large = intensities(values.copy(), ends[:-1], ends[1:])
            for name in small:
                np.testing.assert_allclose(small[name], large[name], rtol=1e-9, atol=1e-12, err_msg=name)


class CellsTest(unittest.TestCase):
    def test_three_channels_as_scikit_image_has_them(self):
        v, u = np.indices((90, 110))
        numbers = np.zeros((90, 110), np.uint16)
        for n, (x, y) in enumerate(((20, 20), (50, 30), (80, 70), (30, 70)), 1):
            numbers[np.hypot(u - x, (v - y) * 1.4) < 9 + n] = 3 * n
        colours = RNG.integers(0, 255, (90, 110, 3)).astype(np.uint8)
        space = picture_space(110, 90, (0.5, 0.5))
        image = Image(np.ascontiguousarray(colours.transpose(1, 0, 2)[:, :, None]), space, "Cells", colour=True)
        table = measure_cells(image, LabelMap(space, np.asfortranarray(numbers.T[:, :, None])), "mean, sd, median")
        theirs = regionprops_table(numbers, colours, properties=("label", "area", "intensity_mean", "centroid",
            "axis_major_length", "perimeter_crofton"), spacing=(0.5, 0.5))  # fmt: skip
        np.testing.assert_array_equal(table.column("number"), theirs["label"])
        for name, one in (("area", "area"), ("mean_red", "intensity_mean-0"), ("mean_blue", "intensity_mean-2"),
                          ("major_axis", "axis_major_length"), ("perimeter", "perimeter_crofton")):  # fmt: skip
            np.testing.assert_allclose(table.column(name), theirs[one], rtol=1e-6, err_msg=name)
        inside = colours[..., 1][numbers == 6].astype(float)
        self.assertAlmostEqual(table.column("sd_green")[1], inside.std(ddof=1), places=9)
        self.assertEqual(table.title, "Labels on Cells: 4 cells, 0.001616 a mm²")
        with self.assertRaisesRegex(Trouble, "has no cells yet"):
            measure_cells(image, LabelMap(space))
        with self.assertRaisesRegex(Trouble, "Nothing is called “hue”"):
            measure_cells(image, LabelMap(space, np.asfortranarray(numbers.T[:, :, None])), "hue")


class ShapesTest(unittest.TestCase):
    def surface_of(self, radii, spacing=(1.0, 1.0, 1.0), shift=(0.0, 0.0, 0.0)) -> float:
        shape = [int(2 * max(radii) / s) + 6 for s in spacing]
        middles = [(size - 1) / 2 + d for size, d in zip(shape, shift)]
        places = [(n - m) * s for n, m, s in zip(np.indices(shape), middles, spacing)]
        inside = sum((at / r) ** 2 for at, r in zip(places, radii)) <= 1
        steps = np.diag(spacing)
        return float(surfaces(region_sums(inside.astype(np.uint16), np.array([1]), steps), steps, None)[0])

    def test_surfaces_of_balls_and_ellipsoids(self):
        for radii in ((5, 5, 5), (10, 10, 10), (50, 50, 50), (20, 10, 10), (20, 10, 5), (25, 25, 10), (12, 8, 6)):
            shifts = RNG.uniform(-0.5, 0.5, (10 if max(radii) < 15 else 2, 3))
            found = np.mean([self.surface_of(radii, shift=s) for s in shifts])
            self.assertAlmostEqual(found / ellipsoid_area(*radii), 1, delta=0.01, msg=radii)

    def test_slices_twice_as_thick(self):
        for radii in ((20, 20, 20), (40, 20, 20), (25, 25, 12)):
            found = self.surface_of(radii, (2.0, 1.0, 1.0))
            self.assertAlmostEqual(found / ellipsoid_area(*radii), 1, delta=0.01, msg=radii)

    def test_perimeters_of_pictures_along_any_axis(self):
        for flat in range(3):
            shape = [60, 60, 60]
            shape[flat] = 1
            one, other = (np.indices(shape)[n] for n in range(3) if n != flat)
            mask = np.hypot(one - 29.7, other - 30.2) < 17
            labels = mapped(Space(tuple(shape), np.eye(4)), mask.T.astype(int))
            table = measure_labels(Image(np.asfortranarray(mask.astype(np.float32)), labels.space), labels, "perimeter")
            self.assertAlmostEqual(table.column("perimeter")[0] / (2 * math.pi * 17), 1, delta=0.005)

    def test_feret_is_the_longest_of_all_ways(self):
        for n, shape in enumerate([(1, 20, 17), (9, 8, 7), (1, 1, 9), (5, 1, 6)] * 3):
            mask = RNG.random(shape) < 0.1 + 0.06 * n
            mask[0, 0, 0] = True
            steps = np.diag(RNG.uniform(0.2, 3, 3))
            found = ferets(region_sums(mask.astype(np.uint16), np.array([1])), mask.astype(np.uint16), steps)[0]
            middles = np.argwhere(mask).astype(float)
            faces = [middles + d * np.eye(3)[a] for a in range(3) if shape[a] > 1 for d in (-0.5, 0.5)]
            points = np.concatenate(faces) @ steps
            longest = np.linalg.norm(points[:, None] - points[None], axis=2).max()
            self.assertAlmostEqual(found, longest, places=9)

    def test_a_voxel_a_row_and_nothing(self):
        space = Space((6, 5, 4), np.diag([1.0, 2.0, 3.0, 1.0]))
        numbers = np.zeros((4, 5, 6), int)
        numbers[1, 1, 1], numbers[2, 3, 1:5], numbers[0, 0, 0] = 1, 2, 3
        labels = mapped(space, numbers)
        labels.kji[0, 0, 0] = 0
        image = Image(np.ones((6, 5, 4), np.float32), space)
        one, row, none = (by_name(measure_labels(image, labels, "all"), n) for n in range(3))
        self.assertEqual((one["voxels"], one["feret"], one["sd"], one["longest_axis"]), (1, 3.0, None, 0.0))
        self.assertEqual((row["feret"], row["elongation"], row["x"]), (math.sqrt(18), None, 2.5))
        self.assertEqual((none["voxels"], none["feret"], none["mean"], none["x"]), (0, None, None, None))


class TableTest(unittest.TestCase):
    def setUp(self):
        self.space = picture_space(40, 30, None)
        numbers = np.zeros((1, 30, 40), int)
        numbers[0, 5:15, 5:15], numbers[0, 20:25, 20:30] = 1, 2
        self.labels = mapped(self.space, numbers)
        self.image = self.picture("A", 10.0)

    def picture(self, name: str, value: float, space: Space | None = None) -> Image:
        space = space or self.space
        return Image(np.full(space.shape, value, np.float32), space, name, "T-1")

    def test_columns_are_chosen_by_name(self):
        table = measure_labels(self.image, self.labels, "Median, total , perimeter")
        names = [c.name for c in table.columns]
        self.assertEqual(names[4:], ["pixels", "area", "area_uncertainty", "median", "total", "perimeter",
                                     "perimeter_uncertainty", "scale"])  # fmt: skip
        self.assertEqual(table.column("total"), [1000.0, 500.0])
        with self.assertRaisesRegex(Trouble, "Nothing is called “hue”"):
            measure_labels(self.image, self.labels, "hue")

    def test_what_lies_over_the_background(self):
        table = measure_labels(self.image, self.labels, background=8.0)
        self.assertEqual(table.column("total_over_background"), [200.0, 100.0])

    def test_no_scale_and_a_scale_that_is_unsure(self):
        table = measure_labels(self.image, self.labels)
        self.assertEqual(by_name(table)["scale"], "no scale: lengths are in pixels")
        placed = self.image.placed(use_calibration(Calibration(0.1, 0.1, 0.02, 0.02, name="C"), self.image))
        labels = LabelMap(placed.space, self.labels.data, self.labels.table)
        row = by_name(measure_labels(placed, labels))
        self.assertAlmostEqual(row["area"], 1.0)
        chance = math.sqrt(36) / 2 * 0.01  # boundary pixels, of which each is in or out by chance
        self.assertAlmostEqual(row["area_uncertainty"], math.hypot(chance, 0.04), places=9)
        self.assertIn("by calibration “C”", row["scale"])

    def test_slice_by_slice(self):
        space = Space((6, 5, 4), np.diag([1.0, 2.0, 3.0, 1.0]))
        numbers = np.zeros((4, 5, 6), int)
        numbers[1:3, 1:4, 1:3], numbers[2, 0, 0] = 1, 2
        image = Image(np.asfortranarray(np.indices((6, 5, 4))[2].astype(np.float32)), space)
        table = measure_labels(image, mapped(space, numbers), each="label and slice")
        rows = list(zip(*(table.column(c) for c in ("label", "slice", "area", "mean"))))
        self.assertEqual(rows, [("L1", 1, 12.0, 1.0), ("L1", 2, 12.0, 2.0), ("L2", 2, 2.0, 2.0)])

    def test_the_same_regions_on_other_images(self):
        finer = Space((80, 60, 1), self.space.affine @ np.diag([0.5, 0.5, 1, 1]), "px", self.space.world)
        other = self.picture("B", 3.0, finer)
        table = measure_labels(self.image, self.labels, others=[other])
        told = list(zip(table.column("image"), table.column("label"), table.column("mean"), table.column("regions_by")))
        self.assertEqual(
            told, [("A", "L1", 10.0, "drawn here"), ("A", "L2", 10.0, "drawn here"), ("B", "L1", 3.0, "world"),
                   ("B", "L2", 3.0, "world")]
        )  # fmt: skip
        with self.assertRaisesRegex(Trouble, "80 × 60 × 1 voxels, and the regions lie on 40 × 30 × 1"):
            measure_labels(self.image, self.labels, others=[other], by="voxel")
        far = self.space.moved(np.array([[1, 0, 0, 500], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]]))
        with self.assertRaisesRegex(Trouble, "does not overlap"):
            measure_labels(self.image, self.labels, others=[self.picture("Far", 1.0, far)])
        self.assertEqual(
            measure_labels(self.image, self.labels, others=[self.picture("Far", 1.0, far)], by="voxel").column("mean"),
            [10.0, 10.0, 1.0, 1.0],
        )

    def test_through_a_mapping(self):
        away = np.eye(4)
        away[0, 3] = 20.0
        moved = self.picture("B", 3.0, self.space.moved(np.linalg.inv(away)))
        moved.data[:20] = 5.0
        way = Transform(away, moved.space.world, self.space.world)
        table = measure_labels(self.image, self.labels, others=[seen_through(moved, way)])
        self.assertEqual(table.column("mean"), [10.0, 10.0, 5.0, 3.0])

    def test_channels_and_times_have_rows_of_their_own(self):
        values = np.stack([np.full(self.space.shape, v, np.float32) for v in (1.0, 2.0)], -1)
        series = Image(values, self.space, "S", axes=[Axis("channel", 2, labels=("red", "green"))])
        table = measure_series(series, self.labels)
        rows = list(zip(table.column("channel"), table.column("label"), table.column("mean")))
        self.assertEqual(rows, [("red", "L1", 1.0), ("red", "L2", 1.0), ("green", "L1", 2.0), ("green", "L2", 2.0)])

    def test_overlap_with_another_map(self):
        numbers = np.zeros((1, 30, 40), int)
        numbers[0, 5:15, 5:10], numbers[0, 5:15, 10:12] = 1, 2
        table = measure_labels(self.image, self.labels, overlap=mapped(self.space, numbers))
        self.assertEqual(list(zip(table.column("overlap"), table.column("overlaps"))), [(0.7, "L1"), (0.0, "")])

    def test_values_that_are_none(self):
        self.image.data[5:10, 5:15] = np.nan
        self.image.data[10, 5] = np.inf
        row = by_name(measure_labels(self.image, self.labels, "all"))
        self.assertEqual((row["pixels"], row["mean"], row["total"], row["maximum"]), (100, 10.0, 490.0, 10.0))


if __name__ == "__main__":
    unittest.main()
