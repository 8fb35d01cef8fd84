"""Pairs of landmarks: the best transform between them, against closed forms, SciPy and ITK."""

import json
import unittest

import numpy as np
from scipy.interpolate import RBFInterpolator
from scipy.spatial.transform import Rotation

from kestrelmist.align.fit_landmarks import fit_landmarks, paired
from kestrelmist.align.landmarks import Pairs, distances, fit, left_out
from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.mapping_kinds import mapping_from
from kestrelmist.core.operation import find_operation
from kestrelmist.core.thin_plate import ThinPlate
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import PlaceCase, keep_thing, two_balls

RANDOM = np.random.default_rng(9)
HERE = RANDOM.uniform(-40, 40, (8, 3))
TURN = Rotation.from_rotvec((0.7, -1.1, 0.4)).as_matrix()
NAMES = tuple("abcdefgh")


def pairs_of(matrix: np.ndarray, noise: float = 0.0, here: np.ndarray = HERE, flat: bool = False) -> Pairs:
    there = here @ matrix[:3, :3].T + matrix[:3, 3] + noise * np.random.default_rng(2).normal(size=here.shape)
    return Pairs(here, there, NAMES[: len(here)], flat)


def matrix(turn=TURN, scale=1.0, shift=(5.0, -90.0, 30.0)) -> np.ndarray:
    made = np.eye(4)
    made[:3, :3], made[:3, 3] = turn * scale, shift
    return made


class FitTest(unittest.TestCase):
    def test_what_each_freedom_may_do_is_found_exactly(self):
        skew = TURN @ np.array([(1.1, 0.2, 0), (0, 0.8, 0.1), (0, 0, 1.3)])
        for freedom, truth in (
            *(("3", matrix(np.eye(3))), ("6", matrix()), ("7", matrix(scale=1.4)), ("12", matrix(skew))),
        ):
            pairs = pairs_of(truth)
            found = fit(pairs, freedom)
            np.testing.assert_allclose(found.matrix, truth, atol=1e-9, err_msg=freedom)
            np.testing.assert_allclose(distances(found, pairs), 0, atol=1e-9)
            np.testing.assert_allclose(left_out(pairs, freedom), 0, atol=1e-8)

    def test_the_best_turn_is_that_of_scipy(self):
        pairs = pairs_of(matrix(), 3.0)
        wanted, rssd = Rotation.align_vectors(pairs.there - pairs.there.mean(0), pairs.here - pairs.here.mean(0))
        found = fit(pairs, "6")
        np.testing.assert_allclose(found.matrix[:3, :3], wanted.as_matrix(), atol=1e-9)
        self.assertAlmostEqual(np.sqrt((distances(found, pairs) ** 2).sum()), rssd, places=9)
        # it never mirrors, also where a mirror would fit better
        mirrored = pairs_of(matrix(np.diag((-1.0, 1, 1))))
        self.assertAlmostEqual(np.linalg.det(fit(mirrored, "6").matrix[:3, :3]), 1.0)

    def test_pictures_turn_in_their_plane(self):
        flat = HERE * (1, 1, 0)
        for scale, freedom in ((1.0, "6"), (0.7, "7")):
            truth = matrix(Rotation.from_rotvec((0, 0, 2.5)).as_matrix(), scale, (3, 4, 0))
            found = fit(pairs_of(truth, 0, flat[:2], True), freedom)
            np.testing.assert_allclose(found.to(flat), flat @ truth[:3, :3].T + (3, 4, 0), atol=1e-9)
        skew = np.array([(1.2, 0.3, 0), (-0.1, 0.9, 0), (0, 0, 1.0)])
        np.testing.assert_allclose(
            fit(pairs_of(matrix(skew, 1, (1, 2, 0)), 0, flat[:3], True), "12").matrix[:2, :2], skew[:2, :2]
        )

    def test_a_pair_set_wrongly_stands_out(self):
        pairs = pairs_of(matrix(), 0.2)
        pairs.there[3] += (9, 0, 0)
        alone = left_out(pairs, "6")
        self.assertEqual(int(np.argmax(alone)), 3)
        self.assertGreater(alone[3], 8)
        self.assertLess(distances(fit(pairs.without(3), "6"), pairs.without(3)).max(), 0.7)

    def test_too_few_or_too_thin(self):
        line = np.outer(np.arange(5.0), (1, 2, 3))
        plane = HERE * (1, 1, 1e-5)
        for freedom, here, words in (
            ("6", HERE[:2], "Shift and turn needs 3 pairs of landmarks, and there are 2"),
            ("12", HERE[:3], "An affine transform needs 4 pairs"),
            ("spline", HERE[:3], "A thin-plate spline needs 4 pairs"),
            ("6", line, "lie on one line"),
            ("12", plane, "lie in one plane"),
            ("spline", np.repeat(HERE[:1], 5, 0), "lie in one plane"),
            ("7", np.repeat(HERE[:1], 5, 0), "lie on one line"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                fit(pairs_of(matrix(), 0, here), freedom)


class ThinPlateTest(unittest.TestCase):
    GOALS = HERE + RANDOM.normal(0, 3, HERE.shape)

    def test_as_scipy_has_it(self):
        at = RANDOM.uniform(-50, 50, (200, 3))
        spline = ThinPlate(HERE, self.GOALS)
        np.testing.assert_allclose(spline.to(HERE), self.GOALS, atol=1e-8)
        theirs = RBFInterpolator(HERE, self.GOALS, kernel="linear", degree=1)
        np.testing.assert_allclose(spline.to(at), theirs(at), atol=1e-7)
        flat, goals = HERE * (1, 1, 0), self.GOALS * (1, 1, 0)
        theirs = RBFInterpolator(flat[:, :2], goals[:, :2], kernel="thin_plate_spline", degree=1)
        np.testing.assert_allclose(ThinPlate(flat, goals).to(at * (1, 1, 0))[:, :2], theirs(at[:, :2]), atol=1e-7)

    def test_there_and_back_and_in_words(self):
        spline = ThinPlate(HERE, self.GOALS)
        at = RANDOM.uniform(-30, 30, (100, 3))
        np.testing.assert_allclose(spline.back(spline.to(at)), at, atol=1e-2)
        np.testing.assert_allclose(spline.inverse().to(self.GOALS), HERE, atol=1e-2)
        facts, arrays = spline.facts()
        again = mapping_from(json.loads(json.dumps(facts)), arrays, "S")
        np.testing.assert_allclose(again.to(at), spline.to(at), atol=1e-12)
        self.assertEqual((again.words, again.name), ("thin-plate spline through 8 pairs", "S"))
        with self.assertRaisesRegex(Trouble, "the same"):
            ThinPlate(np.vstack((HERE, HERE[:1])), np.vstack((self.GOALS, self.GOALS[:1] + 5)))


class OperationTest(PlaceCase):
    def marks(self, points, names=NAMES, **more) -> Marks:
        made = (Mark("point", (tuple(p),), name=n) for p, n in zip(points.tolist(), names))
        return Marks.numbered(made, name="L", **more)

    def test_pairs_go_by_name_or_by_order(self):
        there = pairs_of(matrix()).there
        order = [3, 0, 7, 1, 2, 6, 5, 4]
        found = paired(self.marks(there[order], [NAMES[n] for n in order]), self.marks(HERE))
        np.testing.assert_allclose(found.there, there)
        found = paired(self.marks(there, [""] * 8), self.marks(HERE))
        np.testing.assert_allclose(found.there, there)
        self.assertEqual(found.names[:2], ("a", "b"))
        with self.assertRaisesRegex(Trouble, "7 points and “L” 8, and no names say"):
            paired(self.marks(there[:7], [""] * 7), self.marks(HERE))
        with self.assertRaisesRegex(Trouble, "has the name of one of"):
            paired(self.marks(there, "ijklmnop"), self.marks(HERE))
        with self.assertRaisesRegex(Trouble, "There are no points among"):
            paired(Marks(), self.marks(HERE))

    def test_a_pair_is_left_out(self):
        pairs = pairs_of(matrix())
        pairs.there[2] += 7
        made, report = fit_landmarks(self.marks(pairs.there), self.marks(HERE), without="c")
        np.testing.assert_allclose(made.matrix, matrix(), atol=1e-9)
        row = report.rows[2]
        self.assertEqual((row[0], row[3]), ("c", "no"))
        self.assertAlmostEqual(row[1], np.sqrt(3) * 7)
        self.assertEqual(report.rows[-1][3], "7 of 8")
        self.assertAlmostEqual(report.rows[-1][1], 0)
        with self.assertRaisesRegex(Trouble, "There is no pair “z”: choose among a, b"):
            fit_landmarks(self.marks(pairs.there), self.marks(HERE), without="z")

    def test_on_the_command_line(self):
        there = pairs_of(matrix(), 0.3).there
        for name, points in (("moving", there), ("fixed", HERE)):
            rows = [f"{x},{y},{z},{n}" for (x, y, z), n in zip(points, NAMES)]
            (self.place / f"{name}.csv").write_text("\n".join(["x,y,z,name", *rows]) + "\n")
        files = self.place / "moving.csv", self.place / "fixed.csv"
        kestrelmist("fit-landmarks", *files, "--freedom", "6", "--out", self.place / "t.txt")
        wanted = fit(pairs_of(matrix(), 0.3), "6").matrix
        np.testing.assert_allclose(np.loadtxt(self.place / "t.txt"), wanted, atol=1e-5)
        onto = kestrelmist("fit-landmarks", files[0], "--onto", files[1], "--out", self.place / "u.tfm", "--json")
        rows = json.loads(onto.stdout)["rows"]
        self.assertEqual((len(rows), rows[-1]["counts"]), (9, "8 of 8"))
        twice = kestrelmist("fit-landmarks", *files, "--onto", files[1], "--out", self.place / "v.txt", code=2)
        self.assertIn("unexpected extra argument", twice.stderr)
        self.assertFalse((self.place / "v.txt").exists())
        spline = kestrelmist("fit-landmarks", *files, "--freedom", "spline", "--out", self.place / "w.tfm", code=1)
        self.assertIn("write the field that does the same", spline.stderr)


class FormTest(DeskCase):
    def test_the_marks_of_what_leads_are_those_that_move(self):
        with self.study_with_balls() as study:
            other = keep_thing(study, two_balls().like(two_balls().data + 1, name="Other"))
            for n, key in enumerate((1, other)):
                for m, place in enumerate(((0, 0, 0), (3, 0, 0), (0, 2, 0), (0, 0, 4))):
                    points = ",".join(str(v + n) for v in place)
                    study.run("mark", marks=str(study.items.get(key).reference), points=points, name=f"p{m}")
        window = self.open(self.place / "study")
        window.desk.viewing.show_image(1)
        self.settle(window)
        window.bench.open_operation(find_operation("fit-landmarks"))
        form = window.bench.page("Align").form
        self.assertEqual((form.lead_rows.of_map.text(), form.lead_rows.lacks.isHidden()), ("Marks", True))
        field = form.fields["onto"]
        field.setCurrentIndex(next(n for n in range(field.count()) if "Other" in field.itemText(n)))
        self.press(form.apply)
        self.settle(window)
        (made,) = window.desk.study.items.of_kind("transform")
        self.assertEqual(made.name, "Two balls to Other by landmarks")
        np.testing.assert_allclose(window.desk.study.thing(made.id).matrix[:3, 3], -1, atol=1e-9)
        # an image without marks says what is missing, and nothing else is taken in their place
        third = window.desk.study.run("smooth", image=1, fwhm=1.0)[0]
        window.desk.viewing.show_image(third)
        self.settle(window)
        self.assertEqual(form.lead_rows.of_map.text(), "none yet")
        self.assertIn("has no marks yet: set some first.", form.lead_rows.lacks.text())
        self.press(form.apply)
        self.settle(window)
        self.assertEqual(len(window.desk.study.items.of_kind("transform")), 1)
        self.assertIn("There are no points among the marks", self.troubles[-1])

    def test_marks_are_brought_to_another_image_and_never_offered_their_own(self):
        with self.study_with_balls() as study:
            balls = study.image("Two balls")
            other = keep_thing(study, balls.like(np.asarray(balls.data) + 1, name="Other"))
            study.run("mark", marks="Two balls", points="1,2,3", name="nose")
        window = self.open(self.place / "study")
        window.desk.viewing.show_image(1)
        self.settle(window)
        window.bench.open_operation(find_operation("bring-marks"))
        form = window.bench.page("Measure").form
        field = form.fields["onto"]
        self.assertEqual((form.lead_rows.of_map.text(), field.value()), ("Marks", None))
        self.press(form.apply)
        self.settle(window)
        self.assertIn("Nothing says where “Marks” is to be brought", self.troubles[-1])
        field.setCurrentIndex(field.findData(other))
        self.press(form.apply)
        self.settle(window)
        self.assertEqual([mark.points for mark in window.desk.study.marks.on(other)], [((1, 2, 3),)])
