"""Transforms applied to images and points, one and several, from the command line as an operation would."""

import numpy as np
from scipy import ndimage

from kestrelmist.apply_command import _are_marks
from kestrelmist.core.chain import PerVolume, in_a_row
from kestrelmist.core.displacement import DisplacementField
from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space, picture_space
from kestrelmist.core.transform import Transform
from kestrelmist.core.world import World
from kestrelmist.formats.mark_files import read_marks
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image, save_thing
from kestrelmist.measure.mark_files import bring_marks
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase
from tests.test_align import ONE, SPACE, matrix_of, picture
from tests.test_warp import made_up

SHIFT, TURN = np.eye(4), matrix_of(np.array((1.0, 2, 0, 0, 0, 0.3, 0, 0, 0, 0, 0, 0)), SPACE.centre)
SHIFT[:3, 3] = 4, -3, 2
POINTS = np.array([(0.0, 0, 0), (5, -4, 3), (-8, 6, 1)])


class ApplyTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.warp = made_up(1.5)
        for name, one in (("shift.tfm", SHIFT), ("turn.txt", TURN)):
            save_thing(self.place / name, Transform(one, name=name))
        save_thing(self.place / "warp.h5", self.warp)
        self.image = Image(np.asfortranarray(picture(ONE, noise=0).T), SPACE, "One")
        save_image(self.place / "one.nii.gz", self.image)
        rows = [f"{x},{y},{z},p{n}" for n, (x, y, z) in enumerate(POINTS)]
        (self.place / "points.csv").write_text("\n".join(["x,y,z,name", *rows]) + "\n")

    def at(self, *names):
        return [self.place / name for name in names]

    def test_points_go_one_transform_after_the_other(self):
        for names, wanted in (
            (("shift.tfm",), POINTS + (4, -3, 2)),
            (("shift.tfm", "turn.txt"), (POINTS + (4, -3, 2)) @ TURN[:3, :3].T + TURN[:3, 3]),
            (("turn.txt", "shift.tfm"), POINTS @ TURN[:3, :3].T + TURN[:3, 3] + (4, -3, 2)),
            (("warp.h5", "shift.tfm"), self.warp.to(POINTS) + (4, -3, 2)),
        ):
            out = self.place / f"{len(names)}{names[0]}.csv"
            kestrelmist("apply", *self.at(*names), "--to", self.place / "points.csv", "--out", out)
            found = read_marks(out)
            np.testing.assert_allclose([mark.points[0] for mark in found], wanted, atol=2e-2, err_msg=str(names))
            self.assertEqual([mark.name for mark in found], ["p0", "p1", "p2"])

    def test_images_are_interpolated_once(self):
        out = self.place / "moved.nii.gz"
        kestrelmist(
            "apply", *self.at("shift.tfm", "turn.txt"), "--to", self.place / "one.nii.gz",
            *("--onto", self.place / "one.nii.gz", "--how", "linear", "--out", out),
        )  # fmt: skip
        found = open_image(out).kji
        at = np.array((26, 30, 28))
        here = SPACE.to_world(at)
        there = SPACE.to_voxel(TURN[:3, :3] @ (here + (4, -3, 2)) + TURN[:3, 3])
        wanted = ndimage.map_coordinates(self.image.kji, there[::-1, None], order=1)[0]
        self.assertAlmostEqual(float(found[tuple(at[::-1])]), float(wanted), places=2)

    def test_in_a_study_by_all_doors(self):
        folder = self.place / "study"
        kestrelmist("gather", self.place / "one.nii.gz", "--study", folder)
        kestrelmist("open-transform", self.place / "shift.tfm", "--study", folder)
        kestrelmist("apply", "shift", "--to", "one", "--onto", "one", "--how", "nearest", "--study", folder)
        kestrelmist("take-marks", "one", "--file", self.place / "points.csv", "--unit", "mm", "--study", folder)
        with Study(folder) as study:
            name = study.items.of_kind("marks")[0].name
        # kept marks belong to an image: nobody would see others
        said = kestrelmist("apply", "shift", "--to", name, "--study", folder, code=1).stderr
        self.assertIn("would belong to no image of the study: say onto which it is brought", said)
        kestrelmist("apply", "shift", "--to", name, "--onto", "one", "--study", folder, "--out", self.place / "m.csv")
        found = read_marks(self.place / "m.csv")
        np.testing.assert_allclose([mark.points[0] for mark in found], POINTS + (4, -3, 2), atol=1e-2)
        with Study(folder) as study:
            self.assertEqual([record.of for record in study.items.of_kind("marks")], [1, 1])
            study.run("rename", thing=study.items.of_kind("marks")[0].id, name="one")  # called like the image
        with Study(folder) as study:
            self.assertFalse(_are_marks("one", folder))
        with Study(folder) as study:
            # by another door the same comes out, which is there already
            with self.assertRaisesRegex(Trouble, "is in the study already"):
                study.run("apply-transform", image=1, transform=["shift"], onto=1, how="nearest")
            with self.assertRaisesRegex(Trouble, "is in the study already"):  # and as older recipes name it
                study.run("apply-transform", image=1, transform="shift", onto=1, how="nearest")
            steps = [entry.sentence for entry in study.logbook.entries()]
        self.assertTrue(any("Bring through transforms" in s for s in steps), steps)

    def test_wrong_input_is_one_sentence(self):
        one, points = self.place / "one.nii.gz", self.place / "points.csv"
        for words, given in (
            ("Nothing says onto which grid", ["shift.tfm", "--to", one, "--out", self.place / "o.nii.gz"]),
            ("so --how has no use", ["shift.tfm", "--to", points, "--how", "linear", "--out", self.place / "o.csv"]),
        ):
            first, *rest = given
            said = kestrelmist("apply", self.place / first, *rest, code=1).stderr
            self.assertIn(words, said)
        self.assertFalse((self.place / "o.csv").exists())
        missing = kestrelmist("apply", self.place / "no.tfm", "--to", points, "--out", self.place / "o.csv", code=1)
        self.assertIn("no.tfm", missing.stderr)
        a, b, c = (World(n, n) for n in "abc")
        first, then = Transform(SHIFT, a, b, "First"), Transform(TURN, c, b, "Then")
        whole = in_a_row([first, then], a)
        np.testing.assert_allclose(whole.to(POINTS), Transform(np.linalg.inv(TURN)).to(POINTS + (4, -3, 2)), atol=1e-9)
        ticked = in_a_row([then, first], a)  # as a list has them, which knows no order
        np.testing.assert_allclose(ticked.to(POINTS), whole.to(POINTS), atol=1e-9)
        self.assertEqual(ticked.name, "First then Then, turned round")
        with self.assertRaisesRegex(Trouble, "join transforms whose ends meet"):
            in_a_row([first, Transform(TURN, c, World("d", "d"), "Then")], a)
        np.testing.assert_allclose(
            in_a_row([Transform(TURN, b, a, "T")], a, b).to(POINTS), Transform(np.linalg.inv(TURN)).to(POINTS)
        )
        marks = Marks.numbered([Mark("point", (tuple(p),)) for p in POINTS.tolist()], world=a, name="Points")
        np.testing.assert_allclose([m.points[0] for m in bring_marks(marks, None, [first, then])], whole.to(POINTS))
        self.assertEqual(bring_marks(marks, None, [first]).world, b)
        with self.assertRaisesRegex(Trouble, "“Then” leads from c to b, and “Points” lies in a: choose"):
            bring_marks(marks, None, [then])
        with self.assertRaisesRegex(Trouble, "Nothing says where “Points” is to be brought"):
            bring_marks(marks)
        several = PerVolume(np.stack([SHIFT, TURN]), a, b, name="Moves")
        with self.assertRaisesRegex(Trouble, "“Moves” is one affine for each of 2 volumes, and one is wanted"):
            bring_marks(marks, None, [several])
        shifts = np.zeros((3, 3, 3, 3), np.float32)
        shifts[..., 0] = -0.9 * (np.indices((3, 3, 3))[0] - 1)  # all of it goes to the middle: nothing leads to x = 2
        drawn = DisplacementField(shifts, Space((3, 3, 3), np.eye(4)), a, b, name="Field")
        lost = Marks.numbered([Mark("point", ((2.0, 1, 1),))], world=b, name="Points")
        with self.assertRaisesRegex(Trouble, "A mark of “Points” lies where “Field, turned round” says nothing"):
            bring_marks(lost, None, [drawn.inverse().named("Field, turned round")])
        pictures = [Image(np.zeros((4, 6, 1), np.uint8), picture_space(4, 6, size)) for size in (None, (0.5, 0.25))]
        one, other = (
            Image(picture.data, Space(picture.shape, picture.space.affine, picture.space.unit, World(name)), name)
            for picture, name in zip(pictures, "ab")
        )
        on_one = Marks.numbered([Mark("point", ((1.5, -2.5, 0),))], world=one.space.world, unit="px", name="Points")
        there = bring_marks(on_one, other, by="voxel", drawn_on=one)
        self.assertEqual((there.unit, there.world), ("mm", other.space.world))
        np.testing.assert_allclose(there[1].points[0][:2], (0.75, -0.625))  # the last column and row in both
        larger = Image(np.zeros((5, 6, 1), np.uint8), picture_space(5, 6, None), "larger")
        with self.assertRaisesRegex(Trouble, "“larger” has 5 × 6 × 1 voxels"):
            bring_marks(on_one, larger, by="voxel", drawn_on=one)
        with self.assertRaisesRegex(Trouble, "Nothing says from which voxels"):
            bring_marks(on_one, other, by="voxel")
        with self.assertRaisesRegex(Trouble, "no transform to go by"):
            in_a_row([], a)
