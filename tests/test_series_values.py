"""Spikes, means, smoothing within a mask, how a series was taken: what the values of a series are and what is said of
them."""

import csv
import json
import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.checks.notice import Subject, run_checks
from kestrelmist.core.axis import Axis
from kestrelmist.core.curve import Curve
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.formats.sidecar import KEY, facts_of, repetition_of
from kestrelmist.prepare.intensity.smooth import smooth
from kestrelmist.prepare.series.carpet import carpet
from kestrelmist.prepare.series.motion import SHIFTS, correct_motion
from kestrelmist.prepare.series.scale_series import scale_series
from kestrelmist.prepare.series.spikes import despike
from kestrelmist.prepare.series.taken import say_taken
from kestrelmist.prepare.series.volumes_of import time_slices
from kestrelmist.prepare.series.volumes_over import volumes_over
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space

SHAPE, COUNT = (12, 10, 8), 30


def run(values: np.ndarray, step: float | None = 2.0, **facts) -> Image:
    axes = (Axis.even("time", values.shape[-1], step, "s"),)
    known = {KEY: json.dumps(facts)} if facts else {}
    return Image(
        np.asfortranarray(values, np.float32), straight_space(SHAPE, 2.0), "Run", "T-1", facts=known, axes=axes
    )


class SeriesCase(PlaceCase):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(12)
        drift = 40 * np.sin(np.arange(COUNT) / 12)
        self.clean = 1000 + drift + rng.normal(0, 3, (*SHAPE, COUNT))


class DespikeTest(SeriesCase):
    def test_spikes_go_and_all_else_stays(self):
        spiked = self.clean.copy()
        spiked[:, :, 3, 11] += 200
        spiked[5, 5, 5, 0] -= 300
        made = despike(run(spiked))
        found = made.image.data
        self.assertLess(np.abs(found[:, :, 3, 11] - self.clean[:, :, 3, 11]).max(), 25)
        self.assertLess(abs(found[5, 5, 5, 0] - self.clean[5, 5, 5, 0]), 25)
        self.assertEqual(int(made.replaced.values.argmax()), 11)
        self.assertAlmostEqual(made.replaced.values[11], 100 / 8, delta=0.5)
        changed = np.abs(found - spiked) > 1e-3
        changed[:, :, 3, 11] = changed[5, 5, 5, 0] = False
        self.assertLess(changed.mean(), 0.006)

    def test_any_scale_missing_values_and_short_series(self):
        spiked = self.clean.copy()
        spiked[2, 2, 2, 9] += 500
        for factor in (1e-5, 1e5):
            found = despike(run(spiked * factor)).image.frame((9,)).data / factor
            self.assertLess(abs(found[2, 2, 2] - self.clean[2, 2, 2, 9]), 25)
        holed = spiked.copy()
        holed[0, 0, 0] = np.nan
        found = despike(run(holed)).image.data
        self.assertTrue(np.isnan(found[0, 0, 0]).all() and np.isfinite(found[1]).all())
        flat = despike(run(np.full((*SHAPE, 6), 7.0)))
        self.assertEqual(float(flat.replaced.values.max()), 0.0)
        with self.assertRaisesRegex(Trouble, "too few"):
            despike(run(self.clean[..., :4]))
        with self.assertRaisesRegex(Trouble, "not a series"):
            despike(run(self.clean).frame((0,)))


class ScaleTest(SeriesCase):
    def test_means_of_the_whole_of_volumes_and_of_voxels(self):
        whole = scale_series(run(self.clean), "series", 100.0).data
        self.assertAlmostEqual(float(whole.mean()), 100, places=3)
        np.testing.assert_allclose(whole / self.clean, 100 / self.clean.mean(), rtol=1e-5)
        each = scale_series(run(self.clean), "volume", 1.0).data
        np.testing.assert_allclose(each.mean((0, 1, 2)), 1, rtol=1e-5)
        own = scale_series(run(self.clean), "voxel")
        np.testing.assert_allclose(own.data.mean(-1), 100, rtol=1e-4)
        self.assertEqual(own.unit, "%")

    def test_within_a_mask_and_where_there_is_nothing(self):
        values = self.clean.copy()
        values[6:] = 0
        labels = LabelMap(straight_space(SHAPE, 2.0))
        labels.data[:3] = 1
        made = scale_series(run(values), "series", 10.0, mask=labels).data
        self.assertAlmostEqual(float(made[:3].mean()), 10, places=4)
        self.assertTrue(np.isnan(scale_series(run(values), "voxel").data[8]).all())
        for what, said in (
            (lambda: scale_series(run(values * 0), "series"), "is 0"),
            (lambda: scale_series(run(values), mask=LabelMap(straight_space(SHAPE, 2.0))), "mask is empty"),
            (lambda: scale_series(run(values).frame((0,))), "not a series"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                what()
        gone = self.clean.copy()
        gone[..., 4] = 0
        with self.assertRaisesRegex(Trouble, "volume 5"):
            scale_series(run(gone), "volume")


class SmoothTest(SeriesCase):
    def test_within_a_mask_and_by_axis(self):
        image = run(self.clean).frame((0,))
        labels = LabelMap(image.space)
        labels.data[2:8, 2:8, 2:6] = 1
        values = image.data.copy()
        values[:2] = 1e6  # beside the mask: must not come in
        made = smooth(image.like(values), 6.0, mask=labels).data
        inside = labels.data > 0
        self.assertLess(made[inside].max(), 1100)
        np.testing.assert_array_equal(made[~inside], values[~inside].astype(np.float32))
        along = smooth(image, along=(4.0, 0.0, 8.0)).data
        sd = np.array((4.0, 0.0, 8.0)) / 2.0 / 2.354820045
        np.testing.assert_allclose(
            along, ndimage.gaussian_filter(image.data.astype(float), sd, mode="nearest"), rtol=1e-3
        )
        for given, said in (
            ({"along": (0.0, 0.0, 0.0)}, "smooth nothing"),
            ({"along": (-1.0, 2.0, 2.0)}, "smooth nothing"),
            ({"mask": LabelMap(image.space)}, "mask is empty"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                smooth(image, **given)


class TakenTest(SeriesCase):
    def test_said_by_hand_with_a_note(self):
        image = run(self.clean, None)
        with self.assertRaisesRegex(Trouble, "repetition time"):
            time_slices(image, "ascending")
        placed = say_taken(
            image, "log of the day", repetition_time=1.5, direction="j-", echo_spacing=0.0005, slices="ascending"
        )
        made = image.placed(placed)
        self.assertEqual((made.axes[0].step, repetition_of(made)), (1.5, 1.5))
        found = facts_of(made)
        self.assertEqual((found["PhaseEncodingDirection"], found["EffectiveEchoSpacing"]), ("j-", 0.0005))
        np.testing.assert_allclose(found["SliceTiming"], np.arange(8) * 1.5 / 8)
        np.testing.assert_array_equal(made.data, image.data)
        self.assertIn("log of the day", made.caveats[-1].sentence)
        said = [n.sentence for n in run_checks(Subject(made.frame((0,)), whole=made), "prepare")]
        self.assertTrue(any("set by hand: log of the day" in s for s in said))
        for given, words in (
            ({"note": " ", "echo_time": 0.03}, "no note"),
            ({"note": "why"}, "Nothing is said"),
            ({"note": "why", "slices": "ascending"}, "repetition time"),
            ({"note": "why", "slices": "ascending", "multiband": 3, "repetition_time": 1.0}, "3 at once"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                say_taken(image, **given)

    def test_in_a_study_undone_and_not_taken_for_done_already(self):
        folder = self.place / "scans"
        folder.mkdir()
        save_image(folder / "run.nii.gz", run(self.clean))
        (folder / "run.json").write_text(
            json.dumps({"RepetitionTime": 2.0, "SliceTiming": [0.1] * 8, "EchoTime": 0.02})
        )
        with Study(self.place / "s", create=True) as study:
            study.run("gather", folder=folder, subject="T-1")
            (record,) = study.records()
            self.assertEqual(facts_of(study.image(record.id))["EchoTime"], 0.02)
            before = study.identity(study.items.get(record.id))
            study.run("say-taken", image=record.id, note="as the physicist says", echo_time=0.03, repetition_time=1.0)
            image = study.image(record.id)
            self.assertEqual((facts_of(image)["EchoTime"], image.axes[0].step), (0.03, 1.0))
            self.assertNotEqual(study.identity(study.items.get(record.id)), before)
            study.history.undo()
            image = study.image(record.id)
            self.assertEqual((facts_of(image)["EchoTime"], image.axes[0].step), (0.02, 2.0))
            self.assertEqual(study.identity(study.items.get(record.id)), before)
            study.history.redo()
        with Study(self.place / "s") as study:
            self.assertEqual(facts_of(study.image(record.id))["EchoTime"], 0.03)

    def test_on_the_command_line_with_its_sidecar(self):
        save_image(self.place / "run.nii.gz", run(self.clean))
        out = self.place / "said.nii.gz"
        kestrelmist("say-taken", self.place / "run.nii.gz", "--note", "log", "--slices", "interleaved", "--out", out)
        self.assertEqual(len(facts_of(open_image(out))["SliceTiming"]), 8)
        kestrelmist("time-slices", out, "--out", self.place / "timed.nii.gz")
        self.assertTrue(facts_of(open_image(self.place / "timed.nii.gz"))["SliceTimingCorrected"])


class SidecarTest(SeriesCase):
    def said(self, text: str | bytes) -> Image:
        save_image(self.place / "run.nii.gz", run(self.clean))
        (self.place / "run.json").write_bytes(text if isinstance(text, bytes) else text.encode())
        return open_image(self.place / "run.nii.gz")

    def test_what_contradicts_or_cannot_be_is_told(self):
        for text, words in (
            ('{"RepetitionTime": 3.0}', "repetition time of 2 s, its sidecar 3 s"),
            ('{"SliceTiming": [0, 1]}', "8 slices, and its sidecar the times of 2"),
            ('{"SliceTiming": ["a"]}', "SliceTiming in the sidecar cannot be"),
            ('{"PhaseEncodingDirection": "up", "EchoTime": 0.03}', "PhaseEncodingDirection in the sidecar"),
            ("[1, 2]", "cannot be read"),
            ("{not json", "cannot be read"),
            (b"\xff\xfe\x00", "cannot be read"),
            ("[" * 100_000, "cannot be read"),
        ):
            image = self.said(text)
            self.assertRegex(" ".join(c.sentence for c in image.caveats), words)
            self.assertEqual(image.shape, (*SHAPE, COUNT))

    def test_units_times_and_slices_from_the_other_end(self):
        image = self.said('{"Units": "rad/s", "SliceTiming": [0, 1, 2, 3, 4, 5, 6, 7], "SliceEncodingDirection": "k-"}')
        self.assertEqual((image.unit, facts_of(image)["SliceTiming"][0]), ("rad/s", 7))
        save_image(self.place / "still.nii.gz", run(self.clean, None))
        (self.place / "still.json").write_text('{"RepetitionTime": 2.5}')
        self.assertEqual(open_image(self.place / "still.nii.gz").axes[0].step, 2.5)


class LookTest(SeriesCase):
    def test_volumes_over_a_limit_and_their_neighbours(self):
        values = np.array([0.0, 0.1, 0.9, 0.1, np.nan, 0.8])
        curve = Curve(values, np.arange(6) * 2.0, "s", "mm", name="framewise_displacement")
        made = volumes_over(curve, 0.5, before=1)
        self.assertEqual(made.marked.values.tolist(), [0, 1, 1, 0, 1, 1])
        self.assertEqual([row[0] for row in made.volumes.rows], [2, 3, 5, 6])
        self.assertEqual([row[3] for row in made.volumes.rows], ["beside", "over", "beside", "over"])
        self.assertEqual(made.volumes.rows[1][1:3], (4.0, 0.9))
        self.assertEqual(volumes_over(curve, 5.0).volumes.rows, [])
        self.assertEqual(volumes_over(curve, 0.05, below=True).marked.values.tolist(), [1, 0, 0, 0, 0, 0])
        with self.assertRaisesRegex(Trouble, "no number"):
            volumes_over(curve, float("nan"))

    def test_the_carpet_shows_what_happens_to_all_at_once(self):
        values = self.clean.copy()
        values[..., 20] *= 1.05
        made = carpet(run(values), rows=100)
        self.assertEqual((made.shape, made.unit), ((COUNT, 100, 1), "%"))
        column = made.data[:, :, 0].mean(1)
        self.assertEqual(int(column.argmax()), 20)
        labels = LabelMap(straight_space(SHAPE, 2.0))
        labels.data[:2], labels.data[9:] = 2, 1
        own = values.copy()
        own[:2, ..., 5] *= 0.9
        two = carpet(run(own), labels, rows=5000).data[:, :, 0]
        self.assertEqual(two.shape[1], 5 * 10 * 8)
        self.assertLess(two[5, -50:].max(), -5)  # label 2 comes after label 1
        self.assertGreater(two[5, :50].min(), -5)
        for what, said in (
            (lambda: carpet(run(values).frame((0,))), "not a series"),
            (lambda: carpet(run(values[..., :2])), "too few"),
            (lambda: carpet(run(values), LabelMap(straight_space(SHAPE, 2.0))), "mask is empty"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                what()
        self.assertTrue(np.isnan(carpet(run(values * 0), rows=10).data).all())


class ReferenceTest(SeriesCase):
    def test_a_file_in_place_of_a_number_and_a_list_of_transforms(self):
        import SimpleITK as sitk

        rng = np.random.default_rng(2)
        soft = ndimage.gaussian_filter(rng.normal(size=(40, 36, 30)), 2.5)
        volumes = np.stack([ndimage.shift(soft, (0.4 * n, -0.2 * n, 0), order=3, mode="nearest") for n in range(3)], -1)
        space = straight_space((40, 36, 30), 2.0)
        axes = (Axis.even("time", 3, 1.0, "s"),)
        image = Image(np.asfortranarray(1000 + 500 * volumes, np.float32), space, "Run", axes=axes)
        save_image(self.place / "run.nii.gz", image)
        save_image(self.place / "single.nii.gz", image.frame((0,)))
        table, listed = self.place / "m.csv", self.place / "t.txt"
        kestrelmist("correct-motion", self.place / "run.nii.gz", "--reference", self.place / "single.nii.gz",
                    "--out", self.place / "still.nii.gz", "--table", table, "--transforms", listed)  # fmt: skip
        same = correct_motion(image, separate=image.frame((0,))).motion
        with table.open() as stream:
            written = [[float(row[name]) for name in SHIFTS] for row in csv.DictReader(stream)]
        np.testing.assert_allclose(written, [row[1:4] for row in same.rows], atol=1e-4)
        texts = listed.read_text().split("#Transform ")[1:]
        self.assertEqual(len(texts), 3)
        for n, text in enumerate(texts):
            one = self.place / f"{n}.txt"
            one.write_text("#Insight Transform File V1.0\n#Transform " + text)
            # left and back are the other way round there
            moved = np.array(sitk.ReadTransform(str(one)).TransformPoint((0.0, 0.0, 0.0))) * (-1, -1, 1)
            np.testing.assert_allclose(moved, same.rows[n][1:4], atol=1e-3)
        whole = self.place / "all of it"
        kestrelmist("correct-motion", self.place / "run.nii.gz", "--out", whole)
        names = sorted(p.name for p in whole.iterdir())
        ends = ["curves 01.csv", "curves 02.csv", "image.nii.gz", "motion.csv", "moves.tfm"]
        self.assertEqual(names[:2] + names[-3:], ends)
        self.assertEqual(sum(n.startswith("curves") for n in names), 10)
        self.assertEqual(open_image(whole / "image.nii.gz").shape, (40, 36, 30, 3))
        run_, single, out = (self.place / n for n in ("run.nii.gz", "single.nii.gz", "x.nii.gz"))
        for given, words in (
            (("--reference", single, "--separate", single), "two things"),
            (("--reference", "fourth"), "no file or folder"),
            (("--reference", "9"), "number from 1 to 3"),
            (("--table", self.place / "n.csv", "--transforms", self.place / "n.csv"), "cannot be one file"),
        ):
            self.assertIn(words, kestrelmist("correct-motion", run_, *given, "--out", out, code=1).stderr)


if __name__ == "__main__":
    unittest.main()
