"""Class tables: their rules, their files, and label maps that follow them."""

import tempfile
import unittest
from pathlib import Path

from kestrelmist.core.class_table import ClassRow, ClassTable
from kestrelmist.core.errors import Trouble
from kestrelmist.core.labels import Label, LabelTable
from kestrelmist.formats.class_files import read_classes, write_classes
from kestrelmist.study.study import Study
from tests.making import keep_thing, two_balls

BONES = ClassTable([ClassRow(1, "skull", "#AABBCC"), ClassRow(4, "jaw", "#112233", 1, "X:4", "of the skull")], "Bones")


class ClassTableTest(unittest.TestCase):
    def test_doubles_and_circles_are_told(self):
        for rows, words in (
            ([ClassRow(1, "a"), ClassRow(1, "b")], "Two classes have the number 1"),
            ([ClassRow(1, "a"), ClassRow(2, "A")], "Two classes are called “A”"),
            ([ClassRow(0, "a")], "0 is no number of a class"),
            ([ClassRow(70_000, "a")], "70000 is no number"),
            ([ClassRow(1, "")], "Class 1 has no name"),
            ([ClassRow(1, "a", parent=9)], "is a part of class 9, which is not there"),
            ([ClassRow(1, "a", parent=2), ClassRow(2, "b", parent=1)], "is a part of itself"),
        ):
            with self.assertRaises(Trouble) as raised:
                ClassTable(rows)
            self.assertIn(words, str(raised.exception))

    def test_labels_are_called_as_classes_and_stay_locked(self):
        table = LabelTable([Label(1, "Label 1", "#000000", locked=True), Label(9, "eye", "#FFFFFF", hidden=True)])
        found = BONES.on_labels(table)
        self.assertEqual(
            [(r.number, r.name, r.colour) for r in found][:2], [(1, "skull", "#AABBCC"), (4, "jaw", "#112233")]
        )
        self.assertTrue(found[1].locked and found[9].hidden)
        with self.assertRaises(Trouble) as raised:
            BONES.on_labels(LabelTable([Label(9, "Jaw", "#FFFFFF")]))
        self.assertIn("is called “Jaw” as class", str(raised.exception))

    def test_parts_of_what_is_deleted_move_up(self):
        nested = BONES.with_row(ClassRow(5, "tooth", parent=4))
        self.assertEqual(nested.without(4).by_number[5].parent, 1)
        self.assertEqual(BONES.free_number, 2)

    def test_files(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "Bones.csv"
            write_classes(path, BONES)
            self.assertEqual(read_classes(path).as_list(), BONES.as_list())
            path.write_text("id,label,color\n3,liver,1e6e5a\n7,spleen,\n")
            found = read_classes(path)
            self.assertEqual([(r.number, r.name) for r in found], [(3, "liver"), (7, "spleen")])
            self.assertEqual(found.by_number[3].colour, "#1E6E5A")
            for text, words in (
                ("number,name\n1,a\n1,b\n", "Two classes have the number 1"),
                ("number\n1\n", "has columns number and name"),
                ("number,name\nx,a\n", "Line 2 of this class table has no number"),
                ("number,name,colour\n1,a,red\n", "“red” is no colour"),
            ):
                path.write_text(text)
                with self.assertRaises(Trouble) as raised:
                    read_classes(path)
                self.assertIn(words, str(raised.exception))


class FollowingTest(unittest.TestCase):
    def test_maps_and_marks_follow_their_class_table_and_undo_takes_all_back(self):
        place = Path(self.enterContext(tempfile.TemporaryDirectory()))
        study = Study(place / "S", create=True)
        self.addCleanup(study.close)
        image = keep_thing(study, two_balls())
        study.run("threshold", label="Ball", low=500.0, high=2000.0)
        write_classes(place / "Bones.csv", BONES)
        key = study.run("take-classes", file=str(place / "Bones.csv"))
        labels = study.in_hand(image)
        study.run("use-classes", labels=labels, classes=key)
        self.assertEqual([r.name for r in study.label_map(labels).table], ["skull", "jaw"])
        self.assertGreater(int(study.label_map(labels).counts[1]), 0)  # the voxels are as they were
        study.run("set-class", classes=key, class_="skull", name="cranium", colour="#445566")
        study.run("set-class", classes=key, class_="tooth", parent="jaw")
        self.assertEqual([r.name for r in study.label_map(labels).table], ["cranium", "tooth", "jaw"])
        self.assertEqual(study.thing(key).named("tooth").parent, 4)
        study.history.undo()
        study.history.undo()
        self.assertEqual([r.name for r in study.label_map(labels).table], ["skull", "jaw"])
        self.assertEqual([r.name for r in study.thing(key)], ["skull", "jaw"])
        study.run("mark", points="1,1,1", class_=4)
        marks = study.marks.in_hand(image)
        study.run("use-classes-for-marks", marks=marks, classes=key)
        self.assertEqual(study.thing(marks).classes, key)
        with self.assertRaises(Trouble) as raised:
            study.run("use-classes-for-marks", marks=marks, classes=key)
        self.assertIn("This is so already", str(raised.exception))
        study.run("delete-class", classes=key, class_="4")
        self.assertEqual(len(study.thing(key)), 1)
        with self.assertRaises(Trouble) as raised:
            study.run("set-class", classes=key, class_="skull", parent="liver")
        self.assertIn("There is no class “liver”", str(raised.exception))
        study.run("save-classes", classes=key, to=str(place / "out.csv"))
        self.assertEqual(len(read_classes(place / "out.csv")), 1)
        self.assertEqual(study.run("list-classes", classes=key).rows[0][:2], (1, "skull"))
        made = study.run("classes-of", labels=labels, name="Again")
        self.assertEqual([r.name for r in study.thing(made)], ["skull", "jaw"])


if __name__ == "__main__":
    unittest.main()
