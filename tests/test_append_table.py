"""Tables that grow over sessions."""

import tempfile
import unittest
from pathlib import Path

from kestrelmist.core.errors import Trouble
from kestrelmist.core.table import Column, Table
from kestrelmist.formats.format import format_of
from kestrelmist.measure.tables.append_table import append_table

COLUMNS = [Column("subject"), Column("label"), Column("voxels"), Column("volume", "mm3", 2), Column("scale")]


def table(*rows: tuple, columns=COLUMNS) -> Table:
    return Table("Labels", columns, rows)


class AppendTest(unittest.TestCase):
    def setUp(self):
        self.place = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def read(self, path: Path) -> list[tuple]:
        known = format_of(path, "table")
        assert known is not None
        return known.open(path).rows

    def test_rows_are_added_and_what_was_measured_again_replaced(self):
        for ending in (".csv", ".parquet"):
            to = self.place / f"all{ending}"
            told = append_table(table(("HM-1", "jaw", 8, 1.5, "by header"), ("HM-1", "=1+1", 9, 2.5, "")), to)
            self.assertEqual(told.rows[0][1:], (0, 2, 0, 2))
            told = append_table(table(("HM-2", "jaw", 7, 1.25, "by header")), to)
            self.assertEqual(told.rows[0][1:], (2, 1, 0, 3))
            again = table(("HM-1", "jaw", 10, 1.75, "by calibration"), ("HM-2", "jaw", 7, 1.25, "by header"))
            self.assertEqual(append_table(again, to).rows[0][1:], (3, 0, 2, 3))
            rows = self.read(to)
            self.assertEqual([row[:4] for row in rows], [("HM-1", "jaw", 10, 1.75), ("HM-1", "=1+1", 9, 2.5),
                                                         ("HM-2", "jaw", 7, 1.25)])  # fmt: skip

    def test_from_a_file_to_a_file(self):
        to, first = self.place / "all.csv", self.place / "first.csv"
        first.write_text(table(("HM-1", "jaw", 8, 1.5, "")).to_csv())
        for _ in range(2):
            known = format_of(first, "table")
            assert known is not None
            append_table(known.open(first), to)
        self.assertEqual(len(self.read(to)), 1)

    def test_other_columns_stay_empty(self):
        to = self.place / "all.csv"
        append_table(table(("HM-1", "jaw", 8, 1.5, "")), to)
        more = [*COLUMNS[:2], Column("mean", "HU", 1)]
        append_table(table(("HM-2", "jaw", 40.0), columns=more), to)
        rows = self.read(to)
        self.assertEqual(rows[0][:2] + rows[0][5:], ("HM-1", "jaw", None))
        self.assertEqual((rows[1][:4], rows[1][5]), (("HM-2", "jaw", None, None), 40.0))

    def test_another_unit_and_what_is_no_table(self):
        to = self.place / "all.csv"
        append_table(table(("HM-1", "jaw", 8, 1.5, "")), to)
        before = to.read_bytes()
        other = [*COLUMNS[:3], Column("volume", "um3", 2), COLUMNS[4]]
        with self.assertRaisesRegex(Trouble, "has volume in mm3, and the table in um3"):
            append_table(table(("HM-2", "jaw", 8, 1.5, ""), columns=other), to)
        self.assertEqual(to.read_bytes(), before)
        with self.assertRaisesRegex(Trouble, "as .csv or .parquet"):
            append_table(table(), self.place / "all.txt")


if __name__ == "__main__":
    unittest.main()
