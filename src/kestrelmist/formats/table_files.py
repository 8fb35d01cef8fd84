"""Tables as CSV and Parquet. Parquet files say the unit of each column, and what the screen needs, in metadata."""

from __future__ import annotations

import csv
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from ..core.cells import as_written
from ..core.errors import Trouble, let_through
from ..core.progress import Progress
from ..core.safe_write import written_whole
from ..core.table import Column, Table
from .format import Format, register

KEY = b"kestrelmist"


def arrow_column(values: Sequence) -> Any:
    """A column as an Arrow array; what is of several kinds becomes text."""
    import pyarrow

    try:
        return pyarrow.array(values, from_pandas=True)
    except (pyarrow.ArrowInvalid, pyarrow.ArrowTypeError, OverflowError):
        return pyarrow.array([None if v is None else str(v) for v in values], pyarrow.string())


def write_parquet(path: Path, table: Table, progress: Progress | None = None) -> None:
    """Write a table as Parquet, with a unit column after each column that has a unit, as in CSV."""
    import pyarrow
    import pyarrow.parquet

    names: list[str] = []
    arrays: list[Any] = []
    for column, values in zip(table.columns, table.values):
        names.append(column.name)
        arrays.append(arrow_column(values))
        if column.unit:
            names.append(f"{column.name}_unit")
            arrays.append(pyarrow.array([column.unit] * table.count, pyarrow.string()).dictionary_encode())
    said = json.dumps({"title": table.title, "columns": table.columns_as_list()}).encode()
    whole = pyarrow.table(arrays, names=names).replace_schema_metadata({KEY: said})
    with written_whole(path) as stream:
        pyarrow.parquet.write_table(whole, stream, compression="zstd")


def read_parquet(path: Path) -> Table:
    """A Parquet file as a table; one column is read when it is first asked for.

    Raises
    ------
    Trouble
        When the file is damaged.
    """
    import pyarrow.parquet

    try:
        file = pyarrow.parquet.ParquetFile(path, memory_map=True)
        count = file.metadata.num_rows
        said = json.loads((file.schema_arrow.metadata or {}).get(KEY, b"null"))
    except BaseException as error:  # the library has many kinds of error
        let_through(error)
        raise Trouble("This Parquet file is damaged", "copy it again", path) from error
    if said:
        title, columns = str(said["title"]), [Column(**c) for c in said["columns"]]
    else:
        title, columns = path.stem, _columns_of(file.schema_arrow.names)

    def values() -> list[Sequence]:
        whole = pyarrow.parquet.read_table(path, columns=[c.name for c in columns], memory_map=True)
        return [_array(whole.column(c.name)) for c in columns]

    return Table(title, columns, source=values, count=count)


def _array(column) -> Sequence:
    import pyarrow

    kind = column.type
    if pyarrow.types.is_floating(kind) or (pyarrow.types.is_integer(kind) and not column.null_count):
        return column.to_numpy()
    return column.to_pylist()


def _columns_of(names: list[str]) -> list[Column]:
    """Columns of a table that another program has written; `x_unit` beside `x` stays a column."""
    return [Column(name) for name in names]


def read_csv(path: Path) -> Table:
    """A CSV file as a table: numbers as numbers, empty cells as None; a column `x_unit` of one value gives the unit of
    `x`.

    Raises
    ------
    Trouble
        When the rows differ in length, or the file is no text.
    """
    try:
        with open(path, encoding="utf-8-sig", newline="") as stream:
            sample = stream.read(4096)
            stream.seek(0)
            rows = list(csv.reader(stream, delimiter="\t" if "\t" in sample and "," not in sample else ","))
    except (UnicodeDecodeError, csv.Error) as error:
        raise Trouble("This is no table in UTF-8 text", "save it again as CSV", path) from error
    if not rows or not rows[0]:
        raise Trouble("There is nothing in this table", "choose another file", path)
    rows = [[as_written(cell) for cell in row] for row in rows]
    names = [name.strip() or f"column {n + 1}" for n, name in enumerate(rows[0])]
    wrong = next((n for n, row in enumerate(rows[1:], 2) if row and len(row) != len(names)), None)
    if wrong:
        raise Trouble(f"Line {wrong} of this table has another number of cells than the first", "mend it", path)
    cells = list(zip(*(row for row in rows[1:] if row))) or [()] * len(names)
    units = {
        name: values[0]
        for name, values in zip(names, cells)
        if name.endswith("_unit") and name[:-5] in names and len(set(values)) == 1
    }
    kept = [(name, values) for name, values in zip(names, cells) if name not in units]
    columns = [Column(name, units.get(f"{name}_unit", "")) for name, _ in kept]
    return Table(path.stem, columns, zip(*(_typed(values) for _, values in kept)))


def _typed(texts: Sequence[str]) -> list:
    """Whole numbers, numbers or texts, whichever all cells of a column are."""
    there = [t for t in texts if t.strip()]
    for kind in (int, float):
        try:
            for t in there:
                kind(t)
        except ValueError:
            continue
        return [kind(t) if t.strip() else None for t in texts]
    return [t if t else None for t in texts]


def search_texts(table: Table) -> Any:
    """One small-letter text a row, of all columns a person sees, for quick searching."""
    import pyarrow
    import pyarrow.compute as pc

    texts = []
    for n in table.shown_columns:
        column, values = table.columns[n], table.values[n]
        array = arrow_column(values)
        if pyarrow.types.is_floating(array.type) and column.digits is not None:
            array = pc.round(array, ndigits=column.digits)
        texts.append(pc.fill_null(pc.cast(array, pyarrow.string()), ""))
    if not texts:
        return pyarrow.array([""] * table.count)
    return pc.utf8_lower(pc.binary_join_element_wise(*texts, "\x1f"))


def rows_with(texts: Any, wanted: str) -> np.ndarray:
    """Numbers of the rows whose text, of `search_texts`, holds a word; capitals do not matter."""
    import pyarrow.compute as pc

    found = pc.match_substring(texts, wanted.lower().replace("−", "-"))
    return np.flatnonzero(found.to_numpy(zero_copy_only=False))


register(
    Format(
        "CSV",
        (".csv", ".tsv"),
        read_csv,
        lambda path, table, progress: table.save_csv(path),
        (".csv",),
        holds=("table",),
    )
)
register(Format("Parquet", (".parquet",), read_parquet, write_parquet, starts=(b"PAR1",), holds=("table",)))
