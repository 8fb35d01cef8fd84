"""The brain out of a head: made-up animals whose brain is known, and bodies whose volume is."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy import ndimage

from kestrelmist.checks.brain import mask_of_the_brain
from kestrelmist.checks.notice import Subject
from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space
from kestrelmist.demo.animal import make_animal
from kestrelmist.demo.functional_run import odour_space
from kestrelmist.demo.scans import head_mr_space, scan_mr
from kestrelmist.demo.truth import true_labels
from kestrelmist.formats.label_files import read_label_map
from kestrelmist.formats.saving import save_image
from kestrelmist.prepare.tissue.body import take_out_body
from kestrelmist.prepare.tissue.brain import take_out_brain
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import straight_space


def dice(a: np.ndarray, b: np.ndarray) -> float:
    return 2 * np.count_nonzero(a & b) / (np.count_nonzero(a) + np.count_nonzero(b))


def taken(image: Image, **settings) -> np.ndarray:
    labels = LabelMap(image.space)
    take_out_brain(image, labels, **settings).apply(labels)
    return labels.data > 0


class AnimalTest(unittest.TestCase):
    """Animals of a seed that the demo does not use; the cord behind the brain is left out of the count."""

    @classmethod
    def setUpClass(cls):
        cls.animal = make_animal("HM-31", 31)

    def overlap(self, image: Image, **settings) -> float:
        true = true_labels(self.animal, ["Brain"], image.space) > 0
        y = image.space.to_world(np.indices(image.space.shape).reshape(3, -1).T)[:, 1].reshape(image.space.shape)
        mask = taken(image, **settings)
        return dice(mask & (y > -10.5), true & (y > -10.5))

    def test_of_a_functional_series(self):
        space = odour_space()
        base = ndimage.gaussian_filter(scan_mr(self.animal, space, 0.0).astype(np.float32), 0.5)
        rng = np.random.default_rng(31)
        volumes = [np.hypot(base + rng.normal(0, 30, space.shape), rng.normal(0, 30, space.shape)) for _ in range(9)]
        axes = (Axis.even("time", 9, 2.0, "s"),)
        series = Image(np.asfortranarray(np.stack(volumes, -1), np.float32), space, "Run", "HM-31", axes=axes)
        self.assertGreater(self.overlap(series), 0.93)

    def test_of_a_t1(self):
        fine = head_mr_space()
        affine = fine.affine @ np.diag([2, 2, 2, 1.0])
        coarse = Space(tuple(n // 2 for n in fine.shape), affine)
        self.assertGreater(self.overlap(Image(scan_mr(self.animal, coarse), coarse, "T1", "HM-31")), 0.945)


class BodyTest(unittest.TestCase):
    """A ball of 800 in a ring of 0 in a shell of 500, joined by a thin bridge."""

    def setUp(self):
        self.space = straight_space((60, 60, 60), 1.0)
        away = np.sqrt(((np.indices((60, 60, 60)) - 29.5) ** 2).sum(0))
        values = np.where(away < 15, 800.0, np.where((away > 19) & (away < 26), 500.0, 5.0))
        values[29:31, 29:31, 40:52] = 800.0
        self.ball = away < 15
        self.values = values.astype(np.float32) + np.random.default_rng(3).normal(0, 8, values.shape).astype(np.float32)
        self.image = Image(np.asfortranarray(self.values), self.space, "Ball", "T-1")

    def test_the_ball_without_its_bridge_and_shell(self):
        self.assertGreater(dice(taken(self.image), self.ball), 0.97)

    def test_of_any_scale_of_values_and_voxels(self):
        wanted = taken(self.image)
        for factor in (1e-5, 1e4):
            again = Image(np.asfortranarray(self.values * factor), self.space, "Ball", "T-1")
            self.assertGreater(dice(taken(again), wanted), 0.999)
        for size in (1e-6, 1e3):
            again = Image(np.asfortranarray(self.values), straight_space((60, 60, 60), size), "Ball", "T-1")
            self.assertGreater(dice(taken(again), wanted), 0.999)

    def test_holes_and_missing_values(self):
        holed = self.values.copy()
        holed[28:31, 28:31, 25:28] = np.nan
        holed[20, 20, 30] = np.inf
        self.assertGreater(dice(taken(Image(np.asfortranarray(holed), self.space, "Ball", "T-1")), self.ball), 0.97)

    def test_tighter_and_looser(self):
        soft = Image(np.asfortranarray(ndimage.gaussian_filter(self.values, 2.0)), self.space, "Ball", "T-1")
        sizes = [int(taken(soft, looser=looser).sum()) for looser in (-1.0, 0.0, 0.5)]
        self.assertLess(sizes[0], sizes[1])
        self.assertLess(sizes[1], sizes[2])

    def test_other_labels_stay_and_done_again_it_follows(self):
        table, other = LabelTable().with_new("Nucleus")
        labels = LabelMap(self.space, table=table)
        labels.data[25:30, 25:30, 25:30] = other.number
        labels.data[2, 2, 2] = other.number
        labels.recount()
        soft = Image(np.asfortranarray(ndimage.gaussian_filter(self.values, 2.0)), self.space, "Ball", "T-1")
        take_out_brain(soft, labels, looser=0.5).apply(labels)
        wide = int(labels.counts[2])
        self.assertEqual(int(labels.counts[1]), 126)
        tight = take_out_brain(soft, labels, looser=-1.0)
        tight.apply(labels)
        self.assertEqual(int(labels.counts[1]), 126)
        self.assertEqual(int(labels.counts[2]), int(taken(soft, looser=-1.0).sum()) - 125)
        tight.reversed().apply(labels)
        self.assertEqual(int(labels.counts[2]), wide)

    def test_a_start_by_hand(self):
        two = np.full((90, 60, 60), 5.0, np.float32)
        index = np.indices(two.shape)
        for x, r in ((20, 12), (65, 14)):
            two[((index - np.array([x, 30, 30])[:, None, None, None]) ** 2).sum(0) < r * r] = 800.0
        space = straight_space(two.shape, 1.0)
        image = Image(np.asfortranarray(two), space, "Two", "T-1")
        left = taken(image, start=tuple(space.to_world((20, 30, 30))), radius=6.0)
        self.assertTrue(left[20, 30, 30] and not left[65, 30, 30])
        right = taken(image, start=tuple(space.to_world((65, 30, 30))))
        self.assertTrue(right[65, 30, 30] and not right[20, 30, 30])

    def test_what_cannot_be_done_is_said(self):
        labels = LabelMap(self.space)
        flat = Image(np.full((60, 60, 60), 7.0, np.float32, order="F"), self.space, "Flat", "T-1")
        below = Image(np.asfortranarray(self.values - 5000), self.space, "Below", "T-1")
        ct = Image(np.asfortranarray(self.values - 1000), self.space, "CT", "T-1")  # as from a file without units
        for image, said in ((flat, "No brain was found"), (below, "far below 0"), (ct, "far below 0")):
            with self.assertRaisesRegex(Trouble, said):
                take_out_brain(image, labels)
        with self.assertRaisesRegex(Trouble, "outside"):
            take_out_brain(self.image, labels, start=(1e5, 0, 0))
        with self.assertRaisesRegex(Trouble, "No brain was found"):
            take_out_brain(self.image.like(self.image.data - 1000, unit="HU"), labels)  # nothing that bone encloses
        thin = straight_space((20, 20, 1), 1.0)
        with self.assertRaisesRegex(Trouble, "too few slices"):
            take_out_brain(Image(np.zeros((20, 20, 1), np.float32, order="F"), thin, "Thin", "T-1"), LabelMap(thin))
        table, row = LabelTable().with_new("Brain")
        locked = LabelMap(self.space, table=LabelTable([replace(row, locked=True)]))
        with self.assertRaisesRegex(Trouble, "locked"):
            take_out_brain(self.image, locked)
        self.assertEqual(labels.counts[1:].sum(), 0)

    def test_the_body_from_air(self):
        index = np.indices((60, 60, 60)) - 29.5
        body = (index**2).sum(0) < 26**2
        labels = LabelMap(self.space)
        take_out_body(self.image, labels).apply(labels)  # the shell, the ball in it, and the air between
        self.assertGreater(dice(labels.data == 1, body), 0.97)
        speck = self.values.copy()
        speck[2:5, 2:5, 2:5] = 900
        image = Image(np.asfortranarray(speck), self.space, "Ball", "T-1")
        labels = LabelMap(self.space)
        take_out_body(image, labels, fill=False).apply(labels)
        self.assertFalse(labels.data[3, 3, 3] or labels.data[29, 12, 29])
        take_out_body(image, labels, all_pieces=True).apply(labels)
        self.assertTrue(labels.data[3, 3, 3])
        take_out_body(image, labels, above=700.0, fill=False).apply(labels)
        self.assertFalse(labels.data[29, 7, 29])  # the shell is darker
        with self.assertRaisesRegex(Trouble, "brighter than"):
            take_out_body(image, labels, above=1e9)
        with self.assertRaisesRegex(Trouble, "one value everywhere"):
            take_out_body(image.like(image.data * 0), labels)

    def test_checks_of_the_mask(self):
        def said(mask) -> list[str]:
            labels = LabelMap(self.space, np.asfortranarray(mask, np.uint16), LabelTable().with_new("Brain")[0])
            return [n.sentence for n in mask_of_the_brain(Subject(self.image, labels))]

        self.image.fetch(Progress())
        self.assertEqual(said(self.ball), [])
        away = np.sqrt(((np.indices((60, 60, 60)) - 29.5) ** 2).sum(0))
        self.assertRegex(said(away < 18)[0], "leaves the head: 10.* as dark as air")
        holed = self.ball.copy()
        holed[28:31, 28:31, 28:31] = False
        self.assertRegex(said(holed)[0], "has holes, 27.0 mm³")
        self.assertRegex(said(self.image.data > 250)[0], "oddly large")
        few = np.zeros(self.ball.shape, bool)
        few[29:32, 29:32, 29:32] = True
        self.assertRegex(said(few)[0], "oddly small")

    def test_cancelled_on_the_way(self):
        told = []

        def listen(fraction: float, what: str) -> None:
            told.append(what)
            if "grow" in what:
                progress.cancel()

        progress = Progress(listen)
        with self.assertRaises(Cancelled):
            take_out_brain(self.image, LabelMap(self.space), progress=progress)
        self.assertIn("Seeking the brain", told)

    def test_on_the_command_line_and_in_a_study(self):
        with tempfile.TemporaryDirectory() as place:
            path, out = Path(place) / "scans" / "ball.nii.gz", Path(place) / "mask.nii.gz"
            path.parent.mkdir()
            save_image(path, self.image)
            kestrelmist("take-out-brain", path, "--out", out)
            mask = read_label_map(out)
            self.assertEqual([row.name for row in mask.table], ["Brain"])
            self.assertGreater(dice(mask.data > 0, self.ball), 0.97)
            with Study(Path(place) / "s", create=True) as study:
                study.run("gather", folder=path.parent)
                (record,) = study.records()
                study.run("take-out-brain", image=record.id)
                self.assertEqual(int(study.labels(record.id).counts[1]), int((mask.data > 0).sum()))
                study.history.undo()
                self.assertEqual(int(study.labels(record.id).counts[1:].sum()), 0)
