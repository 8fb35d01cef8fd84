"""What an operation would make of the slice in view, before the whole is worked out.

An operation says how far round a voxel the images tell what becomes of it (`Operation.reach`). Where that is a few mm,
it is given only what lies round the slice; where the whole image counts, it is given all of it on a coarser grid.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np

from ..core.coarse import Steps, coarse_image, coarse_space, middle_of_blocks, steps_for
from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import Label, LabelMap, LabelTable
from ..core.operation import Operation
from ..core.patch import LabelEdit
from ..core.progress import Progress, silent
from ..core.space import Space
from ..prepare.grid.crop import cropped
from ..scene.view import View
from .open_study import OpenStudy
from .opened import opened_arguments
from .task import Task

MOST = 4_000_000
"""Voxels of a part that are worked on as they are; of more, a coarser grid is taken."""
ROUGH = 1_200_000
"""The same, where the whole image counts."""
TINT = "#A44E28"
_COARSE: WeakKeyDictionary[Image, tuple[Any, Image]] = WeakKeyDictionary()
"""What was made coarser last of each image."""
Box = tuple[tuple[int, int, int], tuple[int, int, int]]
"""First and last voxel (i, j, k) of a part, both in it."""


@dataclass(frozen=True)
class Preview:
    """What would be made.

    Parameters
    ----------
    thing : Image or LabelMap, optional
        On a grid of its own, at its place in the world. Of an edit of labels, what it would add. None when it cannot be
        made, and `wrong` says why.
    tinted : LabelMap, optional
        What the operation tints, such as what it leaves out.
    before : Image or LabelMap
        What it was made from.
    box : two voxels
        Of the image's grid, within which it holds.
    rough : bool
        Whether it was worked out on a coarser grid.
    """

    thing: Image | LabelMap | None
    before: Image | LabelMap
    box: Box
    rough: bool
    tinted: LabelMap | None = None
    wrong: str = ""


def box_in_view(view: View, space: Space, reach: float = 0.0) -> Box | None:
    """The voxels that a view shows, and those within a reach (mm) of them; None when it shows none."""
    corners = [(x, y) for x in (-0.5, view.width - 0.5) for y in (-0.5, view.height - 0.5)]
    voxels = np.array([space.to_voxel(view.to_world(*c)) for c in corners])
    low = np.maximum(np.floor(voxels.min(0) + 1e-6), 0)
    high = np.minimum(np.ceil(voxels.max(0) - 1e-6), np.array(space.shape) - 1)
    if np.any(low > high):
        return None
    return _wider((low, high), space, reach)


def box_to_try(view: View, space: Space, reach: float, most: int = MOST) -> Box | None:
    """The voxels for which a preview is worked out, without those round them that tell of them: all of the slice that a
    view shows part of when that is no more than can be worked on, else what is in view; None when it shows nothing."""
    everything = (0, 0, 0), tuple(n - 1 for n in space.shape)
    if not np.isfinite(reach):
        return everything  # type: ignore[return-value]
    seen = box_in_view(view, space)
    if seen is None:
        return None
    away = (space.centre - np.asarray(view.centre)) @ view.normal
    size = 2 * float(np.ptp(space.corners(), axis=0).max()) / min(view.width, view.height)
    wide = view.moved(centre=tuple(space.centre - away * view.normal), pixel=max(view.pixel, size))
    slice_ = box_in_view(wide, space)
    if slice_ is not None and _voxels(_wider(slice_, space, reach)) <= most:
        return slice_
    return seen


def _wider(box: Any, space: Space, reach: float) -> Box:
    """A box with what lies within a reach (mm) of it."""
    beyond = np.ceil(reach / np.array(space.spacing)) if np.isfinite(reach) else np.array(space.shape)
    low, high = np.maximum(box[0] - beyond, 0), np.minimum(box[1] + beyond, np.array(space.shape) - 1)
    return tuple(int(n) for n in low), tuple(int(n) for n in high)  # type: ignore[return-value]


def _voxels(box: Box) -> float:
    return float(np.prod([b - a + 1 for a, b in zip(*box)], dtype=float))


def reach_of(operation: Operation, space: Space, settings: dict[str, Any]) -> float:
    """How far round a voxel, in mm, images tell what becomes of it."""
    reach = operation.reach
    assert reach is not None
    return reach(space, settings) if callable(reach) else reach


def within(inner: Box, outer: Box) -> bool:
    """Whether a box lies in another one."""
    return all(a >= b for a, b in zip(inner[0], outer[0])) and all(a <= b for a, b in zip(inner[1], outer[1]))


def preview(study: OpenStudy, task: Task, view: View, place: tuple[int, ...], progress: Progress) -> Preview:
    """Work a task out on what a view shows of its first image.

    Parameters
    ----------
    task : Task
        Of an operation that has a reach.
    view : View
        In the image's world.
    place : tuple of int
        Of a series: which volume is looked at.

    Raises
    ------
    Trouble
        When the operation has no previews, the view shows nothing of the image, or the operation raises it.
    Cancelled
    """
    operation = task.about
    if operation.reach is None:
        raise Trouble(f"“{operation.title}” has no preview", "do it and look at what it makes")
    opened = opened_arguments(study, operation, task.inputs, progress.part(0.0, 0.1))
    opened = {name: thing for name, thing in opened.items() if thing != [] and thing is not None}
    # an image that may be left out, and was, is not what is looked at
    first = next((p for p in (operation.lead, operation.on_lead) if p is not None and p.name in opened), None)
    if first is None:
        raise Trouble(f"“{operation.title}” has no preview", "do it and look at what it makes")
    lead = opened[first.name]
    reach = reach_of(operation, lead.space, task.settings)
    if isinstance(lead, Image):
        lead = _level(lead if operation.through_time else lead.frame(place), view, reach)
    full, seen = opened[first.name].space, lead.space
    tried = box_to_try(view, seen, reach)
    if tried is None:
        raise Trouble(f"The pane shows nothing of “{lead.name}”", "go to one of its slices")
    box = _wider(tried, seen, reach)
    shape = tuple(b - a + 1 for a, b in zip(*box))
    steps = steps_for(shape, ROUGH if math.isinf(reach) else MOST) if operation.coarse else (1, 1, 1)
    cut = {name: _cut(thing, full, seen, box, steps) for name, thing in opened.items()}
    if isinstance(lead, Image):
        cut[first.name] = _part(lead, box, steps)
    before = cut[first.name]
    whole = _whole(tried, seen, full)
    rough = steps != (1, 1, 1) or seen != full
    tinted = _tinted(operation, cut, before, task.settings) if isinstance(before, Image) else None
    try:
        made = next(iter(operation(progress.part(0.1, 0.9), **cut, **task.settings).values()))
        thing = _to_be_seen(made, cut, place, operation.title)
        if isinstance(made, LabelEdit) and tinted is None:
            tinted = _taken_away(made, cut)
        if isinstance(thing, Image):
            thing.fetch(progress.part(0.9, 1.0))
    except Trouble as trouble:
        if tinted is None and seen != full and type(trouble) is Trouble:  # it may be told from nearer by
            do = f"zoom in, or {trouble.do}" if trouble.do else "zoom in"
            raise Trouble(trouble.what, do, trouble.file) from trouble
        if tinted is None:
            raise
        return Preview(None, _shown(before, place), whole, rough, tinted, str(trouble))
    return Preview(thing, _shown(before, place), whole, rough, tinted)


def _shown(before: Image | LabelMap, place: tuple[int, ...]) -> Image | LabelMap:
    return before.frame(place) if isinstance(before, Image) else before


def _tinted(operation: Operation, cut: dict[str, Any], before: Image, settings: dict[str, Any]) -> LabelMap | None:
    if operation.tinted is None:
        return None
    label = Label(1, "Left out", TINT)
    return LabelMap(before.space, operation.tinted({**cut, **settings}).astype(np.uint16), LabelTable((label,)))


def _level(image: Image, view: View, reach: float) -> Image:
    """Of a picture larger than memory, the finest level of which what is seen is no more than can be worked on."""
    for level in (image, *image.levels):
        box = box_to_try(view, level.space, reach)
        if box is None or not image.levels:
            return level
        readable = level.part is not None or level is not image
        if readable and _voxels(box) <= MOST:
            return level
    return image.levels[-1]


def _part(image: Image, box: Box, steps: Steps) -> Image:
    low, high = (np.array(end) for end in box)
    whole = all(a == 0 and b == n - 1 for a, b, n in zip(*box, image.space.shape))
    if image.part is not None and not whole and image.space.shape[2] == 1:
        read, ends = image.part, (box[0][0], box[1][0] + 1, box[0][1], box[1][1] + 1)
        affine = image.space.affine.copy()
        affine[:3, 3] = image.space.to_world(low)
        shape = (ends[1] - ends[0], ends[3] - ends[2], 1)
        space = replace(image.space, shape=shape, affine=affine)
        made = image.like(lambda index, _: read(index, ends), space=space)
    else:
        made = image if whole else cropped(image, low, high)
    made.name = image.name
    if steps == (1, 1, 1):
        return made
    known = _COARSE.get(image)
    if known is None or known[0] != (box, steps):
        known = (box, steps), coarse_image(made, steps)
        if not image.axes:
            known[1].fetch(silent())
            _COARSE[image] = known  # settings change, and what they are tried on does not
    return known[1]


def _cut(thing: Any, full: Space, seen: Space, box: Box, steps: Steps) -> Any:
    """The same part of what lies on the grid of the image that leads; other things are left whole."""
    if isinstance(thing, list):
        return [_cut(one, full, seen, box, steps) for one in thing]
    if not isinstance(thing, (Image, LabelMap)) or not full.same_grid(thing.space):
        return thing
    if isinstance(thing, Image):
        level = next((one for one in (thing, *thing.levels) if one.space.same_grid(seen)), None)
        return thing if level is None else _part(level, box, steps)
    low, high = box
    affine = seen.affine.copy()
    affine[:3, 3] = seen.to_world(low)
    shape = tuple(b - a + 1 for a, b in zip(low, high))
    space = replace(seen, shape=shape, affine=affine)  # type: ignore[arg-type]
    step = [max(1, round(a / b)) for a, b in zip(full.shape, seen.shape)]
    ends = tuple(slice(a * s, (b + 1) * s, s) for a, b, s in zip(low, high, step))
    found = thing.data[ends][tuple(slice(n) for n in shape)]
    if found.shape != shape:
        data = np.zeros(shape, np.uint16)
        data[tuple(slice(n) for n in found.shape)] = found
        found = data
    if steps != (1, 1, 1):  # before anything is copied: a map of a huge picture is larger than what is seen of it
        space = coarse_space(space, steps)
        found = middle_of_blocks(found, space.shape, steps)
    # a copy, as a hand may draw on the map meanwhile
    return LabelMap(space, np.array(found, order="F"), thing.table, thing.name, thing.subject)


def _to_be_seen(made: Any, given: dict[str, Any], place: tuple[int, ...], title: str) -> Image | LabelMap:
    if isinstance(made, list) and made:
        made = made[0]
    if isinstance(made, Image):
        return made.frame(place if len(place) == len(made.axes) else ())
    if isinstance(made, LabelEdit):
        labels = next(one for one in given.values() if isinstance(one, LabelMap))
        after = labels.copied()
        made.apply(after)
        added = np.where(after.data != labels.data, after.data, np.uint16(0))
        return LabelMap(labels.space, added, after.table, labels.name)
    if isinstance(made, LabelMap):
        return made
    raise Trouble(f"“{title}” makes nothing that a pane can show", "do it and look at what it makes")


def _taken_away(edit: LabelEdit, given: dict[str, Any]) -> LabelMap | None:
    """The voxels that an edit clears, to be tinted; None when there are none."""
    labels = next(one for one in given.values() if isinstance(one, LabelMap))
    after = labels.copied()
    edit.apply(after)
    gone = (after.data == 0) & (labels.data != 0)
    label = Label(1, "Taken away", TINT)
    return LabelMap(labels.space, gone.astype(np.uint16), LabelTable((label,))) if gone.any() else None


def _whole(box: Box, seen: Space, full: Space) -> Box:
    """A box of a coarser level in voxels of the whole image."""
    scale = np.array(full.shape) / np.array(seen.shape)
    low = np.floor(np.array(box[0]) * scale).astype(int)
    high = np.minimum(np.ceil((np.array(box[1]) + 1) * scale).astype(int), full.shape) - 1
    return tuple(map(int, low)), tuple(map(int, high))  # type: ignore[return-value]
