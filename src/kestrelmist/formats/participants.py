"""Tables of participants: participant_id, then what is known of each; as TSV the standard has them without quotes
(bids-specification, "Tabular files")."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from pathlib import Path

from ..core.cells import as_written, harmless
from ..core.errors import Trouble
from ..core.safe_write import written_whole
from ..core.subject import NONE, PARTICIPANT

MOST = 1 << 24
"""Bytes of a table of participants; what is larger is none."""


def rows_of(path: Path) -> list[list[str]]:
    """The rows of a table as they stand, empty ones left out; raises OSError, UnicodeDecodeError and csv.Error."""
    with open(path, encoding="utf-8-sig", newline="") as stream:
        text = stream.read(MOST)
    first = text.partition("\n")[0]
    if "\t" in first:
        reader = csv.reader(io.StringIO(text, newline=""), delimiter="\t", quoting=csv.QUOTE_NONE)
    else:
        reader = csv.reader(io.StringIO(text, newline=""), delimiter=";" if ";" in first else ",")
    return [row for row in reader if any(cell.strip() for cell in row)]


def read_participants(path: Path) -> tuple[list[str], list[list[str]]]:
    """The names of the columns, participant_id first, and the rows.

    Raises
    ------
    Trouble
        When it is no such table, a row has too many or too few cells, or a participant or a column stands there twice.
    """
    try:
        if path.stat().st_size > MOST:
            raise Trouble("This file is too large for a table of participants", "choose another", path)
        rows = [[as_written(cell.strip()) for cell in row] for row in rows_of(path)]
    except FileNotFoundError:
        raise Trouble("This file does not exist", "check the name", path) from None
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise Trouble("This table cannot be read", "save it as text (UTF-8), TSV or CSV", path) from error
    if not rows or rows[0][0] != PARTICIPANT:
        raise Trouble(f"This table has no first column {PARTICIPANT}", "name the column of the subjects so", path)
    wrong = next((n for n, row in enumerate(rows, 1) if len(row) != len(rows[0])), None)
    if wrong is not None:
        raise Trouble(f"Line {wrong} has {len(rows[wrong - 1])} cells and not {len(rows[0])}", "mend it first", path)
    _require_once([row[0] for row in rows[1:]], "leave one row", path)
    _require_once(rows[0], "leave one column", path)
    return rows[0], rows[1:]


def write_participants(path: Path, heads: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    """Write a table; empty cells become n/a. Raises Trouble when the place cannot be written."""
    table = [[harmless(cell or NONE) for cell in row] for row in (heads, *rows)]
    with written_whole(path, "w", encoding="utf-8", newline="") as stream:
        if path.suffix.lower() == ".csv":
            csv.writer(stream, lineterminator="\n").writerows(table)
        else:
            stream.writelines("\t".join(row) + "\n" for row in table)


def _require_once(names: list[str], do: str, path: Path) -> None:
    seen: set[str] = set()
    for name in names:
        if name in seen:
            raise Trouble(f"“{name}” stands in this table twice", do, path)
        seen.add(name)
