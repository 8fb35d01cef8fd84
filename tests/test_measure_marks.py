"""Marks measured, against closed formulas and against truth with what is stated of uncertainty."""

import math
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from scipy.special import ellipe

from kestrelmist.core.calibration import Calibration
from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.geometry.measured import measured, placed_to
from kestrelmist.core.image import Image
from kestrelmist.core.scale import Scale
from kestrelmist.core.space import picture_space
from kestrelmist.formats.saving import save_thing
from kestrelmist.measure.calibrating.use_calibration import use_calibration
from kestrelmist.measure.regions.measure_marks import measure_marks
from tests.command import kestrelmist
from tests.test_regions import by_name

EXACT = Scale("mm", "exact", (0.0, 0.0, 0.0))
UNSURE = Scale("mm", "by calibration", (0.02, 0.02, 0.0), True, 9.0)


def found(shape: str, *points, scale: Scale = EXACT, placed: float = 0.0) -> dict:
    mark = Mark(shape, tuple((*map(float, p), 0.0)[:3] for p in points))
    return {one.name: one for one in measured(mark, scale, placed)}


class AmountsTest(unittest.TestCase):
    def test_against_closed_formulas(self):
        turn = [(2 * math.cos(t), 2 * math.sin(t)) for t in np.linspace(0, 2 * np.pi, 2001)[:-1]]
        for shape, points, true in (
            ("line", [(0, 0), (3, 4)], {"length": 5}),
            ("polyline", [(0, 0), (3, 4), (3, 0)], {"length": 9}),
            ("freehand", [*turn, turn[0]], {"length": 4 * math.pi}),
            ("polygon", [(0, 0), (4, 0), (0, 3)], {"area": 6, "perimeter": 12}),
            ("polygon", turn, {"area": 4 * math.pi, "perimeter": 4 * math.pi}),
            ("rectangle", [(0, 0), (3, 0), (3, 2), (0, 2)], {"width": 3, "height": 2, "area": 6, "perimeter": 10}),
            ("circle", [(1, 0), (0, 1), (-1, 0)], {"diameter": 2, "area": math.pi, "perimeter": 2 * math.pi}),
            ("angle", [(1, 0), (0, 0), (-1, 1)], {"angle": 135}),
            ("lines-angle", [(5, 5), (6, 5), (0, 0), (0, 2)], {"angle": 90}),
            ("box", [(0, 0, 0), (2, 0, 0), (0, 3, 0), (0, 0, 4)], {"width": 2, "height": 3, "depth": 4, "volume": 24}),
            ("arrow", [(0, 0), (3, 4)], {}),
            ("point", [(0, 0)], {}),
        ):
            got = {name: one.value for name, one in found(shape, *points).items()}
            self.assertEqual(got.keys(), true.keys(), shape)
            for name in true:
                self.assertAlmostEqual(got[name], true[name], delta=2e-5 * true[name], msg=f"{shape} {name}")

    def test_the_way_round_an_ellipse(self):
        for a, b in ((1, 1), (2, 1), (5, 1)):
            got = found("ellipse", (0, b), (a, 0), (0, -b), (-a, 0))
            self.assertAlmostEqual(got["area"].value, math.pi * a * b, places=9)
            true = 4 * a * ellipe(1 - (b / a) ** 2)
            self.assertAlmostEqual(got["perimeter"].value / true, 1, delta=2e-5)

    def test_uncertainties_of_scale_and_placing(self):
        of_scale = found("line", (0, 0), (3, 4), scale=UNSURE)["length"]
        self.assertAlmostEqual(of_scale.sure, 0.1)
        self.assertAlmostEqual(of_scale.freedom, 9.0)
        of_place = found("line", (0, 0), (3, 4), placed=0.1)["length"]
        self.assertAlmostEqual(of_place.sure, 0.1 * math.sqrt(2))
        both = found("line", (0, 0), (3, 4), scale=UNSURE, placed=0.1)["length"]
        self.assertAlmostEqual(both.sure, math.hypot(0.1, 0.1 * math.sqrt(2)))
        square = found("polygon", (0, 0), (5, 0), (5, 5), (0, 5), scale=UNSURE)
        self.assertAlmostEqual(square["area"].sure, 25 * 0.04)  # both sides by one error
        apart = Scale("mm", "by calibration", (0.02, 0.01, 0.0), False)
        area = found("polygon", (0, 0), (5, 0), (5, 5), (0, 5), scale=apart)["area"]
        self.assertAlmostEqual(area.sure, 25 * math.hypot(0.02, 0.01))
        self.assertAlmostEqual(found("line", (0, 0), (0, 4), scale=apart)["length"].sure, 0.04)
        angle = found("angle", (1, 0), (0, 0), (0, 1), scale=UNSURE)["angle"]
        self.assertAlmostEqual(angle.sure, 0.0, places=9)  # an angle does not know a scale

    def test_lines_of_many_points_are_told_as_those_of_few(self):
        rng = np.random.default_rng(4)
        tilted = np.linalg.qr(rng.normal(0, 1, (3, 3)))[0]
        for scale in (UNSURE, EXACT, Scale("mm", "", (0.02, 0.01, 0.03), False), Scale("px", "")):
            for shape, count in (("polyline", 9), ("freehand", 30), ("polygon", 12)):
                turn = np.sort(rng.uniform(0, 2 * np.pi, count))
                ring = np.stack((np.cos(turn), np.sin(turn), 0 * turn), 1) * rng.uniform(2, 3, (count, 1))
                points = ring @ tilted if scale.together else ring
                with mock.patch("kestrelmist.core.geometry.measured.MOST", 1000):
                    measured.cache_clear()
                    few = found(shape, *points, scale=scale, placed=0.05)
                measured.cache_clear()
                many = found(shape, *points, scale=scale, placed=0.05)
                self.assertEqual(few.keys(), many.keys())
                for name in few:
                    self.assertAlmostEqual(few[name].value / many[name].value, 1, places=9)
                    self.assertAlmostEqual(few[name].sure / many[name].sure, 1, places=6, msg=f"{shape} {name}")

    def test_values_of_two_lines_are_not_those_between_them(self):
        values = np.zeros((40, 20, 1), np.uint8, order="F")
        values[:, 2], values[:, 17] = 10, 20
        space = picture_space(40, 20, (1.0, 1.0))
        ends = [tuple(space.to_world((i, j, 0)).tolist()) for i, j in ((5, 2), (30, 2), (5, 17), (30, 17))]
        marks = Marks.numbered([Mark("lines-angle", tuple(ends))], world=space.world, name="M")
        row = measure_marks(marks, Image(values, space, "p"), "mean, minimum").as_records()[0]
        self.assertEqual((row["mean"], row["minimum"]), (15.0, 10.0))

    def test_a_line_that_runs_on_far_beyond_the_image(self):
        values = np.arange(800, dtype=np.float32).reshape(40, 20, 1, order="F")
        space = picture_space(40, 20, (1.0, 1.0))
        y = space.to_world((0, 4, 0))[1]
        ends = ((-1e9, y, 0.0), (1e9, y, 0.0))
        marks = Marks.numbered([Mark("line", ends), Mark("line", ((1e9, y, 0.0), (2e9, y, 0.0)))], world=space.world)
        one, other = measure_marks(marks, Image(values, space, "p"), "mean").as_records()
        self.assertEqual((one["pixels"], one["mean"]), (40, float(values[:, 4].mean())))
        self.assertEqual(other["pixels"], 0)

    def test_as_a_person_reads_it(self):
        one = found("line", (0, 0), (12.31, 0), placed=0.0145)["length"]
        self.assertEqual(one.words, "12.310 ± 0.040 mm")
        self.assertEqual(one.parts, ("12.3", "10 ± 0.040", "mm"))
        tiny = found("line", (0, 0), (0.005, 0), placed=1e-5)["length"].suited()
        self.assertEqual(tiny.words, "5.000 ± 0.028 µm")
        self.assertEqual(found("angle", (1, 0), (0, 0), (0, 1))["angle"].words, "90°")

    def test_true_values_lie_inside_what_is_stated(self):
        rng, inside = np.random.default_rng(3), {}
        true = {
            "line": ([(0, 0), (3, 4)], "length"),
            "polygon": ([(0, 0), (4, 0), (5, 3), (1, 4)], "area"),
            "angle": ([(3, 0), (0, 0), (2, 3)], "angle"),
            "circle": ([(2, 0), (0, 2), (-2, 0)], "diameter"),
        }
        for shape, (points, name) in true.items():
            exact = found(shape, *points)[name].value
            for _ in range(200):
                by = 1 + rng.normal(0, 0.02)  # the scale that was measured
                drawn = np.array(points, float) * by + rng.normal(0, 0.03, (len(points), 2))
                got = found(shape, *drawn, scale=Scale("mm", "", (0.02, 0.02, 0)), placed=0.03)[name]
                inside[shape] = inside.get(shape, 0) + (abs(got.value - exact) <= got.expanded)
        for shape, count in inside.items():
            self.assertTrue(181 <= count <= 199, (shape, count))


class TableTest(unittest.TestCase):
    def setUp(self):
        self.space = picture_space(40, 30, (0.5, 0.5))
        values = np.zeros((40, 30, 1), np.float32)
        values[10:20, 5:15] = 7.0
        self.image = Image(np.asfortranarray(values), self.space, "Picture", "T-1", unit="HU")
        low, high = self.space.to_world([(9.5, 4.5, 0), (19.5, 14.5, 0)])
        square = [(low[0], low[1], 0), (high[0], low[1], 0), (high[0], high[1], 0), (low[0], high[1], 0)]
        self.marks = Marks.numbered(
            [
                Mark("rectangle", tuple(square), name="square", cls=2),
                Mark("line", (square[0], square[1]), name="=1+1"),
                Mark("text", (square[0],), text="words"),
            ],
            world=self.space.world,
        )

    def test_sizes_and_values(self):
        table = measure_marks(self.marks, self.image)
        square, line, words = (by_name(table, n) for n in range(3))
        self.assertAlmostEqual(square["area"], 25.0)
        self.assertEqual((square["pixels"], square["mean"], square["sd"]), (100, 7.0, 0.0))
        self.assertAlmostEqual(line["length"], 5.0)
        self.assertAlmostEqual(line["length_uncertainty"], 1.96 * 0.5 / math.sqrt(6), places=3)
        self.assertEqual((words["area"], words["length"]), (None, None))
        self.assertEqual(square["scale"], "by header, its uncertainty is not known")
        self.assertEqual([c.unit for c in table.columns if c.name in ("area", "length", "mean")], ["mm", "mm2", "HU"])
        self.assertIn("'=1+1", table.to_csv())

    def test_one_quantity_a_row(self):
        table = measure_marks(self.marks, self.image, "none", rows="one quantity")
        rows = list(zip(*(table.column(c) for c in ("mark", "quantity", "value", "unit", "uncertainty_is"))))
        self.assertIn((1, "area", 25.0, "mm2", "95 %"), [(m, q, round(v, 9), u, s) for m, q, v, u, s in rows])
        self.assertEqual(len(rows), 5)

    def test_fine_pictures_are_told_in_micrometres(self):
        bare = Image(self.image.data, picture_space(40, 30, None), "Bare", unit="HU")
        marks = Marks.numbered([Mark("line", ((0, 0, 0), (10, 0, 0)))], world=bare.space.world, unit="px")
        table = measure_marks(marks, bare, "none")
        self.assertEqual((table.column("length"), table.column("scale")[0][:8]), ([10.0], "no scale"))
        fine = bare.placed(use_calibration(Calibration(0.0005, 0.0005, 0.01, 0.01, name="C"), bare))
        with self.assertRaisesRegex(Trouble, "counts in px and “Bare” in mm"):
            measure_marks(marks, fine)
        marks = Marks.numbered([Mark("line", ((0, 0, 0), (0.005, 0, 0)))], world=fine.space.world)
        table = measure_marks(marks, fine, "none")
        row = by_name(table)
        self.assertAlmostEqual(row["length"], 5.0)
        spread = 1.96 * math.hypot(0.05, math.sqrt(2) * placed_to(fine.space) * 1000)
        self.assertAlmostEqual(row["length_uncertainty"], spread, places=4)
        self.assertIn("by calibration “C”, ± 2 % (95 %)", row["scale"])

    def test_the_same_marks_on_another_image(self):
        other = Image(self.image.data * 2, self.space, "Other", "T-1", unit="HU")
        table = measure_marks(self.marks, self.image, others=[other])
        told = [(row[1], row[2]) for row in table.rows]
        self.assertEqual(told, [(name, n) for name in ("Picture", "Other") for n in (1, 2, 3)])
        self.assertEqual([table.column("mean")[n] for n in (0, 3)], [7.0, 14.0])

    def test_troubles(self):
        for marks, words in (
            (Marks(), "There are no marks"),
            (Marks.numbered([Mark("point", ((900, 0, 0),))], unit="px"), "counts in px"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                measure_marks(marks, self.image)
        with self.assertRaisesRegex(Trouble, "Nothing is called “hue”"):
            measure_marks(self.marks, self.image, "hue")
        outside = Marks.numbered([Mark("polygon", ((900, 0, 0), (901, 0, 0), (900, 1, 0)))], world=self.space.world)
        row = by_name(measure_marks(outside, self.image))
        self.assertEqual((row["pixels"], row["mean"], row["area"]), (0, None, 0.5))

    def test_from_the_command_line(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder)
            save_thing(place / "p.ome.tif", self.image)
            first, second, table = place / "a.geojson", place / "b.geojson", place / "t.csv"
            line = ("--shape", "length", "--points", "0,0; 3,4", "--sure", "0.1")
            kestrelmist("mark", place / "p.ome.tif", *line, "--out", first)
            more = ("--shape", "lines-angle", "--points", "0,0; 1,0; 0,0; 0,1")
            kestrelmist("mark", first, *more, "--out", second)
            kestrelmist("measure-marks", second, "--image", place / "p.ome.tif", "--out", table)
            text = table.read_text()
            self.assertIn(",5.0,mm,", text)
            self.assertIn(",90.0,deg,", text)
            wrong = ("--shape", "circle", "--points", "0,0; 1,1", "--out", first)
            ran = kestrelmist("mark", place / "p.ome.tif", *wrong, code=1)
            self.assertIn("has 3 points", ran.stderr)


if __name__ == "__main__":
    unittest.main()
