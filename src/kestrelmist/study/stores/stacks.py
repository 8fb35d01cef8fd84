"""Stacks: which images and label maps of the study lie in them, and how they are seen, in their row."""

from __future__ import annotations

from typing import Any

from ...core.errors import Trouble
from ...core.geometry.marks import Marks
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.progress import Progress
from ...scene.laid import LaidStack, laid
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store


class StackStore(Store):
    """Keeps stacks. They are made from what the window shows (`study.operations.stacks`), not by operations."""

    kind, folder = "stack", "stacks"

    def prepare(self, study: OpenStudy, thing: LaidStack, progress: Progress) -> Prepared:
        raise Trouble("A stack is kept by what it holds", "use “Save the stack”")

    def open(self, study: OpenStudy, record: Record) -> LaidStack:
        def find(key: Any) -> Image | LabelMap | Marks:
            there = study.items.get(key) if isinstance(key, int) else None
            thing = None if there is None or there.removed else study.thing(there.id)
            if isinstance(thing, (LabelMap, Marks)):
                return thing
            if not isinstance(thing, Image):
                raise Trouble(
                    f"A layer of the stack “{record.name}” is no longer in the study", "lay the stack anew and save it"
                )
            place = places.get(key, ())
            return thing.frame(tuple(place) if len(place) == len(thing.axes) else ())

        layers = record.body.get("layers") or []
        places = {row.get("thing"): row.get("place") or () for row in layers if isinstance(row, dict)}
        return laid(record.body, find, record.name, record.subject)


STORES.add("stack", StackStore())
