"""A table plotted in the Drawer: gates drawn by hand, rows and objects that find one another, 100,000 rows."""

import time
import unittest

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import picture_space
from kestrelmist.core.table import Column, Table
from kestrelmist.desk.drawer.plot_axes import PlotAxis
from kestrelmist.formats.saving import save_thing
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import keep_thing
from tests.test_gates import made_up

AREAS = (18, 36, 54, 72, 90, 108)


class AxisTest(unittest.TestCase):
    def test_ticks_are_round_and_told_apart(self):
        for low, high in ((0, 1), (-3.3, 8.1), (1.2e-5, 2.6e-5), (1e6, 4e6), (0.5, 0.50001), (-1e-9, 1e-9)):
            axis = PlotAxis(low, high)
            ticks = axis.ticks()
            self.assertTrue(2 <= len(ticks) <= 12, ticks)
            self.assertEqual(len({text for _, text in ticks}), len(ticks), ticks)
            for value, text in ticks:
                self.assertTrue(low <= value <= high)
                self.assertAlmostEqual(float(text.replace("−", "-")) / (high - low), value / (high - low), 2)
        self.assertEqual(
            [text for _, text in PlotAxis(-2.1, 3.2, True).ticks(10)], ["0.01", "0.1", "1", "10", "100", "1000"]
        )

    def test_values_that_are_all_one_have_an_axis_all_the_same(self):
        for values in (np.full(5, 3.0), np.zeros(4), np.array([np.nan]), np.array([])):
            axis = PlotAxis.round(values)
            self.assertGreater(axis.high, axis.low)
            self.assertTrue(axis.ticks())


class TablePlotTest(DeskCase):
    def setUp(self):
        super().setUp()
        study = Study(self.place / "study", create=True)
        numbers = np.zeros((40, 60), np.uint16)
        for n in range(6):
            numbers[5 : 8 + 3 * n, 2 + 10 * n : 8 + 10 * n] = n + 1
        space = picture_space(60, 40, (0.001, 0.001))
        table = LabelTable()
        for n in range(6):
            table, _ = table.with_new(f"C{n}")
        image = Image(np.asfortranarray((numbers * 10 + 5).T[:, :, None].astype(np.uint8)), space, "tail", "HM-07")
        key = keep_thing(study, image)
        labels = LabelMap(space, np.asfortranarray(numbers.T[:, :, None]), table, name="Nuclei")
        save_thing(self.place / "nuclei.nii.gz", labels)
        study.run("open-labels", image=key, file=self.place / "nuclei.nii.gz")
        study.close()
        self.window = self.open(self.place / "study")
        self.desk = self.window.desk
        self.desk.viewing.show_image(key)
        self.settle(self.window)
        self.drawer, self.page = self.window.drawer, self.window.drawer.tables

    def measure(self):
        self.desk.run("measure-cells", {})
        self.settle(self.window)
        self.drawer.plot.setChecked(True)
        pause(30)
        self.plot, self.gating = self.page.panel.plot, self.page.gating

    def at(self, x: float, y: float) -> QPoint:
        return self.plot.to_widget(x, y).toPoint()

    def drag(self, *places):
        QTest.mousePress(self.plot, Qt.MouseButton.LeftButton, pos=places[0])
        for one in places[1:]:
            QTest.mouseMove(self.plot, one)
        QTest.mouseRelease(self.plot, Qt.MouseButton.LeftButton, pos=places[-1])

    def test_a_range_drawn_on_a_histogram(self):
        self.measure()
        np.testing.assert_allclose(self.drawer.results.table.column("area"), AREAS)
        self.gating.plot(x="area", y="")
        self.drag(self.at(30, 0.5), self.at(70, 0.5), self.at(80, 0.5))
        self.assertEqual(self.gating.count, 3)
        self.assertIn("3 of 6 inside (50 %)", self.page.panel.told.text())
        self.page.panel.only_inside.setChecked(True)
        self.assertEqual(self.drawer.results.rowCount(), 3)
        self.drag(self.at(60, 0.5), self.at(80, 0.5), self.at(100, 0.5))  # the gate is moved by 40
        self.assertEqual(self.gating.inside.tolist(), [False, False, False, True, True, True])
        self.assertEqual(self.drawer.results.rowCount(), 3)
        QTest.keyClick(self.plot, Qt.Key.Key_Escape)
        self.assertIsNone(self.gating.gate)
        self.assertEqual(self.drawer.results.rowCount(), 6)

    def test_an_area_becomes_a_class_and_labels(self):
        self.measure()
        self.page.panel.across.setCurrentIndex(self.page.panel.across.findData("area"))
        self.page.panel.across.activated.emit(0)
        self.page.panel.up.setCurrentIndex(self.page.panel.up.findData("mean"))
        self.page.panel.up.activated.emit(0)
        self.drag(*(self.at(x, y) for x, y in ((45, 0), (45, 60), (80, 60), (80, 40), (80, 20), (60, 10))))
        self.assertEqual(self.gating.inside.nonzero()[0].tolist(), [2, 3])
        self.page.panel.name.setText("Middling")
        QTest.mouseClick(self.page.panel.make, Qt.MouseButton.LeftButton)
        self.settle(self.window)
        self.assertEqual(self.drawer.results.table.column("class"), ["", "", "Middling", "Middling", "", ""])
        self.assertEqual((self.gating.x, self.gating.y), ("area", "mean"))  # the plot stays
        QTest.mouseClick(self.page.panel.label, Qt.MouseButton.LeftButton)
        self.settle(self.window)
        made = self.desk.study.label_map(self.desk.study.maps.of(self.desk.viewing.record.id)[-1].id)
        self.assertEqual([(row.name, int(made.counts[row.number])) for row in made.table], [("Middling", 126)])
        self.assertEqual(self.troubles, [])

    def test_a_point_finds_its_row_and_its_place(self):
        self.measure()
        self.gating.plot(x="area", y="mean")
        self.drawer.result_view.sortByColumn(0, Qt.SortOrder.DescendingOrder)
        QTest.mouseClick(self.plot, Qt.MouseButton.LeftButton, pos=self.at(54, 35))
        table = self.drawer.results.table
        row = int(self.drawer.results.rows[self.drawer.result_view.currentIndex().row()])
        self.assertEqual(table.column("number")[row], 3)
        x, y = (table.column(name)[row] * 1e-3 for name in "xy")
        np.testing.assert_allclose(self.desk.viewing.crosshair[:2], (x, y), atol=6e-4)
        self.assertEqual(self.plot.row, row)

    def test_an_object_finds_its_row(self):
        self.measure()
        labels = self.desk.viewing.maps.labels
        voxel = np.argwhere(labels.data == 5)[0]
        self.desk.viewing.go_to(self.desk.viewing.record.grid.to_world(voxel))
        pause(150)
        row = int(self.drawer.results.rows[self.drawer.result_view.currentIndex().row()])
        self.assertEqual(self.drawer.results.table.column("number")[row], 5)

    def test_another_table_in_the_midst_of_a_gesture(self):
        self.measure()
        for x, y in (("area", ""), ("area", "mean")):
            self.gating.plot(x=x, y=y)
            QTest.mousePress(self.plot, Qt.MouseButton.LeftButton, pos=self.at(30, 20))
            QTest.mouseMove(self.plot, self.at(50, 30))
            self.drawer.add_table(made_up(300))
            QTest.mouseMove(self.plot, self.at(80, 40))
            QTest.mouseRelease(self.plot, Qt.MouseButton.LeftButton, pos=self.at(90, 50))
            self.assertIsNone(self.gating.gate)
            self.assertEqual(self.gating.table.count, 300)
        self.assertEqual(self.troubles, [])

    def test_a_table_of_words_has_nothing_to_plot(self):
        self.measure()
        self.drawer.add_table(Table("Words", [Column("a")], [("b",)]))
        self.plot.repaint()
        self.assertEqual(self.gating.columns, [])
        self.drag(QPoint(80, 40), QPoint(120, 60), QPoint(130, 90))
        self.assertIsNone(self.gating.gate)
        self.assertEqual(self.troubles, [])

    def test_a_hundred_thousand_rows(self):
        self.measure()
        whole = made_up(100_000)
        self.drawer.add_table(whole)
        self.settle(self.window)
        self.gating.plot(x="area", y="mean", log_x=True, log_y=True)
        self.plot.repaint()
        started = time.perf_counter()
        self.drag(*(self.at(1.9 + 0.2 * np.cos(t), 0.9 + 0.3 * np.sin(t)) for t in np.linspace(0, 6.28, 120)))
        took = time.perf_counter() - started
        area, mean = (np.array(whole.column(name)) for name in ("area", "mean"))
        with np.errstate(invalid="ignore"):
            true = np.hypot((np.log10(area) - 1.9) / 0.2, (np.log10(mean) - 0.9) / 0.3) <= 1
        self.assertAlmostEqual(self.gating.count / true.sum(), 1, delta=0.03)
        self.assertLess(took, 60)
        self.page.panel.only_inside.setChecked(True)
        self.assertEqual(self.drawer.results.rowCount(), self.gating.count)
        self.drawer.result_view.sortByColumn(1, Qt.SortOrder.AscendingOrder)
        listed = area[self.drawer.results.rows]
        self.assertTrue((np.diff(listed) >= 0).all())
