import csv
import json
import math

import numpy as np
import pyarrow.parquet
from PySide6.QtCore import Qt

from kestrelmist.core.cells import as_written
from kestrelmist.core.errors import Trouble
from kestrelmist.core.table import Column, Table
from kestrelmist.formats.saving import save_thing
from kestrelmist.formats.table_files import read_parquet
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase
from tests.making import PlaceCase

ROWS = 100_000


def large() -> Table:
    """100,000 rows of 20 columns: names, whole numbers, measures with holes."""
    rng = np.random.default_rng(2)
    columns = [Column("cell"), Column("number"), *(Column(f"area_{n}", "um2", 3) for n in range(18))]
    values = [[f"cell {n % 997}" for n in range(ROWS)], np.arange(ROWS)]
    values += [rng.normal(50, 9, ROWS) for _ in range(18)]
    values[2][::7] = np.nan
    return Table("Cells", columns, source=lambda: values, count=ROWS)


class TableTest(PlaceCase):
    def test_as_csv_and_parquet_with_units(self):
        table = large()
        for name in ("t.csv", "t.parquet"):
            save_thing(self.place / name, table)
        with open(self.place / "t.csv", newline="") as stream:
            rows = list(csv.DictReader(stream))
        self.assertEqual(len(rows), ROWS)
        self.assertEqual((rows[3]["cell"], rows[3]["area_1_unit"]), ("cell 3", "um2"))
        self.assertAlmostEqual(float(rows[5]["area_4"]), table.column("area_4")[5], places=9)
        self.assertEqual(rows[7]["area_0"], "")
        theirs = pyarrow.parquet.read_table(self.place / "t.parquet")
        self.assertEqual((theirs.num_rows, theirs["area_3_unit"][0].as_py()), (ROWS, "um2"))
        again = read_parquet(self.place / "t.parquet")
        self.assertEqual([c.name for c in again.columns], [c.name for c in table.columns])
        np.testing.assert_array_equal(again.column("area_9"), table.column("area_9"))
        self.assertEqual(again.cell(41, 0), "cell 41")

    def test_order_with_holes_words_and_numbers(self):
        table = Table("T", [Column("name"), Column("x")], [("b", 2.0), ("a", None), ("C", 10.0), ("10", -1.0)])
        self.assertEqual(table.order_by(1).tolist(), [3, 0, 2, 1])
        self.assertEqual(table.order_by(1, True).tolist()[:3], [2, 0, 3])
        self.assertEqual([table.cell(n, 0) for n in table.order_by(0)], ["10", "a", "b", "C"])
        large_one = large()
        order = large_one.order_by(2)
        values = np.asarray(large_one.column("area_0"))[order]
        known = values[np.isfinite(values)]
        self.assertTrue(np.all(np.diff(known) >= 0))
        self.assertTrue(np.isnan(values[len(known) :]).all())

    def test_odd_names_come_back_as_they_were(self):
        rows = [("=1+1", 1), ('say "x", then', 2), ("Schädel 骨", 3), ("<b>", 4), ("two\nlines", 5)]
        save_thing(self.place / "t.csv", Table("T", [Column("label"), Column("n")], rows))
        with open(self.place / "t.csv", newline="") as stream:
            found = [r["label"] for r in csv.DictReader(stream)]
        self.assertEqual(found[0], "'=1+1")  # no formula for a spreadsheet
        self.assertEqual([as_written(name) for name in found], [name for name, _ in rows])

    def test_damaged_files(self):
        (self.place / "t.parquet").write_bytes(b"PAR1 and then nothing")
        with self.assertRaisesRegex(Trouble, "Parquet file is damaged.*t.parquet"):
            read_parquet(self.place / "t.parquet")
        with self.assertRaisesRegex(Trouble, "cannot be written under this name"):
            save_thing(self.place / "t.xlsb", large())

    def test_values_are_shown_as_far_as_their_uncertainty_allows(self):
        columns = [
            Column("volume", "mm3", 4, sure_by="u"),
            Column("u", "mm3", figures=2),
            Column("cm3", "cm3", 6, sure_by="u", sure_times=1e-3),
        ]
        rows = {
            (403.88131, 0.10871, 0.40388131): ("403.88", "0.11", "0.40388"),
            (40388.1, 113.2, 40.3881): ("40 388", "113", "40.39"),
            (1.0, 0.0, 0.001): ("1.0000", "0", "0.001000"),
            (2.0, None, 0.002): ("2.0000", "–", "0.002000"),
            (1.2345e-12, 1.4e-14, 1.2345e-15): ("1.235e−12", "1.4e−14", "1.235e−15"),
            (-3.5e-12, 2e-11, 1.0): ("−4e−12", "2.0e−11", "1.000000000"),
            (0.0, 1e-13, 0.0): ("0", "1.0e−13", "0"),
            (5, 0.5, math.nan): ("5", "0.50", "–"),
        }
        table = Table("Volumes", columns, list(rows))
        for n, wanted in enumerate(rows.values()):
            self.assertEqual(tuple(table.shown(n, c) for c in range(3)), wanted)
        # files keep every digit, and what is kept in a study shows the same again
        self.assertIn("403.88131,mm3,0.10871,mm3,0.40388131,cm3", table.to_csv())
        again = Table.from_dict(json.loads(json.dumps(table.as_dict())))
        self.assertEqual(again.shown(0, 0), "403.88")
        # of a column that is not there nothing is known
        self.assertEqual(Table("x", columns[:1], [(403.88131,)]).shown(0, 0), "403.8813")


class TablesDeskTest(DeskCase):
    def test_a_large_table_in_the_drawer(self):
        from kestrelmist.core.operation import OPERATIONS, operation

        @operation("measure", "Many cells", name="many-cells")
        def many_cells() -> Table:
            """A table of many rows."""
            return large()

        self.addCleanup(OPERATIONS.remove, "many-cells")
        with Study(self.place / "study", create=True) as study:
            study.run("many-cells")
        window = self.open(self.place / "study")
        drawer = window.drawer
        drawer.open_page("tables")
        self.settle(window)
        model = drawer.results
        self.assertEqual((model.rowCount(), model.columnCount()), (ROWS, 20))
        model.sort(2, Qt.SortOrder.DescendingOrder)
        table = window.desk.study.table(window.desk.study.tables()[0].id)
        most = float(np.nanmax(np.asarray(table.column("area_0"))))
        self.assertEqual(model.data(model.index(0, 2)), table.shown(int(model.rows[0]), 2))
        self.assertAlmostEqual(table.cell(int(model.rows[0]), 2), most)
        model.search("cell 996")
        self.assertEqual(model.rowCount(), sum(n % 997 == 996 for n in range(ROWS)))
        self.assertTrue(all(model.data(model.index(n, 0)) == "cell 996" for n in range(5)))
        model.search("")
        model.sort(-1)
        self.assertEqual(model.data(model.index(7, 0)), "cell 7")
        self.assertEqual(self.troubles, [])
