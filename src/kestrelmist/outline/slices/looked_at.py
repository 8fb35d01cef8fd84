"""Say that bridged slices were looked at."""

from __future__ import annotations

from ...core.errors import Trouble
from ...core.labels import Label, LabelMap
from ...core.operation import operation
from ...core.parameter import LabelName
from ...core.patch import LabelEdit
from ...core.space import Space
from .unseen import as_text, unseen


@operation(
    "outline",
    "Bridged slices are fine",
    name="bridged-fine",
    keywords="accept looked at reviewed confirm",
    called={"label": "Label (all when left out)"},
    group="Shape",
    methods="Bridged slices were looked at by a person",
)
def bridged_fine(labels: LabelMap, label: LabelName | None = None) -> LabelEdit:
    """Say that somebody has looked at the slices of a label that were bridged; the checks list them no longer.

    Parameters
    ----------
    label : text
        All when left out.

    Raises
    ------
    Trouble
        When there is no such label, or none of its slices was bridged.
    """
    rows = [labels.table.named(label)] if label else list(labels.table)
    rows = [row for row in rows if row.bridged]
    if not rows:
        whose = f"“{label}”" if label else f"“{labels.name}”"
        raise Trouble(f"No slice of {whose} waits to be looked at", "bridge some first")
    table = labels.table
    for row in rows:
        table = table.changed(row.number, bridged="")
    named = f"“{rows[0].name}”" if len(rows) == 1 else f"{len(rows)} labels"
    return LabelEdit(f"Bridged slices of {named} are fine", None, labels.table, table)


def left_unseen(row: Label, space: Space, seen: set[tuple[int, int]]) -> str:
    """What a label's row says once slices (axis, number) have been seen: stretches of which one has not."""
    left = [s for s in unseen(row, space) if not all((s[0], n) in seen for n in range(s[1], s[2] + 1))]
    return as_text(left, space)
