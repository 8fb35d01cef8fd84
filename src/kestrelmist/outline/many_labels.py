"""Many labels at once: renamed, recoloured, locked, hidden; and their names to a file and from one."""

from __future__ import annotations

import re
from dataclasses import replace
from fnmatch import fnmatchcase
from typing import Annotated, Literal

from ..core.errors import Trouble
from ..core.labels import PALETTE, Label, LabelMap, LabelTable
from ..core.operation import operation
from ..core.parameter import FilePath, NewPath, Role
from ..core.patch import LabelEdit
from ..core.safe_write import require_new
from ..core.table import Column, Table
from ..formats.label_files import read_label_table, write_label_table
from .label_rows import COLOUR


@operation(
    "outline",
    "Change many labels",
    name="change-labels",
    keywords="rename all recolour batch lock all hide all prefix replace names palette",
    called={"which": "Which", "find": "In their names, replace", "by": "With"},
    rare="colours",
    group="Labels",
)
def change_labels(
    labels: LabelMap,
    which: str = "*",
    find: str = "",
    by: str = "",
    *,
    colours: Literal["as they are", "palette", "one"] = "as they are",
    colour: str = "",
    locked: bool | None = None,
    hidden: bool | None = None,
) -> LabelEdit:
    """Rename, recolour, lock or hide several labels at once.

    Parameters
    ----------
    which : text
        Names with * for anything, or numbers, with commas between: “Cortex*”, or 3, 5-9.
    find, by : text
        What of their names is replaced, and with what.
    colours : text
        The colours of the palette in turn, or one for all.
    colour : #RRGGBB
        That one.
    locked, hidden : yes or no
        What is left out stays as it is.

    Raises
    ------
    Trouble
        When there is no such label, two would have one name, or nothing would change.
    """
    chosen = _chosen(labels.table, which)
    if not chosen:
        raise Trouble(f"No label is called “{which}”", "write names with *, or numbers as in 3, 5-9")
    if colours == "one" and not COLOUR.fullmatch(colour.strip()):
        raise Trouble(f"“{colour}” is no colour", "write it as #RRGGBB, for example #56A8C7")
    rows: list[Label] = []
    turn = 0
    for row in labels.table:
        if row.number not in chosen:
            rows.append(row)
            continue
        changes: dict = {"locked": locked, "hidden": hidden}
        if find:
            changes["name"] = row.name.replace(find, by)
        if colours != "as they are":
            changes["colour"] = PALETTE[turn % len(PALETTE)] if colours == "palette" else colour.strip().upper()
        turn += 1
        rows.append(replace(row, **{k: v for k, v in changes.items() if v is not None}))
    names = [row.name.strip().casefold() for row in rows]
    if len(set(names)) < len(names):
        twice = next(row.name for row in rows if names.count(row.name.strip().casefold()) > 1)
        raise Trouble(f"Two labels would be called “{twice}”", "replace something else")
    table = LabelTable(rows)
    if table == labels.table:
        raise Trouble("Nothing would change", "say what is to change")
    return LabelEdit(f"Change {len(chosen)} labels", None, labels.table, table)


def _chosen(table: LabelTable, which: str) -> set[int]:
    found: set[int] = set()
    for part in filter(None, (p.strip() for p in which.split(","))):
        numbers = re.fullmatch(r"(\d{1,5})(?:-(\d{1,5}))?", part)
        if numbers and not table.has_name(part):
            low, high = int(numbers[1]), int(numbers[2] or numbers[1])
            found |= {row.number for row in table if low <= row.number <= high}
        else:
            found |= {row.number for row in table if fnmatchcase(row.name.casefold(), part.casefold())}
    return found


@operation(
    "outline",
    "Save label names",
    name="save-label-names",
    keywords="tsv dseg bids table export names colours lookup",
    group="Labels",
)
def save_label_names(labels: LabelMap, to: NewPath, *, replace_file: bool = False) -> Table:
    """Write numbers, names and colours of labels as TSV, as the BIDS standard keeps those of a segmentation (dseg).

    Parameters
    ----------
    to : path
        The new file: .tsv.
    replace_file : bool
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When there is a file of that name, it ends in something else, or the place cannot be written.
    """
    if to.suffix.lower() != ".tsv":
        raise Trouble("Names of labels are written as .tsv", "end the name so", to)
    require_new(to, replace_file)
    write_label_table(to, labels.table)
    columns = [Column("labels"), Column("count"), Column("file")]
    return Table(f"Names of {labels.name} saved", columns, [(labels.name, len(labels.table), str(to))])


@operation(
    "outline",
    "Take label names",
    name="take-label-names",
    keywords="tsv dseg bids table import names colours lookup",
    group="Labels",
)
def take_label_names(labels: LabelMap, file: Annotated[FilePath, Role("file")]) -> LabelEdit:
    """Name and colour the labels of a map as a TSV file says; numbers that it does not name keep theirs, and further
    ones come along.

    Parameters
    ----------
    file : path
        TSV with the columns index and name, and perhaps color.

    Raises
    ------
    Trouble
        When the file is none, or two labels would have one name.
    """
    given = read_label_table(file)
    rows = {row.number: row for row in labels.table}
    for row in given:
        before = rows.get(row.number)
        rows[row.number] = row if before is None else replace(before, name=row.name, colour=row.colour)
    names = [row.name.casefold() for row in rows.values()]
    twice = next((row.name for row in rows.values() if names.count(row.name.casefold()) > 1), "")
    if twice:
        raise Trouble(f"Two labels would be called “{twice}”", "rename the one that the file does not name", file)
    table = LabelTable(rows.values())
    return LabelEdit(f"Take the names of {len(given)} labels", None, labels.table, table)
