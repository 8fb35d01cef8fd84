"""A recipe tried on the slice in view: its steps one after another on that slice and what lies within their reach, in
memory, before anything is done on whole images."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.mapping import Mapping
from ...core.operation import Operation, find_operation
from ...core.parameter import Parameter
from ...core.patch import LabelEdit
from ...core.progress import Progress, silent
from ...prepare.grid.crop import cropped
from ..items import ImageRecord
from ..preview import reach_of
from ..store import store_for
from .recipe import Recipe, RecipeStep, pointer_of
from .units import Unit

if TYPE_CHECKING:
    from ..study import Study

MOST = 40
"""Slices on each side of the one in view."""
BY_THE_WHOLE = "is told by the whole image: try it on one subject"
NUMBERS = "gives numbers of the whole image"
ALONE = "as far as these slices tell"


@dataclass(frozen=True)
class Tried:
    """What came of a step on the slice: the image and the labels as they are then, or why it was not tried. `said` is
    ALONE where nothing tells how far round it the image counts."""

    number: int
    title: str
    said: str = ""
    image: Image | None = None
    labels: LabelMap | None = None


def tried_on_slice(
    study: Study, recipe: Recipe, unit: Unit, seen: int, place: np.ndarray, progress: Progress | None = None
) -> list[Tried]:
    """Do the steps of a recipe on the slice of an image that goes through a place.

    Parameters
    ----------
    recipe : Recipe
        As it runs.
    unit : Unit
        Whose things fill the slots.
    seen : int
        Id of the image that is looked at, one of those.
    place : array (3,)
        In its world.

    Returns
    -------
    list of Tried
        A step each, up to the first that is told by the whole image.

    Raises
    ------
    Trouble
        When the image fills no slot.
    """
    return _Trial(study, recipe, unit, seen, place).run(progress or silent())


class _Trial:
    def __init__(self, study: Study, recipe: Recipe, unit: Unit, seen: int, place: np.ndarray):
        self.study, self.recipe, self.unit = study, recipe, unit
        slot = next((name for name, one in unit.filled.items() if one.record.id == seen), None)
        record = study.items.get(seen)
        if slot is None or not isinstance(record, ImageRecord):
            names = ", ".join(f"“{one.record.name}”" for one in unit.filled.values()) or "nothing yet"
            what = "What is in view is none of what this recipe works on"
            raise Trouble(what, f"show one of: {names}")
        self.slot, self.whole = slot, study.image(seen)
        space = self.whole.space
        middle = int(np.clip(round(float(space.to_voxel(place)[2])), 0, space.shape[2] - 1))
        half = min(MOST, int(np.ceil(self._reach() / space.spacing[2])) + 1)
        half = min(half, max(middle, space.shape[2] - 1 - middle))
        self.first, self.last = max(0, middle - half), min(space.shape[2] - 1, middle + half)
        high = np.array([space.shape[0] - 1, space.shape[1] - 1, self.last])
        self.slab = cropped(self.whole, np.array([0, 0, self.first]), high)
        self.made: list[dict[str, Any]] = []
        self.maps: dict[str, LabelMap] = {}

    def _reach(self) -> float:
        """How far round the slice all steps together look, in mm."""
        total = 0.0
        for step in self.recipe.steps:
            about = find_operation(step.operation)
            if about.reach is not None:
                try:
                    reach = reach_of(about, self.whole.space, about.checked(step.settings))
                except Trouble:
                    continue  # said when the step is tried
                total += reach if np.isfinite(reach) else 0.0
        return total

    def run(self, progress: Progress) -> list[Tried]:
        found: list[Tried] = []
        for n, step in enumerate(self.recipe.steps, 1):
            about = find_operation(step.operation)
            part = progress.part((n - 1) / len(self.recipe.steps), n / len(self.recipe.steps))
            part.at(0.0, about.title)
            try:
                one = self._tried(n, about, step, part)
            except Trouble as trouble:
                found.append(Tried(n, about.title, str(trouble)))
                return found
            found.append(one)
            if one.said == BY_THE_WHOLE:
                return found
        return found

    def _tried(self, n: int, about: Operation, step: RecipeStep, progress: Progress) -> Tried:
        if all(r.kind.is_read for r in about.results) and about.results:
            self.made.append({})
            return Tried(n, about.title, NUMBERS)
        settings = about.checked(step.settings)
        reach = None if about.reach is None else reach_of(about, self.slab.space, settings)
        finds = any(issubclass(r.kind.type, Mapping) for r in about.results)
        if about.acts or finds or (reach is not None and not np.isfinite(reach)):
            return Tried(n, about.title, BY_THE_WHOLE)
        given = {p.name: self._input(step, p) for p in about.inputs}
        values = about(progress, **given, **settings)
        self.made.append(values)
        image, labels = (given.get(p.name) if p is not None else None for p in (about.lead, about.on_lead))
        for result in about.results:
            value = values[result.name]
            if isinstance(value, LabelEdit) and isinstance(labels, LabelMap):
                value.apply(labels)
            elif isinstance(value, Image) and result is about.results[0]:
                image, labels = value, None
        said, drawn = ALONE if reach is None else "", labels.copied() if labels is not None else None
        return Tried(n, about.title, said, image or self.slab, drawn)

    def _input(self, step: RecipeStep, p: Parameter) -> Any:
        found = [self._thing(text, p) for text in step.inputs.get(p.name, ())]
        return found if p.many else next(iter(found), None)

    def _thing(self, text: str, p: Parameter) -> Any:
        pointer = pointer_of(text)
        if pointer is None:
            raise Trouble(f"“{text}” is no slot and no result", BY_THE_WHOLE)
        where, result, reference = pointer
        if isinstance(where, int):
            owner = self.made[where - 1].get(result)
            if owner is None:
                raise Trouble(f"What step {where} gives is not there on one slice", "try it on one subject")
        else:
            owner = self.slab if where == self.slot else self.study.thing(self.unit.filled[where].record.id)
        if reference.part is None:
            return owner
        if text not in self.maps:
            self.maps[text] = self._map(where, owner, reference.part, p)
        return self.maps[text]

    def _map(self, where: int | str, owner: Any, part: str, p: Parameter) -> LabelMap:
        """A label map of the study cut to the slice; of what is made here, a blank one."""
        if where == self.slot:
            image = self.unit.filled[self.slot].record.id
            there = [r for r in self.study.label_maps(image) if r.name.casefold() == part.casefold()]
            steps = [s for s in self.recipe.steps if _edits(s, f"${self.slot}#{part}")]
            if there and not steps:
                whole = self.study.label_map(there[0].id)
                numbers = np.ascontiguousarray(whole.kji[self.first : self.last + 1])
                return LabelMap(self.slab.space, numbers.T, whole.table)
        return store_for(p.thing_kind).blank(owner, part)


def _edits(step: RecipeStep, pointer: str) -> bool:
    target = find_operation(step.operation).edited
    return target is not None and pointer in step.inputs.get(target.name, [])
