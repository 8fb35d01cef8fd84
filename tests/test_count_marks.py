"""Marks counted by class: against hand counts and exact intervals, by keys in the window."""

import unittest

import numpy as np
from PySide6.QtCore import Qt
from scipy import stats

from kestrelmist.core.class_table import ClassRow, ClassTable
from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import picture_space
from kestrelmist.formats.saving import save_thing
from kestrelmist.formats.table_files import read_csv
from kestrelmist.measure.count_marks import count_marks, poisson_interval
from tests.command import kestrelmist
from tests.drawing_case import DrawingCase
from tests.making import PlaceCase

SPACE = picture_space(100, 50, (0.002, 0.002))
IMAGE = Image(np.zeros((100, 50, 1), np.uint8, order="F"), SPACE, "tail", "HM-07")


def counted(*places, **more) -> Marks:
    marks = [Mark("point", ((x, y, 0.0),), cls=cls) for x, y, cls in places]
    return Marks.numbered(marks, world=SPACE.world, name="Nuclei", **more)


class CountTest(unittest.TestCase):
    def test_intervals_are_exact(self):
        for count in (0, 1, 4, 17, 300, 20_000):
            low, high = poisson_interval(count)
            self.assertAlmostEqual(low, stats.chi2.ppf(0.025, 2 * count) / 2 if count else 0.0, places=6)
            self.assertAlmostEqual(high, stats.chi2.ppf(0.975, 2 * count + 2) / 2, places=6)

    def test_by_class_and_area(self):
        marks = counted((0, 0, 1), (0.01, 0, 1), (0.02, 0, 2), (0.03, 0, 0))
        table = count_marks(marks, IMAGE, classes=ClassTable([ClassRow(1, "white"), ClassRow(2, "brown")]))
        rows = table.as_records()
        self.assertEqual(
            [(r["class"], r["name"], r["count"]) for r in rows], [(0, "none", 1), (1, "white", 2), (2, "brown", 1)]
        )
        self.assertEqual([r["share"] for r in rows], [25.0, 50.0, 25.0])
        np.testing.assert_allclose([r["density"] for r in rows], np.array((1, 2, 1)) / (0.2 * 0.1))
        self.assertEqual(rows[0]["density_unit"], "per mm2")

    def test_within_labels(self):
        numbers = np.zeros((100, 50, 1), np.uint16, order="F")
        numbers[:50], numbers[50:80] = 1, 2
        table = LabelTable()
        for name in ("left part", "right part"):
            table, _ = table.with_new(name)
        labels = LabelMap(SPACE, numbers, table)
        marks = counted((-0.05, 0, 1), (-0.01, 0.02, 1), (0.03, 0, 1), (0.09, 0, 1), (9.0, 0, 1), (0.02, 0, 3))
        rows = count_marks(marks, IMAGE, labels=labels).as_records()
        found = {(r["label"], r["class"]): r["count"] for r in rows}
        self.assertEqual(found, {("left part", 1): 2, ("left part", 3): 0, ("right part", 1): 1, ("right part", 3): 1,
                                 ("outside", 1): 2, ("outside", 3): 0})  # fmt: skip
        self.assertAlmostEqual(rows[0]["density"], 2 / (50 * 50 * 0.002**2))

    def test_shapes_and_none(self):
        marks = Marks.numbered([Mark("line", ((0, 0, 0), (0.01, 0, 0)), cls=4)], world=SPACE.world, name="Lines")
        with self.assertRaisesRegex(Trouble, "“Lines” has no marks of the shape “point”"):
            count_marks(marks, IMAGE)
        for word in ("line", "length", "all"):
            self.assertEqual(count_marks(marks, IMAGE, word).column("count"), [1])


class CountByCommandTest(PlaceCase):
    def test_from_files(self):
        save_thing(self.place / "tail.ome.tif", IMAGE)
        save_thing(self.place / "m.geojson", counted((0, 0, 1), (0.01, 0, 1), (0.02, 0, 2)))
        kestrelmist("count-marks", self.place / "m.geojson", "--image", self.place / "tail.ome.tif", "--out",
                    self.place / "t.csv")  # fmt: skip
        self.assertEqual(read_csv(self.place / "t.csv").column("count"), [2, 1])


class CountByHandTest(DrawingCase):
    def test_keys_say_the_class_of_what_is_drawn(self):
        group = self.window.bench.page("Measure").groups["marks"]
        self.desk.hand.set_tool("mark-point")
        self.press(-40, 0)
        self.marks.choose(None)
        self.key(Qt.Key.Key_2)
        self.assertIn("class 2", group.hint.text())
        for x in (-20, 0, 20):
            self.press(x, 20)
        self.key(Qt.Key.Key_3)  # of the one that was drawn last, too
        self.marks.choose(None)
        self.press(40, 0)
        self.marks.choose(None)
        self.key(Qt.Key.Key_3)
        self.press(60, 0)
        self.assertEqual([m.cls for m in self.drawn()], [0, 2, 2, 3, 3, 0])
        self.assertEqual(group.said.text(), "6 marks: 2 no class, 2 class 2, 2 class 3.")
        group.count.click()
        self.settle(self.window)
        self.assertEqual(self.window.drawer.results.table.column("count"), [2, 2, 2])
        self.assertEqual(self.troubles, [])


if __name__ == "__main__":
    unittest.main()
