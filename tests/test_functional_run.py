"""The demo's functional run: what is said to be true of it is, and the program finds it again."""

import json
import unittest

import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.rigid import matrix_of
from kestrelmist.demo.animal import make_animal
from kestrelmist.demo.echo_planar import acquired
from kestrelmist.demo.functional_run import DIRECTION, ECHO, REPEAT, SPACING, FunctionalRun
from kestrelmist.demo.off_resonance import dipole_field
from kestrelmist.formats.label_files import read_label_map
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.sidecar import KEY, facts_of
from kestrelmist.prepare.fields.field_map import field_map
from kestrelmist.prepare.fields.undistort import undistort
from kestrelmist.prepare.series.motion import correct_motion
from kestrelmist.prepare.tissue.brain import take_out_brain
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space

TIMES = 8


class FieldTest(unittest.TestCase):
    def test_a_ball_sets_up_the_field_of_a_dipole(self):
        """Outside a ball of susceptibility χ in a field along y: χ/3 (a/r)³ (3 cos²θ − 1); inside nothing."""
        z, y, x = np.indices((64, 64, 64)) - 31.5
        r = np.sqrt(x**2 + y**2 + z**2)
        found = dipole_field(np.where(r < 8, 1.0, 0.0))
        true = (8 / r) ** 3 * (3 * (y / r) ** 2 - 1) / 3
        out = (r > 11) & (r < 20)
        self.assertGreater(np.corrcoef(found[out], true[out])[0, 1], 0.99)
        self.assertLess(np.abs(found[out] - true[out]).mean(), 0.05 * np.abs(true[out]).mean() + 0.003)
        self.assertLess(np.abs(found[r < 5]).max(), 0.02)

    def test_an_even_field_shifts_and_turns_and_a_slope_takes_signal(self):
        space = straight_space((12, 16, 4), 1.0)
        signals = np.zeros((1, 24, 40, 40), np.float32)
        signals[0, :, 18:22, 10:30] = 1.0
        frame = np.eye(4)
        frame[:3, 3] = (19.5, 19.5, 11.5)
        field = np.full((24, 40, 40), 20.0, np.float32)

        def taken(field, shift, echo):
            return acquired(signals, np.ones((4, 1)), field, (frame, frame), space.shape, np.eye(4), space, shift, echo)

        plain = taken(field, 0.0, 0.0)
        moved = taken(field, 0.1, 0.01)
        np.testing.assert_allclose(np.abs(moved[:, 4:-2]), np.abs(plain[:, 2:-4]), atol=1e-6)
        where = np.abs(plain) > 0.5
        np.testing.assert_allclose(np.angle(taken(field, 0.0, 0.01)[where]), 2 * np.pi * 0.2, atol=1e-6)
        slope = (np.arange(24, dtype=np.float32)[:, None, None] - 11.5) * np.ones((24, 40, 40), np.float32) * 50
        # across a voxel of 1 mm half a turn: six places in it give sin(π/2) / (6 sin(π/12))
        lost = np.abs(taken(slope, 0.0, 0.01))[where] / np.abs(plain[where])
        np.testing.assert_allclose(lost, 1 / (6 * np.sin(np.pi / 12)), rtol=1e-3)


class RunTest(PlaceCase):
    """A run of a seed that the demo does not use."""

    @classmethod
    def setUpClass(cls):
        cls.run_ = FunctionalRun(make_animal("HM-61", 61), TIMES)
        run = cls.run_
        facts = {
            KEY: json.dumps(
                {
                    "EchoTime": ECHO,
                    "PhaseEncodingDirection": DIRECTION,
                    "EffectiveEchoSpacing": SPACING,
                    "RepetitionTime": REPEAT,
                }
            )
        }
        volumes = np.stack([run.volume(n) for n in range(TIMES)], -1)
        axes = (Axis.even("time", TIMES, REPEAT, "s"),)
        cls.series = Image(np.asfortranarray(volumes), run.space, "Odour run", "HM-61", facts=facts, axes=axes)
        cls.single = Image(np.asfortranarray(run.reference()), run.space, "Single", "HM-61", facts=facts)
        sizes, phases, difference = run.field_map()
        cls.magnitude, cls.phases = cls.mapped(sizes[0]), [cls.mapped(p) for p in phases]
        cls.difference = cls.mapped(difference)
        cls.brain = run.true_brain(distorted=False)
        cls.seen = cls.brain & (run.kept_signal() > 0.5)
        cls.shift = run.true_field(run.space) * run.voxels_a_hz

    @classmethod
    def mapped(cls, values) -> Image:
        return Image(np.asfortranarray(values), cls.run_.map_space, "Field map", "HM-61")

    def test_phases_are_wrapped_and_in_the_scale_of_files(self):
        self.assertEqual((self.difference.data.min(), self.difference.data.max() > 4080), (-4096, True))
        self.assertEqual([(p.data.min(), p.data.max()) for p in self.phases], [(0, 4095)] * 2)
        pose = matrix_of(self.run_.map_moved, self.run_.map_space.centre)
        turns = self.run_.true_field(self.run_.map_space, pose) * 0.0025
        inside = self.magnitude.data > 150
        self.assertGreater(np.mean(np.abs(turns[inside]) > 0.5), 0.002)  # some of the head is wrapped
        apart = self.difference.data / 8192 - turns
        self.assertLess(np.median(np.abs(apart - np.round(apart))[inside]), 0.01)

    def test_first_volumes_are_brighter_and_the_brightness_of_the_coil_is_known(self):
        means = [float(self.series.frame((n,)).data[self.seen].mean()) for n in range(TIMES)]
        self.assertGreater(means[0] / means[-1], 1.2)
        self.assertLess(abs(means[-2] / means[-1] - 1), 0.02)
        coil = self.run_.coil(self.run_.space).T[self.seen]
        self.assertGreater(coil.max() / coil.min(), 1.2)

    def test_motion_is_found_with_field_loss_and_noise_present(self):
        table = correct_motion(self.series, separate=self.single).motion
        points = self.run_.space.to_world(np.argwhere(self.brain))
        for n in range(TIMES):
            found = matrix_of(table.rows[n][1:7], self.run_.space.centre)
            apart = (found - self.run_.pose(n))[:3]
            away = np.linalg.norm(points @ apart[:, :3].T + apart[:, 3], axis=1).mean()
            self.assertLess(away / 0.45, 0.05, f"volume {n + 1}, in voxels")

    def test_the_field_and_the_shift_are_found(self):
        for what, given in (
            ("difference", {"image": self.difference, "echo_difference": 0.0025}),
            ("two phases", {"image": self.phases[0], "second": self.phases[1], "echo_difference": 0.0025}),
        ):
            field = field_map(magnitude=self.magnitude, **given).field
            self.assertEqual(field.unit, "rad/s")
            found = undistort(self.single, field, self.magnitude)
            away = np.abs(found.shift.data - self.shift)[self.seen]
            self.assertLess(away.mean(), 0.08, f"{what}: mean remaining shift in voxels")
            self.assertFalse(found.image.caveats)
        kept = self.run_.kept_signal()[self.brain]
        self.assertGreater(np.corrcoef(found.signal.data[self.brain], kept)[0, 1], 0.7)
        left = self.run_.kept_signal()
        still, true = np.isfinite(found.image.data) & self.brain & (left > 0.7), self.run_.undistorted() * left
        before, after = (
            float(np.sqrt(((v.data.astype(float) - true)[still] ** 2).mean())) for v in (self.single, found.image)
        )
        self.assertLess(after, 0.75 * before)  # what differs from the volume without distortion

    def test_a_wrong_sign_is_noticed(self):
        field = field_map(self.difference, self.magnitude, echo_difference=0.0025).field
        found = undistort(self.series, field, self.magnitude, direction="j-")
        self.assertIn("sign", found.image.caveats[-1].sentence)
        self.assertTrue(any(row[0] == "doubt" for row in found.report.rows))

    def test_a_right_field_is_not_doubted_where_the_contrast_is_another(self):
        field = field_map(self.difference, self.magnitude, echo_difference=0.0025).field
        values = self.single.data.astype(np.float32)
        dark = self.single.like(np.where(values > 60, np.clip(900 - values, 50, None), values))
        rows = {row[0]: row[1] for row in undistort(dark, field, self.magnitude).report.rows}
        self.assertNotIn("doubt", rows)
        self.assertGreater(rows["distorted by the field"], rows["resemblance of the magnitude as it is"])
        self.assertIn("sign", undistort(dark, field, self.magnitude, direction="j-").image.caveats[-1].sentence)

    def test_a_constant_that_shifts_everything_is_doubted_and_found(self):
        field = field_map(self.difference, self.magnitude, echo_difference=0.0025).field
        wrong = field.like(field.data + np.float32(2 * np.pi * 70))
        doubted = undistort(self.single, wrong, self.magnitude)
        self.assertRegex(doubted.image.caveats[-1].sentence, "as if the field were [6-9][0-9.]* Hz less everywhere")
        found = undistort(self.single, wrong, self.magnitude, constant="find")
        self.assertFalse(found.image.caveats)
        taken = next(row[1] for row in found.report.rows if row[0] == "constant taken off")
        self.assertAlmostEqual(taken, 70, delta=20)
        for made, least, most in ((doubted, 1.0, 9.0), (found, 0.0, 0.3)):
            away = float(np.abs(made.shift.data - self.shift)[self.seen].mean())
            self.assertTrue(least < away < most, away)
        self.assertIn(
            "give its magnitude", undistort(self.single, wrong.like(wrong.data * 3)).image.caveats[-1].sentence
        )
        with self.assertRaisesRegex(Trouble, "magnitude tells"):
            undistort(self.single, wrong, constant="find")

    def test_the_brain_where_there_is_signal(self):
        labels = LabelMap(self.run_.space)
        take_out_brain(self.series, labels).apply(labels)
        y = self.run_.space.to_world(np.indices(self.run_.space.shape).reshape(3, -1).T)[:, 1]
        counted = (y.reshape(self.run_.space.shape) > -10.5) & (self.single.data > 120)
        true, found = self.run_.true_brain() & counted, (labels.data > 0) & counted
        self.assertGreater(2 * np.count_nonzero(true & found) / (true.sum() + found.sum()), 0.95)


class AnimalsTest(PlaceCase):
    def test_animals_on_demand_lie_as_files_with_sidecars_and_truth(self):
        said = kestrelmist("animals", self.place / "a", "--count", 1, "--seed", 62, "--volumes", 3).stdout
        place = self.place / "a" / "HM-62"
        self.assertIn(str(place), said)
        run = open_image(place / "odour run.nii.gz")
        self.assertEqual((run.shape, round(run.axes[0].step, 6)), ((48, 48, 16, 3), REPEAT))
        self.assertEqual(facts_of(run)["PhaseEncodingDirection"], DIRECTION)
        shares = [open_image(place / "truth" / f"head T1, {t}.nii.gz").data for t in ("grey", "white", "fluid")]
        self.assertLess(float(np.max(sum(shares))), 1.0001)
        brain = read_label_map(place / "truth" / "head T1, brain.nii.gz").data > 0
        self.assertGreater(float((shares[0] + shares[1])[brain].mean()), 0.9)
        self.assertLess(float((shares[0] + shares[1] + shares[2])[~brain].mean()), 0.05)
        out = self.place / "field.nii.gz"
        kestrelmist("field-map", place / "field map, phase difference.nii.gz",
                    "--magnitude", place / "field map, magnitude 1.nii.gz", "--out", out)  # fmt: skip
        still, shift, report = (self.place / n for n in ("u.nii.gz", "shift.nii.gz", "report.csv"))
        kestrelmist("undistort", place / "odour run.nii.gz", "--field", out, "--out", still,
                    "--out-shift", shift, "--out-report", report)  # fmt: skip
        self.assertEqual(open_image(still).shape, run.shape)
        self.assertEqual(open_image(shift).unit, "voxels")
        self.assertIn("EffectiveEchoSpacing", report.read_text())
        true = open_image(place / "truth" / "shift.nii.gz").data
        seen = (open_image(place / "truth" / "signal that stays.nii.gz").data > 0.5) & (
            read_label_map(place / "truth" / "brain without distortion.nii.gz").data > 0
        )
        self.assertLess(np.abs(open_image(shift).data - true)[seen].mean(), 0.1)
        again = kestrelmist("animals", self.place / "a", "--count", 1, "--seed", 62, code=1)
        self.assertIn("there already", again.stderr)
        self.assertEqual([p.name for p in (self.place / "a").iterdir()], ["HM-62"])


if __name__ == "__main__":
    unittest.main()
