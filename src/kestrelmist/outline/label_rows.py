"""The rows of a label table: add, change, delete a label."""

from __future__ import annotations

import re

import numpy as np

from ..core.errors import Trouble
from ..core.labels import LabelMap
from ..core.operation import operation
from ..core.parameter import LabelName
from ..core.patch import LabelEdit, patch_from_mask

COLOUR = re.compile(r"#[0-9A-Fa-f]{6}")


@operation(
    "outline",
    "New label",
    name="add-label",
    keywords="create class name region of interest roi roi region of interest new class structure",
    group="Labels",
)
def add_label(labels: LabelMap, label: str, colour: str = "") -> LabelEdit:
    """Add a label to the table of a label map, at the lowest free number.

    Parameters
    ----------
    label : text
        Its name; none that another label has already.
    colour : #RRGGBB
        Its colour; the next of the palette when left out.
    """
    table, row = labels.table.with_new(label, _colour(colour) if colour else None)
    return LabelEdit(f"New label “{row.name}”", None, labels.table, table)


@operation(
    "outline", "Change a label", name="change-label", keywords="rename colour lock unlock hide show", group="Labels"
)
def change_label(
    labels: LabelMap,
    label: LabelName,
    name: str | None = None,
    *,
    colour: str | None = None,
    locked: bool | None = None,
    hidden: bool | None = None,
) -> LabelEdit:
    """Rename, recolour, lock or hide a label; what is left out stays as it is.

    Parameters
    ----------
    label : text
    name : text
        Its new name.
    colour : #RRGGBB
        Its new colour.
    locked : bool
        A locked label cannot be changed by any tool.
    hidden : bool
        A hidden label is not drawn.

    Raises
    ------
    Trouble
        When there is no such label, the new name is taken, or nothing would change.
    """
    row = labels.table.named(label)
    changes: dict = {
        "name": name,
        "colour": None if colour is None else _colour(colour),
        "locked": locked,
        "hidden": hidden,
    }
    changes = {k: v for k, v in changes.items() if v is not None and v != getattr(row, k)}
    if not changes:
        raise Trouble(f"“{row.name}” is so already", "say what is to change")
    words = {
        "name": "Rename",
        "colour": "Recolour",
        "locked": "Lock" if locked else "Unlock",
        "hidden": "Hide" if hidden else "Show",
    }
    title = f"{' and '.join(words[k] for k in changes)} “{row.name}”"
    return LabelEdit(title, None, labels.table, labels.table.changed(row.number, **changes))


@operation("outline", "Delete a label", name="delete-label", keywords="remove class clear", group="Labels")
def delete_label(labels: LabelMap, label: LabelName) -> LabelEdit:
    """Take a label out of the table, and its voxels out of the map; this can be undone.

    Parameters
    ----------
    label : text
    """
    row = labels.table.named(label)
    labels.require_unlocked(row)
    patch = None
    if labels.counts[row.number]:
        patch = patch_from_mask(labels, (labels.kji == row.number).view(np.uint8), 0, only=row.number)
    return LabelEdit(f"Delete “{row.name}”", patch, labels.table, labels.table.without(row.number))


def _colour(text: str) -> str:
    if not COLOUR.fullmatch(text.strip()):
        raise Trouble(f"“{text}” is no colour", "write it as #RRGGBB, for example #56A8C7")
    return text.strip().upper()
