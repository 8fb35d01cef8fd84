"""Gates on tables, their classes as labels, and groups compared, against closed formulas and SciPy."""

import math
import unittest

import numpy as np
from scipy import stats

from kestrelmist.core.errors import Trouble
from kestrelmist.core.gate import inside_area
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import picture_space
from kestrelmist.core.table import Column, Table
from kestrelmist.formats.saving import save_thing
from kestrelmist.formats.table_files import read_csv
from kestrelmist.measure.regions.measure_cells import measure_cells
from kestrelmist.measure.tables.gate_table import gate_table
from kestrelmist.measure.tables.groups import compare_groups
from kestrelmist.measure.tables.long_table import long_table
from kestrelmist.outline.cells.class_by_table import class_by_table
from tests.command import kestrelmist
from tests.making import PlaceCase


def made_up(count=4000, seed=4) -> Table:
    rng = np.random.default_rng(seed)
    values = [
        np.arange(1, count + 1),
        rng.gamma(4, 20, count),
        rng.lognormal(2, 1, count),
        np.array([f"HM-0{n % 4}" for n in range(count)], object),
        np.array([("cold", "warm")[n % 2] for n in range(count)], object),
    ]
    values[2][::97] = np.nan
    columns = [Column("number"), Column("area", "um^2", 1), Column("mean", "", 2), Column("subject"), Column("group")]
    return Table("Cells on tail", columns, source=lambda: values, count=count)


class GateTest(unittest.TestCase):
    def test_an_area_is_what_winding_says(self):
        rng = np.random.default_rng(1)
        corners = np.array([(0, 0), (4, 0), (4, 3), (2, 1), (0, 3)], float)  # not convex
        x, y = rng.uniform(-1, 5, 3000), rng.uniform(-1, 4, 3000)
        turns = np.zeros(len(x))
        for a, b in zip(corners, np.roll(corners, -1, 0)):
            one, other = np.arctan2(a[1] - y, a[0] - x), np.arctan2(b[1] - y, b[0] - x)
            turns += (other - one + np.pi) % (2 * np.pi) - np.pi
        np.testing.assert_array_equal(inside_area(x, y, corners), np.abs(turns) > 3)

    def test_what_lies_on_the_border_is_inside(self):
        square = np.array([(0, 0), (1e6, 0), (1e6, 1e-4), (0, 1e-4)], float)
        x, y = np.array([0, 5e5, 1e6, 5e5, 1e6 + 1, 5e5]), np.array([0, 1e-4, 5e-5, 0.0, 5e-5, 1.0001e-4])
        self.assertEqual(inside_area(x, y, square).tolist(), [True, True, True, True, False, False])
        ends = gate_table(Table("T", [Column("a", "", 1)], [(1.0,), (2.0,), (3.0,), (None,), (math.nan,)]), "a", "1..2")
        self.assertEqual(ends.column("class"), ["Gated", "Gated", "", "", ""])

    def test_a_circle_of_many_corners_holds_what_the_circle_does(self):
        table = made_up()
        turn = np.linspace(0, 2 * np.pi, 400, endpoint=False)
        area, mean = np.array(table.column("area")), np.array(table.column("mean"))
        typed = " ".join(f"{80 + 30 * math.cos(t):.6f},{8 + 5 * math.sin(t):.6f}" for t in turn)
        made = gate_table(table, "area", typed, "mean", name="Round")
        away = np.hypot((area - 80) / 30, (mean - 8) / 5)
        inside = np.array(made.column("class")) == "Round"
        with np.errstate(invalid="ignore"):
            self.assertTrue((inside[away < 0.999]).all())
            self.assertFalse((inside[away > 1]).any())
        self.assertFalse(inside[np.isnan(mean)].any())
        self.assertIn(f"Round: {inside.sum()} of 4", made.title)

    def test_sides_are_straight_where_they_were_drawn(self):
        table = Table(
            "T", [Column("x", "", 2), Column("y", "", 2)], [(10.0, 10.0), (30.0, 30.0), (30.0, 60.0), (0.0, 1)]
        )
        corners = "1,1 100,1 100,100"  # y below x, however the axes are
        for logs in ((False, False), (True, True)):
            made = gate_table(table, "x", corners, "y", log_x=logs[0], log_y=logs[1])
            self.assertEqual(made.column("class"), ["Gated", "Gated", "", ""])
        bent = "1,1 100,10 100,1"  # from 1 to 10: at 10 half-way on logarithms, 1.9 straight
        one = Table("T", [Column("x", "", 2), Column("y", "", 2)], [(10.0, 2.5)])
        with self.assertRaisesRegex(Trouble, "No row of “T” lies within 1,1 100,10 100,1: draw"):
            gate_table(one, "x", bent, "y")
        self.assertEqual(gate_table(one, "x", bent, "y", log_x=True, log_y=True).column("class"), ["Gated"])
        with self.assertRaisesRegex(Trouble, "corner at 0 or below"):
            gate_table(one, "x", "0,1 100,10 100,1", "y", log_x=True)

    def test_gates_one_after_the_other(self):
        table = gate_table(made_up(), "area", "0..60", name="Small")
        table = gate_table(table, "area", "50..inf", name="Large", others="Rest")
        area, words = np.array(table.column("area")), np.array(table.column("class"))
        np.testing.assert_array_equal(words == "Large", area >= 50)
        np.testing.assert_array_equal(words == "Small", area < 50)
        self.assertEqual([c.name for c in table.columns].count("class"), 1)

    def test_what_is_no_gate(self):
        table = made_up(20)
        for given, told in (
            ({"x": "weight", "within": "1..2"}, "no column “weight”: choose one of number, area, mean"),
            ({"x": "group", "within": "1..2"}, "“group” holds words"),
            ({"x": "area", "within": "1 to 2"}, "“1 to 2” is no gate: write a range"),
            ({"x": "area", "within": "nan..2"}, "is no gate"),
            ({"x": "area", "y": "mean", "within": "1,2 3,4"}, "too few corners"),
            ({"x": "area", "y": "mean", "within": "1,2 3,4 5,inf"}, "is no gate"),
            ({"x": "area", "within": "1e7..2e7"}, "No row of “Cells on tail” lies within"),
            ({"x": "area", "within": "0..500", "name": " "}, "need names"),
            ({"x": "area", "within": "0..500", "column": "area"}, "holds something else"),
        ):
            with self.assertRaisesRegex(Trouble, told):
                gate_table(table, **given)


class ClassByTableTest(unittest.TestCase):
    def setUp(self):
        numbers = np.zeros((40, 60), np.uint16)
        for n in range(6):
            numbers[5 : 8 + 3 * n, 2 + 10 * n : 8 + 10 * n] = n + 1
        space = picture_space(60, 40, (0.001, 0.001))
        self.labels = LabelMap(space, np.asfortranarray(numbers.T[:, :, None]), LabelTable(), name="Nuclei")
        self.image = Image(np.asfortranarray((numbers * 10).T[:, :, None].astype(np.uint8)), space, "tail")

    def test_cells_of_a_gate_become_a_label(self):
        table = gate_table(measure_cells(self.image, self.labels), "area", "0..60", name="Small", others="Large")
        made = class_by_table(self.image, self.labels, table)
        areas = dict(zip(table.column("number"), table.column("area")))
        for number, area in areas.items():
            inside = made.kji[self.labels.kji == number]
            self.assertEqual({made.table[int(v)].name for v in inside}, {"Small" if area <= 60 else "Large"})
        self.assertFalse(made.kji[self.labels.kji == 0].any())

    def test_a_table_of_another_map_is_told_by_the_sizes_of_its_cells(self):
        table = gate_table(measure_cells(self.image, self.labels), "area", "0..60", name="Small", others="Large")
        numbers = self.labels.data.copy(order="F")
        numbers[numbers == 2] = 0
        numbers[12:18, 5:9] = 2  # the next subject's
        other = LabelMap(self.labels.space, numbers, LabelTable(), name="Other")
        with self.assertRaisesRegex(Trouble, "1 of the cells of the table have another size in “Other”, as number 2"):
            class_by_table(self.image, other, table)
        bare = LabelMap(picture_space(60, 40, None), self.labels.data.copy(order="F"), LabelTable(), name="Bare")
        picture = Image(self.image.data, bare.space, "tail")
        with self.assertRaisesRegex(Trouble, "measured with another scale"):
            class_by_table(picture, bare, table)
        in_pixels = gate_table(measure_cells(picture, bare), "area", "0..60", name="Small")
        self.assertTrue(class_by_table(picture, bare, in_pixels).kji.any())

    def test_what_does_not_belong(self):
        table = gate_table(measure_cells(self.image, self.labels), "area", "0..60", name="Small")
        with self.assertRaisesRegex(Trouble, "no column “kind”"):
            class_by_table(self.image, self.labels, table, "kind")
        table.rows = [*table.rows, (77, *table.rows[0][1:])]
        with self.assertRaisesRegex(Trouble, "“Nuclei” has no 1 of the cells of the table, as number 77"):
            class_by_table(self.image, self.labels, table)
        with self.assertRaisesRegex(Trouble, "no column with numbers of cells"):
            class_by_table(self.image, self.labels, Table("T", [Column("class")], [("a",)]))


class GroupsTest(unittest.TestCase):
    def test_means_and_intervals_are_scipys(self):
        table = made_up()
        made = compare_groups(table, "area, mean", "subject, group")
        self.assertEqual(made.count, 8)  # subject tells the group here
        area, mean = np.array(table.column("area")), np.array(table.column("mean"))
        who = np.array(table.column("subject"))
        for row in made.as_records():
            told = (area if row["quantity"] == "area" else mean)[who == row["subject"]]
            told = told[np.isfinite(told)]
            low, high = stats.t.interval(0.95, len(told) - 1, np.mean(told), stats.sem(told))
            self.assertEqual(row["n"], len(told))
            self.assertEqual(row["left_out"], 1000 - len(told))
            np.testing.assert_allclose(
                [row["mean"], row["sd"], row["low"], row["high"], row["median"]],
                [np.mean(told), np.std(told, ddof=1), low, high, np.median(told)], rtol=1e-10)  # fmt: skip
        self.assertEqual({row["unit"] for row in made.as_records() if row["quantity"] == "area"}, {"um^2"})

    def test_cells_of_one_animal_are_one_animal(self):
        made = compare_groups(made_up(), "area", "group", each="subject").as_records()
        self.assertEqual([row["n"] for row in made], [2, 2])
        table = made_up()
        area, who = np.array(table.column("area")), np.array(table.column("subject"))
        self.assertAlmostEqual(made[0]["mean"], (area[who == "HM-00"].mean() + area[who == "HM-02"].mean()) / 2, 10)
        half = (made[0]["high"] - made[0]["low"]) / 2
        self.assertAlmostEqual(half, stats.t.ppf(0.975, 1) * made[0]["sd"] / math.sqrt(2), 8)

    def test_several_tables_and_participants(self):
        columns = [Column("area", "um^2", 1), Column("subject")]
        one, other = (
            Table(f"T{n}", columns, [(float(v), f"sub-{n}") for v in values])
            for n, values in ((1, (1, 2, 3)), (2, (5, 7)))
        )
        people = Table("P", [Column("participant_id"), Column("season")], [("sub-1", "winter"), ("2", "summer")])
        made = compare_groups(one, by="season", more=[other], participants=people).as_records()
        self.assertEqual([(r["season"], r["n"], r["mean"]) for r in made], [("summer", 2, 6.0), ("winter", 3, 2.0)])
        few = Table("P", people.columns, people.rows[:1])
        self.assertIn(
            "by season (2 rows say none)", compare_groups(one, by="season", more=[other], participants=few).title
        )
        with self.assertRaisesRegex(Trouble, "has no column “season”: choose one of subject, or give a table"):
            compare_groups(one, by="season")
        with self.assertRaisesRegex(Trouble, "participants have no column “sex”"):
            compare_groups(one, by="sex", participants=people)
        wrong = Table("T3", [Column("area", "px", 1), Column("subject")], [(1.0, "3")])
        with self.assertRaisesRegex(Trouble, "“area” is in px and um\\^2"):
            compare_groups(one, more=[wrong])

    def test_one_row_none_and_numbers_in_order(self):
        table = Table("T", [Column("v", "", 2), Column("day")], [(1.0, 10), (2.0, 9), (4.0, 9), (None, 11)])
        made = compare_groups(table, "v", "day").as_records()
        self.assertEqual([(r["day"], r["n"]) for r in made], [("9", 2), ("10", 1), ("11", 0)])
        self.assertIsNone(made[1]["low"])
        self.assertIsNone(made[2]["mean"])
        self.assertEqual(made[2]["left_out"], 1)
        self.assertEqual(compare_groups(table, "v", "").as_records()[0]["n"], 3)


class LongTableTest(unittest.TestCase):
    def test_a_row_for_each_quantity_of_labels(self):
        columns = [Column("label"), Column("number"), Column("feret", "mm", 3, sure_by="feret_uncertainty"),
                   Column("feret_uncertainty", "mm", 3, hidden=True), Column("mean", "HU", 1)]  # fmt: skip
        table = Table("T", columns, [("ear", 1, 2.5, 0.1, 40.0), ("jaw", 2, None, None, 60.0)])
        rows = [(r["label"], r["quantity"], r["value"], r["unit"], r["uncertainty"], r["uncertainty_is"])
                for r in long_table(table).as_records()]  # fmt: skip
        self.assertEqual(rows, [("ear", "feret", 2.5, "mm", 0.1, "standard"), ("ear", "mean", 40.0, "HU", None, ""),
                                ("jaw", "mean", 60.0, "HU", None, "")])  # fmt: skip
        sure = Table(
            "F", [Column("label"), Column("area", "mm2"), Column("area_uncertainty", "mm2")], [("a", 2.5, 0.5)]
        )
        (row,) = long_table(sure).as_records()
        self.assertEqual((row["quantity"], row["uncertainty"], row["uncertainty_is"]), ("area", 0.5, "not said"))
        both = [Column("volume", "mm3", 1, sure_by="u"), Column("u", "mm3", 2), Column("cm3", "cm3", 3, sure_by="u",
                sure_times=1e-3)]  # fmt: skip
        spreads = [r["uncertainty"] for r in long_table(Table("V", both, [(5.0, 0.5, 0.005)])).as_records()]
        self.assertEqual(spreads, [0.5, 0.0005])
        read = Table(
            "Of a file", [Column("label"), Column("number"), Column("area", "mm2")], [("ear", 1, 2.5), ("x", 2, None)]
        )
        self.assertEqual([r["value"] for r in long_table(read).as_records()], [2.5])
        self.assertEqual(compare_groups(read, by="label").column("quantity"), ["area", "area"])
        with self.assertRaisesRegex(Trouble, "has no measured columns"):
            long_table(Table("W", [Column("a")], [("x",)]))


class GatesByCommandTest(PlaceCase):
    def test_files_in_and_out(self):
        cells = self.place / "cells.csv"
        save_thing(cells, made_up(400))
        ran = kestrelmist("gate-table", cells, "--x", "area", "--within", "80..inf", "--name", "Large",
                          "--out", self.place / "gated.csv")  # fmt: skip
        self.assertEqual(ran.returncode, 0, ran.stderr)
        kestrelmist("compare-groups", self.place / "gated.csv", "--values", "area", "--by", "class,group",
                    "--out", self.place / "groups.parquet")  # fmt: skip
        kestrelmist("compare-groups", self.place / "gated.csv", "--values", "area", "--by", "class,group",
                    "--out", self.place / "groups.csv")  # fmt: skip
        rows = read_csv(self.place / "groups.csv").as_records()
        self.assertEqual(len(rows), 4)
        area = np.array(made_up(400).column("area"))
        self.assertEqual(sum(r["n"] for r in rows if r["class"] == "Large"), int((area >= 80).sum()))
        wrong = kestrelmist("gate-table", cells, "--x", "weight", "--within", "80..inf", code=1)
        self.assertIn("no column “weight”", wrong.stderr)
        self.assertNotIn("Traceback", wrong.stderr)


if __name__ == "__main__":
    unittest.main()
