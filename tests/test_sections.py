"""Sections, step heights and roughness, against closed formulas and made-up enamel whose depth is known."""

import math
import sqlite3
import tempfile
import unittest
from contextlib import closing
from pathlib import Path

import nibabel as nib
import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.curve import Curve
from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.image import Image
from kestrelmist.core.operation import find_operation
from kestrelmist.core.space import picture_space
from kestrelmist.demo.enamel import PIXEL, enamel
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.formats.table_files import read_csv
from kestrelmist.formats.tiff_write import save_ome_tiff
from kestrelmist.measure.plateaus import edges_of, step_in
from kestrelmist.measure.roughness import roughness
from kestrelmist.measure.section import Line, profile, section_of
from kestrelmist.measure.step_height import step_height
from kestrelmist.prepare.heights.level import level
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, tilted_space, two_balls
from tests.test_level import height_map, painted


def ends(image: Image, first, last) -> tuple:
    """World positions of two points of a map, given as column and row."""
    return tuple(tuple(float(v) for v in image.space.to_world((*p, 0))) for p in (first, last))


def value(table, what: str, column: int = 1):
    return next(row[column] for row in table.rows if row[0] == what)


class SectionTest(unittest.TestCase):
    def test_a_linear_image_is_met_exactly(self):
        j, i = np.mgrid[0:60, 0:80]
        image = height_map(3.0 * i - 2.0 * j, pixel=0.25)
        a, b = ends(image, (10, 5), (70, 50))
        found = section_of(image, Line(a, b))
        self.assertEqual(found.along[0], 0)
        self.assertAlmostEqual(found.along[-1], 0.25 * math.hypot(60, 45))
        share = found.along / found.along[-1]
        np.testing.assert_allclose(found.values, 20 + share * (180 - 90), atol=1e-3)
        self.assertEqual(found.lines.shape, (76, 1))

    def test_the_width_averages_square_to_the_line(self):
        j, i = np.mgrid[0:60, 0:80]
        image = height_map(100.0 * (j > 29.5) + 0.0 * i)
        a, b = ends(image, (10, 29.5), (70, 29.5))
        found = section_of(image, Line(a, b, 1e-3))  # ten points of 1e-4
        self.assertEqual(found.lines.shape[1], 11)
        np.testing.assert_allclose(found.values, 50, atol=5)
        self.assertEqual({round(v) for v in found.lines[30]}, {0, 50, 100})

    def test_any_line_in_a_volume(self):
        space = tilted_space()
        world = space.to_world(np.indices(space.shape).reshape(3, -1).T).reshape(*space.shape, 3)
        image = Image(
            np.asfortranarray((2 * world[..., 0] - world[..., 1] + 5 * world[..., 2]).astype(np.float32)), space
        )
        centre = space.centre
        line = Line(tuple(centre - (1.5, 1, 2)), tuple(centre + (1.5, 1, 2)), 0.8)
        found = section_of(image, line)
        share = found.along / found.along[-1]
        places = np.array(line.start) + share[:, None] * np.subtract(line.end, line.start)
        np.testing.assert_allclose(found.values, places @ (2, -1, 5), atol=1e-3)

    def test_a_picture_larger_than_memory_is_read_along_the_line_only(self):
        rng = np.random.default_rng(1)
        for colour in (False, True):
            shape = (2200, 320, 1, 3) if colour else (2200, 320, 1)
            values = rng.integers(0, 250, shape).astype(np.uint8)
            plain = Image(values, picture_space(2200, 320, (1e-3, 1e-3)), "Section", colour=colour)
            with tempfile.TemporaryDirectory() as place:
                save_ome_tiff(Path(place) / "large.ome.tif", plain)
                large = open_image(Path(place) / "large.ome.tif").grey()
                self.assertTrue(large.levels)
                for first, last in (((10, 20), (2150, 300)), ((-30, 120), (2250, 120))):
                    a, b = ends(plain, first, last)
                    line = Line(a, b, 0.01)
                    found, true = section_of(large, line), section_of(plain.grey(), line)
                    self.assertFalse(large.in_memory)
                    np.testing.assert_allclose(found.lines, true.lines, atol=1e-9)

    def test_outside_and_holes(self):
        heights = np.zeros((30, 30))
        heights[:, 10:12] = np.nan
        image = height_map(heights)
        a, b = ends(image, (-5, 15), (25, 15))
        values = section_of(image, Line(a, b)).values
        self.assertTrue(np.isnan(values[:4]).all())
        self.assertTrue(np.isnan(values[15:17]).all())
        self.assertEqual(values[25], 0)
        for words, line in (
            ("shorter than a voxel", Line(a, a)),
            ("meets no value", Line(*ends(image, (50, 50), (60, 50)))),
            ("voxels long", Line(a, (1e6, 0.0, 0.0))),
        ):
            with self.assertRaisesRegex(Trouble, words):
                section_of(image, line)

    def test_kept_as_a_curve_with_its_line(self):
        image = height_map(np.ones((20, 30)))
        a, b = ends(image, (2, 3), (20, 3))
        curve = profile(image, a, b, 5e-4, name="Across", colour="#112233")
        self.assertEqual((curve.along_unit, curve.unit, curve.name, curve.colour), ("mm", "nm", "Across", "#112233"))
        again = Curve.from_dict(curve.as_dict(), curve.name)
        self.assertEqual((again.mark.points, again.mark.across), ((tuple(a), tuple(b)), 5e-4))
        self.assertEqual(again.image, "Map")
        for damaged in ("x", {"shape": "section"}, {"shape": "section", "points": [["x", 1, 2]] * 2}):
            self.assertIsNone(Curve.from_dict({"values": [1.0], "mark": damaged}).mark)
        self.assertIsNone(Curve.from_dict({"values": [1.0]}).mark)


class StepTest(unittest.TestCase):
    def setUp(self):
        self.x = np.linspace(0, 10, 401)

    def test_one_edge_on_a_slope(self):
        rng = np.random.default_rng(1)
        values = 7.0 * self.x + 250 * (self.x > 6.1) + rng.normal(0, 1, self.x.size)
        step = step_in(self.x, values[:, None], "map")
        self.assertEqual(len(step.edges), 1)
        self.assertAlmostEqual(step.edges[0], 6.1, delta=0.05)
        self.assertAlmostEqual(step.height, 250, delta=2 * step.noise)
        self.assertAlmostEqual(step.slope, 7.0, delta=0.1)
        formula = math.sqrt(np.linalg.inv(self._normal(step))[2, 2])
        self.assertAlmostEqual(step.noise / formula, 1, delta=0.35)  # points that do not go together

    def _normal(self, step):
        keep = np.zeros(self.x.size, bool)
        for low, high in step.used:
            keep |= (self.x >= low) & (self.x <= high)
        x = self.x[keep]
        matrix = np.column_stack([np.ones(x.size), x - x.mean(), x > step.edges[0]])
        return matrix.T @ matrix

    def test_a_groove_as_the_standard_has_it(self):
        values = np.where((self.x > 4) & (self.x < 5.5), -100.0, 0.0) + 3 * self.x
        values[np.abs(self.x - 4.2) < 0.15] += 30  # a rounded corner, within the third that is left out
        step = step_in(self.x, np.repeat(values[:, None], 5, 1), "map")
        self.assertAlmostEqual(step.height, -100, places=6)
        np.testing.assert_allclose(step.used, [(2.5, 3.5), (4.5, 5.0), (6.0, 7.0)], atol=0.05)
        np.testing.assert_allclose(step.left_out, [(3.5, 4.5), (5.0, 6.0)], atol=0.03)
        given = step_in(self.x, np.repeat(values[:, None], 5, 1), "map", edge=0.6)
        np.testing.assert_allclose(given.used[1], (4.6, 4.9), atol=0.03)

    def test_dust_and_holes_do_not_count(self):
        rng = np.random.default_rng(3)
        lines = np.where(self.x > 5, 80.0, 0.0)[:, None] + rng.normal(0, 1, (401, 24))
        lines[60:70, 3:9] += 900
        lines[300:320, 10:14] = np.nan
        step = step_in(self.x, lines, "map")
        self.assertAlmostEqual(step.height, 80, delta=0.3)
        self.assertEqual(step.dust, [])  # of a part of the width only
        self.assertEqual(step.counted, step.used)
        lines[80:92] += 900
        step = step_in(self.x, lines, "map")
        self.assertAlmostEqual(step.height, 80, delta=0.3)
        half = (self.x[1] - self.x[0]) / 2
        np.testing.assert_allclose(step.dust, [(self.x[80] - half, self.x[91] + half)])
        (first, last), after = step.used
        expected = [(first, self.x[80] - half), (self.x[91] + half, last), after]
        np.testing.assert_allclose(step.counted, expected)
        lines[:9] += 900  # at the very beginning, too
        step = step_in(self.x, lines, "map")
        self.assertAlmostEqual(step.counted[0][0], self.x[8] + half)
        self.assertAlmostEqual(step.counted[0][1], self.x[80] - half)

    def test_how_sure_it_is(self):
        """Of many noisy sections with waves along and across, 95 of 100 hold the true height in what is stated."""
        inside = 0
        for seed in range(60):
            rng = np.random.default_rng(seed)
            waves = rng.normal(0, 3, 401 + 40)
            along = np.convolve(waves, np.ones(9) / 9, "same")[20:-20]
            lines = np.where(self.x > 4.7, 50.0, 0.0)[:, None] + along[:, None] + rng.normal(0, 1, (401, 3))
            step = step_in(self.x, lines, "map")
            inside += abs(step.height - 50) <= step.expanded()
        self.assertGreater(inside, 52)

    def test_sentences(self):
        flat = np.zeros(401)
        for words, values in (
            ("no step", flat),
            ("crosses", 50.0 * np.sin(2 * self.x)),
            ("no step", np.full(401, np.nan)),
        ):
            with self.assertRaisesRegex(Trouble, words):
                step_in(self.x, values[:, None], "map")
        with self.assertRaisesRegex(Trouble, "Too little"):
            step_in(self.x, np.where(self.x > 5, 9.0, 0)[:, None], "map", edge=6.0)
        with self.assertRaisesRegex(Trouble, "no step"):
            edges_of(self.x[:4], flat[:4], "map")


class EnamelTest(unittest.TestCase):
    def test_depth_within_a_hundredth_and_within_what_is_stated(self):
        close = held = 0
        seeds = range(200, 207)
        for seed in seeds:
            made = enamel(seed, 256, depth=600 + 40 * (seed - 200))
            image = height_map(made.heights, pixel=PIXEL / 1000)
            flat = level(level(image, "plane", robust=True).image, "lines", order=2, robust=True).image
            a, b = ends(flat, (0, 127.5), (255, 127.5))
            table = step_height(flat, a, b, 240 * PIXEL / 1000)
            depth, sure = value(table, "depth of the groove"), value(table, "depth of the groove", 2)
            close += abs(depth - made.depth) < 0.01 * made.depth
            held += abs(depth - made.depth) <= sure
        self.assertGreaterEqual(close, len(seeds) - 1)
        self.assertGreaterEqual(held, len(seeds) - 2)

    def test_the_scale_of_heights_makes_it_less_sure(self):
        made = enamel(3, 256, depth=1000)
        flat = level(height_map(made.heights, pixel=1e-4), "lines", order=2, robust=True).image
        a, b = ends(flat, (0, 200), (255, 200))
        sure = value(step_height(flat, a, b, 2e-3), "depth of the groove", 2)
        less = value(step_height(flat, a, b, 2e-3, calibration=2.0), "depth of the groove", 2)
        self.assertAlmostEqual(less, math.hypot(sure, 1.96 * 20), delta=6)
        self.assertGreater(less, 1.01 * sure)


class RoughnessTest(unittest.TestCase):
    def test_of_a_wave(self):
        x = np.arange(1000)
        image = height_map(np.tile(40 * np.sin(2 * np.pi * x / 50) + 0.7 * x, (30, 1)))
        a, b = ends(image, (0, 15), (999, 15))
        table = roughness(image, a, b)
        for name, true in (
            ("Ra", 80 / np.pi),
            ("Rq", 40 / 2**0.5),
            ("Rz", 80),
            ("Sa", 80 / np.pi),
            ("Sq", 40 / 2**0.5),
        ):
            self.assertAlmostEqual(value(table, name) / true, 1, delta=0.02)
        self.assertEqual(value(table, "Ra", 3), "nm")

    def test_the_filter_passes_half_at_the_cut_off(self):
        x = np.arange(2000)
        for wave, passes in ((20, 1.0), (100, 0.5), (1000, 0.01)):
            image = height_map(np.tile(40 * np.sin(2 * np.pi * x / wave), (5, 1)))
            a, b = ends(image, (0, 2), (1999, 2))
            table = roughness(image, a, b, cutoff=100 * 1e-4)
            self.assertAlmostEqual(value(table, "Rq") / (40 / 2**0.5), passes, delta=0.03)

    def test_labels_are_left_out(self):
        heights = np.random.default_rng(1).normal(0, 2, (60, 80))
        heights[10:20, 10:30] += 500
        image = height_map(heights)
        self.assertAlmostEqual(value(roughness(image, leave_out=painted(image, 8, 34)), "Sq"), 2, delta=0.1)
        self.assertGreater(value(roughness(image), "Sq"), 50)

    def test_sentences(self):
        image = height_map(np.random.default_rng(1).normal(0, 2, (60, 80)))
        a, b = ends(image, (0, 5), (70, 5))
        for words, call in (
            ("slices", lambda: roughness(two_balls())),
            ("two cut-offs", lambda: roughness(image, a, b, cutoff=1.0)),
            ("at least 25", lambda: roughness(image, *ends(image, (0, 5), (10, 5)))),
            ("points", lambda: roughness(height_map(np.full((9, 9), np.nan)))),
            ("both of its ends", lambda: roughness(image, a)),
            ("no section", lambda: roughness(image, section=Curve(np.ones(3), name="Course"))),
            (
                "give one",
                lambda: step_height(
                    image, a, b, section=Curve(np.ones(3), mark=Mark("section", ((0, 0, 0), (0, 0, 0))))
                ),
            ),
        ):
            with self.assertRaisesRegex(Trouble, words):
                call()


class DoorsTest(PlaceCase):
    def test_on_the_command_line(self):
        made = enamel(4, 192, depth=900)
        image = height_map(made.heights, pixel=PIXEL / 1000)
        flat = level(image, "lines", order=2, robust=True).image
        save_image(self.place / "flat.x3p", flat)
        a, b = ends(flat, (0, 95), (191, 95))
        start, end = (",".join(f"{v:.6f}" for v in p[:2]) for p in (a, b))
        out, steps = self.place / "section.csv", self.place / "step.csv"
        kestrelmist("profile", self.place / "flat.x3p", "--from", start, "--to", end, "--width", "0.005", "--out", out)
        table = read_csv(out)
        self.assertEqual([c.name for c in table.columns][0], "distance")
        self.assertEqual([c.unit for c in table.columns], ["mm", "nm"])
        expected = section_of(flat, Line(a, b, 0.005)).values
        np.testing.assert_allclose(np.array(table.values[1], float), expected, atol=0.01)
        kestrelmist(
            "step-height", self.place / "flat.x3p", "--from", start, "--to", end, "--width", "0.015", "--out", steps
        )
        found = read_csv(steps)
        row = dict(zip(found.values[0], found.values[1]))
        self.assertAlmostEqual(float(row["depth of the groove"]), 900, delta=9)
        kestrelmist("roughness", self.place / "flat.x3p", "--out", self.place / "rough.csv")
        kestrelmist(
            "profile", self.place / "flat.x3p", "--from", "1,1", "--to", "2,2", "--out", self.place / "n.csv", code=1
        )
        self.assertFalse((self.place / "n.csv").exists())

    def test_in_a_study_and_again(self):
        image = height_map(np.tile(np.where(np.arange(90) > 40, 70.0, 0.0), (40, 1)), pixel=0.01)
        save_image(self.place / "map.x3p", image)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "map.x3p")
            a, b = ends(image, (5, 20), (85, 20))
            study.run("profile", from_=a, to=b, width=0.1, name="=1+1")
        with Study(self.place / "study") as study:
            (record,) = study.items.of_kind("curve")
            curve = study.thing(record.id)
            self.assertEqual((curve.name, curve.mark.across), ("=1+1", 0.1))
            np.testing.assert_allclose(curve.mark.array, (a, b))
            table = study.run("step-height", section=record.id)
            self.assertAlmostEqual(value(table, "step height"), 70, places=3)
            self.assertEqual(value(table, "step height", 3), "nm")

    def test_a_series_is_refused_and_one_of_its_volumes_is_not(self):
        axes = (Axis.even("time", 3, 1.0, "s"),)
        series = Image(np.zeros((9, 9, 1, 3), np.float32), height_map(np.zeros((9, 9))).space, "Run", axes=axes)
        a, b = ends(series, (1, 1), (7, 7))
        with self.assertRaisesRegex(Trouble, "is a series"):
            find_operation("profile")(image=series, from_=a, to=b)


class OfAnImageTest(PlaceCase):
    """A section belongs to the image it was drawn on, whatever that is called and wherever it lies."""

    def noisy(self, n: int) -> Image:
        balls = two_balls()
        return Image(balls.data + np.random.default_rng(n).normal(0, 9, balls.data.shape).astype("f4"), balls.space)

    def study(self) -> Study:
        study = Study(self.place / "study", create=True)
        for n, name in enumerate(("Enamel", "Other")):
            save_image(self.place / f"{name}.nii.gz", self.noisy(n))
            study.run("gather", folder=self.place / f"{name}.nii.gz", subject="T-1")
        return study

    def test_renamed_moved_scaled_and_back(self):
        with self.study() as study:
            key = study.run("profile", image="Enamel", from_=(-9, 0, 0), to=(9, 0, 0), width=2.0, name="Across")
            before = study.thing(key)
            truth = study.run("read-sections", sections=["Across"], first=4.0, second=12.0, image="Enamel").rows[0]
            study.run("rename", thing="Enamel", name="Map")
            self.assertEqual(study.thing(key).image, "Map")
            self.assertGreater(truth[9], 1.0)
            again = study.run("read-sections", sections=["Across"], first=4.0, second=12.0, image="Map").rows[0]
            self.assertEqual(again, truth)  # the noise of the image counts as before
            study.run("set-origin", image="Map", point=(1.0, 2.0, 3.0))
            moved = study.thing(key)
            np.testing.assert_allclose(moved.mark.array, ((-10, -2, -3), (8, -2, -3)), atol=1e-9)
            found = section_of(study.image("Map"), Line.of(moved.mark))
            np.testing.assert_allclose(found.values, before.values, atol=1e-3)
            study.run("set-spacing", image="Map", spacing=(0.25, 0.25, 0.25))
            scaled = study.thing(key)
            self.assertAlmostEqual(float(scaled.places()[-1]), 9.0)
            self.assertAlmostEqual(scaled.mark.across, 1.0)
            found = section_of(study.image("Map"), Line.of(scaled.mark))
            np.testing.assert_allclose(found.values, before.values, atol=1e-3)
            study.history.undo()
            study.history.undo()
            self.assertEqual(study.thing(key).mark, before.mark)
            np.testing.assert_array_equal(study.thing(key).along, before.along)
        with Study(self.place / "study") as study:
            self.assertEqual(study.thing(key).mark, before.mark)
            self.assertEqual(str(study.items.get(key).reference), "T-1/Map#Across")
            self.assertEqual(study.find("Map").id, study.items.get(key).of)

    def test_by_both_names_or_its_own(self):
        with self.study() as study:
            ends = {"from_": (-9, 0, 0), "to": (9, 0, 0)}
            for image in ("Enamel", "Other"):
                study.run("profile", image=image, name="Across", **ends)
            study.run("profile", image="Other", name="Second", **ends)
            read = {"first": 4.0, "second": 12.0}
            self.assertEqual(study.run("read-sections", sections=["Other#Across", "Second"], **read).count, 2)
            with self.assertRaisesRegex(Trouble, "Several curves are called “Across”.*Enamel#Across.*Other#Across"):
                study.run("read-sections", sections=["Across"], **read)
            study.run("delete", thing="Other", name="Other")
            self.assertEqual([r.name for r in study.items.of_kind("curve")], ["Across"])

    def test_one_volume_of_a_series(self):
        with self.study() as study:
            values = np.stack([self.noisy(3).data, self.noisy(4).data], axis=3)
            nib.save(nib.Nifti1Image(values, two_balls().space.affine), self.place / "Run.nii.gz")
            study.run("gather", folder=self.place / "Run.nii.gz", subject="T-1")
            key = study.run("profile", image="Run@2", from_=(-9, 0, 0), to=(9, 0, 0), width=2.0, name="S")
            given = {"sections": ["S"], "first": 4.0, "second": 12.0, "image": "Run@2"}
            before = study.run("read-sections", **given).rows[0]
            self.assertGreater(before[9], 1.0)  # how sure the difference is, by the noise of that volume
            name = study.thing(key).image
            study.run("rename", thing="Run", name="Series")
            self.assertEqual(study.thing(key).image, name.replace("Run", "Series"))
            self.assertEqual(study.run("read-sections", **given | {"image": "Series@2"}).rows[0], before)

    def test_older_studies(self):
        with self.study() as study:
            study.run("profile", image="Enamel", from_=(-9, 0, 0), to=(9, 0, 0), name="S")
            key = study.items.of_kind("curve")[0].id
            lost = study.run("profile", image="Other", from_=(-9, 0, 0), to=(9, 0, 0), name="Lost")
        with closing(sqlite3.connect(self.place / "study" / "study.db")) as db, db:  # as layout 4 had it
            db.execute("UPDATE item SET of = NULL WHERE kind = 'curve'")
            line = "json_set(body, '$.line', json('[-9, 0, 0, 9, 0, 0, 0.5]'))"
            db.execute(f"UPDATE item SET body = json_remove({line}, '$.mark') WHERE kind = 'curve'")
            db.execute("UPDATE item SET body = json_set(body, '$.image', 'Nowhere') WHERE id = ?", (lost,))
            db.execute("ALTER TABLE step DROP COLUMN found")
            db.execute("ALTER TABLE item DROP COLUMN made_of")
            db.execute("PRAGMA user_version = 4")
        with Study(self.place / "study") as study:
            self.assertEqual(study.items.get(key).of, study.find("Enamel").id)
            mark = study.thing(key).mark
            self.assertEqual((mark.points, mark.across), (((-9, 0, 0), (9, 0, 0)), 0.5))
            self.assertIsNone(study.items.get(lost).of)
            self.assertEqual(study.thing(lost).image, "Nowhere")
            self.assertTrue((self.place / "study" / "study.layout-4.db").exists())
