"""Series: volumes left out, slices timed, motion found and taken out; against what was put in."""

import csv
import json

import numpy as np
from scipy import ndimage

from kestrelmist.core.axis import Axis
from kestrelmist.core.displacement import DisplacementField
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.resampling import resampled
from kestrelmist.core.rigid import matrix_of, moved_by, step_matrix
from kestrelmist.core.space import Space
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.formats.sidecar import KEY
from kestrelmist.prepare.grid.apply_transform import apply_transform
from kestrelmist.prepare.series.motion import SHIFTS, TURNS, correct_motion
from kestrelmist.prepare.series.one_series import bright_part
from kestrelmist.prepare.series.volumes_of import drop_volumes, time_slices
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase

SHAPE, COUNT = (36, 40, 24), 7


def head_space() -> Space:
    a = np.radians(7.0)
    turn = np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]])
    affine = np.eye(4)
    affine[:3, :3] = turn * 3.0
    affine[:3, 3] = (-60, -50, -30)
    return Space(SHAPE, affine)


def head(space: Space) -> np.ndarray:
    """A textured ellipsoid [k, j, i]."""
    rng = np.random.default_rng(3)
    away = space.to_world(np.indices(SHAPE).reshape(3, -1).T) - space.centre
    radius = np.sqrt(((away / (40, 46, 28)) ** 2).sum(1)).reshape(SHAPE)
    texture = ndimage.gaussian_filter(rng.standard_normal(SHAPE), 1.5)
    return (1000 * np.clip(6 * (1 - radius), 0, 1) * (1 + 0.2 * texture / texture.std())).astype(np.float32).T


class Moved:
    """A series in which the head moves as is known."""

    def __init__(self, noise: float = 20.0):
        rng = np.random.default_rng(8)
        self.space = head_space()
        self.still = head(self.space)
        self.moved = np.concatenate([rng.normal(0, 0.8, (COUNT, 3)), np.radians(rng.normal(0, 0.8, (COUNT, 3)))], 1)
        self.moved[COUNT // 2] = 0  # the reference
        volumes = []
        for row in self.moved:
            matrix = matrix_of(row, self.space.centre)
            frame = (self.space.inverse @ np.linalg.inv(matrix) @ self.space.affine)[:3]
            volume = resampled(self.still, frame, SHAPE, "cubic", 0.0)
            volumes.append(volume.T + rng.normal(0, noise, SHAPE).astype(np.float32))
        axes = (Axis.even("time", COUNT, 2.0, "s"),)
        self.image = Image(np.asfortranarray(np.stack(volumes, -1)), self.space, "Run", "T-1", axes=axes)
        self.labels = LabelMap(self.space)


def error(found: np.ndarray, true: np.ndarray, space: Space) -> float:
    """Mean distance between where two movements bring the voxels of the head, mm."""
    points = space.to_world(np.argwhere(head(space).T > 300)[::40])
    ends = [points @ m[:3, :3].T + m[:3, 3] for m in (matrix_of(v, space.centre) for v in (found, true))]
    return float(np.linalg.norm(ends[0] - ends[1], axis=1).mean())


class RigidTest(PlaceCase):
    def test_numbers_and_matrices(self):
        centre, moved = np.array((5.0, -3.0, 2.0)), np.array((1.0, -2.0, 0.5, 0.1, -0.2, 0.3))
        matrix = matrix_of(moved, centre)
        np.testing.assert_allclose(moved_by(matrix, centre), moved, atol=1e-12)
        np.testing.assert_allclose(matrix[:3, :3] @ matrix[:3, :3].T, np.eye(3), atol=1e-12)
        np.testing.assert_allclose(matrix @ (*centre, 1), (*(centre + moved[:3]), 1))
        small = step_matrix((0.1, 0, 0, 1e-4, 2e-4, -1e-4), centre)
        np.testing.assert_allclose(small, matrix_of((0.1, 0, 0, 1e-4, 2e-4, -1e-4), centre), atol=1e-6)


class MotionTest(PlaceCase):
    def test_the_motion_is_found_and_taken_out(self):
        made = Moved()
        still, table, curves, moves = correct_motion(made.image)
        found = np.array([table.column(name) for name in (*SHIFTS, *TURNS)]).T
        errors = [error(f, t, made.space) for f, t in zip(found, made.moved)]
        self.assertLess(np.mean(errors), 0.05)
        inner = ndimage.binary_erosion(made.still > 300, iterations=3)
        before = np.stack([made.image.frame((n,)).data.T[inner] for n in range(COUNT)]).std(0).mean()
        after = np.stack([still.frame((n,)).data.T[inner] for n in range(COUNT)]).std(0).mean()
        self.assertLess(after, 1.1 * 20)  # the noise alone
        self.assertGreater(before, 2 * after)
        steps = np.abs(np.diff(found, axis=0, prepend=found[:1]))
        radius = (table.column("framewise_displacement")[2] - steps[2, :3].sum()) / steps[2, 3:].sum()
        self.assertTrue(20 < radius < 45)
        self.assertEqual([c.unit for c in curves], ["mm"] * 3 + ["rad"] * 3 + ["mm", "%", "%", ""])
        for name, series in (("dvars_before", made.image), ("dvars_after", still)):
            column = table.column(name)
            self.assertIsNone(column[0])
            bright = bright_part(np.nan_to_num(series.frame((0,)).data))
            for n in range(1, COUNT):
                a, b = (series.frame((k,)).data[bright].astype(float) for k in (n - 1, n))
                wanted = 100 * np.sqrt(np.nanmean((b - a) ** 2)) / np.nanmean(b)
                self.assertAlmostEqual(column[n], wanted, places=3)
        self.assertLess(np.mean(table.column("dvars_after")[1:]), 0.6 * np.mean(table.column("dvars_before")[1:]))
        np.testing.assert_allclose(curves[1].values, found[:, 1])
        through = apply_transform(made.image, [moves], made.image)  # the same with everything else there may be
        for n in (0, COUNT - 1):
            np.testing.assert_allclose(through.frame((n,)).data, still.frame((n,)).data, atol=0.5)
        bent = DisplacementField(np.zeros((*made.space.shape, 3), np.float32), made.image.space, name="Nothing")
        both = apply_transform(made.image, [bent, moves], made.image)
        inside = np.isfinite(both.frame((3,)).data)
        self.assertGreater(inside.mean(), 0.05)
        np.testing.assert_allclose(both.frame((3,)).data[inside], still.frame((3,)).data[inside], atol=0.5)
        with self.assertRaisesRegex(Trouble, f"is of {COUNT} volumes, and .* has 2: take the series"):
            apply_transform(drop_volumes(made.image, first=COUNT - 2), [moves], made.image)
        with self.assertRaisesRegex(Trouble, "another one for every volume of a series: .* is one volume"):
            apply_transform(made.image.frame((0,)), [moves], made.image)

    def test_against_other_references_and_in_a_mask(self):
        made = Moved()
        for given in ({"reference": "mean"}, {"reference": "1"}, {"reference": "last"}):
            table = correct_motion(made.image, **given).motion
            found = np.array([table.column(name) for name in (*SHIFTS, *TURNS)]).T
            at = {"1": 0, "last": COUNT - 1, "mean": None}[given["reference"]]
            if at is None:
                continue
            # relative to that volume: a place of it is brought to the others
            own = np.linalg.inv(matrix_of(made.moved[at], made.space.centre))
            for f, t in zip(found, made.moved):
                wanted = moved_by(matrix_of(t, made.space.centre) @ own, made.space.centre)
                self.assertLess(error(f, wanted, made.space), 0.12)
        separate = Image(made.still.T, made.space, "Reference")
        made.labels.data[8:28, 8:32, 4:20] = 1
        made.labels.recount()
        table = correct_motion(made.image, separate=separate, mask=made.labels).motion
        found = np.array([table.column(name) for name in (*SHIFTS, *TURNS)]).T
        self.assertLess(np.mean([error(f, t, made.space) for f, t in zip(found, made.moved)]), 0.06)

    def test_on_the_command_line_and_in_a_study(self):
        made = Moved()
        save_image(self.place / "run.nii.gz", made.image)
        words = ("--reference", "middle", "--out", self.place / "still.nii.gz", "--table", self.place / "motion.csv")
        kestrelmist("correct-motion", self.place / "run.nii.gz", *words)
        rows = list(csv.DictReader((self.place / "motion.csv").open()))
        self.assertEqual(len(rows), COUNT)
        self.assertEqual((rows[0]["trans_x_unit"], rows[0]["rot_z_unit"]), ("mm", "rad"))
        found = [float(rows[1][n]) for n in (*SHIFTS, *TURNS)]
        self.assertLess(error(found, made.moved[1], made.space), 0.1)
        self.assertEqual(open_image(self.place / "still.nii.gz").count, COUNT)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "run.nii.gz", subject="T-1")
            kept = study.run("correct-motion")
            self.assertEqual(len(kept["curves"]), 10)
            self.assertEqual([r.name for r in study.records()], ["run", "run, still"])
            self.assertEqual(study.image("run, still").count, COUNT)

    def test_wrong_input(self):
        made = Moved()
        empty = made.image.data.copy()
        empty[..., 2] = 0
        nothing = Image(empty, made.space, "Run", axes=made.image.axes)
        other = Image(np.ones((4, 4, 4), np.float32), Space((4, 4, 4), np.eye(4)), "Other")
        for image, given, said in (
            (other, {}, "one volume, not a series"),
            (
                made.image,
                {"reference": "9"},
                "no volume of “Run”: give first, middle, last, mean, or a number from 1 to 7",
            ),
            (made.image, {"reference": "second"}, "no volume"),
            (made.image, {"separate": other}, "another grid"),
            (made.image, {"mask": made.labels}, "mask is empty"),
            (nothing, {}, "Volume 3 of “Run” is empty"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                correct_motion(image, **given)


class VolumesTest(PlaceCase):
    def run_of(self, count=12, slices=6, step=2.0, facts=None) -> Image:
        """A wave of 14 s whose phase is that of the time at which each slice was taken, interleaved."""
        order = [0, 2, 4, 1, 3, 5]
        times = np.empty(slices)
        times[order] = np.arange(slices) * step / slices
        t = step * np.arange(count)[None, :] + times[:, None]
        data = np.broadcast_to(100 + 10 * np.sin(2 * np.pi * t / 14.0), (3, 3, slices, count)).astype(np.float32)
        axes = (Axis.even("time", count, step, "s"),)
        made = Image(np.asfortranarray(data), Space((3, 3, slices), np.eye(4)), "Run", axes=axes)
        made.facts[KEY] = json.dumps(
            {"SliceTiming": times.tolist(), "RepetitionTime": step} if facts is None else facts
        )
        return made

    def test_every_slice_at_one_time(self):
        image = self.run_of(24)
        for given in ({}, {"pattern": "interleaved"}):
            for how, most in (("sinc", 0.15), ("cubic", 0.25), ("linear", 1.2)):
                made = time_slices(image, how=how, to=0.25, **given)
                wanted = 100 + 10 * np.sin(2 * np.pi * (2.0 * np.arange(24) + 0.5) / 14.0)
                found = np.stack([made.frame((n,)).data[1, 1] for n in range(24)], -1)
                self.assertLess(np.abs(found[:, 5:-5] - wanted[5:-5]).max(), most, how)
        facts = json.loads(made.facts[KEY])
        self.assertEqual((facts["SliceTimingCorrected"], facts["StartTime"]), (True, 0.5))
        self.assertNotIn("SliceTiming", facts)
        still = time_slices(image, to=float(json.loads(image.facts[KEY])["SliceTiming"][2]) / 2.0)
        np.testing.assert_array_equal(still.frame((7,)).data[:, :, 2], image.frame((7,)).data[:, :, 2])

    def test_first_volumes_left_out_and_counts_checked(self):
        image = self.run_of()
        made = drop_volumes(image, 3, 1, expected=12, repetition_time=2.0)
        self.assertEqual((made.count, made.axes[0].values[0]), (8, 6.0))
        np.testing.assert_array_equal(made.frame((0,)).data, image.frame((3,)).data)
        save_image(self.place / "run.nii", image)
        kestrelmist("drop-volumes", self.place / "run.nii", "--first", "2", "--out", self.place / "short.nii")
        self.assertEqual(open_image(self.place / "short.nii").count, 10)

    def test_wrong_input(self):
        image = self.run_of()
        for do, said in (
            (lambda: drop_volumes(image, 6, 6), "none would be left"),
            (lambda: drop_volumes(image, expected=200), "has 12 times, and 200 were expected"),
            (lambda: drop_volumes(image, repetition_time=3.0), "is 2 s, and 3 s was expected"),
            (lambda: drop_volumes(image.frame((0,))), "one volume, not a series"),
            (lambda: time_slices(self.run_of(facts={})), "Nothing says when"),
            (lambda: time_slices(self.run_of(facts={"SliceTiming": [0, 1]})), "the times of 2 are given"),
            (lambda: time_slices(self.run_of(facts={"SliceTiming": [0, 500, 100, 50, 20, 10]})), "do not lie within"),
            (lambda: time_slices(image, "ascending", multiband=4), "4 at once"),
            (lambda: time_slices(image.frame((0,))), "not a series"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                do()
