import numpy as np
from scipy.spatial.transform import Rotation

from kestrelmist.align.lay import hand_matrix, lay_by_hand
from kestrelmist.align.level_by_landmarks import level_by_landmarks
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.core.transform import Transform
from kestrelmist.core.world import World
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space, tilted_space


def image(space: Space, name: str = "Moves") -> Image:
    return Image(np.random.default_rng(1).normal(size=space.shape).astype(np.float32), space, name)


class LayTest(PlaceCase):
    def test_shift_turn_and_scale_about_a_place(self):
        about, vector = np.array((1.0, -2.0, 3.0)), np.array((4.0, 5.0, -30.0))
        found = lay_by_hand(image(tilted_space()), shift=(1, 2, 3), turn=tuple(vector), scale=1.5, about=tuple(about))
        turn = Rotation.from_rotvec(vector, degrees=True).as_matrix()
        index = np.random.default_rng(2).uniform(0, 15, (20, 3))
        wanted = about + 1.5 * (tilted_space().to_world(index) - about) @ turn.T + (1, 2, 3)
        np.testing.assert_allclose(found.space.to_world(index), wanted, atol=1e-9)
        np.testing.assert_allclose(
            hand_matrix((0, 0, 0), (0, 0, 90), 2, (0, 0, 0))[:3, :3], [[0, -2, 0], [2, 0, 0], [0, 0, 2]], atol=1e-12
        )

    def test_middle_and_axes(self):
        one, onto = image(tilted_space()), image(straight_space(), "Onto")
        middle = lay_by_hand(one, onto, first="middle").space
        np.testing.assert_allclose(middle.centre, onto.space.centre, atol=1e-9)
        np.testing.assert_allclose(middle.affine[:3, :3], one.space.affine[:3, :3])
        axes = lay_by_hand(one, onto, first="axes").space
        np.testing.assert_allclose(axes.centre, onto.space.centre, atol=1e-9)
        shares = np.abs(axes.affine[:3, :3] / axes.spacing)
        np.testing.assert_allclose(np.sort(shares, 0)[-1], 1, atol=1e-9)  # along the axes of the straight one
        # by the smallest turn: nothing was mirrored, and hardly anything turned
        turn = axes.affine[:3, :3] @ np.linalg.inv(one.space.affine[:3, :3])
        self.assertAlmostEqual(np.linalg.det(turn), 1, 9)
        self.assertLess(np.degrees(np.linalg.norm(Rotation.from_matrix(turn).as_rotvec())), 45.1)

    def test_two_worlds(self):
        here, there = (straight_space().in_world(World(name, name)) for name in ("one", "other"))
        one, onto = image(here), image(there, "Onto")
        with self.assertRaisesRegex(Trouble, "no transform leads from one to the other"):
            lay_by_hand(one, onto, shift=(1, 0, 0))
        self.assertEqual(lay_by_hand(one, onto, first="middle").space.world.id, "other")
        way = Transform(hand_matrix((5, 0, 0), (0, 0, 10), 1, (0, 0, 0)), here.world, there.world, "Way")
        found = lay_by_hand(one, onto, shift=(1, 0, 0), way=way).space
        wanted = way.to(here.to_world([[3, 4, 5]])) + (1, 0, 0)
        np.testing.assert_allclose(found.to_world([[3, 4, 5]]), wanted, atol=1e-9)

    def test_levelled_by_landmarks(self):
        """Landmarks of a straight head, looked for in a tilted one, come back to where they belong."""
        front, back, middle = np.array((0, 2.0, 1.0)), np.array((0, -4.0, 1.0)), np.array((0, -1.0, 6.0))
        tilt = hand_matrix((3, -2, 5), (11, -7, 20), 1, (1, 1, 1))
        seen = [tuple(tilt[:3, :3] @ p + tilt[:3, 3]) for p in (front, back, middle)]
        one = image(straight_space().moved(tilt))
        found = level_by_landmarks(one, *seen).space
        wanted = straight_space().affine.copy()
        wanted[:3, 3] -= front
        np.testing.assert_allclose(found.affine, wanted, atol=1e-9)
        stays = level_by_landmarks(one, *seen, origin=False).space
        np.testing.assert_allclose(stays.affine[:3, 3] - found.affine[:3, 3], seen[0], atol=1e-9)
        for wrong in (((0, 0, 0), (0, 1, 0), (0, 3, 0)), ((0, 0, 0), (0, 0, 0), (0, 3, 1))):
            with self.assertRaisesRegex(Trouble, "on one line"):
                level_by_landmarks(one, *wrong)

    def test_wrong_input(self):
        with self.assertRaisesRegex(Trouble, "are to be numbers"):
            lay_by_hand(image(straight_space()), shift=(np.nan, 0, 0))
        pixels = Space(straight_space().shape, np.eye(4), unit="px")
        with self.assertRaisesRegex(Trouble, "give both a scale"):
            lay_by_hand(image(straight_space()), image(pixels, "Onto"), shift=(1, 0, 0))

    def test_study_and_command_line(self):
        with self.study_with_balls() as study:
            before = study.records()[0].grid
            study.run("lay-by-hand", image="Two balls", shift=(1, 0, 0), turn=(0, 0, 10), about=(0, 0, 0))
            after = study.records()[0].grid
            wanted = hand_matrix((1, 0, 0), (0, 0, 10), 1, (0, 0, 0)) @ before.affine
            np.testing.assert_allclose(after.affine, wanted, atol=1e-9)
            study.history.undo()
            np.testing.assert_allclose(study.records()[0].grid.affine, before.affine)
        save_image(self.place / "a.nii.gz", image(straight_space()))
        out = self.place / "b.nii.gz"
        kestrelmist("lay-by-hand", self.place / "a.nii.gz", "--shift", "1,2,3", "--scale", "2", "--out", out)
        np.testing.assert_allclose(open_image(out).space.spacing, np.array(straight_space().spacing) * 2, rtol=1e-6)
