"""Checks of what was outlined: bridged slices that wait to be looked at, holes, labels in one slice, empty ones, and
values that do not fit."""

from __future__ import annotations

import numpy as np

from ..core.label_boxes import boxes_of
from ..core.labels import HUGE, LabelMap
from ..core.quantity import short_size
from .notice import Mend, Notice, Subject, check

FEW = 40
"""Labels up to which each is looked at; more were found by the computer, as cells are."""
ODD, SHARE, LEAST = 12.0, 0.002, 200
"""Spreads from the median at which a value does not fit, the share of such voxels that is told of, and the fewest
voxels of a label that says what fits."""
MOST = 1 << 26
"""Voxels of a label's box that a check looks through."""


@check("outline", "measure", rank=1)
def bridged_slices(subject: Subject) -> list[Notice]:
    """Slices that were filled in between others, until somebody has looked at them."""
    from ..outline.slices.unseen import unseen

    labels, notices = subject.labels, []
    if labels is None:
        return []
    for row in labels.table:
        stretches = unseen(row, labels.space)
        if not stretches:
            continue
        count = sum(b - a + 1 for _, a, b in stretches)
        axis, first, last = stretches[0]
        sentence = f"{row.name}: {count} bridged slices wait to be looked at."
        place = _in_slice(labels, row.number, axis, (first + last) // 2)
        mend = Mend("They are fine", "bridged-fine", {"label": row.name})
        notices.append(Notice("look", sentence, mend, "bridged_slices", place))
    return notices


@check("outline", "measure", rank=2)
def holes(subject: Subject) -> list[Notice]:
    """Small holes that labels enclose."""
    from ..outline.shaping.holes import holes_of

    notices: list[Notice] = []
    for labels, row, box in _looked_at(subject):
        mask = labels.kji[box] == row.number
        flat = labels.kji.shape[0] == 1
        found = holes_of(mask, subject.progress, None, flat) & (labels.kji[box] == 0)
        count = int(np.count_nonzero(found))
        if not count or row.locked:
            continue
        _, cell, unit = labels.space.extent
        at = np.argwhere(found)[0] + [s.start for s in box]
        place = tuple(float(v) for v in labels.space.to_world(at[::-1]))
        sentence = f"{row.name} has holes, {short_size(count * cell, unit)}."
        mend = Mend("Fill", "fill-holes", {"label": row.name})
        notices.append(Notice("look", sentence, mend, "holes", place))  # type: ignore[arg-type]
    return notices


@check("outline", "measure", rank=3)
def one_slice_only(subject: Subject) -> list[Notice]:
    """Labels of a volume that lie in one slice alone."""
    notices: list[Notice] = []
    if subject.labels is None or 1 in subject.labels.space.shape:
        return notices
    for _, row, box in _looked_at(subject):
        if min(s.stop - s.start for s in box) == 1:
            notices.append(Notice("look", f"{row.name} is drawn in one slice only.", None, "one_slice_only"))
    return notices


@check("measure", rank=4)
def empty_labels(subject: Subject) -> list[Notice]:
    """Labels without a voxel, beside others that are drawn."""
    labels = subject.labels
    if labels is None or labels.counts[0] == labels.kji.size:
        return []
    names = [row.name for row in labels.table if not labels.counts[row.number]]
    if not names:
        return []
    told = ", ".join(names[:3]) + (" and others" if len(names) > 3 else "")
    sentence = f"{told} {'is' if len(names) == 1 else 'are'} empty."
    mend = Mend("Delete", "delete-label", {"label": names[0]}) if len(names) == 1 else None
    return [Notice("look", sentence, mend, "empty_labels")]


@check("outline", "measure", rank=5)
def values_that_do_not_fit(subject: Subject) -> list[Notice]:
    """Voxels of a label whose values lie far from those of the rest of it."""
    notices: list[Notice] = []
    image = subject.image
    if image.colour or not image.in_memory:
        return notices
    for labels, row, box in _looked_at(subject):
        if labels.counts[row.number] < LEAST or not image.space.same_grid(labels.space):
            continue
        mask = labels.kji[box] == row.number
        values = np.asarray(image.kji[box][mask], float)
        known = values[np.isfinite(values)]
        if known.size < LEAST:
            continue
        middle = float(np.median(known))
        spread = 1.4826 * float(np.median(np.abs(known - middle)))
        if not spread > 0:
            continue
        odd = np.abs(values - middle) > ODD * spread
        if odd.sum() < SHARE * values.size:
            continue
        worst = int(np.argmax(np.where(np.isfinite(values), np.abs(values - middle), 0)))
        at = np.argwhere(mask)[worst] + [s.start for s in box]
        place = tuple(float(v) for v in labels.space.to_world(at[::-1]))
        share = 100 * float(odd.mean())
        sentence = f"{row.name}: {share:.2g} % of its voxels have values that do not fit the rest."
        notices.append(Notice("look", sentence, None, "values_that_do_not_fit", place))  # type: ignore[arg-type]
    return notices


def _looked_at(subject: Subject):
    """Labels that are drawn, with their boxes; none where there are very many, or the map is huge."""
    labels = subject.labels
    if labels is None or labels.kji.size > HUGE:
        return
    rows = [row for row in labels.table if labels.counts[row.number]]
    if len(rows) > FEW:
        return
    boxes = boxes_of(labels.kji)
    for row in rows:
        subject.progress.at(0.0)
        box = boxes.get(row.number)  # somebody may be drawing
        if box is not None and np.prod([s.stop - s.start for s in box]) <= MOST:
            yield labels, row, box


def _in_slice(labels: LabelMap, number: int, axis: int, n: int) -> tuple[float, float, float] | None:
    """A place of a label in one of its slices, near the middle of what lies there."""
    plane = np.take(labels.kji, n, 2 - axis) == number
    at = np.argwhere(plane)
    if not len(at):
        return None
    nearest = at[np.abs(at - at.mean(0)).sum(1).argmin()]
    kji = np.insert(nearest, 2 - axis, n)
    x, y, z = labels.space.to_world(kji[::-1])
    return float(x), float(y), float(z)
