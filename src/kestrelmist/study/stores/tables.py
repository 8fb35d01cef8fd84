"""Tables: short ones in their row, long ones as Parquet files that are read by the column."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from ...core.progress import Progress
from ...core.table import Column, Table
from ...formats.table_files import read_parquet, write_parquet
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store, side_folder

SHORT = 20_000
"""Cells of a table that is kept in its row."""
FILE = "table.parquet"


class TableStore(Store):
    """Keeps tables."""

    kind, folder = "table", "tables"

    def prepare(self, study: OpenStudy, thing: Table, progress: Progress) -> Prepared:
        body: dict[str, Any] = {"columns": thing.columns_as_list(), "count": thing.count}
        side = None
        if thing.count * len(thing.columns) <= SHORT:
            body["rows"] = json.loads(json.dumps([list(row) for row in thing.rows], default=str))
            digest = hashlib.sha256(json.dumps(body).encode()).hexdigest()
        else:
            side = side_folder(study)
            write_parquet(side / FILE, thing)
            digest = hashlib.sha256((side / FILE).read_bytes()).hexdigest()
        return Prepared("table", thing.title, "", None, digest, body, None, side)

    def open(self, study: OpenStudy, record: Record) -> Table:
        columns = [Column(**c) if isinstance(c, dict) else Column(*c) for c in record.body["columns"]]
        if "rows" in record.body:
            return Table(record.name, columns, [tuple(row) for row in record.body["rows"]])
        table = read_parquet(study.folder / self.folder / str(record.id) / FILE)
        table.title = record.name
        return table


STORES.add("table", TableStore())
