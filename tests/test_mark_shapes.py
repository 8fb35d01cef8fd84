"""Shapes of marks and boxes of voxels, what lies under a pointer, and what a slice shows."""

import json
import unittest
from dataclasses import replace

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.grid_box import GridBox, box_round
from kestrelmist.core.geometry.hits import hit, in_slice, inside, to_line
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.shape import SHAPES, Plane, shape_named
from kestrelmist.core.geometry.typed_points import corners_of, points_of
from kestrelmist.core.space import Space
from kestrelmist.core.transform import Transform

AXIAL = Plane(np.array((1.0, 0, 0)), np.array((0, -1.0, 0)))
TURN = np.radians(30)
TILTED = Plane(
    np.array((np.cos(TURN), np.sin(TURN), 0)),
    np.cross((0.6 * np.sin(TURN), -0.6 * np.cos(TURN), 0.8), (np.cos(TURN), np.sin(TURN), 0)),
)


def flat(points: np.ndarray) -> np.ndarray:
    """A page of one unit a mm, x to the right and y up."""
    return np.asarray(points)[..., :2] * (1, -1)


class ShapesTest(unittest.TestCase):
    def test_rectangles_have_right_angles_in_any_plane(self):
        shape, random = shape_named("rectangle"), np.random.default_rng(1)
        for plane in (AXIAL, TILTED):
            start = random.normal(size=3)
            end = start + 7 * plane.right + 3 * plane.down
            points = shape.begun(start, end, plane, False)
            self.assertAlmostEqual(shape.sizes(points)["width"], 7)
            self.assertAlmostEqual(shape.sizes(points)["height"], 3)
            for handle in range(8):
                to = points.mean(0) + 5 * plane.right + 9 * plane.down
                moved = shape.pulled(points, handle, to, plane, False)
                ways = np.diff(np.vstack((moved, moved[:1])), axis=0)
                self.assertTrue(np.allclose([a @ b for a, b in zip(ways, np.roll(ways, -1, 0))], 0, atol=1e-9))
                self.assertTrue(np.allclose(moved @ plane.normal, points @ plane.normal))
                if handle < 4:  # the corner goes there, the one opposite stays
                    self.assertTrue(np.allclose(moved[handle], to))
                    self.assertTrue(np.allclose(moved[(handle + 2) % 4], points[(handle + 2) % 4]))
            square = shape.begun(start, end, plane, True)
            self.assertAlmostEqual(shape.sizes(square)["height"], 7)
            wide = shape.sized(points, "width", 2.5)
            self.assertAlmostEqual(shape.sizes(wide)["width"], 2.5)
            self.assertTrue(np.allclose(wide.mean(0), points.mean(0)))

    def test_ellipses_stay_ellipses_through_any_affine_mapping(self):
        shape = shape_named("ellipse")
        points = shape.begun(np.array((0.0, 0, 0)), np.array((8.0, -4.0, 0)), AXIAL, False)
        self.assertEqual(shape.sizes(points), {"width": 8.0, "height": 4.0})
        line = shape.outline(points) - points.mean(0)
        self.assertTrue(np.allclose((line[:, 0] / 4) ** 2 + (line[:, 1] / 2) ** 2, 1))
        shear = Transform(np.array([[1, 0.7, 0, 3], [0, 1.3, 0.2, -2], [0.1, 0, 1, 1], [0, 0, 0, 1.0]]))
        moved = Mark("ellipse", tuple(map(tuple, points))).moved(shear.to)
        self.assertTrue(np.allclose(moved.outline, shear.to(shape.outline(points))))
        pulled = shape.pulled(points, 1, np.array((20.0, 50.0, 0)), AXIAL, False)  # along its own diameter alone
        self.assertTrue(np.allclose(pulled.mean(0), points.mean(0)))
        self.assertAlmostEqual(shape.sizes(pulled)["height"], 4.0)
        self.assertAlmostEqual(shape.sizes(pulled)["width"], 32.0)

    def test_lines_run_straight_when_asked(self):
        shape = shape_named("line")
        for to, wanted in (((9, 1, 0), (9, 0, 0)), ((1, -8, 0), (0, -8, 0)), ((5, 6, 0), (5.5, 5.5, 0))):
            ends = shape.begun(np.zeros(3), np.array(to, float), AXIAL, True)
            self.assertTrue(np.allclose(ends[1], wanted), f"{to}: {ends[1]}")
        self.assertAlmostEqual(shape.sizes(shape.sized(ends, "length", 3.0))["length"], 3.0)

    def test_positions_in_text_take_units(self):
        self.assertEqual(points_of("1, 2; 3,4,5").tolist(), [[1, 2, 0], [3, 4, 5]])
        np.testing.assert_allclose(points_of("1um, −2 µm, 3; 0.1cm,0,1e-3mm"), [[0.001, -0.002, 3], [1, 0, 0.001]])
        for text, unit in (("1kg, 2, 3", "mm"), ("1mm, 2", "px"), ("1, 2, 3, 4", "mm"), ("1 2 x", "mm"), (" ; ", "mm")):
            with self.assertRaises(Trouble):
                points_of(text, unit)

    def test_a_box_is_drawn_by_its_twelve_edges(self):
        box = corners_of("box", points_of("0,0,0; 2,3,5"))
        line = shape_named("box").outline(box)
        edges = {tuple(sorted((tuple(a), tuple(b)))) for a, b in zip(line[:-1], line[1:])}
        self.assertEqual(len(edges), 12)
        self.assertEqual(shape_named("box").sizes(box), {"width": 2.0, "height": 3.0, "depth": 5.0})
        self.assertEqual(shape_named("box").sizes(shape_named("box").sized(box, "depth", 1.0))["depth"], 1.0)

    def test_boxes_of_voxels_and_their_marks(self):
        turned = np.eye(4)
        turned[:3, :3] = np.array(((0.6, -0.8, 0), (0.8, 0.6, 0), (0, 0, 1))) * (0.5, 2.0, 1e-6)
        turned[:3, 3] = 7, -30, 2
        space = Space((20, 30, 40), turned)
        for box in (GridBox((3, 4, 5), (10, 4, 39)), GridBox((0, 0, 0), (19, 29, 39))):
            mark = box.as_mark(space, name="Frame")
            self.assertEqual(box_round(mark, space), box)
            wide = shape_named("box").sizes(mark.array)["width"]
            self.assertAlmostEqual(wide, 0.5 * (box.last[0] - box.first[0] + 1))
        self.assertEqual(GridBox((3, 4, 5), (10, 4, 39)).voxels, "3,4,5,10,4,39")
        picture = Space((20, 30, 1), turned)
        box = GridBox((2, 3, 0), (5, 9, 0))
        mark = box.as_mark(picture)
        self.assertEqual((mark.shape, box_round(mark, picture), box.area), ("rectangle", box, "2,3,4,7"))
        self.assertIsNone(box_round(mark.shifted(space.to_world((100, 0, 0)) - space.to_world((0, 0, 0))), picture))
        # what lies half outside counts as far as the grid goes; less than half a voxel holds none
        out = mark.shifted(space.to_world((17, 0, 0)) - space.to_world((0, 0, 0)))
        self.assertEqual(box_round(out, picture), GridBox((19, 3, 0), (19, 9, 0)))

    def test_a_slice_shows_where_it_meets_a_box(self):
        shape, box = shape_named("box"), corners_of("box", points_of("0,0,0; 2,3,5"))
        up, middle = np.array((0, 0, 1.0)), np.array((9.0, 9.0, 2.0))
        line = shape.cut(box, middle, up)
        self.assertEqual({tuple(p) for p in line.round(9).tolist()}, {(0, 0, 2), (2, 0, 2), (2, 3, 2), (0, 3, 2)})
        self.assertEqual({*np.linalg.norm(np.roll(line, 1, 0) - line, axis=1).round(9)}, {2.0, 3.0})  # round about
        # a plane across three edges of a corner meets it in a triangle, another one in five places
        slanting = np.ones(3) / np.sqrt(3)
        self.assertEqual([len(shape.cut(box, np.full(3, at), slanting)) for at in (0.3, 4 / 3)], [3, 5])
        np.testing.assert_allclose(shape.cut(box, np.array((0, 0, 7.0)), up)[:, 2], 5, atol=1e-4)

    def test_sides_and_corners_of_a_box_are_pulled_within_the_plane(self):
        shape, box = shape_named("box"), corners_of("box", points_of("0,0,0; 2,3,5"))
        seen = Plane(np.array((1.0, 0, 0)), np.array((0, 1.0, 0)))
        at = shape.handles(box)
        self.assertEqual(len(at), 14)
        np.testing.assert_allclose(at.mean(0), (1.0, 1.5, 2.5))
        corner = int(np.flatnonzero((at == (2, 3, 5)).all(1))[0])
        # the plane lies elsewhere along z: how deep the box is stays
        wider = shape.pulled(box, corner, np.array((4.0, 2.0, 1.0)), seen, False)
        self.assertEqual(shape.sizes(wider), {"width": 4.0, "height": 2.0, "depth": 5.0})
        low = int(np.flatnonzero((at == (0, 1.5, 2.5)).all(1))[0])
        shorter = shape.pulled(box, low, np.array((-1.0, 9.0, 2.5)), seen, False)
        np.testing.assert_allclose(shorter[0], (-1, 0, 0))
        self.assertEqual(shape.sizes(shorter), {"width": 3.0, "height": 3.0, "depth": 5.0})

    def test_marks_that_are_none_are_told(self):
        for shape, points, words in (
            ("circle-ish", ((0, 0, 0),), "There is no shape “circle-ish”"),
            ("line", ((0, 0, 0),), "A line has 2 points, and this one has 1"),
            ("polygon", ((0, 0, 0), (1, 1, 1)), "A polygon has 3 or more points, and this one has 2"),
            ("point", ((0, 0, float("nan")),), "A point of a mark is no place"),
            ("point", ((0, 0),), "A point of a mark has three numbers"),
        ):
            with self.assertRaises(Trouble) as raised:
                Mark(shape, points)
            self.assertIn(words, str(raised.exception))

    def test_every_shape_is_drawn_and_read_back(self):
        for shape in SHAPES:
            count = max(shape.least, 3) if not shape.most else shape.least
            points = np.random.default_rng(2).normal(size=(count, 3))
            mark = Mark(
                shape.name, tuple(map(tuple, points)), 4, (0.0, 0.0, 1.0), 2.0, (3,), 0.5, 7, "a", "b", "#112233"
            )
            self.assertEqual(Mark.from_dict(json.loads(json.dumps(mark.as_dict()))), mark)
            self.assertEqual(mark.outline.shape[1], 3)
            self.assertGreaterEqual(len(shape.handles(mark.array)), 1)


class HitsTest(unittest.TestCase):
    def test_distance_and_inside_against_a_circle(self):
        circle = Mark("ellipse", tuple(map(tuple, shape_named("ellipse").begun(
            np.array((-5.0, 5, 0)), np.array((5.0, -5, 0)), AXIAL, False))))  # fmt: skip
        line = flat(circle.outline)
        for x, y in np.random.default_rng(3).uniform(-8, 8, (200, 2)):
            away = abs(np.hypot(x, y) - 5)
            self.assertAlmostEqual(to_line(line, np.array((x, y)), True), away, delta=0.01)
            if away > 0.01:
                self.assertEqual(inside(line, np.array((x, y))), bool(np.hypot(x, y) < 5))

    def test_handles_come_before_lines_and_lines_before_insides(self):
        square = Mark("polygon", ((0, 0, 0), (40, 0, 0), (40, 40, 0), (0, 40, 0)), 1)
        line = Mark("line", ((20, -50, 0), (20, 90, 0)), 2)
        point = Mark("point", ((20, 20, 0),), 3)
        marks = [square, line, point]
        self.assertEqual((hit(marks, (20, -22), flat).mark.id, hit(marks, (20, -22), flat).handle), (3, 0))
        self.assertEqual((hit(marks, (21, -35), flat).mark.id, hit(marks, (21, -35), flat).handle), (2, None))
        self.assertEqual(hit(marks, (5, -10), flat).mark.id, 1)
        self.assertEqual(hit(marks, (41, -41), flat).handle, 2)
        self.assertEqual(hit([square], (10, -20), flat).handle, None)
        self.assertIsNone(hit(marks, (70, -70), flat))

    def test_a_slice_shows_what_lies_in_it(self):
        up, side = np.array((0.0, 0, 1)), np.array((1.0, 0, 0))
        mark = Mark("line", ((0, 0, 5), (9, 9, 5)), normal=(0.0, 0.0, -1.0))
        self.assertTrue(in_slice(mark, np.array((3, 3, 5.4)), up, 1.0))
        self.assertFalse(in_slice(mark, np.array((3, 3, 5.6)), up, 1.0))
        self.assertTrue(in_slice(replace(mark, depth=4.0), np.array((3, 3, 6.9)), up, 1.0))
        self.assertFalse(in_slice(mark, np.array((3, 3, 5)), side, 100.0))  # drawn in another plane
        free = Mark("point", ((1, 2, 3),))
        self.assertTrue(in_slice(free, np.array((1.4, 0, 0)), side, 1.0))
        box = Mark("box", tuple(map(tuple, corners_of("box", points_of("0,0,0; 2,2,20")))))
        self.assertTrue(in_slice(box, np.array((0, 0, 11.0)), up, 1.0))
        self.assertFalse(in_slice(box, np.array((0, 0, 21.0)), up, 1.0))
