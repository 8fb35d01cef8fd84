"""Checks of contours, and of label maps beside one another: what crosses itself, lies beyond the image, overlaps, or is
another subject's."""

from __future__ import annotations

import numpy as np

from ..core.errors import Trouble
from ..core.geometry.mark import Mark
from ..core.geometry.shape import shape_named
from ..core.geometry.sound import crossing
from ..core.label_boxes import boxes_of
from ..core.labels import HUGE, LabelMap
from ..core.quantity import short_size
from .notice import Mend, Notice, Subject, check

MOST = 2000
"""Contours up to which each is looked at."""


@check("outline", "measure", rank=1)
def crossing_contours(subject: Subject) -> list[Notice]:
    """Closed lines that cross themselves, which cannot be filled."""
    found: list[tuple[Mark, np.ndarray]] = []
    for mark in _contours(subject):
        try:
            at = crossing(mark)
        except Trouble:  # it lies in no plane: that is told when it is filled
            continue
        if at is not None:
            found.append((mark, at))
    if not found:
        return []
    mark, at = found[0]
    others = f", and {len(found) - 1} more" if len(found) > 1 else ""
    mend = Mend("Keep the largest loop", "mend-contours", {"which": ",".join(str(m.id) for m, _ in found)})
    place = (float(at[0]), float(at[1]), float(at[2]))
    return [Notice("wrong", f"The {mark.called} crosses itself{others}.", mend, "crossing_contours", place)]


@check("outline", "measure", rank=1)
def beyond_the_image(subject: Subject) -> list[Notice]:
    """Contours and labels that reach beyond the image they are of."""
    from ..outline.contours.mend_contours import beyond

    notices: list[Notice] = []
    space, name = subject.series.space, subject.series.name
    out = [mark for mark in _contours(subject) if beyond(mark.outline, space)]
    if out:
        others = f", and {len(out) - 1} more" if len(out) > 1 else ""
        polygons = [str(m.id) for m in out if m.shape == "polygon" and _touches(m, subject)]
        mend = Mend("Cut off", "mend-contours", {"which": ",".join(polygons)}) if polygons else None
        x, y, z = out[0].middle
        sentence = f"The {out[0].called} reaches beyond “{name}”{others}."
        notices.append(Notice("look", sentence, mend, "beyond_the_image", (float(x), float(y), float(z))))
    labels = subject.labels
    if labels is None or labels.space.same_grid(space) or labels.kji.size > HUGE:
        return notices
    for number, (k, j, i) in boxes_of(labels.kji).items():
        corners = [
            (a, b, c) for a in (i.start, i.stop - 1) for b in (j.start, j.stop - 1) for c in (k.start, k.stop - 1)
        ]
        if number in labels.table and beyond(labels.space.to_world(np.array(corners, float)), space):
            sentence = f"{labels.table[number].name} reaches beyond “{name}”."
            notices.append(Notice("look", sentence, None, "beyond_the_image"))
    return notices


@check("outline", "measure", rank=2)
def overlapping_maps(subject: Subject) -> list[Notice]:
    """Labels of another map of the same image that lie where this one has labels of other names."""
    mine = subject.labels
    notices: list[Notice] = []
    if mine is None or mine.kji.size > HUGE:
        return notices
    _, cell, unit = mine.space.extent
    for other in subject.other_maps:
        if not other.space.same_grid(mine.space):
            continue
        subject.progress.at(0.0)
        count, one, two, at = _largest_overlap(mine, other)
        if count:
            x, y, z = mine.space.to_world(at[::-1])
            here, there = mine.table[one].name, other.table[two].name
            sentence = f"{here} overlaps {there} of “{other.name}”, {short_size(count * cell, unit)}."
            notices.append(Notice("look", sentence, None, "overlapping_maps", (float(x), float(y), float(z))))
    return notices


@check("outline", "measure", "prepare", rank=0)
def of_another_subject(subject: Subject) -> list[Notice]:
    """Labels that say they are of somebody else than the image."""
    labels, image = subject.labels, subject.series
    if labels is None or not labels.subject or not image.subject or labels.counts[0] == labels.kji.size:
        return []
    if labels.subject.casefold() == image.subject.casefold():
        return []
    sentence = f"“{labels.name}” is of {labels.subject}, and “{image.name}” of {image.subject}."
    return [Notice("wrong", sentence, None, "of_another_subject")]


def _contours(subject: Subject) -> list[Mark]:
    """Closed marks; none where there are very many."""
    marks = subject.marks
    if marks is None or len(marks) > MOST:
        return []
    return [mark for mark in marks if shape_named(mark.shape).closed]


def _touches(mark: Mark, subject: Subject) -> bool:
    """Whether a contour lies on the image with a part of it: it can be cut off there."""
    from ..outline.contours.mend_contours import cut_off

    return len(cut_off(mark.array, subject.series.space)) > 2


def _largest_overlap(mine: LabelMap, other: LabelMap) -> tuple[int, int, int, np.ndarray]:
    """Of labels with different names in two maps, those that share most voxels: how many, their numbers, and one."""
    at = np.flatnonzero((mine.kji != 0) & (other.kji != 0))
    one, two = mine.kji.ravel()[at], other.kji.ravel()[at]
    names = [{row.number: row.name.casefold() for row in m.table} for m in (mine, other)]
    pairs, first, counts = np.unique(one.astype(np.uint32) << 16 | two, return_index=True, return_counts=True)
    for n in np.argsort(-counts):
        a, b = int(pairs[n] >> 16), int(pairs[n] & 0xFFFF)
        if a in names[0] and b in names[1] and names[0][a] != names[1][b]:
            return int(counts[n]), a, b, np.array(np.unravel_index(int(at[first[n]]), mine.kji.shape))
    return 0, 0, 0, np.zeros(3)
