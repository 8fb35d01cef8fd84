"""Marks: edits, the journal, files, moving with images and through transforms."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import MarkEdit, Marks
from kestrelmist.core.geometry.shape import SHAPES
from kestrelmist.core.image import Image
from kestrelmist.core.placement import Placement
from kestrelmist.core.space import Space
from kestrelmist.core.transform import Transform
from kestrelmist.core.world import World
from kestrelmist.formats.mark_geojson import read_geojson, write_geojson
from kestrelmist.formats.mark_table import read_mark_table, write_mark_table
from kestrelmist.measure.mark_files import take_marks
from kestrelmist.measure.mark_rows import add_mark, change_mark, delete_marks
from kestrelmist.scene.layer import MarkLook
from kestrelmist.scene.layer_types.marks import drawn_mark
from kestrelmist.scene.primitives import Words
from kestrelmist.scene.view import AXIAL as AXIAL_PLANE
from kestrelmist.scene.view import plane_view
from kestrelmist.study.journal.history import Stale
from kestrelmist.study.study import Study
from tests.making import keep_thing, straight_space


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
            found = drawn_mark(view, Mark("point", ((x, 0.0, 0.0),), name=name), "#FFFFFF", MarkLook())
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
        self.study.run("mark", points="1,2,3", name="nose")
        self.study.run("mark", points="0,0,1;4,4,1", shape="rectangle")
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
        self.study.run("mark", points="1,2,3")
        was = self.study.find(self.image).grid
        turned = np.array([[0, -2, 0, 5], [2, 0, 0, 6], [0, 0, 2, 7], [0, 0, 0, 1.0]])
        placing = Placement(replace(was, affine=turned @ was.affine), (), ())
        self.study.history.do(self.study.placing(self.image, placing, "Place"))
        self.study.run("mark", points="9,9,9")
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

        self.study.run("mark", points="1,2,3")
        task = settle(self.study, "mark", {"points": "5,5,5"})
        made = compute(self.study, task, silent())
        marks = self.study.marks.open(self.key())
        gesture = MarkEdit.adding("Draw", marks, [Mark("point", ((7, 7, 7),))])
        self.study.run("mark", points="6,6,6")
        with self.assertRaises(Stale):
            keep(self.study, task, made)
        key, kept = self.study.marks.keep_edit(self.key(), gesture)
        self.assertEqual((key, list(kept.after)), (self.key(), [3]))
        self.assertEqual([m.points[0][0] for m in self.study.marks.open(key)], [1, 6, 7])
        self.assertEqual([m.points[0][0] for m in self.reopened().marks.open(key)], [1, 6, 7])

    def test_a_damaged_file_is_made_anew_from_the_first_and_the_journal(self):
        self.study.run("mark", points="1,2,3")
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
        self.study.run("mark", points="1,2,3", name="nose")
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
        study.run("mark", marks=image, points="1,2,3")
        study.run("new-marks", image=image, name="Second reader")
        study.run("mark", marks=image, points="4,5,6")
        study.run("new-marks", image=image, name="Marks", copy="Second reader")
        first, second, copy = study.marks.of(image)
        self.assertEqual([r.name for r in (first, second)], ["Marks", "Second reader"])
        self.assertNotEqual(copy.name, "Marks")
        self.assertEqual(study.marks.in_hand(image), copy.id)
        self.assertEqual(study.marks.open(copy.id)[1].points, ((4.0, 5.0, 6.0),))
        study.run("choose-marks", marks=first.id)
        study.run("mark", marks=image, points="7,8,9")
        self.assertEqual([len(study.marks.open(r.id)) for r in (first, second, copy)], [2, 1, 1])

    def test_rows_that_go_with_the_image(self):
        self.study.run("mark", points="1,2,3")
        key = self.key()
        self.study.rename(key, "Landmarks")
        self.assertEqual(self.study.marks.open(key).name, "Landmarks")
        self.study.run("mark", points="4,4,4")
        self.reopened()
        self.study.delete(self.image, "Head")
        self.assertIsNone(self.study.items.get(key))
        self.assertFalse((self.place / "S" / "marks" / str(key)).exists())
        with self.assertRaises(Trouble):
            self.study.marks.keep_edit(key, MarkEdit.adding("Draw", Marks(), [Mark("point", ((0, 0, 0),))]))


if __name__ == "__main__":
    unittest.main()
