"""Alignment by computer: shift, turn, scale and shear found again, whatever the contrast."""

import json
import unittest
import warnings
from dataclasses import replace
from unittest import mock

import numpy as np
from scipy import ndimage
from scipy.spatial.transform import Rotation

from kestrelmist.align import full_search
from kestrelmist.align.affine_fit import Judged, fitted
from kestrelmist.align.align_images import align_images
from kestrelmist.align.descent import descended
from kestrelmist.align.freedom import IN_PLANE, IN_SPACE, freedom, matrix_of, nearest, numbers_of
from kestrelmist.align.full_search import turns_in_space
from kestrelmist.align.levels import Sides, levels_of
from kestrelmist.align.similar import SIMILARITIES, similarity_named
from kestrelmist.align.transforms import place_by
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.halves import in_halves
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.progress import Progress
from kestrelmist.core.resampling import resampled
from kestrelmist.core.space import Space
from kestrelmist.core.transform import Transform
from kestrelmist.core.world import World
from kestrelmist.formats.saving import save_image, save_thing
from tests.command import kestrelmist
from tests.making import PlaceCase

RANDOM = np.random.default_rng(11)


def tissue(shape=(56, 60, 52)) -> np.ndarray:
    """A lopsided body [k, j, i] of four tissues with folds, the same on no two sides."""
    k, j, i = (axis / n - 0.5 for axis, n in zip(np.indices(shape).astype(np.float32), shape))
    away = np.sqrt((k / 0.36) ** 2 + (j / 0.42) ** 2 + ((i + 0.15 * k * (k > 0)) / 0.33) ** 2)
    folds = ndimage.gaussian_filter(np.random.default_rng(3).normal(size=shape), 3.0)
    folds = (folds / folds.std()).astype(np.float32)
    made = np.zeros(shape, np.uint8)
    made[away < 1] = 1
    made[away + 0.08 * folds < 0.85] = 2
    made[(away + 0.08 * folds < 0.85) & (folds > 0.4)] = 3
    made[np.sqrt((k - 0.15) ** 2 + (j + 0.1) ** 2 + (i - 0.12) ** 2) < 0.09] = 4
    return made


TISSUE = tissue()
ONE, OTHER = np.array([0, 40, 100, 160, 220], np.float32), np.array([0, 150, 200, 90, 30], np.float32)
SPACE = Space((52, 60, 56), np.array([[1.1, 0, 0, -28], [0, 1, 0, -30], [0, 0, 0.9, -25], [0, 0, 0, 1.0]]))
"""Places where an error is measured."""
INSIDE = SPACE.to_world(np.argwhere(TISSUE > 0)[::53][:, ::-1])


def picture(values: np.ndarray, moved: np.ndarray | None = None, noise: float = 3.0) -> np.ndarray:
    """A scan [k, j, i] of the body with some values for its tissues, moved by a matrix, with noise."""
    soft = ndimage.gaussian_filter(values[TISSUE], 0.8)
    if moved is not None:
        soft = resampled(soft, (SPACE.inverse @ np.linalg.inv(moved) @ SPACE.affine)[:3], SPACE.shape, "cubic", 0.0)
    return soft + np.random.default_rng(5).normal(0, noise, soft.shape).astype(np.float32)


def error(found: np.ndarray, truth: np.ndarray) -> float:
    """Mean distance within the body, mm."""
    there, wanted = (INSIDE @ m[:3, :3].T + m[:3, 3] for m in (found, truth))
    return float(np.linalg.norm(there - wanted, axis=1).mean())


class FreedomTest(unittest.TestCase):
    def test_numbers_and_matrices_there_and_back(self):
        centre = np.array((3.0, -20.0, 8.0))
        for _ in range(20):
            numbers = RANDOM.normal(size=12) * np.repeat((20, 0.8, 0.2, 0.2), 3)
            matrix = matrix_of(numbers, centre)
            np.testing.assert_allclose(numbers_of(matrix, centre), numbers, atol=1e-9)
        # the centre goes where the shift says, and a rigid one keeps lengths
        rigid = matrix_of(nearest(numbers, IN_SPACE[6]), centre)
        np.testing.assert_allclose(rigid[:3, :3] @ centre + rigid[:3, 3], centre + numbers[:3])
        np.testing.assert_allclose(rigid[:3, :3] @ rigid[:3, :3].T, np.eye(3), atol=1e-12)

    def test_each_freedom_does_what_it_says(self):
        for flat, known in ((False, IN_SPACE), (True, IN_PLANE)):
            for number, of in known.items():
                self.assertEqual((of.free.shape, np.linalg.matrix_rank(of.free)), ((12, number), number))
                matrix = matrix_of(of.free @ RANDOM.normal(size=number), np.zeros(3))
                if flat:
                    np.testing.assert_allclose(matrix[2], (0, 0, 1, 0), atol=1e-12)
                    np.testing.assert_allclose(matrix[:2, 2], 0, atol=1e-12)
                squares = matrix[:3, :3].T @ matrix[:3, :3]
                if number in (7, 6, 3) and not flat:
                    np.testing.assert_allclose(squares, squares[0, 0] * np.eye(3), atol=1e-9)
        with self.assertRaisesRegex(Trouble, "Volumes cannot be aligned with 4 .*choose 3, 6, 7, 9, 12"):
            freedom(4, False)
        with self.assertRaisesRegex(Trouble, "mirrors left and right"):
            numbers_of(np.diag((-1.0, 1, 1, 1)), np.zeros(3))

    def test_turns_lie_evenly(self):
        turns = np.array(turns_in_space(720))
        np.testing.assert_allclose(turns @ turns.transpose(0, 2, 1), np.broadcast_to(np.eye(3), turns.shape), atol=1e-9)
        np.testing.assert_allclose(np.linalg.det(turns), 1)
        for asked in Rotation.random(60, random_state=2).as_matrix():
            cosine = (np.einsum("nab,ab->n", turns, asked) - 1) / 2
            self.assertLess(np.degrees(np.arccos(cosine.max())), 27)


class DescentTest(unittest.TestCase):
    def test_lowest_places_of_known_costs(self):
        turned = Rotation.random(random_state=1).as_matrix()
        bent = turned @ np.diag((1.0, 20, 400)) @ turned.T
        goal = np.array((3.0, -7, 1))

        def bowl(at):
            return float((at - goal) @ bent @ (at - goal)), 2 * bent @ (at - goal)

        def valley(at):  # H. H. Rosenbrock, Comput. J. 3, 1960
            x, y = at
            return (1 - x) ** 2 + 100 * (y - x * x) ** 2, np.array(
                (-2 * (1 - x) - 400 * x * (y - x * x), 200 * (y - x * x))
            )

        np.testing.assert_allclose(descended(bowl, np.zeros(3), lambda *_: False, 60), goal, atol=1e-5)
        np.testing.assert_allclose(descended(valley, np.array((-1.2, 1)), lambda *_: False, 200), (1, 1), atol=1e-4)
        costs = []
        descended(valley, np.array((-1.2, 1)), lambda at, cost: costs.append(cost) or len(costs) == 5, 200)
        self.assertEqual((len(costs), costs), (5, sorted(costs, reverse=True)))
        # a wall that nobody may go through, and no way down at all
        walled = descended(lambda at: bowl(at) if at[0] < 2 else (1e9, 0 * at), np.zeros(3), lambda *_: False, 60)
        self.assertLess(bowl(walled)[0], bowl(np.zeros(3))[0])
        flat = descended(lambda at: (1.0, np.zeros(3)), goal, lambda *_: False, 60)
        np.testing.assert_array_equal(flat, goal)

    def test_two_halves_make_a_whole(self):
        for count, size in ((1, None), (7, None), (100_001, None), (3, 90_000)):
            done = []
            in_halves(count, lambda first, last, done=done: done.append((first, last)), size)
            done.sort()
            self.assertEqual((done[0][0], done[-1][1]), (0, count))
            self.assertEqual(len(done), 2 if (size or count) >= 40_000 and count > 1 else 1)
            self.assertTrue(all(a[1] == b[0] for a, b in zip(done, done[1:])))


class SimilarityTest(unittest.TestCase):
    def test_costs_grow_as_they_say(self):
        """Against the difference of two costs, for all measures and all twelve numbers."""
        truth = matrix_of(np.array((1.5, -1, 0.7, 0.05, -0.04, 0.06, 0.03, -0.02, 0.01, 0.02, 0, 0.01)), SPACE.centre)
        fixed, moving = picture(ONE), picture(ONE, truth)
        within = ndimage.binary_erosion(TISSUE > 0, iterations=4)  # all of it stays inside
        for similarity in SIMILARITIES:
            levels = levels_of(Sides(fixed, SPACE, within), Sides(moving, SPACE), similarity.whole, (2,))
            judged = Judged(levels[0], similarity)
            numbers = numbers_of(truth, judged.centre) + np.repeat((0.8, 0.03, 0.02, 0.02), 3)
            _, grows = judged.at(numbers)
            for n, size in enumerate(np.repeat((2e-2, 1e-3, 1e-3, 1e-3), 3)):
                step = np.eye(12)[n] * size
                by_hand = (judged.at(numbers + step)[0] - judged.at(numbers - step)[0]) / (2 * size)
                far = np.abs(grows[:3]).max() if n < 3 else np.abs(grows[3:]).max()
                self.assertAlmostEqual(grows[n], by_hand, delta=0.12 * far, msg=f"{similarity.name} {n}")

    def test_what_a_measure_gives_for_known_images(self):
        level = levels_of(Sides(picture(ONE, noise=0), SPACE), Sides(picture(OTHER, noise=0), SPACE), False, (1,))[0]
        scores = {}
        for name in ("squares", "correlation", "correlation-ratio", "information", "normalised-information"):
            similarity = similarity_named(name)
            scores[name] = similarity.score(Judged(level, similarity).cost(np.eye(4))[0])
        looks = Judged(level, similarity_named("correlation")).looks
        found, there = (a.copy() for a in looks.look(np.eye(4)))
        a, b = level.values[there > 0], found[there > 0]
        self.assertAlmostEqual(scores["correlation"], np.corrcoef(a, b)[0, 1], places=4)
        self.assertAlmostEqual(scores["squares"], -np.mean((a - b) ** 2) / np.var(level.values), places=4)
        joint, _, _ = np.histogram2d(a, b, 32)
        p = joint / joint.sum()
        alone = -sum((q[q > 0] * np.log(q[q > 0])).sum() for q in (p.sum(0), p.sum(1)))
        both = -(p[p > 0] * np.log(p[p > 0])).sum()
        self.assertAlmostEqual(scores["information"], alone - both, delta=0.15)  # theirs is smoothed by a spline
        self.assertLess(scores["normalised-information"], alone / both)
        self.assertGreater(scores["normalised-information"], 1.3)
        with self.assertRaisesRegex(
            Trouble, "no measure of similarity “likeness”: choose one of: correlation, correlation-ratio"
        ):
            similarity_named("likeness")


class FitTest(unittest.TestCase):
    TRUTH = matrix_of(np.array((3.0, -2, 2.5, 0.12, -0.1, 0.15, 0.05, -0.04, 0.03, 0.03, -0.02, 0.01)), SPACE.centre)

    def fit(self, one, other, number, measure, truth, start=None):
        similarity = similarity_named(measure)
        levels = levels_of(Sides(one, SPACE), Sides(other, SPACE), similarity.whole, (4, 2, 1))
        return fitted(levels, similarity, freedom(number, False), np.eye(4) if start is None else start)

    def test_all_measures_find_one_contrast_again(self):
        fixed, moving = picture(ONE), picture(ONE, self.TRUTH)
        for similarity in SIMILARITIES:
            found = self.fit(fixed, moving, 12, similarity.name, self.TRUTH)
            self.assertLess(error(found, self.TRUTH), 0.3 if similarity.whole else 0.15, similarity.name)

    def test_information_finds_another_contrast_again(self):
        for measure in ("information", "normalised-information"):
            found = self.fit(picture(ONE), picture(OTHER, self.TRUTH), 12, measure, self.TRUTH)
            self.assertLess(error(found, self.TRUTH), 0.12, measure)

    def test_each_freedom_finds_what_it_may(self):
        numbers = np.array((3.0, -2, 2.5, 0.12, -0.1, 0.15, 0.05, -0.04, 0.03, 0, 0, 0))
        for number in (3, 6, 7, 9):
            truth = matrix_of(nearest(numbers, freedom(number, False)), SPACE.centre)
            found = self.fit(picture(ONE), picture(ONE, truth), number, "correlation", truth)
            self.assertLess(error(found, truth), 0.1, number)
            kept = numbers_of(found, SPACE.centre)
            if number in (3, 6):
                np.testing.assert_allclose(kept[6:9], 0, atol=1e-9)

    def test_scales_of_values_and_voxels_make_no_difference(self):
        fixed, moving = picture(ONE), picture(OTHER, self.TRUTH)
        for factor, offset in ((1e-4, 0), (1e4, -1e6), (-1, 0)):
            found = self.fit(fixed * factor + offset, moving, 12, "normalised-information", self.TRUTH)
            self.assertLess(error(found, self.TRUTH), 0.15, factor)
        for size in (1e-6, 1e3):
            grown = np.diag((size, size, size, 1.0))
            space = Space(SPACE.shape, grown @ SPACE.affine)
            levels = levels_of(Sides(fixed, space), Sides(moving, space))
            found = fitted(levels, similarity_named("information"), freedom(12, False), np.eye(4))
            there = np.linalg.inv(grown) @ found @ grown
            self.assertLess(error(there, self.TRUTH), 0.15, size)

    def test_masks_leave_out_what_would_mislead(self):
        fixed, moving = picture(ONE), picture(ONE, self.TRUTH)
        moving[30:48, 20:40, 5:20] = 900  # what only one of them has
        mask = np.ones(moving.shape, bool)
        mask[28:50, 18:42, 3:22] = False
        levels = levels_of(Sides(fixed, SPACE), Sides(moving, SPACE, mask))
        found = fitted(levels, similarity_named("squares"), freedom(12, False), np.eye(4))
        self.assertLess(error(found, self.TRUTH), 0.15)
        moving[~mask] = np.nan  # as values that are missing
        levels = levels_of(Sides(fixed, SPACE), Sides(moving, SPACE))
        found = fitted(levels, similarity_named("squares"), freedom(12, False), np.eye(4))
        self.assertLess(error(found, self.TRUTH), 0.15)

    def test_cancel(self):
        stopped = Progress()
        stopped.cancel()
        levels = levels_of(Sides(picture(ONE), SPACE), Sides(picture(ONE), SPACE))
        with self.assertRaises(Cancelled):
            fitted(levels, similarity_named("squares"), freedom(6, False), np.eye(4), stopped)


class OperationTest(PlaceCase):
    RIGID = matrix_of(np.array((2.0, -1.5, 1, 0.1, -0.08, 0.12, 0, 0, 0, 0, 0, 0)), SPACE.centre)

    def image(self, values, name, moved=None, **more):
        space = SPACE if moved is None else SPACE.moved(moved)
        return Image(np.asfortranarray(picture(values).T), space, name, **more)

    def test_what_nobody_says_is_chosen_and_said(self):
        one = self.image(ONE, "One", subject="A", modality="CT")
        other = self.image(OTHER, "Other", self.RIGID, subject="A", modality="CT")
        made, report = align_images(other, one)
        row = dict(zip((c.name for c in report.columns), report.rows[0]))
        self.assertEqual((row["freedom"], row["similarity"]), ("6", "Correlation"))
        other.modality, other.subject = "MR", "B"
        made, report = align_images(other, one)
        row = dict(zip((c.name for c in report.columns), report.rows[0]))
        self.assertEqual((row["freedom"], row["similarity"]), ("12", "Normalised mutual information"))
        self.assertEqual((made.name, made.subject), ("Other to A One", "B"))
        self.assertLess(error(made.matrix, self.RIGID), 0.12)
        self.assertGreater(row["after"], row["before"])
        # the one that moved is placed on the other by going the way back
        lies = place_by(other, made, back=True).space
        np.testing.assert_allclose(lies.affine, SPACE.affine, atol=0.3)
        there, here = World("m", "Moving"), World("f", "Fixed")
        joins = Transform(made.matrix, here, there, "T")
        apart = Image(np.asarray(other.data), other.space.in_world(there), "Other")
        seen = place_by(apart, joins).space  # between two spaces that is seen by itself
        np.testing.assert_allclose(seen.affine, lies.affine)
        self.assertEqual(seen.world, here)
        with self.assertRaisesRegex(Trouble, "starts from"):
            place_by(Image(np.asarray(one.data), SPACE.in_world(here), "One"), joins, back=True)

    def test_a_head_upside_down_is_found_and_a_mirror_is_noticed(self):
        one = self.image(ONE, "One")
        for n, turn in enumerate(Rotation.random(1, random_state=8).as_matrix()):
            moved = np.eye(4)
            moved[:3, :3], moved[:3, 3] = turn, (9, -5, 4)
            made, report = align_images(self.image(OTHER, "Other", moved), one, freedom="6", search="full")
            self.assertLess(error(made.matrix, moved), 0.1, n)
            self.assertEqual(report.rows[0][-1], "no")
        mirrored = moved @ np.diag((-1.0, 1, 1, 1))
        made, report = align_images(self.image(OTHER, "Other", mirrored), one, freedom="6", search="full")
        self.assertIn("left and right may be swapped", report.rows[0][-1])
        self.assertGreater(np.linalg.det(made.matrix[:3, :3]), 0)  # it never mirrors by itself

    def test_a_start_counts_in_a_full_search_too(self):
        one, moved = self.image(ONE, "One"), np.eye(4)
        moved[:3, :3] = Rotation.from_rotvec((0, 0, 1.9)).as_matrix()
        other = self.image(OTHER, "Other", moved)
        with (
            mock.patch.object(full_search, "TURNS", 1),
            mock.patch.object(full_search, "turns_in_space", lambda _: [np.eye(3)]),
        ):
            lost, _ = align_images(other, one, freedom="6", search="full")
            found, _ = align_images(other, one, freedom="6", search="full", start=Transform(moved))
        self.assertGreater(error(lost.matrix, moved), 3)
        self.assertLess(error(found.matrix, moved), 0.1)

    def test_pictures(self):
        grid = Space((60, 56, 1), np.diag((0.5, 0.5, 1.0, 1.0)))
        values = ndimage.gaussian_filter(ONE[TISSUE[:, :, 26]], 0.7)[None]
        centre = np.array((15.0, 14.0, 0.0))
        for number, numbers in (
            (2, (1, -2)),
            (3, (1, -2, 0.2)),
            (4, (1, -2, 0.2, 0.06)),
            (6, (1, -2, 0.2, 0.06, 0.02, 0.03)),
        ):
            truth = matrix_of(freedom(number, True).free @ np.array(numbers), centre)
            frame = (grid.inverse @ np.linalg.inv(truth) @ grid.affine)[:3]
            moved = resampled(np.ascontiguousarray(values), frame, (60, 56, 1), "linear", 0.0)
            one, other = (Image(np.asfortranarray(v.T), grid, name) for v, name in ((values, "One"), (moved, "Other")))
            made, _ = align_images(other, one, freedom=str(number), similarity="correlation")
            there, wanted = (m[:2, :2] @ centre[:2] + m[:2, 3] for m in (made.matrix, truth))
            np.testing.assert_allclose(there, wanted, atol=0.06)
            np.testing.assert_allclose(made.matrix[:2, :2], truth[:2, :2], atol=0.01)
            np.testing.assert_allclose(made.matrix[2], (0, 0, 1, 0), atol=1e-12)

    def test_odd_values_and_grids(self):
        one = self.image(ONE, "One")
        values, random = np.asarray(one.data), np.random.default_rng(1)
        odd = {
            "holes": np.where(random.random(values.shape) < 0.1, np.nan, values),
            "negative": -values - 1e6,
            "tiny": values * 1e-9,
            "huge": values * 1e30,
            "mask": (values > 80).astype(np.uint8),
        }
        for name, data in odd.items():
            with warnings.catch_warnings():
                warnings.simplefilter("error")
                made, report = align_images(Image(data, SPACE.moved(self.RIGID), name), one, freedom="6")
            self.assertLess(error(made.matrix, self.RIGID), 0.3, name)
            self.assertTrue(np.isfinite([v for v in report.rows[0] if isinstance(v, float)]).all(), name)
        for space, unit, digits in (
            (replace(SPACE, unit="px"), "px", 3),
            (Space(SPACE.shape, np.diag((1e-6, 1e-6, 1e-6, 1)) @ SPACE.affine), "mm", 9),
        ):
            _, report = align_images(Image(values, space, "Two"), Image(values, space, "One"), freedom="warp")
            told = {c.name: (c.unit, c.digits) for c in report.columns}
            for name in ("shift x", "warp, mean", "warp, most"):
                self.assertEqual(told[name], (unit, digits))
        thick = Image(values[:, :, ::6].copy(), Space((52, 60, 10), SPACE.affine @ np.diag((1, 1, 6, 1.0))), "Thick")
        self.assertLess(error(align_images(thick, one, freedom="6")[0].matrix, np.eye(4)), 0.6)
        for name, data in (("Nothing", np.full(values.shape, np.nan)), ("One voxel", np.ones((1, 1, 1)))):
            space = SPACE if data.size > 1 else Space((1, 1, 1), np.eye(4))
            with self.assertRaisesRegex(Trouble, f"Too little of “{name}” counts"):
                align_images(Image(data, space, name), Image(data, space, name))

    def test_wrong_input_is_one_sentence(self):
        one, other = self.image(ONE, "One"), self.image(ONE, "Other")
        flat = Image(np.zeros((5, 6, 1)), Space((5, 6, 1), np.eye(4)), "Flat")
        far = self.image(ONE, "Far", matrix_of(np.array((900.0, *[0] * 11)), np.zeros(3)))
        even = Image(np.full((9, 9, 9), 3.0), Space((9, 9, 9), np.eye(4)), "Even")
        pixels = Image(np.asarray(one.data), Space(SPACE.shape, SPACE.affine, unit="px"), "Pixels")
        mask = LabelMap(Space((9, 9, 9), np.eye(4)), name="Mask")
        for words, given in (
            ("“Flat” is a picture and “One” a volume", {"image": flat, "onto": one}),
            ("Too little of “Far” and “One” overlaps", {"image": far, "onto": one}),
            ("“Even” is the same everywhere", {"image": even, "onto": one}),
            ("Nobody knows the scale of “Pixels”", {"image": pixels, "onto": one}),
            ("The mask “Mask” lies on another grid than “One”", {"image": other, "onto": one, "mask": mask}),
            ("Too little of “One” counts", {"image": other, "onto": one, "mask": LabelMap(SPACE, name="Nothing")}),
            ("Volumes cannot be aligned with 2", {"image": other, "onto": one, "freedom": "2"}),
            ("mirrors left and right", {"image": other, "onto": one, "start": Transform(np.diag((-1.0, 1, 1, 1)))}),
        ):
            with self.assertRaisesRegex(Trouble, words):
                align_images(**given)

    def test_on_the_command_line_as_itk_has_it(self):
        save_image(self.place / "one.nii.gz", self.image(ONE, "One"))
        save_image(self.place / "other.nii.gz", self.image(OTHER, "Other", self.RIGID))
        out = self.place / "t.tfm"
        done = kestrelmist(
            "align",
            self.place / "other.nii.gz",
            "--onto",
            self.place / "one.nii.gz",
            "--freedom",
            "6",
            "--out",
            out,
            "--json",
        )
        row = json.loads(done.stdout)["rows"][0]
        self.assertEqual((row["freedom"], row["shift x_unit"]), ("6", "mm"))
        import SimpleITK as sitk

        read = sitk.ReadTransform(str(out))
        turned = INSIDE * (-1, -1, 1)
        wanted = (INSIDE @ self.RIGID[:3, :3].T + self.RIGID[:3, 3]) * (-1, -1, 1)
        found = np.array([read.TransformPoint(p) for p in turned.tolist()])
        self.assertLess(float(np.linalg.norm(found - wanted, axis=1).mean()), 0.1)
        save_thing(self.place / "start.txt", Transform(self.RIGID))
        again = kestrelmist(
            *("align", self.place / "other.nii.gz", "--onto", self.place / "one.nii.gz", "--freedom", "12"),
            *("--start", self.place / "start.txt", "--out", self.place / "u.txt", "--similarity", "information"),
        )
        self.assertEqual(again.returncode, 0, again.stderr)
        self.assertLess(error(np.loadtxt(self.place / "u.txt"), self.RIGID), 0.1)
