"""Marks, one by one: add, change, delete, list."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated, Any, Literal

from ..core.errors import Trouble
from ..core.geometry.mark import Mark
from ..core.geometry.marks import MarkEdit, Marks
from ..core.geometry.numbers_of import numbers_of
from ..core.geometry.typed_points import corners_of, points_of
from ..core.left_out import LeftOut
from ..core.operation import operation
from ..core.parameter import Between, Role, Unit
from ..core.table import Table
from ..formats.mark_table import mark_rows

ShapeName = Literal[
    "point", "line", "length", "polyline", "freehand", "polygon", "rectangle", "ellipse", "circle", "angle",
    "lines-angle", "arrow", "text", "highlight", "box", "section", "scale-bar"
]  # fmt: skip
ALSO = {"length": "line"}
"""Other words for shapes."""
Positions = Annotated[str, Unit("mm"), Role("places")]
COLOUR = re.compile(r"#[0-9A-Fa-f]{6}")
AsIs = LeftOut("as it is")
Wide = Annotated[float, Unit("mm"), Between(0, 1e6)]


@operation(
    "measure",
    "Add a mark",
    name="mark",
    once=("add-mark",),
    keywords="measure length distance point landmark line polygon rectangle ellipse annotation draw contour fiducial",
    called={"points": "Points", "class_": "Class", "across": "Width of a section", "sure": "Points ±"},
    rare="text colour across sure notes",
    group="Marks",
    methods="Marks were placed",
)
def add_mark(
    marks: Marks,
    points: Positions,
    shape: ShapeName = "point",
    name: str = "",
    *,
    class_: Annotated[int, Between(0, 65535)] = 0,
    text: str = "",
    colour: str = "",
    across: Wide = 0.0,
    sure: Wide = 0.0,
    notes: str = "",
) -> MarkEdit:
    """Draw a mark by typing where its points lie.

    Parameters
    ----------
    points : text
        World positions with ; between them, as in 1, 2, 3; 4, 5, 6; x and y will do on a picture, and a unit may stand
        behind a number (5um). Of a rectangle, an ellipse or a box two opposite corners will do.
    shape : text
        What it is; a length is a line.
    name : text
        What it is called.
    class_ : number
        Of its class table.
    text : text
        What is written at it.
    colour : text
        As #RRGGBB; that of its class when left out.
    across : mm
        How wide a section is.
    sure : mm
        Standard uncertainty of its points along each axis; that of a voxel when left out.
    notes : text
        Whatever else is to be known of it.

    Raises
    ------
    Trouble
        When the points are none, or not as many as the shape has.
    """
    kind = ALSO.get(shape, shape)
    where = corners_of(kind, points_of(points, marks.unit))
    facts = {"name": name, "cls": class_, "text": text, "colour": colour_of(colour), "across": across, "sure": sure}
    more = {"notes": {"note": notes}} if notes else {}
    mark = Mark(kind, tuple(map(tuple, where.tolist())), **facts, **more)  # type: ignore[arg-type]
    return MarkEdit.adding(f"Add {mark.called}", marks, [mark])


@operation(
    "measure",
    "Change a mark",
    name="change-mark",
    keywords="rename recolour move nudge shift edit landmark",
    called={"class_": "Class", "by": "Shift by", "across": "Width of a section", "mark": "Number of the mark"},
    rare="across notes text",
    group="Marks",
)
def change_mark(
    marks: Marks,
    mark: Annotated[int, Between(1, 1e15)],
    name: Annotated[str | None, AsIs] = None,
    *,
    points: Annotated[str | None, Unit("mm"), Role("places"), AsIs] = None,
    by: Annotated[tuple[float, float, float], Unit("mm")] = (0.0, 0.0, 0.0),
    class_: Annotated[int | None, AsIs] = None,
    text: Annotated[str | None, AsIs] = None,
    colour: Annotated[str | None, AsIs] = None,
    across: Annotated[float | None, Unit("mm"), AsIs] = None,
    notes: Annotated[str | None, AsIs] = None,
) -> MarkEdit:
    """Rename, move or recolour a mark; what is left out stays as it is.

    Parameters
    ----------
    mark : number
        As the list of marks tells it.
    name : text
        What it is called.
    points : text
        World positions with ; between them.
    by : mm
        How far all of it is shifted, x, y and z.
    class_ : number
        Of its class table; 0 for none.
    text : text
        What is written at it.
    colour : text
        As #RRGGBB.
    across : mm
        How wide a section is.
    notes : text
        Whatever else is to be known of it.

    Raises
    ------
    Trouble
        When there is no such mark, or nothing would change.
    """
    before = marks[mark]
    given: dict[str, Any] = {"name": name, "cls": class_, "text": text, "across": across}
    given["colour"] = None if colour is None else colour_of(colour)
    after = replace(before, **{key: value for key, value in given.items() if value is not None})
    if notes is not None:
        after = replace(after, notes={**after.notes, "note": notes})
    if points is not None:
        after = after.with_points(corners_of(after.shape, points_of(points, marks.unit)))
    after = after.shifted(by) if any(by) else after
    if after == before:
        raise Trouble(f"{before.called[:1].upper()}{before.called[1:]} is so already", "say what is to change")
    return MarkEdit.between(f"Change {before.called}", marks, {mark: after})


@operation("measure", "Delete marks", name="delete-marks", keywords="remove clear landmark annotation", group="Marks")
def delete_marks(marks: Marks, which: str) -> MarkEdit:
    """Take marks out; this can be undone.

    Parameters
    ----------
    which : text
        Numbers of marks, as in 3, 5-9; or "all".

    Raises
    ------
    Trouble
        When one of them is not there.
    """
    numbers = numbers_of(which, marks)
    if not numbers:
        raise Trouble("There is no mark to delete", "list the marks to see their numbers")
    found = [marks[number] for number in numbers]
    title = f"Delete {found[0].called}" if len(found) == 1 else f"Delete {len(found)} marks"
    return MarkEdit.between(title, marks, dict.fromkeys(numbers))


@operation(
    "measure", "List marks", name="list-marks", keywords="landmarks points table coordinates annotations", group="Marks"
)
def list_marks(marks: Marks) -> Table:
    """List marks with their points: a row a point."""
    table = mark_rows(marks)
    table.title = f"{marks.name} on {marks.of}" if marks.of else marks.name
    return table


def colour_of(text: str) -> str:
    """A colour as it is kept. Raises Trouble when the text is none."""
    if text and not COLOUR.fullmatch(text.strip()):
        raise Trouble(f"“{text[:40]}” is no colour", "write it as #RRGGBB, for example #56A8C7")
    return text.strip().upper()


def several(marks: Sequence[Mark]) -> str:
    """How many marks, in words."""
    return "one mark" if len(marks) == 1 else f"{len(marks)} marks"
