"""Marks: shapes and hits against geometry, edits, the journal, files, moving with images and through transforms."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.grid_box import GridBox, box_round
from kestrelmist.core.geometry.hits import hit, in_slice, inside, to_line
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import MarkEdit, Marks
from kestrelmist.core.geometry.shape import SHAPES, Plane, shape_named
from kestrelmist.core.image import Image
from kestrelmist.core.placement import Placement
from kestrelmist.core.space import Space
from kestrelmist.core.transform import Transform
from kestrelmist.core.world import World
from kestrelmist.formats.mark_geojson import read_geojson, write_geojson
from kestrelmist.formats.mark_table import read_mark_table, write_mark_table
from kestrelmist.measure.mark_files import take_marks
from kestrelmist.measure.mark_rows import add_mark, change_mark, corners_of, delete_marks, points_of
from kestrelmist.scene.layer_types.marks import drawn_mark
from kestrelmist.scene.primitives import Words
from kestrelmist.scene.view import AXIAL as AXIAL_PLANE
from kestrelmist.scene.view import plane_view
from kestrelmist.study.journal.history import Stale
from kestrelmist.study.study import Study
from tests.making import keep_thing, straight_space

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


class EditsTest(unittest.TestCase):
    def test_adding_changing_deleting_and_back(self):
        marks = Marks(name="L")
        edits = [add_mark(marks, "1,2,3", name="nose")]
        marks = marks.with_edit(edits[-1])
        edits.append(add_mark(marks, "0,0;4,2", "rectangle"))
        marks = marks.with_edit(edits[-1])
        self.assertEqual([m.id for m in marks], [1, 2])
        self.assertEqual(marks[2].points, ((0, 0, 0), (4, 0, 0), (4, 2, 0), (0, 2, 0)))
        edits.append(change_mark(marks, 1, by=(1, 0, 0), class_=4, notes="sure"))
        marks = marks.with_edit(edits[-1])
        self.assertEqual((marks[1].points, marks[1].cls, marks[1].notes), (((2, 2, 3),), 4, {"note": "sure"}))
        edits.append(delete_marks(marks, "1-2"))
        self.assertEqual(len(marks.with_edit(edits[-1])), 0)
        marks = marks.with_edit(edits[-1])
        for edit in reversed(edits):
            text = MarkEdit.from_texts(edit.title, *edit.as_texts())
            marks = marks.with_edit(text.reversed())
        self.assertEqual(len(marks), 0)
        self.assertEqual(
            [e.title for e in edits], ["Add point “nose”", "Add a rectangle", "Change point “nose”", "Delete 2 marks"]
        )

    def test_bounds_follow_edits_among_many(self):
        random = np.random.default_rng(4)
        many = [Mark("point", (tuple(p),)) for p in random.uniform(0, 100, (30_000, 3))]
        marks = Marks.numbered(many)
        inside = marks.within((0, 0, 0), (10, 10, 10))
        wanted = [m for m in marks if max(m.points[0]) <= 10]
        self.assertEqual(inside, wanted)
        moved = marks.with_edit(MarkEdit.between("m", marks, {7: marks[7].with_points([(1, 1, 1)]), 8: None}))
        self.assertEqual(moved.within((0.9, 0.9, 0.9), (1.1, 1.1, 1.1)), [moved[7]])
        keys, ends = moved.bounds
        self.assertEqual((len(keys), 8 in keys), (29_999, False))
        self.assertTrue(np.array_equal(ends[[0, -1], 0], [moved[1].array[0], moved[30_000].array[0]]))

    def test_what_comes_back_comes_to_its_place(self):
        marks = Marks.numbered([Mark("point", ((n, 0, 0),)) for n in range(4)])
        self.assertEqual(len(marks.bounds[0]), 4)
        edit = MarkEdit("Delete", {2: marks[2]}, {2: None})
        back = marks.with_edit(edit).with_edit(edit.reversed())
        self.assertEqual(list(back.marks), [1, 2, 3, 4])
        self.assertTrue(np.array_equal(back.bounds[0], marks.bounds[0]))
        self.assertTrue(np.array_equal(back.bounds[1], marks.bounds[1]))

    def test_what_others_add_meanwhile_stays(self):
        first = Marks.numbered([Mark("point", ((0, 0, 0),))])
        adding, changing = add_mark(first, "1,1,1"), change_mark(first, 1, by=(5, 0, 0))
        meanwhile = first.with_edit(add_mark(first, "2,2,2"))
        both = meanwhile.with_edit(adding.anew(meanwhile))
        self.assertEqual([m.points[0][0] for m in both], [0, 2, 1])
        moved = meanwhile.with_edit(change_mark(meanwhile, 1, by=(1, 0, 0)))
        with self.assertRaises(Trouble) as raised:
            changing.anew(moved)
        self.assertIn("changed meanwhile", str(raised.exception))

    def test_wrong_orders_are_told(self):
        marks = Marks.numbered([Mark("point", ((0, 0, 0),))], name="L")
        for order, words in (
            (lambda: add_mark(marks, ""), "There are no points"),
            (lambda: add_mark(marks, "1,2,x"), "“1,2,x” is no position"),
            (lambda: add_mark(marks, "1"), "“1” is no position"),
            (lambda: add_mark(marks, "1,2,3", "line"), "A line has 2 points"),
            (lambda: add_mark(marks, "1,2,3", colour="red"), "“red” is no colour"),
            (lambda: change_mark(marks, 9, by=(1, 0, 0)), "There is no mark 9 in “L”"),
            (lambda: change_mark(marks, 1, ""), "is so already"),
            (lambda: delete_marks(marks, "one"), "“one” is no number of a mark"),
            (lambda: delete_marks(marks, "2"), "There is no mark 2"),
        ):
            with self.assertRaises(Trouble) as raised:
                order()
            self.assertIn(words, str(raised.exception))


class FilesTest(unittest.TestCase):
    def setUp(self):
        self.place = Path(self.enterContext(tempfile.TemporaryDirectory()))
        every = []
        for shape in SHAPES:
            count = max(shape.least, 4) if not shape.most else shape.least
            points = np.round(np.random.default_rng(5).normal(size=(count, 3)) * 10, 6)
            facts = {
                "name": f"=1+1 <{shape.name}> “é”",
                "cls": 3,
                "notes": {"by": "N", "n": 2},
                "normal": (0.0, 0.0, 1.0),
            }
            every.append(Mark(shape.name, tuple(map(tuple, points)), **facts))
        world = World("1.2.3", "scanner")
        self.marks = Marks.numbered(every, world=world, name="All shapes", of="Head")

    def test_what_is_written_is_read_again(self):
        for name, write, read in (
            ("m.geojson", write_geojson, read_geojson),
            ("m.csv", write_mark_table, read_mark_table),
        ):
            path = self.place / name
            write(path, self.marks)
            found = read(path)
            self.assertEqual(list(found), list(self.marks), name)
            self.assertEqual((found.unit, found.world), ("mm", self.marks.world))

    def test_geojson_follows_the_standard(self):
        path = self.place / "m.geojson"
        write_geojson(path, self.marks)
        whole = json.loads(path.read_text())
        self.assertEqual(whole["type"], "FeatureCollection")
        kinds = {f["properties"]["shape"]: f["geometry"] for f in whole["features"]}
        self.assertEqual(kinds["point"]["type"], "Point")
        ring = np.array(kinds["polygon"]["coordinates"][0])
        self.assertTrue((ring[0] == ring[-1]).all())
        x, y = ring[:, 0], ring[:, 1]
        self.assertGreaterEqual(float((x[:-1] * y[1:] - x[1:] * y[:-1]).sum()), 0)  # RFC 7946, 3.1.6
        self.assertEqual(len(kinds["ellipse"]["coordinates"][0]), 97)
        self.assertEqual(whole["kestrelmist"]["axes"], "+x right, +y front, +z up")

    def test_what_another_program_has_moved_lies_where_that_says(self):
        path = self.place / "m.geojson"
        marks = Marks.numbered([Mark("rectangle", ((0, 0, 0), (4, 0, 0), (4, 2, 0), (0, 2, 0)), name="window")])
        write_geojson(path, marks)
        whole = json.loads(path.read_text())
        ring = whole["features"][0]["geometry"]["coordinates"][0]
        whole["features"][0]["geometry"]["coordinates"] = [[[x + 10, y] for x, y, _ in ring]]
        path.write_text(json.dumps(whole))
        found = read_geojson(path)[1]
        self.assertEqual((found.shape, found.name), ("polygon", "window"))
        self.assertEqual(found.array.min(0).tolist(), [10, 0, 0])

    def test_geojson_of_others(self):
        features = [
            {"type": "Feature", "id": "a-b", "geometry": {"type": "Point", "coordinates": [1, 2]},
             "properties": {"name": "cell", "class": "islet", "score": 0.5}},
            {"type": "Feature", "geometry": {"type": "Polygon", "coordinates":
             [[[0, 0], [9, 0], [9, 9], [0, 0]], [[1, 1], [2, 1], [2, 2], [1, 1]]]}, "properties": None},
            {"type": "Feature", "geometry": {"type": "MultiPoint", "coordinates": [[1, 1], [2, 2]]}, "properties": {}},
        ]  # fmt: skip
        path = self.place / "x.geojson"
        path.write_text(json.dumps({"type": "FeatureCollection", "features": features}))
        marks = read_geojson(path)
        self.assertEqual([m.shape for m in marks], ["point", "polygon", "polygon", "point", "point"])
        self.assertEqual((marks[1].name, marks[1].notes), ("cell", {"class": "islet", "score": 0.5}))
        self.assertEqual((marks[2].points[-1], marks[3].notes), ((9, 9, 0), {"hole": True}))
        self.assertEqual(marks.unit, "")

    def test_units_and_pixels(self):
        space = Space((100, 80, 1), np.diag([0.01, -0.01, 0.01, 1.0]))
        image = Image(np.zeros((100, 80, 1), np.uint8), space, name="Section")
        path = self.place / "p.csv"
        path.write_text("x,y\n10.5,20.5\n")
        with self.assertRaises(Trouble) as raised:
            take_marks(image, path)
        self.assertIn("does not say in which unit its positions are", str(raised.exception))
        self.assertTrue(np.allclose(take_marks(image, path, "pixels")[1].points[0], (0.1, -0.2, 0)))  # pixel 10, 20
        self.assertTrue(np.allclose(take_marks(image, path, "µm")[1].points[0], (0.0105, 0.0205, 0)))
        path.write_text("x,x_unit,y,y_unit\n10.5,um,20.5,um\n")
        self.assertTrue(np.allclose(take_marks(image, path)[1].points[0], (0.0105, 0.0205, 0)))
        with self.assertRaises(Trouble) as raised:
            take_marks(image, path, "furlongs")
        self.assertIn("“furlongs” is no unit of length", str(raised.exception))
        bare = Image(np.zeros((9, 9, 1), np.uint8), Space((9, 9, 1), np.eye(4), "px"), name="Photo")
        with self.assertRaises(Trouble) as raised:
            take_marks(bare, path)
        self.assertIn("has no scale", str(raised.exception))

    def test_files_that_are_none(self):
        cases = {
            "a.geojson": ("{", "cannot be read as JSON"),
            "b.geojson": ('{"a": 1}', "no GeoJSON"),
            "c.geojson": ('{"type":"FeatureCollection","crs":{"x":1},"features":[]}', "of the earth (crs)"),
            "d.geojson": ('{"type":"FeatureCollection","features":[]}', "There is no mark"),
            "e.geojson": ('{"type":"Point","coordinates":["a",2]}', "Feature 1 of this GeoJSON cannot be understood"),
            "f.geojson": ('{"type":"Point","coordinates":[NaN,2]}', "a position is none"),
            "g.geojson": ('{"type":"LineString","coordinates":[[1,2]]}', "A polyline has 2 or more points"),
            "h.csv": ("a,b\n1,2\n", "columns x and y"),
            "i.csv": ("x,y\n1,two\n", "Line 2 of this table of marks holds no position"),
            "j.csv": ("x,y,shape,mark\n1,2,line,1\n", "Mark 1 of this table: A line has 2 points"),
        }
        for name, (text, words) in cases.items():
            path = self.place / name
            path.write_text(text)
            image = Image(np.zeros((4, 4, 4), np.uint8), straight_space((4, 4, 4), 1.0), name="I")
            with self.assertRaises(Trouble) as raised:
                take_marks(image, path, "mm")
            self.assertIn(words, str(raised.exception), name)

    def test_a_hundred_thousand_points(self):
        path = self.place / "many.geojson"
        points = [{"type": "Feature", "geometry": {"type": "Point", "coordinates": [n, 1]}} for n in range(100_000)]
        path.write_text(json.dumps({"type": "FeatureCollection", "features": points}))
        marks = read_geojson(path)
        self.assertEqual((len(marks), marks[100_000].points[0]), (100_000, (99_999, 1, 0)))


class NamesTest(unittest.TestCase):
    def test_names_stand_where_there_is_room(self):
        view = plane_view(AXIAL_PLANE, (0.0, 0.0, 0.0), 1.0, 200, 100)

        def words(x: float, name: str):
            found = drawn_mark(view, Mark("point", ((x, 0.0, 0.0),), name=name), "#FFFFFF")
            return next(one for one in found if isinstance(one, Words))

        for x, name, anchor in ((0, "short", "ls"), (90, "short", "rs"), (-60, "x" * 22, "ls"), (0, "x" * 25, "rs")):
            one = words(x, name)
            self.assertEqual(one.anchor, anchor, name)
            wide = 6.0 * len(name)
            ends = (one.at[0], one.at[0] + wide) if anchor == "ls" else (one.at[0] - wide, one.at[0])
            self.assertLessEqual(ends[1], 200)
            self.assertTrue(ends[0] >= 0 or wide > 92)


class StudyTest(unittest.TestCase):
    def setUp(self):
        self.place = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.study = Study(self.place / "S", create=True)
        self.addCleanup(self.end)
        space = replace(straight_space((10, 10, 10), 1.0), world=World("1.2.3"))
        image = Image(np.arange(1000, dtype=np.int16).reshape((10, 10, 10), order="F"), space, name="Head", subject="A")
        self.image = keep_thing(self.study, image)

    def end(self) -> None:
        self.study.close()

    def reopened(self) -> Study:
        self.study.close()
        self.study = Study(self.place / "S")
        return self.study

    def key(self) -> int:
        return self.study.marks.in_hand(self.image)

    def test_the_first_mark_makes_them_and_all_is_there_again(self):
        self.study.run("add-mark", points="1,2,3", name="nose")
        self.study.run("add-mark", points="0,0,1;4,4,1", shape="rectangle")
        self.study.run("change-mark", mark=1, by=(0, 0, 1))
        self.assertEqual(len(self.study.marks.of(self.image)), 1)
        for _ in range(2):
            marks = self.study.marks.on(self.image)
            self.assertEqual([(m.shape, m.points[0]) for m in marks], [("point", (1, 2, 4)), ("rectangle", (0, 0, 1))])
            self.assertEqual((marks.of, marks.subject, marks.world.id), ("Head", "A", "1.2.3"))
            self.reopened()
        self.study.history.undo()
        self.assertEqual(self.study.marks.on(self.image)[1].points, ((1, 2, 3),))
        self.study.history.undo()
        self.study.history.undo()
        self.assertEqual(len(self.study.marks.on(self.image)), 0)
        self.study.history.redo()
        self.assertEqual(self.reopened().marks.on(self.image)[1].name, "nose")

    def test_they_stay_on_their_voxels_when_the_image_is_placed(self):
        self.study.run("add-mark", points="1,2,3")
        was = self.study.find(self.image).grid
        turned = np.array([[0, -2, 0, 5], [2, 0, 0, 6], [0, 0, 2, 7], [0, 0, 0, 1.0]])
        placing = Placement(replace(was, affine=turned @ was.affine), (), ())
        self.study.history.do(self.study.placing(self.image, placing, "Place"))
        self.study.run("add-mark", points="9,9,9")
        wanted = [(1, 8, 13), (9, 9, 9)]
        for _ in range(2):
            found = [m.points[0] for m in self.study.marks.on(self.image)]
            self.assertTrue(np.allclose(found, wanted), found)
            self.reopened()
        self.study.history.undo()
        self.study.history.undo()
        self.assertTrue(np.allclose(self.reopened().marks.on(self.image)[1].points, [(1, 2, 3)]))

    def test_an_order_for_another_state_is_refused_and_gestures_join(self):
        from kestrelmist.core.progress import silent
        from kestrelmist.study.inputs import settle
        from kestrelmist.study.keeping import keep
        from kestrelmist.study.task import compute

        self.study.run("add-mark", points="1,2,3")
        task = settle(self.study, "add-mark", {"points": "5,5,5"})
        made = compute(self.study, task, silent())
        marks = self.study.marks.open(self.key())
        gesture = MarkEdit.adding("Draw", marks, [Mark("point", ((7, 7, 7),))])
        self.study.run("add-mark", points="6,6,6")
        with self.assertRaises(Stale):
            keep(self.study, task, made)
        key, kept = self.study.marks.keep_edit(self.key(), gesture)
        self.assertEqual((key, list(kept.after)), (self.key(), [3]))
        self.assertEqual([m.points[0][0] for m in self.study.marks.open(key)], [1, 6, 7])
        self.assertEqual([m.points[0][0] for m in self.reopened().marks.open(key)], [1, 6, 7])

    def test_a_damaged_file_is_made_anew_from_the_first_and_the_journal(self):
        self.study.run("add-mark", points="1,2,3")
        (self.place / "x.csv").write_text("x,y,z,x_unit\n1,1,1,mm\n2,2,2,mm\n")
        key = self.study.run("take-marks", file=str(self.place / "x.csv"), name="Taken")
        self.study.run("delete-marks", marks=key, which="1")
        self.reopened()
        home = self.place / "S" / "marks" / str(key)
        last = next(home.glob("marks-*.json"))
        last.write_text("{")
        marks = self.study.marks.open(key)
        self.assertEqual([m.points[0] for m in marks], [(2, 2, 2)])
        self.assertIn("made anew from the journal", self.study.notices[-1])
        self.study.marks.forget()
        (home / "first.json").write_text("{")
        with self.assertRaises(Trouble) as raised:
            self.study.marks.open(key)
        self.assertIn("The file of “Taken” is damaged", str(raised.exception))

    def test_doors_and_ways(self):
        self.study.run("add-mark", points="1,2,3", name="nose")
        self.study.run("save-marks", to=str(self.place / "out.geojson"))
        with self.assertRaises(Trouble) as raised:
            self.study.run("save-marks", to=str(self.place / "out.geojson"))
        self.assertIn("There is a file of this name already", str(raised.exception))
        space = replace(straight_space((10, 10, 10), 1.0), world=World("7.7", "atlas"))
        atlas = keep_thing(self.study, Image(np.zeros((10, 10, 10), np.uint8), space, name="Atlas", subject="B"))
        with self.assertRaises(Trouble) as raised:
            self.study.run("take-marks", image=atlas, file=str(self.place / "out.geojson"))
        self.assertIn("lies in another space", str(raised.exception))
        with self.assertRaises(Trouble) as raised:
            self.study.run("bring-marks", marks=self.key(), onto=atlas)
        self.assertIn("no transform leads from one to the other", str(raised.exception))
        shift = Transform(
            np.array([[1, 0, 0, 10], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]]), World("1.2.3"), World("7.7")
        )
        keep_thing(self.study, shift.named("to atlas"))
        brought = self.study.run("bring-marks", marks=self.key(), onto=atlas)
        found = self.study.thing(brought)
        self.assertEqual((found[1].points, found[1].name, found.of), (((11, 2, 3),), "nose", "Atlas"))
        self.assertEqual(self.study.items.get(brought).of, atlas)

    def test_other_sets_of_marks_on_one_image(self):
        study, image = self.study, self.image
        study.run("add-mark", marks=image, points="1,2,3")
        study.run("new-marks", image=image, name="Second reader")
        study.run("add-mark", marks=image, points="4,5,6")
        study.run("new-marks", image=image, name="Marks", copy="Second reader")
        first, second, copy = study.marks.of(image)
        self.assertEqual([r.name for r in (first, second)], ["Marks", "Second reader"])
        self.assertNotEqual(copy.name, "Marks")
        self.assertEqual(study.marks.in_hand(image), copy.id)
        self.assertEqual(study.marks.open(copy.id)[1].points, ((4.0, 5.0, 6.0),))
        study.run("choose-marks", marks=first.id)
        study.run("add-mark", marks=image, points="7,8,9")
        self.assertEqual([len(study.marks.open(r.id)) for r in (first, second, copy)], [2, 1, 1])

    def test_rows_that_go_with_the_image(self):
        self.study.run("add-mark", points="1,2,3")
        key = self.key()
        self.study.rename(key, "Landmarks")
        self.assertEqual(self.study.marks.open(key).name, "Landmarks")
        self.study.run("add-mark", points="4,4,4")
        self.reopened()
        self.study.delete(self.image, "Head")
        self.assertIsNone(self.study.items.get(key))
        self.assertFalse((self.place / "S" / "marks" / str(key)).exists())
        with self.assertRaises(Trouble):
            self.study.marks.keep_edit(key, MarkEdit.adding("Draw", Marks(), [Mark("point", ((0, 0, 0),))]))


if __name__ == "__main__":
    unittest.main()
