"""What a command says and writes when it is done."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from .core.caveat import FIELD_DOUBTFUL, TAKEN_OUT, VALUES_LOST
from .core.errors import Asks, Partly, Trouble
from .core.geometry.marks import MarkEdit
from .core.image import Image
from .core.kind import can_lead
from .core.labels import LabelMap
from .core.operation import Operation
from .core.patch import LabelEdit
from .core.placement import Placement
from .core.quantity import short_size
from .core.table import Table

if TYPE_CHECKING:
    from .study.study import Study
    from .study.task import Task


@dataclass
class Said:
    """What came of a command: tables to print, labels as they are now, things that were kept, and what can be written
    to a file."""

    tables: list[Table] = field(default_factory=list)
    labels: LabelMap | None = None
    kept: list[Any] = field(default_factory=list)
    """Records of new things in the study."""
    things: list[Any] = field(default_factory=list)
    """Images, labels and transforms that can be written."""
    one_leads: bool = False
    """Whether the first of them is what was asked for, and the others come beside it."""
    not_done: Partly | None = None
    """What of it could not be done."""
    in_files: list[Any] = field(default_factory=list)
    """What was written to files, and is told in a line."""
    lost: list[str] = field(default_factory=list)
    """What files that were written do not say, as sentences."""
    named: dict[str, Any] = field(default_factory=dict)
    """The same, tables too, by the names of the results; where there may be several, a list."""

    @classmethod
    def of_study(cls, study: Study, task: Task, values: dict[str, Any], kept: dict[str, Any]) -> Said:
        said = cls(one_leads=_one_leads(task.about))
        for name, value in values.items():
            if isinstance(value, Table):
                said.tables.append(value)
                said.named[name] = value
            elif isinstance(value, LabelEdit):
                target = task.of(task.about.edited)
                assert target is not None
                image = target.of if target.of is not None else target.item
                said.labels = study.label_map(target.item) if target.item is not None else study.labels(image or 0)
                said.things.append(said.labels)
            elif isinstance(value, MarkEdit):
                target = task.of(task.about.edited)
                assert target is not None
                key = target.item if target.item is not None else study.marks.in_hand(target.of or 0)
                said.kept.append(study.items.get(key or 0))
                said.things.append(study.thing(key or 0))
            elif isinstance(value, Placement):
                placed = task.of(task.about.lead)
                assert placed is not None and placed.item is not None
                said.kept.append(study.items.get(placed.item))
                said.things.append(study.image(placed.item))
            else:
                keys = kept.get(name)
                for key in keys if isinstance(keys, list) else [] if keys is None else [keys]:
                    said.kept.append(study.items.get(key))
                    said.things.append(study.thing(key))
                    said.named.setdefault(name, []).append(said.things[-1])
        return said

    @classmethod
    def of_files(cls, operation: Operation, arguments: dict[str, Any], values: dict[str, Any]) -> Said:
        said = cls(one_leads=_one_leads(operation))
        for name, value in values.items():
            if isinstance(value, Table):
                said.tables.append(value)
                said.named[name] = value
            elif isinstance(value, LabelEdit):
                p = operation.edited
                assert p is not None
                said.labels = arguments[p.name]
                value.apply(arguments[p.name])
                said.things.append(said.labels)
            elif isinstance(value, MarkEdit):
                p = operation.edited
                assert p is not None
                said.things.append(arguments[p.name].with_edit(value))
            elif isinstance(value, Placement):
                p = operation.lead
                assert p is not None
                said.things.append(arguments[p.name].placed(value))
            elif isinstance(value, list) and not operation.brings_files:
                said.named[name] = value  # they have a place in a folder only
            elif isinstance(value, list):
                raise Trouble(
                    f"“{operation.title}” needs a study to put the images in",
                    "name one with --study; it is made when there is none",
                )
            else:
                said.things.append(value)
                said.named[name] = value
        return said


def _one_leads(operation: Operation) -> bool:
    """Whether the first of several results is the one that was asked for."""
    return len(operation.results) > 1 and not operation.results[0].many


def say(operation: Operation, said: Said, written: list[Path], as_json: bool) -> None:
    """Print what came of a command."""
    if as_json:
        print(json.dumps(_plain(operation, said, written), default=str, allow_nan=False))
        return
    for table in said.tables:
        if not any(table is one for one in said.in_files):
            print_table(table)
    for record in said.kept:
        print(f"{record.reference}: {record.short_facts}")
    if said.labels is not None and not any(said.labels is one for one in said.in_files):
        _, cell, unit = said.labels.space.extent
        for row in said.labels.table:
            count = int(said.labels.counts[row.number])
            size = short_size(count * cell, unit)
            print(f"{row.number} {row.name}: {count} voxels" + ("" if unit in ("voxels", "pixels") else f", {size}"))
    for thing in said.things:
        for caveat in getattr(thing, "caveats", ()):
            if caveat.code in (VALUES_LOST, FIELD_DOUBTFUL, TAKEN_OUT):
                print(f"{caveat.sentence}.")
    if written:
        told = "; ".join(filter(None, map(_in_short, said.in_files)))
        print(f"Written: {', '.join(map(str, written))}{f' ({told})' if told else ''}")
    for sentence in said.lost:
        print(f"{sentence}.")


def _in_short(thing: Any) -> str:
    """What there is to know of a thing that went into a file."""
    if isinstance(thing, Table):
        return f"{thing.count} {'row' if thing.count == 1 else 'rows'}"
    if isinstance(thing, LabelMap):
        return ", ".join(f"{row.name} {int(thing.counts[row.number])} voxels" for row in list(thing.table)[:6])
    if isinstance(thing, Image):
        sizes = " × ".join(map(str, (*thing.space.shape, *(axis.size for axis in thing.axes))))
        return f"{sizes} voxels{f', {thing.unit}' if thing.unit else ''}"
    return ""


def say_trouble(trouble: Trouble, as_json: bool) -> None:
    """Print what belongs to a trouble besides its sentence: what a person is to look at, or all of it for a program."""
    if as_json:
        told: dict[str, Any] = {"trouble": str(trouble)}
        if isinstance(trouble, Asks):
            told |= {"rows": trouble.table.as_records(), trouble.setting: trouble.answer}
        print(json.dumps(told, default=str))
    elif isinstance(trouble, Asks):
        print_table(trouble.table, whole=True)  # every row is to be looked at
        flags = [f"--{trouble.setting} {trouble.answer}"]
        flags += [f"--{trouble.more.replace('_', '-')} WORD,WORD"] if trouble.more else []
        print(f"To go on: {', or '.join(flags)}")


def print_table(table: Table, width: int | None = None, whole: bool = False) -> None:
    """Print a table so that no number is broken, and no word that could stay whole.

    From one that is wider than the terminal (or `width` characters) empty columns are left out; when it is turned, a
    column for each row, and fits then, it is. A terminal gets the first rows of a long one, unless it is wanted
    `whole`; a file gets all of them.
    """
    from rich.console import Console

    console = Console(markup=False, highlight=False, width=width)
    heads = [table.columns[c].heading for c in table.shown_columns]
    shown = ROWS if console.is_terminal and not whole and table.count > ROWS else table.count
    rows = [[table.shown(n, c) for c in table.shown_columns] for n in range(shown)]
    grid, least, need = _ruled(table.title, heads, rows)
    if need > console.width and rows:
        filled = [n for n in range(len(heads)) if any(row[n] for row in rows)]
        heads, rows = [heads[n] for n in filled], [[row[n] for n in filled] for row in rows]
        grid, least, need = _ruled(table.title, heads, rows)
    if need > console.width and 0 < len(rows) <= 12:
        across = [list(cells) for cells in zip(heads, *rows)]
        turned, _, turned_need = _ruled(table.title, across[0], across[1:])
        if turned_need <= console.width:
            grid, least, need = turned, 0, 0
    # a terminal would break longer lines itself; a file holds them
    console.width = max(console.width, least if console.is_terminal or width else need)
    console.print(grid)
    if shown < table.count:
        print(f"The first {shown} of {table.count} rows. --out FILE.csv writes all of them.")


ROWS = 100
"""Rows of a table that a terminal gets."""
NUMBER = r"[−+]?\d[\d .]*|\d{4}-\d\d-\d\d|–"
WORD, LONGEST_WORD = 6, 24
"""Characters of a word that are kept together at least, and those that are when there is room."""


def _ruled(title: str, heads: list[str], rows: list[list[str]]) -> tuple[Any, int, int]:
    """A table to print, and the widths below which numbers, and words, in it would be broken."""
    from rich.cells import cell_len
    from rich.table import Table as RichTable

    grid, least, need = RichTable(title=title), 1, 1
    for n, head in enumerate(heads):
        cells = [row[n] for row in rows]
        numbers = bool(cells) and all(re.fullmatch(NUMBER, cell) for cell in cells)
        grid.add_column(head, no_wrap=numbers, justify="right" if numbers else "left", overflow="fold")
        if numbers:
            longest = max(map(cell_len, [head, *cells]))
        else:
            words = (cell_len(word) for cell in [head, *cells] for word in cell.split())
            longest = min(max(words, default=1), LONGEST_WORD)
        least += (longest if numbers else min(longest, WORD)) + 3
        need += longest + 3
    for row in rows:
        grid.add_row(*row)
    return grid, least, need


def _plain(operation: Operation, said: Said, written: list[Path]) -> dict[str, Any]:
    told: dict[str, Any] = {"operation": operation.name}
    if said.tables:
        rows = [[_number(r) for r in t.as_records()] for t in said.tables]
        told["rows"] = rows[0]
        if len(rows) > 1:
            told["tables"] = [{"title": t.title, "rows": r} for t, r in zip(said.tables, rows)]
    if said.labels is not None:
        what, cell, unit = said.labels.space.extent
        told["labels"] = [
            {
                "number": r.number,
                "name": r.name,
                "voxels": int(said.labels.counts[r.number]),
                what: float(said.labels.counts[r.number] * cell),
                f"{what}_unit": unit,
            }
            for r in said.labels.table
        ]
    if said.lost:
        told["not said"] = said.lost
    images = [r for r in said.kept if can_lead(r.kind)]
    if images:
        told["images"] = [
            {
                "id": r.id,
                "subject": r.subject,
                "name": r.name,
                "reference": str(r.reference),
                "shape": list(r.space.shape),
                "spacing": list(r.space.spacing),
                "spacing_unit": r.space.unit,
            }
            for r in images
        ]
    others = [r for r in said.kept if r not in images]
    if others:
        told["things"] = [{"id": r.id, "kind": r.kind, "reference": str(r.reference)} for r in others]
    if written:
        told["file"] = str(written[0])
    if said.not_done is not None:
        told["trouble"] = str(said.not_done)
    return told


def _number(record: dict) -> dict:
    """Numbers that JSON cannot say become null."""
    return {
        k: None if isinstance(v, float) and (v != v or v in (float("inf"), -float("inf"))) else v
        for k, v in record.items()
    }
