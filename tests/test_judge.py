"""An alignment judged: what is good, what folds, what misses, what does not overlap."""

import json

import numpy as np

from kestrelmist.align.judge import judge
from kestrelmist.align.label_agreement import agreements
from kestrelmist.core.displacement import DisplacementField
from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.core.transform import Transform
from kestrelmist.core.world import World
from kestrelmist.formats.saving import save_image, save_thing
from tests.command import kestrelmist
from tests.making import PlaceCase
from tests.test_align import ONE, OTHER, SPACE, matrix_of, picture
from tests.test_warp import made_up, pair

MOVED = matrix_of(np.array((4.0, -3, 2, 0.1, 0.05, -0.1, 0.02, 0, 0, 0, 0, 0)), SPACE.centre)


def image(values, name, moved=None) -> Image:
    return Image(np.asfortranarray(values.T), SPACE if moved is None else SPACE.moved(moved), name)


def told(table) -> dict:
    rows = {row[0]: row[1] if row[1] is not None else row[3] for row in table.rows if row[0] != "because"}
    return rows | {"because": [row[3] for row in table.rows if row[0] == "because"]}


class JudgeTest(PlaceCase):
    ONTO, IMAGE = image(picture(ONE), "One"), image(picture(OTHER), "Other", MOVED)

    def test_a_good_one_and_one_that_misses(self):
        good = told(judge(self.IMAGE, self.ONTO, Transform(MOVED, name="T")))
        self.assertEqual(good["verdict"], "nothing speaks against it")
        self.assertGreater(good["normalised mutual information, after"], good["normalised mutual information, before"])
        stretch = np.linalg.det(MOVED[:3, :3])
        self.assertAlmostEqual(good["Jacobian, smallest"], stretch, places=6)
        self.assertAlmostEqual(good["Jacobian, largest"], stretch, places=6)
        corners = SPACE.corners()
        far = np.linalg.norm(corners @ MOVED[:3, :3].T + MOVED[:3, 3] - corners, axis=1).max()
        self.assertAlmostEqual(good["shift, largest"], far, delta=0.6)
        wrong = told(judge(self.IMAGE, self.ONTO, Transform(np.linalg.inv(MOVED), name="T")))
        self.assertEqual(wrong["verdict"], "doubtful")
        self.assertIn("both are less alike than where they lay before", wrong["because"])
        rows = judge(self.IMAGE, self.ONTO, Transform(np.linalg.inv(MOVED), name="T")).rows
        self.assertEqual([row[0] for row in rows[:2]], ["verdict", "because"])

    def test_labels_that_both_have(self):
        """Two boxes, one of them shifted by a voxel: Dice and distances by counting."""
        space = Space((20, 20, 20), np.eye(4))
        maps = []
        for shift in (0, 1):
            numbers = np.zeros(space.shape, np.uint16)
            numbers[5 + shift : 13 + shift, 6:12, 6:12] = 1
            numbers[2:4, 2:4, 2:4] = 2
            maps.append(LabelMap(space, numbers, LabelTable().with_new("Box")[0].with_new("Small")[0], f"M{shift}"))
        found = {one.name: one for one in agreements(maps[1], maps[0], Transform(np.eye(4)))}
        self.assertAlmostEqual(found["Box"].dice, 7 / 8)
        self.assertEqual((found["Small"].dice, found["Small"].mean, found["Box"].largest), (1.0, 0.0, 1.0))
        # by hand: each face across x is a voxel off; of the four others only the ring at the ends is
        self.assertTrue(0.2 < found["Box"].mean < 0.6)
        moved = np.eye(4)
        moved[0, 3] = 1.0
        self.assertEqual(agreements(maps[1], maps[0], Transform(moved))[0].dice, 1.0)
        told = judge(self.IMAGE, self.ONTO, Transform(np.eye(4)), regions=maps[1], onto_regions=maps[0])
        self.assertIn(("Box, Dice", 0.875, "", ""), told.rows)
        with self.assertRaisesRegex(Trouble, "in pairs"):
            judge(self.IMAGE, self.ONTO, Transform(np.eye(4)), regions=maps[1])
        with self.assertRaisesRegex(Trouble, "no label of one name"):
            agreements(LabelMap(space), maps[0], Transform(np.eye(4)))

    def test_what_hardly_overlaps(self):
        away = np.eye(4)
        away[0, 3] = 48
        found = told(judge(self.IMAGE, self.ONTO, Transform(away @ MOVED, name="T")))
        self.assertEqual(found["verdict"], "bad")
        self.assertIn("of the image that stays is reached", found["because"][0])

    def test_a_warp_and_a_fold(self):
        warp = made_up()
        fixed, moving = pair(warp)
        found = told(judge(image(moving, "M"), image(fixed, "F"), warp))
        self.assertEqual(found["verdict"], "nothing speaks against it")
        self.assertLess(found["there and back, mean"], 0.02)
        self.assertGreater(found["Jacobian, smallest"], 0.2)
        self.assertEqual(found["folds"], 0)
        shifts = np.zeros((*SPACE.shape, 3), np.float32)
        shifts[20:24, :, :, 0] = 6.0  # what lies there jumps over its neighbours
        folded = told(judge(image(moving, "M"), image(fixed, "F"), DisplacementField(shifts, SPACE, name="Jump")))
        self.assertEqual(folded["verdict"], "bad")
        self.assertGreater(folded["folds"], 1)
        self.assertLess(folded["Jacobian, smallest"], 0)
        self.assertIn("it folds at", folded["because"][0])

    def test_landmarks_are_held_against_it(self):
        here = np.array([(0.0, 0, 0), (10, 5, 0), (-8, 3, 9)])
        there = here @ MOVED[:3, :3].T + MOVED[:3, 3] + (0, 0, 1.5)
        one, other = (
            Marks.numbered(Mark("point", (tuple(p),), name=str(n)) for n, p in enumerate(points))
            for points in (here, there)
        )
        found = told(judge(self.IMAGE, self.ONTO, Transform(MOVED), landmarks=other, onto_landmarks=one))
        self.assertAlmostEqual(found["landmarks apart, mean"], 1.5)
        self.assertAlmostEqual(found["landmarks apart, largest"], 1.5)

    def test_on_the_command_line_and_wrong_input(self):
        save_image(self.place / "one.nii.gz", self.ONTO)
        save_image(self.place / "other.nii.gz", self.IMAGE)
        save_thing(self.place / "t.tfm", Transform(MOVED))
        done = kestrelmist(
            "judge", self.place / "other.nii.gz", "--onto", self.place / "one.nii.gz",
            *("--transform", self.place / "t.tfm", "--json"),
        )  # fmt: skip
        rows = {row["what"]: row for row in json.loads(done.stdout)["rows"]}
        self.assertEqual(rows["verdict"]["said"], "nothing speaks against it")
        self.assertEqual(rows["shift, mean"]["unit"], "mm")
        elsewhere = Transform(MOVED, World("a", "A"), World("b", "B"), "T")
        onto = Image(np.asarray(self.ONTO.data), SPACE.in_world(World("c", "C")), "One")
        with self.assertRaisesRegex(Trouble, "in pairs: name those of both images"):
            judge(self.IMAGE, self.ONTO, Transform(MOVED), landmarks=Marks())
        with self.assertRaisesRegex(Trouble, "“T” starts from a, and “One” lies in c"):
            judge(self.IMAGE, onto, elsewhere)
