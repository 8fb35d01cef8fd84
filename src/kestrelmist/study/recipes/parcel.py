"""Tasks that go to a process, here or on another machine, which opens no catalogue: with them go the rows of what they
need, and what edits change goes as it stands. Files are read from the study's folder, and results are written into
side folders there; only the owner of the study takes them in."""

from __future__ import annotations

import zlib
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ... import VERSION
from ...core.errors import Trouble
from ...core.image import Image
from ...core.kind import KINDS, is_edited
from ...core.labels import LabelMap, LabelTable
from ...core.one_thread import blas_in_one_thread
from ...core.progress import Progress
from ...core.space import Space
from ...core.world import World
from ..given import Given
from ..items import ImageRecord, Record
from ..new_names import with_names
from ..store import store_for
from ..task import Made, Task, compute
from ..ways import Way

if TYPE_CHECKING:
    from ..study import Study


@dataclass(frozen=True)
class PackedLabels:
    """A label map for the way: its numbers are few and lie together."""

    space: Space
    table: LabelTable
    name: str
    subject: str
    numbers: bytes

    @classmethod
    def of(cls, labels: LabelMap) -> PackedLabels:
        numbers = np.ascontiguousarray(labels.kji)
        return cls(labels.space, labels.table, labels.name, labels.subject, zlib.compress(numbers.tobytes(), 1))

    def opened(self) -> LabelMap:
        shape = tuple(reversed(self.space.shape))
        numbers = np.frombuffer(zlib.decompress(self.numbers), np.uint16).reshape(shape).copy()
        found = LabelMap(self.space, numbers.T, self.table)
        found.name, found.subject = self.name, self.subject
        return found


@dataclass(frozen=True)
class Parcel:
    """A task with all that is needed to do it in the folder of the study."""

    folder: Path
    task: Task
    records: dict[int, Record]
    ways: dict[tuple[str, str], Way] = field(default_factory=dict)
    version: str = VERSION


def parcel_of(study: Study, task: Task) -> Parcel:
    """The parcel of a task; raises Trouble when something that goes along cannot be read."""
    records: dict[int, Record] = {}
    inputs: dict[str, tuple[Given, ...]] = {}
    for name, several in task.inputs.items():
        packed = []
        for given in several:
            for key in (given.item, given.of):
                record = None if key is None else study.items.get(key)
                if record is not None:
                    records[record.id] = record
                    owner = None if record.of is None else study.items.get(record.of)
                    if owner is not None:
                        records[owner.id] = owner
            packed.append(_packed(study, given))
        inputs[name] = tuple(packed)
    settings = with_names(task.about, task.settings, task.inputs, study)
    sent = replace(task, inputs=inputs, settings=settings)
    return Parcel(study.folder.resolve(), sent, records, _ways(study, task))


def _packed(study: Study, given: Given) -> Given:
    """What edits change, as it stands; of everything else its row is enough."""
    if given.item is None or given.value is not None or not is_edited(given.thing.kind):
        return given
    thing = study.thing(given.item)
    return replace(given, value=PackedLabels.of(thing) if isinstance(thing, LabelMap) else thing)


def _ways(study: Study, task: Task) -> dict[tuple[str, str], Way]:
    """The ways by which images are seen from the worlds of others."""
    found = {}
    for p in task.about.inputs:
        if p.seen_from is None:
            continue
        worlds = [_world(study, g) for g in task.inputs.get(p.name, ())]
        for target in (_world(study, g) for g in task.inputs.get(p.seen_from.other, ())):
            for source in worlds:
                way = None if source is None or target is None else study.way(source, target)
                if way is not None and source is not None and target is not None:
                    found[(source.id, target.id)] = way
    return found


def _world(study: Study, given: Given) -> World | None:
    record = None if given.item is None else study.items.get(given.item)
    return None if record is None or record.space is None else record.space.world


class _Rows:
    """The rows that came along, as a worker asks for them."""

    def __init__(self, records: dict[int, Record]):
        self.records = records

    def get(self, key: int | None) -> Record | None:
        return None if key is None else self.records.get(key)

    def of_kind(self, *kinds: str) -> list[Record]:
        return [r for r in self.records.values() if r.kind in kinds]


class Afar:
    """The study as a worker knows it: a folder, and the rows that came with a parcel. Nothing of it can be changed."""

    read_only = False  # what is made is prepared here; to keep it is the owner's

    def __init__(self, parcel: Parcel):
        self.folder, self.items, self._ways = parcel.folder, _Rows(parcel.records), parcel.ways
        self._images: dict[int, Image] = {}

    def thing(self, key: int) -> Any:
        """The thing with an id, its values still on disk where possible."""
        record = self._record(key)
        if isinstance(record, ImageRecord):
            return self.image(key)
        return store_for(record.kind).open(self, record)  # type: ignore[arg-type]

    def image(self, key: int) -> Image:
        if key not in self._images:
            self._images[key] = store_for("image").open(self, self._record(key))  # type: ignore[arg-type]
        return self._images[key]

    def find(self, key: int) -> Record:
        return self._record(key)

    def way(self, source: World, target: World) -> Way | None:
        return self._ways.get((source.id, target.id))

    def _record(self, key: int) -> Record:
        record = self.items.get(key)
        if record is None:
            raise Trouble(f"What this step needs (number {key}) did not come along", "run it here", self.folder)
        return record


def done_afar(parcel: Parcel, progress: Progress | None = None) -> Made:
    """Do the task of a parcel, in any process that sees the folder; what is made lies in side folders.

    Raises
    ------
    Trouble
        From the operation, or when this is another version of the program, or its folder is not there.
    """
    if parcel.version != VERSION:
        raise Trouble(f"This process runs version {VERSION}, and the study is open in {parcel.version}", "use one")
    if not parcel.folder.is_dir():
        raise Trouble("The folder of the study cannot be seen from here", "share it under this path", parcel.folder)
    task = parcel.task
    opened = {
        name: tuple(replace(g, value=g.value.opened()) if isinstance(g.value, PackedLabels) else g for g in several)
        for name, several in task.inputs.items()
    }
    with blas_in_one_thread():
        made = compute(Afar(parcel), replace(task, inputs=opened), progress or Progress())  # type: ignore[arg-type]
    for name, several in made.prepared.items():
        # things stay in their side folders; what is sent back is small
        result = next(r for r in task.about.results if r.name == name)
        if not KINDS.get(result.kind.name).is_read:  # type: ignore[union-attr]
            many = isinstance(made.values[name], list)
            made.values[name] = [None] * len(several) if many else None
    made.arguments = {}
    return made
