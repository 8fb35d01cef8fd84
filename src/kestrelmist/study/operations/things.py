"""Rename, take away, delete; undo and redo."""

from __future__ import annotations

from ...core.errors import Trouble
from ...core.operation import operation
from ...core.table import Column, Table
from ..kinds import AnyThing
from ..study import Study


@operation(
    "gather",
    "Rename",
    name="rename",
    keywords="name title image label map transform table call relabel",
    repeats=False,
    group="This image",
)
def rename(study: Study, thing: AnyThing, name: str) -> None:
    """Give an image, a label map, a transform or a table another name.

    Parameters
    ----------
    name : text
        The new name; none that another of its kind has already.
    """
    study.rename(thing.id, name)


@operation(
    "gather",
    "Take off the Shelf",
    name="take-off",
    keywords="remove hide put away remove from list unload close image",
    repeats=False,
    group="This image",
)
def take_off(study: Study, thing: AnyThing) -> None:
    """Take a thing off the Shelf. Its files and labels stay; undo puts it back."""
    study.set_removed(thing.id, True)


@operation(
    "gather",
    "Delete for good",
    name="delete",
    keywords="remove erase files delete image trash",
    repeats=False,
    final=True,
    group="This image",
)
def delete(study: Study, thing: AnyThing, name: str) -> None:
    """Delete a thing with what is of it and the study's copy of its files, for good. Files left in place stay.

    Parameters
    ----------
    name : text
        Its name once more, typed as it is, to be sure.
    """
    study.delete(thing.id, name)


@operation("report", "Undo", name="undo", keywords="back take history revert", repeats=False, group="Steps")
def undo(study: Study, times: int = 1) -> Table:
    """Take back the last steps of the study.

    Parameters
    ----------
    times : number
        How many.
    """
    return _turned(study, times, back=True)


@operation("report", "Redo", name="redo", keywords="again forth history", repeats=False, group="Steps")
def redo(study: Study, times: int = 1) -> Table:
    """Do again what was undone last.

    Parameters
    ----------
    times : number
        How many steps.
    """
    return _turned(study, times, back=False)


def _turned(study: Study, times: int, back: bool) -> Table:
    table = Table("Undone" if back else "Done again", [Column("step")])
    for _ in range(max(times, 0)):
        entry = study.history.undo() if back else study.history.redo()
        if entry is None:
            break
        table.rows.append((entry.title,))
    if not table.rows:
        raise Trouble(f"There is nothing to {'undo' if back else 'redo'}", "")
    return table
