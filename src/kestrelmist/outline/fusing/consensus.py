"""What several people agree on: a label map by votes, or by how far each of them can be trusted."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np

from ...core.errors import Trouble
from ...core.label_boxes import Box, boxes_of, round_all, wider
from ...core.labels import LabelMap, LabelTable
from ...core.operation import operation
from ...core.progress import Progress, silent
from ...core.table import Column, Table


class Agreed(NamedTuple):
    """The common label map, and how each one stands to it."""

    labels: LabelMap
    raters: Table


@operation(
    "outline",
    "Consensus of label maps",
    name="consensus",
    keywords="staple majority vote raters observers combine inter-rater ground truth average segmentation",
    called={"how": "By", "others": "With"},
    group="Label maps",
    methods="A consensus of several label maps was made ({how})",
    cites=("Warfield 2004",),
)
def consensus(
    labels: LabelMap,
    others: list[LabelMap],
    how: Literal["trust", "votes"] = "trust",
    name: str = "Consensus",
    progress: Progress = silent(),
) -> Agreed:
    """Make one label map of what several people drew.

    Parameters
    ----------
    others : label maps
        On the same grid; labels of one name are compared.
    how : text
        "votes" gives a voxel what most of them say, and nothing where no label has more than half. "trust" weighs each
        by how well it agrees with what all together make likely (S. K. Warfield et al., IEEE Trans. Med. Imaging 23,
        2004).
    name : text
        What the result is called.

    Returns
    -------
    labels : LabelMap
    raters : Table
        For every label and map: sensitivity, specificity and Dice, against the consensus.

    Raises
    ------
    Trouble
        When there is one map only, they lie on several grids, or have no label in common.
    """
    maps = [labels, *others]
    if len(maps) < 2:
        raise Trouble("A consensus is of two label maps or more", "name others")
    for other in others:
        if not other.space.same_grid(labels.space):
            raise Trouble(f"“{other.name}” lies on another grid than “{labels.name}”", "bring it along first")
    names = {row.name.casefold(): row for one in reversed(maps) for row in one.table if one.counts[row.number]}
    common = [
        r
        for key, r in names.items()
        if sum(m.table.has_name(key) and bool(m.counts[m.table.named(key).number]) for m in maps) > 1
    ]
    if not common:
        raise Trouble("No label is drawn in two of these maps", "rename labels so that they agree")
    table = LabelTable(())
    data, best = np.zeros(labels.kji.shape, np.uint16), np.zeros(labels.kji.shape, np.float32)
    columns = [Column("label"), Column("map"), Column("sensitivity", "", 4), Column("specificity", "", 4)]
    said = Table(f"{name}: maps", [*columns, Column("dice", "", 4)])
    order = {row.name.casefold(): n for n, row in enumerate(labels.table)}
    places = [boxes_of(one.kji) for one in maps]
    for row in progress.over(sorted(common, key=lambda r: order.get(r.name.casefold(), 1 << 20)), what="Agreeing"):
        masks, box = _masks(maps, places, row.name)
        share, rates = _trusted(masks) if how == "trust" else (np.stack(masks).mean(0).astype(np.float32), None)
        table, made = table.with_new(row.name, row.colour)
        wins = (share > 0.5) & (share > best[box])
        data[box][wins], best[box][wins] = made.number, share[wins]
        agreed = share > 0.5
        for n, (one, mask) in enumerate(zip(maps, masks)):
            both = 2 * np.count_nonzero(mask & agreed)
            either = np.count_nonzero(mask) + np.count_nonzero(agreed)
            sens, spec = rates[n] if rates is not None else _rates(mask, agreed)
            said.rows.append((row.name, one.name, sens, spec, both / either if either else None))
    return Agreed(LabelMap(labels.space, data.T, table, name, labels.subject), said)


def _masks(maps: list[LabelMap], places: list[dict[int, Box]], name: str) -> tuple[list[np.ndarray], Box]:
    """Where each map has a label, within the box that holds all of them and a little more; `places` are the boxes of
    each map's labels."""
    numbers = [m.table.named(name).number if m.table.has_name(name) else 0 for m in maps]
    known = [boxes[n] for boxes, n in zip(places, numbers) if n in boxes]
    box = wider(round_all(known), (5, 5, 5), maps[0].kji.shape)
    return [(m.kji[box] == n) & (n > 0) for m, n in zip(maps, numbers)], box


def _trusted(masks: list[np.ndarray]) -> tuple[np.ndarray, list[tuple[float, float]]]:
    """How likely each voxel belongs, and sensitivity and specificity of each map."""
    import SimpleITK as sitk

    work = sitk.STAPLEImageFilter()
    work.SetForegroundValue(1.0)
    found = work.Execute([sitk.GetImageFromArray(m.view(np.uint8)) for m in masks])
    rates = list(zip(work.GetSensitivity(), work.GetSpecificity()))
    return sitk.GetArrayFromImage(found).astype(np.float32), rates


def _rates(mask: np.ndarray, truth: np.ndarray) -> tuple[float, float]:
    inside, outside = np.count_nonzero(truth), np.count_nonzero(~truth)
    hit, spared = np.count_nonzero(mask & truth), np.count_nonzero(~mask & ~truth)
    return hit / inside if inside else 0.0, spared / outside if outside else 0.0
