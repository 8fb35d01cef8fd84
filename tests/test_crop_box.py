"""The handles of a crop box, in the scene and in planes."""

import unittest

import numpy as np

from kestrelmist.scene.crop_box import (
    SIDES,
    dragged_in_scene,
    in_plane,
    in_scene,
    middle_of,
    moved,
    taken_in_plane,
    taken_in_scene,
)
from kestrelmist.scene.primitives import Oval, Path
from kestrelmist.scene.solid.eye import Camera, Eye, Frame
from kestrelmist.scene.view import AXIAL, View, plane_view

BOX = ((-3.0, -4.0, -5.0), (3.0, 4.0, 5.0))


class CropBoxTest(unittest.TestCase):
    def test_a_side_stops_at_the_other(self):
        self.assertEqual(moved(BOX, (0, 1), 2.0), ((-3.0, -4.0, -5.0), (2.0, 4.0, 5.0)))
        self.assertEqual(moved(BOX, (2, 0), 9.0)[0][2], 5.0)
        self.assertEqual(moved(BOX, (1, 1), -9.0)[1][1], -4.0)

    def test_dragged_in_the_scene_a_handle_stays_under_the_hand(self):
        for parallel in (False, True):
            for page in (1.0, 2.0):
                eye = Eye(Camera(35.0, 22.0, roll=10.0, parallel=parallel), Frame((0, 0, 0), 9.0), 600, 500)
                for side in SIDES:
                    axis, end = side
                    place = middle_of(BOX, side)
                    x, y, _ = eye.to_page(place) / page
                    self.assertIsNotNone(taken_in_scene(eye, BOX, x, y, page))
                    place[axis] -= 1.5 * (1 if end else -1)
                    x, y, _ = eye.to_page(place) / page
                    found = dragged_in_scene(eye, BOX, side, float(x), float(y), page)
                    self.assertAlmostEqual(found[end][axis], place[axis], places=6)
                self.assertIsNone(taken_in_scene(eye, BOX, 5.0, 5.0, page))
                drawn = in_scene(eye, BOX, page)
                self.assertEqual([sum(isinstance(one, kind) for one in drawn) for kind in (Path, Oval)], [12, 6])

    def test_seen_from_right_ahead_it_stays(self):
        eye = Eye(Camera(0.0, 0.0, parallel=True), Frame((0, 0, 0), 9.0), 600, 500)
        self.assertEqual(dragged_in_scene(eye, BOX, (1, 1), 300.0, 200.0, 1.0), BOX)

    def test_in_planes(self):
        view = plane_view(AXIAL, (0.0, 0.0, 1.0), 0.1, 200, 200)
        self.assertEqual(sum(isinstance(one, Oval) for one in in_plane(view, BOX)), 4)
        for side in SIDES[:4]:
            place = middle_of(BOX, side)
            place[2] = 1.0
            x, y = view.to_pixel(place)
            self.assertEqual(taken_in_plane(view, BOX, float(x) + 0.5, float(y) + 0.5), side)
        self.assertIsNone(taken_in_plane(view, BOX, 100.0, 100.0))
        away = plane_view(AXIAL, (0.0, 0.0, 9.0), 0.1, 200, 200)
        dashes = [one.stroke.dashes for one in in_plane(away, BOX) if isinstance(one, Path) and one.stroke is not None]
        self.assertTrue(any(dashes))
        turn = np.sqrt(0.5)
        self.assertEqual(in_plane(View((0, 0, 0), (turn, turn, 0), (0, 0, -1), 0.1, 200, 200), BOX), [])


if __name__ == "__main__":
    unittest.main()
