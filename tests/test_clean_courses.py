"""Slow changes and curves taken out of a series; against least squares by an independent library."""

import unittest
from pathlib import Path

import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.caveat import TAKEN_OUT
from kestrelmist.core.curve import Curve
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import silent
from kestrelmist.core.table import Column, Table
from kestrelmist.formats.curve_files import read_curve, read_curves
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image, save_thing
from kestrelmist.prepare.series.clean_courses import clean_courses
from kestrelmist.study.recipes.of_logbook import recipe_of
from kestrelmist.study.recipes.one_subject import run_recipe
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space

COUNT, STEP = 120, 2.0
RNG = np.random.default_rng(77)
TIMES = STEP * np.arange(COUNT)
MOTION = np.cumsum(RNG.normal(size=COUNT))
TASK = np.sin(2 * np.pi * TIMES / 20)


def series(data: np.ndarray, **changes) -> Image:
    given = {"axes": (Axis.even("time", COUNT, STEP, "s"),), **changes}
    return Image(np.asfortranarray(data, np.float32), straight_space(data.shape[:3], 1.0), "Run", "T-1", **given)


def whole(image: Image) -> np.ndarray:
    return np.stack([image.frame((n,)).fetch(silent()) for n in range(image.axes[0].size)], -1)


class CleanTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.data = 1000 + RNG.normal(0, 5, (5, 4, 3, COUNT)) + 3 * MOTION + 8 * TASK + 0.2 * TIMES
        self.curve = Curve(MOTION + 50, TIMES, "s", "mm", name="Shift")

    def test_is_least_squares_with_the_mean_kept(self):
        found = whole(clean_courses(series(self.data), 100.0, [self.curve]))
        rows = [np.cos(np.pi * n * (np.arange(COUNT) + 0.5) / COUNT) for n in range(1, 5)]
        design = np.array([np.ones(COUNT), *rows, MOTION]).T
        flat = self.data.reshape(-1, COUNT).T
        fit = np.linalg.lstsq(design, flat, rcond=None)[0]
        taken = design[:, 1:] @ fit[1:]
        wanted = (flat - taken + taken.mean(0)).T.reshape(self.data.shape)
        np.testing.assert_allclose(found, wanted, atol=2e-3)
        np.testing.assert_allclose(found.mean(-1), self.data.mean(-1), atol=2e-3)

    def test_the_task_stays_and_the_motion_goes(self):
        found = whole(clean_courses(series(self.data), 100.0, [self.curve])).mean((0, 1, 2))
        self.assertGreater(np.corrcoef(found, TASK)[0, 1], 0.98)
        self.assertLess(abs(np.corrcoef(found, MOTION)[0, 1]), 1e-3)

    def test_any_scale_and_curves_that_say_the_same(self):
        once = whole(clean_courses(series(self.data), 0.0, [self.curve]))
        twice = [self.curve, Curve(2 * MOTION, name="Again"), Curve(np.ones(COUNT), name="Flat")]
        np.testing.assert_allclose(whole(clean_courses(series(self.data), 0.0, twice)), once, atol=2e-3)
        for factor in (1e-5, 1e4):
            scaled = whole(clean_courses(series(self.data * factor), 0.0, [self.curve]))
            np.testing.assert_allclose(scaled / factor, once, atol=5e-3)
        large = whole(clean_courses(series(self.data + 1e5), 0.0, [self.curve])) - 1e5
        np.testing.assert_allclose(large, once, atol=0.1)

    def test_a_voxel_without_a_value_has_none(self):
        self.data[1, 2, 0, 30] = np.nan
        found = whole(clean_courses(series(self.data), 100.0))
        self.assertTrue(np.isnan(found[1, 2, 0]).all())
        self.assertEqual(np.isnan(found).sum(), COUNT)

    def test_what_cannot_be_done_is_said(self):
        image = series(self.data)
        one = Image(np.asfortranarray(self.data[..., 0]), image.space, "One", "T-1")
        unknown = series(self.data, axes=(Axis("time", COUNT),))
        holed = Curve(np.where(np.arange(COUNT) < 20, np.nan, MOTION), name="Holed")
        many = [Curve(RNG.normal(size=COUNT), name=f"{n}") for n in range(COUNT)]
        for said, given in (
            ("not a series", (one, 100.0)),
            ("Nothing is to be taken out", (image,)),
            ("Nothing is to be taken out", (image, 0.0, [Curve(np.ones(COUNT), name="Flat")])),
            ("not known in s", (unknown, 100.0)),
            ("3 values", (image, 0.0, [Curve(np.arange(3.0), name="Short")])),
            ("no value in some", (image, 0.0, [holed])),
            ("leave nothing", (image, 0.0, many)),
            ("nearly all", (image, 3.0)),
        ):
            with self.subTest(said), self.assertRaisesRegex(Trouble, said):
                clean_courses(*given)

    def test_on_the_command_line(self):
        run, out, curve = (self.place / name for name in ("run.nii.gz", "out.nii.gz", "shift.csv"))
        save_image(run, series(self.data))
        save_thing(curve, self.curve)
        kestrelmist("clean-courses", run, "--slower", 100, "--without", curve, "--out", out)
        wanted = whole(clean_courses(open_image(run), 100.0, [read_curve(curve)]))
        again = open_image(out)
        np.testing.assert_allclose(whole(again), wanted, atol=1e-3)
        self.assertEqual((again.axes[0].size, again.axes[0].step), (COUNT, STEP))


class FromFilesTest(PlaceCase):
    """Tables of many columns, from the program itself and from others, are read whole, or as far as they are named."""

    NAMES = ("trans_x", "trans_y", "trans_z", "rot_x", "rot_y", "rot_z")

    def setUp(self):
        super().setUp()
        self.motion = np.cumsum(RNG.normal(size=(COUNT, 6)), axis=0)
        weights = RNG.normal(size=(6, 5, 4, 3))
        self.data = 1000 + RNG.normal(0, 1, (5, 4, 3, COUNT)) + np.einsum("tm,mijk->ijkt", self.motion, weights)
        save_image(self.place / "run.nii.gz", series(self.data))

    def cleaned(self, *columns: int) -> np.ndarray:
        """By least squares of NumPy, with some columns of the motion taken out."""
        design = np.column_stack([np.ones(COUNT), self.motion[:, columns]])
        flat = self.data.reshape(-1, COUNT).T
        left = flat - design @ np.linalg.lstsq(design, flat, rcond=None)[0]
        return (left + flat.mean(0)).T.reshape(self.data.shape)

    def write(self, name: str, mark: str, heads: bool, more: str = "") -> Path:
        lines = [mark.join(self.NAMES)] if heads else []
        lines += [mark.join(f"{v:.9g}" for v in row) for row in self.motion]
        path = self.place / name
        path.write_text(more + "\n".join(lines) + "\n")
        return path

    def parquet(self) -> Path:
        path = self.place / "motion.parquet"
        columns = [Column("volume"), *(Column(name, "mm") for name in self.NAMES)]
        rows = [(n, *map(float, row)) for n, row in enumerate(self.motion, 1)]
        save_thing(path, Table("Motion", columns, rows))
        return path

    def run_on(self, without) -> tuple[np.ndarray, str]:
        out = self.place / "out.nii.gz"
        out.unlink(missing_ok=True)
        words = [w for one in without for w in ("--without", one)]
        said = kestrelmist("clean-courses", self.place / "run.nii.gz", *words, "--out", out).stdout
        return whole(open_image(out)), said

    def test_each_way_of_writing_them(self):
        wanted = self.cleaned(*range(6))
        for path in (
            self.write("motion.csv", ",", True),
            self.write("motion.tsv", "\t", True),
            self.write("semicolons.csv", ";", True),
            self.write("six columns.txt", "  ", False),
            self.write("no.heads", "\t", False),
            self.write("commented.txt", " ", True, "# "),
            self.write("noted.txt", " ", False, "# made at the field station\n"),
            self.parquet(),
        ):
            with self.subTest(path.name):
                found, said = self.run_on([path])
                np.testing.assert_allclose(found, wanted, atol=5e-3)
                self.assertIn("Taken out of its courses: ", said)
                self.assertEqual(said.count("trans_") + said.count("column "), 3 if "trans_" in said else 6)

    def test_columns_are_chosen(self):
        path = self.write("motion.tsv", "\t", True)
        found, said = self.run_on([f"{path}#trans_y,ROT_Z"])
        np.testing.assert_allclose(found, self.cleaned(1, 5), atol=5e-3)
        self.assertIn("Taken out of its courses: trans_y, rot_z", " ".join(said.split()))
        found, _ = self.run_on([f"{path}#trans_y", f"{path}#rot_z", f"{self.write('six.txt', ' ', False)}#column 1"])
        np.testing.assert_allclose(found, self.cleaned(0, 1, 5), atol=5e-3)
        run, out = self.place / "run.nii.gz", self.place / "no.nii.gz"
        said = kestrelmist("clean-courses", run, "--without", f"{path}#sway", "--out", out, code=1).stderr
        self.assertIn("has no column “sway” of numbers", " ".join(said.split()))
        self.assertFalse(out.exists())

    def test_one_curve_is_wanted(self):
        path = self.write("motion.csv", ",", True)
        words = ("correlate", self.place / "run.nii.gz", "--out", self.place / "r.nii.gz", "--curve")
        said = " ".join(kestrelmist(*words, path, code=1).stderr.split())
        self.assertIn("holds 6 curves, and one is wanted", said)
        self.assertIn("motion.csv#trans_x", said)
        kestrelmist(*words, f"{path}#trans_z", "--without", f"{path}#trans_x")
        design = np.column_stack([np.ones(COUNT), self.motion[:, 0]])

        def left(values: np.ndarray) -> np.ndarray:
            return values - design @ np.linalg.lstsq(design, values, rcond=None)[0]

        flat = left(self.data.reshape(-1, COUNT).T)
        course = left(self.motion[:, 2])
        wanted = flat.T @ course / np.linalg.norm(flat, axis=0) / np.linalg.norm(course)
        found = open_image(self.place / "r.nii.gz").data
        np.testing.assert_allclose(found, wanted.reshape(found.shape), atol=1e-4)

    def test_the_table_that_the_program_wrote(self):
        """Its first volume has no change since the one before: that is said, and the table is taken whole."""
        values = 1000.0 * (np.indices((20, 20, 12)) > 4).all(0)[..., None] + RNG.normal(0, 9, (20, 20, 12, 30))
        run = Image(np.asfortranarray(values.astype("f4")), straight_space((20, 20, 12), 1.0), "Run", "T-1",
                    axes=(Axis.even("time", 30, STEP, "s"),))  # fmt: skip
        save_image(self.place / "run.nii.gz", run)
        table = self.place / "motion.csv"
        kestrelmist("correct-motion", self.place / "run.nii.gz", "--table", table, "--out", self.place / "still.nii.gz")
        _, said = self.run_on([table])
        for name in (*self.NAMES, "framewise_displacement", "dvars_before (no value in volume 1: its mean there)",
                     "dvars_after", "global_mean"):  # fmt: skip
            self.assertIn(name, " ".join(said.split()))
        found, _ = self.run_on([f"{table}#trans_x"])
        known = read_curves(table, "trans_x")[0].values
        rest = found.reshape(-1, 30) - found.reshape(-1, 30).mean(1, keepdims=True)
        self.assertLess(np.abs(rest @ (known - known.mean())).max(), 1e-2 * np.abs(known).max() * 30)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "run.nii.gz", subject="T-1")
            kept = study.run("correct-motion", image="run")
            (title,) = (r.name for r in study.items.of_kind("table"))
            (once,) = study.run("clean-courses", image="run", without=[title])
            caveat = study.items.get(once).caveats[-1]
            self.assertEqual(caveat.code, TAKEN_OUT)
            self.assertIn("trans_x, trans_y", caveat.sentence)
            self.assertEqual(len(kept["curves"]), 10)
            recipe = recipe_of(study.logbook.entries())
            self.assertEqual(recipe.steps[1].inputs["without"], ["$1.motion"])
            self.assertEqual([d.found for d in run_recipe(study, recipe)], [True, True])


if __name__ == "__main__":
    unittest.main()
