"""Cells counted in regions, middles of labels in a standard space, and columns that a study remembers."""

import unittest

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.operation import find_operation
from kestrelmist.core.space import Space, picture_space
from kestrelmist.core.transform import Transform
from kestrelmist.core.world import World
from kestrelmist.formats.saving import save_thing
from kestrelmist.measure.count_marks import poisson_interval
from kestrelmist.measure.regions.count_cells import count_cells
from kestrelmist.measure.regions.measure_labels import measure_labels
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase
from tests.making import PlaceCase, keep_thing
from tests.test_study_labels import GROW


class CountCellsTest(unittest.TestCase):
    def setUp(self):
        self.space = picture_space(200, 100, (0.001, 0.001))
        numbers = np.zeros((200, 100, 1), np.uint16, order="F")
        for n, (i, j) in enumerate(((20, 20), (30, 20), (60, 60), (150, 50), (190, 90)), 1):
            numbers[i - 2 : i + 3, j - 2 : j + 3] = n
        self.labels = LabelMap(self.space, numbers, LabelTable(), name="Nuclei")
        self.image = Image(np.zeros((200, 100, 1), np.uint8, order="F"), self.space, "tail")

    def test_in_the_whole_image_and_in_regions(self):
        (row,) = count_cells(self.image, self.labels).as_records()
        self.assertEqual((row["region"], row["cells"]), ("whole image", 5))
        self.assertAlmostEqual(row["density"], 5 / 0.02)
        np.testing.assert_allclose((row["density_low"], row["density_high"]), np.array(poisson_interval(5)) / 0.02)
        parts = np.zeros((200, 100, 1), np.uint16, order="F")
        parts[:100], parts[100:180] = 1, 2
        table = LabelTable()
        for name in ("left", "right"):
            table, _ = table.with_new(name)
        rows = count_cells(self.image, self.labels, LabelMap(self.space, parts, table)).as_records()
        self.assertEqual([(r["region"], r["cells"]) for r in rows], [("left", 3), ("right", 1), ("outside", 1)])
        self.assertAlmostEqual(rows[0]["density"], 3 / 0.01)
        left = [0.01, 0.01, np.hypot(30, 40) / 1000]
        self.assertAlmostEqual(rows[0]["nearest"], np.mean(left))
        self.assertAlmostEqual(rows[0]["nearest_sd"], np.std(left, ddof=1))

    def test_no_cells(self):
        with self.assertRaisesRegex(Trouble, "has no cells yet"):
            count_cells(self.image, LabelMap(self.space, name="None"))


class StandardTest(PlaceCase):
    def setUp(self):
        super().setUp()
        affine = np.diag([0.5, 0.5, 1.0, 1.0])
        self.space = Space((20, 20, 10), affine, "mm", World("1.2.3", "scanner"))
        self.image = Image(np.zeros(self.space.shape, np.uint8, order="F"), self.space, "Head", "HM-07")
        numbers = np.zeros(self.space.shape, np.uint16, order="F")
        numbers[4:7, 8:11, 2:5] = 1
        table, _ = LabelTable().with_new("ear")
        table, _ = table.with_new("nothing")
        self.labels = LabelMap(self.space, numbers, table)
        turned = np.array([[0, -1, 0, 3.0], [1, 0, 0, 2.0], [0, 0, 1, 1.0], [0, 0, 0, 1]])
        self.standard = Image(
            np.zeros((5, 5, 5), np.uint8, order="F"), Space((5, 5, 5), np.eye(4), "mm", World("atlas")), "Mean"
        )
        self.way = Transform(turned, self.space.world, self.standard.space.world, "To the mean")

    def test_middles_are_where_the_way_takes_them(self):
        table = measure_labels(self.image, self.labels, standard=self.standard, way=[self.way])
        ear, nothing = table.as_records()
        middle = self.space.to_world((5, 9, 3))
        np.testing.assert_allclose([ear[f"standard_{a}"] for a in "xyz"], self.way.to(middle))
        self.assertIsNone(nothing["standard_x"])
        back = measure_labels(self.image, self.labels, standard=self.standard, way=[self.way.inverse()])
        np.testing.assert_allclose([back.as_records()[0][f"standard_{a}"] for a in "xyz"], self.way.to(middle))
        with self.assertRaisesRegex(Trouble, "another space"):
            measure_labels(self.image, self.labels, standard=self.standard)

    def test_a_study_finds_the_way(self):
        with Study(self.place / "S", create=True) as study:
            for image in (self.image, self.standard):
                keep_thing(study, image)
            save_thing(self.place / "l.nii.gz", self.labels)
            study.run("open-labels", image=1, file=self.place / "l.nii.gz")
            here, there = (study.find(key).grid.world for key in (1, 2))
            save_thing(self.place / "w.tfm", Transform(self.way.matrix, here, there, "Way"))
            study.run("open-transform", file=self.place / "w.tfm", from_image=1, to_image=2)
            table = study.run("measure-labels", image=1, standard=2)
            row = table.as_records()[0]
            middle = study.find(1).grid.to_world((5, 9, 3))
            told = study.way(here, there).mapping.to(middle)
            np.testing.assert_allclose([row[f"standard_{a}"] for a in "xyz"], told, atol=1e-6)
            self.assertGreater(np.linalg.norm(told - middle), 1.0)


class RememberedColumnsTest(DeskCase):
    def test_the_button_measures_what_was_chosen_last(self):
        with self.study_with_balls() as study:
            study.run("grow", **GROW)
        window = self.open(self.place / "study")
        window.desk.viewing.set_stage("Measure")
        self.settle(window)
        page = window.bench.page("Measure")
        page.measure.click()
        self.settle(window)
        self.assertIn("mean", [c.name for c in window.drawer.results.table.columns])
        form = page.open(find_operation("measure-labels"))
        form.kept["columns"].put("median, feret")
        form.run()
        self.settle(window)
        page.close_form()
        page.measure.click()
        self.settle(window)
        names = [c.name for c in window.drawer.results.table.columns]
        self.assertIn("feret", names)
        self.assertNotIn("mean", names)
        window.close()
        window = self.open(self.place / "study")
        window.desk.viewing.set_stage("Measure")
        self.settle(window)
        self.assertIn("median, feret", window.bench.page("Measure").measure.toolTip())


if __name__ == "__main__":
    unittest.main()
