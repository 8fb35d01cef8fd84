"""Rename, take away, delete; undo and redo."""

from __future__ import annotations

from ...core.errors import Trouble
from ...core.operation import operation
from ...core.table import Column, Table
from ..changes import ItemChange
from ..kinds import AnyImage, AnyThing
from ..logbook import Step
from ..study import Study


@operation(
    "gather", "Rename", name="rename", keywords="name title image label map transform table call relabel", repeats=False
)
def rename(study: Study, thing: AnyThing, name: str) -> None:
    """Give an image, a label map, a transform or a table another name.

    Parameters
    ----------
    name : text
        The new name; none that another of its kind has already.
    """
    study.rename(thing.id, name)


@operation("align", "Lie together", name="together", keywords="two subjects meant", repeats=False)
def together(study: Study, image: AnyImage, others: str) -> None:
    """Note that images of other subjects are meant to lie over an image, so that the checks say no more of it.

    Parameters
    ----------
    others : text
        References of the other images, with commas between them.
    """
    given = [part.strip() for part in others.split(",") if part.strip()]
    keys = [study.find(int(one) if one.isdigit() and study.items.get(int(one)) else one).id for one in given]
    before = list(image.body.get("together") or [])
    after = sorted({*before, *keys})
    names = ", ".join(f"“{study.find(key).name}” of {study.find(key).subject}" for key in keys)
    title = f"Let {names} lie over “{image.name}”"
    step = Step("together", title, {"others": others}, {"image": (study.as_thing(image),)})
    study.history.do([ItemChange(image.id, title, {"body.together": before}, {"body.together": after})], step, title)


@operation(
    "gather",
    "Take off the Shelf",
    name="take-off",
    keywords="remove hide put away remove from list unload close image",
    repeats=False,
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
)
def delete(study: Study, thing: AnyThing, name: str) -> None:
    """Delete a thing with what is of it and the study's copy of its files, for good. Files left in place stay.

    Parameters
    ----------
    name : text
        Its name once more, typed as it is, to be sure.
    """
    study.delete(thing.id, name)


@operation("report", "Undo", name="undo", keywords="back take history revert", repeats=False)
def undo(study: Study, times: int = 1) -> Table:
    """Take back the last steps of the study.

    Parameters
    ----------
    times : number
        How many.
    """
    return _turned(study, times, back=True)


@operation("report", "Redo", name="redo", keywords="again forth history", repeats=False)
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
