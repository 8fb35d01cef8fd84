"""Join, subtract and intersect labels: of one map, or of two."""

from __future__ import annotations

from typing import Literal

from ...core.errors import Trouble
from ...core.label_boxes import Box, round_all
from ...core.label_grid import on_grid
from ...core.labels import Label, LabelMap, LabelTable
from ...core.operation import operation
from ...core.parameter import LabelName
from ...core.patch import LabelEdit, patch_to
from .grow_shrink import GROUP


@operation(
    "outline",
    "Join, subtract, intersect",
    name="combine-labels",
    keywords="boolean union difference intersection and or not merge add logical",
    called={"other": "With the map", "label": "Label", "other_label": "With its label", "over": "Over other labels"},
    rare="over other",
    group=GROUP,
    methods="Labels were combined ({how})",
)
def combine_labels(
    labels: LabelMap,
    other: LabelMap | None = None,
    how: Literal["join", "subtract", "intersect"] = "join",
    label: LabelName | None = None,
    *,
    other_label: str = "",
    over: bool = False,
) -> LabelEdit:
    """Change labels by others: join takes their voxels too, subtract leaves theirs out, intersect keeps what both have.

    With a second map and no names, every label is combined with that of the same name there; join also brings those
    that this map has not. A map on another grid is brought along by world position.

    Parameters
    ----------
    other : label map
        The other map; the same one when left out.
    how : text
        What becomes of the label.
    label : text
        The one that changes; in two maps every one of the same name when left out.
    other_label : text
        The one that it is combined with; that of the same name when left out.
    over : bool
        Whether join may take voxels of further labels that are not locked.

    Raises
    ------
    Trouble
        When a label is not there, locked or the same, the maps have none in common, or no voxel would be left.
    """
    if other is None and (not label or not other_label):
        raise Trouble("Nothing says which labels are to be combined", "name two of the map, or another map")
    there = other if other is not None else labels
    if there.space.unit != labels.space.unit:
        raise Trouble(f"“{labels.name}” and “{there.name}” have no scale in common", "set the voxel size of both")
    source = there if there.space.same_grid(labels.space) else on_grid(there, labels.space)
    table, pairs = _pairs(labels, source, how, label, other_label)
    box = _round(labels, source)
    was, numbers = labels.kji[box], source.kji[box]
    after, allowed = was.copy(), labels.writable() != 0
    takes = allowed[was] if over or other is None else was == 0
    for row, fellow in pairs:
        mine, theirs = was == row.number, numbers == fellow.number
        if how == "join":
            after[theirs & takes] = row.number
        else:
            gone = mine & (theirs if how == "subtract" else ~theirs)
            after[gone] = 0
            if mine.any() and not (mine & ~gone).any():
                raise Trouble(f"No voxel of “{row.name}” would be left", "choose other labels, or delete it")
    k, j, i = (s.start for s in box)
    patch = patch_to(labels, after, (k, j, i))
    words = {"join": "Join {} with {}", "subtract": "Take {1} from {0}", "intersect": "Keep of {} what {} has"}[how]
    named = f"“{pairs[0][0].name}”" if len(pairs) == 1 else f"{len(pairs)} labels"
    with_ = f"“{pairs[0][1].name}”" if other is None else f"“{there.name}”"
    none = "" if patch.voxels or table != labels.table else ": nothing changed"
    return LabelEdit(words.format(named, with_) + none, patch, labels.table, table)


def _round(*maps: LabelMap) -> Box:
    """The part of a grid that holds everything that is drawn in two maps."""
    boxes = [box for box in (one.painted for one in maps) if box is not None]
    return round_all(boxes) if boxes else (slice(0, 1),) * 3


def _pairs(
    labels: LabelMap, source: LabelMap, how: str, label: str | None, other_label: str
) -> tuple[LabelTable, list[tuple[Label, Label]]]:
    """Labels that go together, and the table with those that join brings."""
    table = labels.table
    if label:
        if how == "join" and not table.has_name(label):
            table, row = table.with_new(label)
        else:
            row = table.named(label)
        labels.require_unlocked(row)
        fellow = source.table.named(other_label or label)
        if source is labels and fellow.number == row.number:
            raise Trouble(f"“{row.name}” cannot be combined with itself", "name another label")
        return table, [(row, fellow)]
    pairs = []
    for fellow in [source.table.named(other_label)] if other_label else source.table:
        if not source.counts[fellow.number]:
            continue
        if table.has_name(fellow.name):
            row = table.named(fellow.name)
        elif how == "join":
            table, row = table.with_new(fellow.name, fellow.colour)
        else:
            continue
        if not row.locked:
            pairs.append((row, fellow))
    if not pairs:
        raise Trouble(
            f"“{labels.name}” and “{source.name}” have no label of the same name that is drawn and not locked",
            "name the labels, or rename them so that they agree",
        )
    if how == "intersect":
        known = {row.number for row, _ in pairs}
        empty = [r for r in labels.table if labels.counts[r.number] and r.number not in known and not r.locked]
        if empty:
            raise Trouble(f"“{source.name}” has no “{empty[0].name}”", "name the label that is meant")
    return table, pairs
