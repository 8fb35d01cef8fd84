"""Class tables of a study: made, changed, and used by label maps and marks, which follow."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Annotated, Any

from ...core.class_table import ClassRow, ClassTable, class_name
from ...core.errors import Trouble
from ...core.labels import PALETTE, LabelMap
from ...core.left_out import LeftOut
from ...core.operation import operation
from ...core.parameter import FilePath, NewPath, Role
from ...core.safe_write import require_new
from ...core.table import Column, Table
from ...formats.class_files import class_rows
from ...formats.format import format_of
from ...formats.saving import save_thing
from ..items import Record
from ..journal.changes import Change, ItemChange
from ..journal.logbook import Step
from ..kinds import AnyMarks
from ..store import store_for
from ..study import Study

AnyClasses = Annotated[Record, Role("class table")]
AnyLabelMap = Annotated[Record, Role("label map")]
AsIs = LeftOut("as it is")
COLOUR = re.compile(r"#[0-9A-Fa-f]{6}")
WORDS = "classes categories ontology colour table label names legend atlas labels"


@operation("outline", "Class table of labels", name="classes-of", keywords=WORDS, group="Classes")
def classes_of(labels: LabelMap, name: str = "") -> ClassTable:
    """Make a class table of the labels of a label map: their numbers, names and colours.

    Parameters
    ----------
    name : text
        Of the class table; that of the label map when left out.

    Raises
    ------
    Trouble
        When the map has no labels.
    """
    if not len(labels.table):
        raise Trouble(f"“{labels.name}” has no labels yet", "make some first")
    return ClassTable.of_labels(labels.table, name or labels.name)


@operation(
    "outline", "Take a class table from a file", name="take-classes", keywords=f"{WORDS} import", group="Classes"
)
def take_classes(file: FilePath, name: str = "") -> ClassTable:
    """Take a class table into the study: CSV with columns number and name, and perhaps colour, parent, code and note.

    Parameters
    ----------
    file : path
        A table of classes, a row each.
    name : text
        What it is called; as the file when left out.

    Raises
    ------
    Trouble
        When the file is not there, or holds no class table.
    """
    if not file.is_file():
        raise Trouble("This file does not exist", "check the name", file)
    known = format_of(file, "class table")
    if known is None:
        raise Trouble("This kind of file holds no class table", "choose a CSV file", file)
    found: ClassTable = known.open(file)
    return ClassTable(found.rows, name or found.name)


@operation("outline", "Save a class table", name="save-classes", keywords=f"{WORDS} export", group="Classes")
def save_classes(classes: ClassTable, to: NewPath, *, replace_file: bool = False) -> Table:
    """Write a class table as CSV.

    Parameters
    ----------
    to : path
        The new file.
    replace_file : bool
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When there is a file of that name, or the place cannot be written.
    """
    require_new(to, replace_file)
    save_thing(to, classes)
    columns = [Column("class table"), Column("classes"), Column("file")]
    return Table(f"{classes.name} saved", columns, [(classes.name, len(classes), str(to))])


@operation("outline", "List classes", name="list-classes", keywords=WORDS, group="Classes")
def list_classes(classes: ClassTable) -> Table:
    """List the classes of a table with their numbers, colours and what they are parts of."""
    return class_rows(classes)


@operation(
    "outline",
    "Add or change a class",
    name="set-class",
    keywords=f"{WORDS} rename recolour new class",
    repeats=False,
    called={"class_": "Class", "number": "Number", "parent": "Part of"},
    rare="code note",
    group="Classes",
)
def set_class(
    study: Study,
    classes: AnyClasses,
    class_: str,
    name: Annotated[str | None, AsIs] = None,
    *,
    colour: Annotated[str | None, AsIs] = None,
    parent: Annotated[str | None, AsIs] = None,
    code: Annotated[str | None, AsIs] = None,
    note: Annotated[str | None, AsIs] = None,
) -> None:
    """Change a class, or add one; label maps and marks that use the table follow, and undo takes all of it back.

    Parameters
    ----------
    class_ : text
        Its name or its number; a name that is not there is added at the lowest free number, a number under `name`.
    name : text
        Its new name.
    colour : text
        As #RRGGBB.
    parent : text
        Name or number of the class that it is a part of; 0 for none.
    code : text
        What it is called in a list of terms.
    note : text
        Whatever else is to be known.

    Raises
    ------
    Trouble
        When a name or number is taken, the parent is not there, or nothing would change.
    """
    before = study.thing(classes.id)
    wanted = class_.strip()
    row = before.get(int(wanted)) if wanted.isdigit() else None
    row = row or next((r for r in before if r.name.casefold() == wanted.casefold()), None)
    if row is None:
        number = int(wanted) if wanted.isdigit() else before.free_number
        palette = PALETTE[(number - 1) % len(PALETTE)]
        row = ClassRow(number, class_name(name or ("" if wanted.isdigit() else wanted)), palette)
    given: dict[str, Any] = {"code": code, "note": note}
    if name:
        given["name"] = class_name(name)
    if colour:
        given["colour"] = _colour(colour)
    if parent is not None:
        given["parent"] = 0 if parent.strip() in ("", "0") else before.named(parent).number
    made = replace(row, **{key: value for key, value in given.items() if value is not None})
    if before.get(row.number) == made:
        raise Trouble(f"“{row.name}” is so already", "say what is to change")
    title = f"Change class “{made.name}”" if before.get(row.number) else f"Add class “{made.name}”"
    _keep(study, classes, before.with_row(made), title, {"class": class_, **{k: v for k, v in given.items() if v}})


@operation(
    "outline",
    "Delete a class",
    name="delete-class",
    keywords=WORDS,
    repeats=False,
    called={"class_": "Class"},
    group="Classes",
)
def delete_class(study: Study, classes: AnyClasses, class_: str) -> None:
    """Take a class out of a table; labels and marks of its number stay as they are. What was a part of it becomes a
    part of what it was a part of itself.

    Parameters
    ----------
    class_ : text
        Its name or its number.

    Raises
    ------
    Trouble
        When there is no such class.
    """
    before = study.thing(classes.id)
    row = before.named(class_)
    _keep(study, classes, before.without(row.number), f"Delete class “{row.name}”", {"class": class_})


@operation(
    "outline",
    "Use a class table",
    name="use-classes",
    keywords=f"{WORDS} apply names colours",
    repeats=False,
    group="Classes",
)
def use_classes(study: Study, labels: AnyLabelMap, classes: AnyClasses) -> None:
    """Call and colour the labels of a map as a class table does, now and whenever that changes. Locked and hidden
    labels stay so, labels without a class stay as they are.

    Raises
    ------
    Trouble
        When a label that stays has the name of a class, or all is so already.
    """
    title = f"Use “{classes.name}” for “{labels.name}”"
    changes = store_for(labels.kind).following(study, labels, study.thing(classes.id), title)
    changes += _pointing(labels, classes, title)
    _do(study, changes, Step("use-classes", title, {}, _things(study, labels=labels, classes=classes)), title)


@operation(
    "outline",
    "Use a class table for marks",
    name="use-classes-for-marks",
    keywords=f"{WORDS} apply names colours",
    repeats=False,
    group="Classes",
)
def use_classes_for_marks(study: Study, marks: AnyMarks, classes: AnyClasses) -> None:
    """Name and colour the classes of marks as a class table does, now and whenever that changes.

    Raises
    ------
    Trouble
        When it is so already.
    """
    title = f"Use “{classes.name}” for “{marks.name}”"
    step = Step("use-classes-for-marks", title, {}, _things(study, marks=marks, classes=classes))
    _do(study, _pointing(marks, classes, title), step, title)


def _things(study: Study, **records: Record) -> dict[str, tuple]:
    return {name: (study.as_thing(record),) for name, record in records.items()}


def _pointing(record: Record, classes: Record, title: str) -> list[Change]:
    before = record.body.get("classes")
    if before == classes.id:
        return []
    return [ItemChange(record.id, title, {"body.classes": before}, {"body.classes": classes.id})]


def _keep(study: Study, record: Record, after: ClassTable, title: str, settings: dict[str, Any]) -> None:
    """Change a class table, and with it every label map that uses it."""
    before = {"body.rows": record.body.get("rows"), "hash": record.hash}
    now = {"body.rows": after.as_list(), "hash": after.content_hash()}
    changes: list[Change] = [ItemChange(record.id, title, before, now)]
    for other in study.items.of_kind():
        if other.known and other.body.get("classes") == record.id:
            changes += store_for(other.kind).following(study, other, after, title)
    _do(study, changes, Step("set-class", title, settings, _things(study, classes=record)), title)


def _do(study: Study, changes: list[Change], step: Step, title: str) -> None:
    if not changes:
        raise Trouble("This is so already", "nothing is to be done")
    study.history.do(changes, step, title)


def _colour(text: str) -> str:
    if not COLOUR.fullmatch(text.strip()):
        raise Trouble(f"“{text[:40]}” is no colour", "write it as #RRGGBB, for example #56A8C7")
    return text.strip().upper()
