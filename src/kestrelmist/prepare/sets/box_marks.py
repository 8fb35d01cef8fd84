"""Boxes on a picture as marks: from a table, and to one."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.mark import Mark
from ...core.geometry.marks import Marks
from ...core.image import Image
from ...core.operation import operation
from ...core.parameter import FilePath, NewPath, Role
from ...core.safe_write import require_new
from ...core.table import Column, Table
from ...formats.saving import save_thing
from .box_table import Box, Row, box_in, lies_out, read_boxes, table_of


@operation(
    "prepare",
    "Take boxes from a table",
    name="take-boxes",
    keywords="bounding boxes annotations detection csv import rectangles class",
    takes="series colour",
    called={"picture": "Name in the table"},
    rare="picture",
    group="Sets",
    methods="Boxes were taken from a table",
)
def take_boxes(
    image: Annotated[Image, Role("grid")], file: FilePath, picture: str = "", *, name: str = "Boxes"
) -> Marks:
    """Bring the boxes that a table has of a picture onto it, as rectangles with their class as name.

    Parameters
    ----------
    image : image
        A picture.
    file : path
        CSV of boxes, in any of the layouts that a set of pictures takes.
    picture : text
        What the picture is called in the table; its own name, or that of its file, when left out.
    name : text
        What the marks are called.

    Raises
    ------
    Trouble
        When the file is no table of boxes, has none of this picture, or one lies outside it.
    """
    if 1 not in image.space.shape:
        raise Trouble(f"“{image.name}” is no picture", "choose one: boxes are flat")
    table = read_boxes(file)
    known = {_stem(picture)} if picture else {_stem(image.name), *(_stem(str(f)) for f in image.origin.files)}
    rows = [row for row in table.rows if row.box is not None and _stem(row.picture) in known]
    if not rows:
        raise Trouble(
            f"The table has no box of “{picture or image.name}”", "say what the picture is called there", file
        )
    columns, lines = image.space.shape[0], image.space.shape[1]
    marks = []
    for row in rows:
        if lies_out(row, (columns, lines)):
            raise Trouble(f"The box in line {row.line} lies outside “{image.name}”", "correct it in the table", file)
        box = box_in(row, columns, lines)
        assert box is not None
        left, top = box.left - 0.5, box.top - 0.5  # middles of pixels are whole numbers
        right, bottom = left + box.width, top + box.height
        corners = np.array([(left, top, 0), (right, top, 0), (right, bottom, 0), (left, bottom, 0)], float)
        world = image.space.to_world(corners)
        notes = {"part": row.part} if row.part else {}
        marks.append(Mark("rectangle", tuple(map(tuple, world.tolist())), name=row.label, notes=notes))
    said = {"world": image.space.world, "unit": image.space.unit, "of": image.name, "subject": image.subject}
    return Marks.numbered(marks, name=name, **said)


@operation(
    "prepare",
    "Save boxes",
    name="save-boxes",
    keywords="bounding boxes annotations detection csv export rectangles class",
    takes="series colour",
    called={"picture": "Name in the table"},
    rare="picture replace_file",
    group="Sets",
    methods="Boxes were written as a table",
)
def save_boxes(
    image: Annotated[Image, Role("grid")],
    marks: Marks,
    to: NewPath,
    picture: str = "",
    *,
    replace_file: bool = False,
) -> Table:
    """Write rectangles on a picture as a table of boxes, in pixels from the outer corner of the first one.

    Parameters
    ----------
    image : image
        The picture.
    marks : marks
        Rectangles; what else is drawn is left out.
    to : path
        The new file: .csv.
    picture : text
        What the picture is called in the table; the name of its file when left out.
    replace_file : bool
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When there is no rectangle, one is turned, or there is a file of that name.
    """
    require_new(to, replace_file)
    files = image.origin.files
    called = picture or (Path(files[0]).name if files else image.name)
    rows = []
    for mark in marks:
        if mark.shape != "rectangle":
            continue
        at = image.space.to_voxel(mark.array)[:, :2] + 0.5
        low, high = at.min(0), at.max(0)
        beside = np.minimum(np.abs(at - low), np.abs(at - high)).max()
        if beside > 1e-3 * max(1.0, float((high - low).max())):
            raise Trouble(f"The {mark.called} is turned, and a box is not", "draw it along the picture’s edges")
        box = Box(float(low[0]), float(low[1]), float(high[0] - low[0]), float(high[1] - low[1]))
        part = str(mark.notes.get("part", ""))
        size = (float(image.space.shape[0]), float(image.space.shape[1]))
        rows.append(Row(0, called, box, mark.name, image.subject, part, size))
    if not rows:
        raise Trouble(f"“{marks.name}” has no rectangle", "draw one round each thing")
    save_thing(to, table_of(rows))
    columns = [Column("boxes"), Column("count"), Column("file")]
    return Table(f"{marks.name} saved", columns, [(marks.name, len(rows), str(to))])


def _stem(name: str) -> str:
    """A picture's name without folder and ending, in small letters."""
    plain = Path(name.replace("\\", "/")).name.casefold()
    for ending in (".ome.tif", ".ome.tiff", ".nii.gz"):
        if plain.endswith(ending):
            return plain[: -len(ending)]
    return Path(plain).stem if "." in plain else plain
