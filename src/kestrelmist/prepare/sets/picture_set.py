"""Sets of pictures for machine learning: from a table of boxes and a folder of pictures to arrays of one size."""

from __future__ import annotations

import hashlib
import json
import re
import shutil
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any, Literal

from ...core.claim import claimed
from ...core.errors import Trouble
from ...core.operation import operation
from ...core.parameter import Between, FilePath, FolderPath, NewPath, Only
from ...core.progress import Progress, silent
from ...core.table import Table
from .box_columns import Layout
from .box_table import read_boxes
from .picture_fit import NumberType, Rule, Values
from .picture_match import files_below, matched
from .set_plan import Shares, planned
from .set_tables import finish
from .set_work import Item, Recipe, Wanted, worked_out

Pair = tuple[float, float]
Share = Annotated[float, Between(0, 1e6), Only("by_part_column", False)]
LARGEST = 8192


@operation(
    "prepare",
    "Set of pictures",
    name="picture-set",
    keywords="machine learning training validation test boxes dataset resize npy zarr radiograph split annotation",
    group="Sets",
    repeats=False,
    called={
        "rule": "Fit pictures by",
        "values": "Range from",
        "type": "Number type",
        "by_part_column": "Parts by column",
        "columns": "Columns mean",
        "layout": "Boxes are",
        "counted_in": "Boxes count in",
        "store": "Kept as",
    },
    rare="seed workers store layout counted_in columns by_part_column",
    methods="A set of pictures was made: boxes brought to {size} pixels ({rule}), values scaled ({values})",
)
def picture_set(
    table: FilePath,
    folder: FolderPath,
    to: NewPath,
    *,
    size: str = "224",
    rule: Rule = "fit",
    values: Values = "type",
    range: Annotated[Pair | None, Only("values", "range")] = None,
    percentiles: Annotated[Pair, Between(0, 100), Only("values", "percentiles")] = (1.0, 99.0),
    type: NumberType = "float16",
    channels: Literal["grey", "colour"] = "grey",
    validation: Share = 0.2,
    test: Share = 0.0,
    seed: Annotated[int, Only("by_part_column", False)] = 1,
    balanced: Annotated[bool, Only("by_part_column", False)] = True,
    by_part_column: bool = False,
    columns: str = "",
    layout: Layout = "auto",
    counted_in: Pair | None = None,
    store: Literal["npy", "zarr"] = "npy",
    workers: Annotated[int, Between(0, 64)] = 2,
    progress: Progress = silent(),
) -> Table:
    """Make a set of pictures for machine learning: those of a table of boxes, brought to one size and one scale of
    values, shared out by subject into training, validation and test.

    A run that was stopped goes on where it was, when it is asked for in the same words. Radiographs that are stored
    with dense bone dark (MONOCHROME1) are turned over.

    Parameters
    ----------
    table : file
        CSV with a row a box: which picture, the four numbers of the box, class, subject. Rows without a box are
        pictures on which there is nothing.
    folder : folder
        Where the pictures are, at any depth.
    to : path
        The new folder: arrays below training, validation and test; pictures.csv, boxes.csv, subjects.csv, problems.csv,
        statistics.json, and manifest.json with everything that is needed to do it again.
    size : text
        Side in pixels, or columns x rows, as in 320x240.
    rule : text
        How a picture fills it: "stretch", "fit" with a border, or "crop" about the middle. Boxes come along.
    values : text
        "type": the range of the picture's number type becomes 0 to 1; "range": that of --range; "percentiles": between
        two of the picture itself; "none": as they are. Of uint8 it is 0 to 255.
    range, percentiles : two numbers
        Lowest and highest.
    type : text
        Number type of the arrays.
    channels : text
        "grey": arrays have rows and columns, and colours become their brightness. "colour": arrays have red, green and
        blue as a third axis, and grey pictures have the same in all of them.
    validation, test : number
        Below 1 a share of the subjects, from 1 on how many of them. No subject is in two parts.
    seed : number
        The same seed shares out in the same way.
    balanced : bool
        Subjects with the same classes are shared out among themselves.
    by_part_column : bool
        Take the parts from a column of the table instead.
    columns : text
        What a column is, when it is not guessed: "picture=File, class=Finding, subject=Animal, a=left, b=top, c=wide,
        d=high".
    layout : text
        How the four numbers of a box are meant, when their headings do not say it.
    counted_in : two numbers
        Columns and rows that boxes are counted in, when they are not the pictures' own.
    store : text
        An .npy file a picture, or all of a part in one Zarr array.
    workers : number
        Processes.

    Returns
    -------
    Table
        What became of rows, pictures and subjects.

    Raises
    ------
    Trouble
        When the table or the folder cannot be read, no picture is found, a subject is in two parts of a given column,
        there is something of that name already, or nothing can be written.
    """
    shape = _size(size)
    if values == "range" and (range is None or not range[0] < range[1]):
        raise Trouble("A range of values needs its lowest and its highest", "give both, as in --range 0,4095")
    if values == "percentiles" and not percentiles[0] < percentiles[1]:
        raise Trouble("The first percentile is not below the second", "give them as in 1,99")
    to = Path(to)
    if to.exists() and (not to.is_dir() or any(to.iterdir())):
        raise Trouble("There is something of this name already", "name a new folder", to)
    boxes = read_boxes(Path(table), columns, layout, counted_in)
    progress.at(0.01, "Matching rows and files")
    files = matched((row.picture for row in boxes.rows), files_below(Path(folder)), Path(folder))
    shares = Shares(validation, test, seed, balanced, by_part_column)
    wanted, problems = planned(boxes, files, shares, progress.part(0.01, 0.02))
    limits = range if values == "range" and range is not None else percentiles
    recipe = Recipe(shape, rule, values, (float(limits[0]), float(limits[1])), type, channels == "colour")
    said: dict[str, Any] = {
        "table": str(Path(table).resolve()),
        "folder": str(Path(folder).resolve()),
        **asdict(recipe),
        "validation": validation, "test": test, "seed": seed, "balanced": balanced, "by part column": by_part_column,
        "columns": boxes.columns.told(boxes.heads), "subjects known": "subject" in boxes.columns.where,
        "store": store, "counted in": counted_in,
        "table sha256": hashlib.sha256(Path(table).read_bytes()).hexdigest(),
    }  # fmt: skip
    with claimed(to, keep=True) as beside:
        _continued(beside, said, wanted)
        items = [Item(n, str(one.file), one.target) for n, one in enumerate(wanted)]
        done = worked_out(items, recipe, beside, workers, progress.part(0.02, 0.85))
        report = finish(beside, wanted, done, recipe, said, problems, store, progress.part(0.85, 1.0))
        if to.is_dir():
            to.rmdir()  # it is empty
        beside.rename(to)
    return report


def _size(text: str) -> tuple[int, int]:
    found = re.fullmatch(r"\s*(\d+)\s*(?:[x×,]\s*(\d+)\s*)?", text.lower())
    if not found:
        raise Trouble(f"“{text}” is no size of pictures", "give a side in pixels, or columns x rows, as in 320x240")
    columns = int(found[1])
    rows = int(found[2] or columns)
    if not 1 <= min(columns, rows) <= max(columns, rows) <= LARGEST:
        raise Trouble(f"Pictures of {columns} × {rows} are not made", f"give sides from 1 to {LARGEST}")
    return columns, rows


def _continued(beside: Path, said: dict[str, Any], wanted: list[Wanted]) -> None:
    """What an earlier run has left goes on when it was asked for in the same words, of the same files; else it is
    cleared."""
    files = [(str(one.file), one.file.stat().st_size, one.file.stat().st_mtime_ns, one.target) for one in wanted]
    asked = hashlib.sha256(json.dumps([said, files], sort_keys=True, default=str).encode()).hexdigest()
    plan = beside / "plan"
    if not plan.exists() or plan.read_text() != asked:
        if beside.exists():
            shutil.rmtree(beside)
        beside.mkdir(parents=True)
        plan.write_text(asked)
