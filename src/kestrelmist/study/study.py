"""A study: one folder with its things, their history and its logbook, open for work."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ..core.curve import Curve
from ..core.errors import Trouble
from ..core.image import Image
from ..core.kind import is_read
from ..core.labels import LabelMap
from ..core.placement import Placement
from ..core.progress import Progress, silent
from ..core.reference import Reference
from ..core.table import Table
from ..core.world import World
from ..scene.showing import hand_on_range
from .catalogue import Catalogue
from .catalogue_trouble import Gone
from .items import ImageRecord, Items, Record
from .journal.changes import Change, ItemChange
from .journal.history import History
from .journal.logbook import Logbook, Step, Thing
from .label_maps import LabelMaps
from .mark_sets import MarkSets
from .referring import meant
from .shelf_copy import write_shelf_copy
from .store import Prepared, clear_sides, hash_of, store_for
from .ways import Way, way_between


class Study:
    """An open study folder.

    Parameters
    ----------
    folder : path
    create : bool
        Make the study when the folder holds none.
    read_only : bool
        Leave the lock to others and change nothing.

    Raises
    ------
    Trouble
        When there is no study, it is damaged, or was written by a newer version.
    """

    def __init__(self, folder: str | Path, create: bool = False, read_only: bool = False):
        self.folder = Path(folder)
        self.catalogue = Catalogue(self.folder, create, read_only)
        self.items = Items(self.catalogue)
        self.logbook = Logbook(self.catalogue)
        self.notices: list[str] = []
        """What a person should hear of although nothing failed; `on_notice` is called with each."""
        self.on_notice: Callable[[str], object] | None = None
        try:
            self.session = self._start_session()
        except BaseException:  # whoever rebuilds it must find it closed
            self.catalogue.close()
            raise
        self.history = History(self)
        self.maps, self.marks = LabelMaps(self), MarkSets(self)
        self._images: dict[int, Image] = {}
        self._subjects: tuple[dict[int, Record], list[str]] = {}, []

    def __enter__(self) -> Study:
        return self

    def __exit__(self, *_) -> None:
        self.close()

    @property
    def name(self) -> str:
        return self.folder.resolve().name

    @property
    def read_only(self) -> bool:
        return self.catalogue.read_only

    def _start_session(self) -> int | None:
        if self.read_only:
            return None
        clear_sides(self.folder)
        write_shelf_copy(self.folder, self.items)
        return self.catalogue.start_session()

    def notice(self, text: str) -> None:
        """Tell the person something that is no failure; may be called from a worker's thread."""
        self.notices.append(text)
        if self.on_notice is not None:
            self.on_notice(text)

    def close(self) -> None:
        """Fold the journals into files and let go of the study; a second time does nothing.

        Raises Trouble when the tidying up failed; everything is in the journal then, and the lock is let go of.
        """
        if self.catalogue.closed:
            return
        try:
            if not self.read_only:
                self.maps.fold()
                self.marks.fold()
                write_shelf_copy(self.folder, self.items)
                self.catalogue.end_session(self.session)
        except Gone:
            raise
        except Trouble as trouble:
            raise Trouble(
                f"All steps are kept, but the study could not be tidied up ({trouble.what.partition(';')[0]})",
                "nothing is lost: open it again when there is room",
                self.folder,
            ) from trouble
        finally:
            self.catalogue.close()

    # what there is

    def records(self) -> list[ImageRecord]:
        """All images on the Shelf, by subject and in the order they came."""
        return [r for r in self.items.of_kind("image") if isinstance(r, ImageRecord)]

    def transforms(self) -> list[Record]:
        """All transforms on the Shelf, in the order they came."""
        return self.items.of_kind("transform")

    def subjects(self) -> list[str]:
        """Names of the subjects that have something on the Shelf."""
        everything = self.items.everything()
        if self._subjects[0] is not everything:  # asked for whenever something moves
            read = {kind for kind in {r.kind for r in everything.values()} if is_read(kind)}
            there = (r.subject for r in everything.values() if r.subject and not r.removed and r.kind not in read)
            self._subjects = everything, list(dict.fromkeys(there))
        return list(self._subjects[1])

    def find(self, wanted: int | str | Reference) -> ImageRecord:
        """An image by id or by reference; raises Trouble when none or several fit."""
        record = meant(self, wanted, "image", files=False).record
        assert isinstance(record, ImageRecord)
        return record

    def identity(self, record: Record) -> str:
        """What tells the present content and place of a thing: two of one identity give the same results."""
        return store_for(record.kind).identity(self, record) if record.known else record.hash

    def thing(self, key: int) -> Any:
        """The thing with an id, its values still on disk where possible."""
        record = self.items.get(key)
        if record is None:
            raise Trouble(f"There is nothing with the id {key} in this study", "choose something on the Shelf")
        return store_for(record.kind).at_hand(self, record)

    def image(self, wanted: int | str | Reference) -> Image:
        """The image, its values still on disk."""
        record = self.find(wanted)
        if record.id not in self._images:
            self._images[record.id] = store_for("image").open(self, record)
        return self._images[record.id]

    def image_in_memory(self, key: int) -> Image | None:
        """An image whose values are all in memory; None when they are not."""
        found = self._images.get(key)
        return found if found is not None and not found.axes and found._data is not None else None

    def thumbnail(self, key: int) -> bytes | None:
        return self.items.thumbnail(key)

    def hold(self, key: int, thing: Any) -> None:
        """Keep what has just been taken in at hand, backed by the study's own files."""
        record = self.items.get(key)
        if not isinstance(thing, Image) or record is None or thing.axes or thing.levels or thing._data is None:
            return  # others are opened again from the study's own files when first wanted
        image = store_for("image").open(self, record)
        image._data = thing._data
        hand_on_range(thing, image)
        image.fetch(silent())  # counts as looked at: of many that are taken in, the first ones go again
        self._images[key] = image

    def same_images(self, prepared: Prepared) -> list[Record]:
        """The images on the Shelf that hold the same values for the same subject."""
        fits = self.items.alike(prepared.hash)
        return [r for r in fits if r.kind == prepared.kind and r.subject == prepared.subject]

    def way(self, source: World, target: World) -> Way | None:
        """How a world is reached from another by the transforms of the study; see `ways.way_between`."""
        return way_between(self, source, target)

    # label maps

    def label_maps(self, image: int) -> list[Record]:
        """The label maps of an image, the oldest first."""
        return self.maps.of(image)

    def in_hand(self, image: int) -> int | None:
        """The label map of an image that is worked on; None when it has none."""
        return self.maps.in_hand(image)

    def labels(self, wanted: int | str | Reference) -> LabelMap:
        """The label map in hand of an image; an empty one when nothing was labelled yet."""
        return self.maps.on(self.find(wanted).id)

    def label_map(self, key: int) -> LabelMap:
        """A label map by its id."""
        return self.maps.open(key)

    # what is changed

    def as_thing(self, record: Record) -> Thing:
        """A record as steps know it."""
        return Thing(record.kind, record.name, record.subject, record.owner, (), record.id, self.identity(record))

    def rename(self, key: int, name: str) -> None:
        """Give a thing another name; raises Trouble when it is empty or taken."""
        record = self._record(key)
        fresh = self.items.require_free(name, record)
        if fresh == record.name:
            return
        title = f"Rename “{record.name}” to “{fresh}”"
        step = Step("rename", title, {"name": fresh}, {"thing": (self.as_thing(record),)})
        self.history.do([ItemChange(key, title, {"name": record.name}, {"name": fresh})], step, title)

    def set_removed(self, keys: int | list[int], removed: bool) -> None:
        """Take things off the Shelf or put them back; their files and labels stay."""
        records = [self._record(k) for k in ([keys] if isinstance(keys, int) else keys)]
        words = "Take {} off the Shelf" if removed else "Put {} back on the Shelf"
        title = words.format(f"“{records[0].name}”" if len(records) == 1 else f"{len(records)} things")
        changes: list[Change] = []
        for record in records:
            before, after = {"removed": record.removed}, {"removed": removed}
            if not removed and record.removed:  # its name may have been given away meanwhile
                free = self.items.free_name(record.name, record.kind, record.subject, record.of, record.id)
                if free != record.name:
                    before["name"], after["name"] = record.name, free  # type: ignore[assignment]
            changes.append(ItemChange(record.id, title, before, after))
        step = Step("take-off" if removed else "put-back", title, {}, {"thing": tuple(map(self.as_thing, records))})
        self.history.do(changes, step, title)

    def placing(self, key: int, placement: Placement, title: str) -> list[Change]:
        """The changes that give an image another place; what is of it moves along."""
        record = self._record(key)
        assert record.space is not None
        caveats = record.body.get("caveats", [])
        kept = [c for c in caveats if c.get("code") not in placement.settled]
        before = {"space": record.space.as_dict(), "body.caveats": caveats}
        after = {"space": placement.space.as_dict(), "body.caveats": kept + [c.as_dict() for c in placement.caveats]}
        if placement.facts is not None:
            # who knows what was made of it by the old ones must not take that for what the new ones give
            before |= {"body.facts": record.body.get("facts", {}), "body.told": record.body.get("told")}
            after |= {"body.facts": placement.facts, "body.told": hash_of(json.dumps(placement.facts, sort_keys=True))}
        if placement.axes is not None:
            before["body.axes"] = record.body.get("axes", [])
            after["body.axes"] = [a.as_dict() for a in placement.axes]
        changes: list[Change] = [ItemChange(key, title, before, after)]
        for other in self.items.owned(key):
            if other.known:
                comes = store_for(other.kind).moved(self, other, record.space, placement.space)
                if comes:
                    changes.append(ItemChange(other.id, title, {name: other.field(name) for name in comes}, comes))
        return changes

    def delete(self, key: int, name: str) -> None:
        """Delete a thing for good, with what is of it and the study's own copy of its files. Files left in place stay.

        Raises Trouble unless `name` is its name, typed as it is.
        """
        record = self._record(key)
        if name != record.name:
            raise Trouble(
                f"“{name}” is not the name of this {record.kind}, so nothing was deleted", f"type “{record.name}”"
            )
        gone = [record, *self.items.owned(key)]
        files = [f for r in gone for f in (store_for(r.kind).files(self, r) if r.known else [])]
        with self.catalogue.change() as db:
            self.items.delete(db, key)
            step = Step("delete", "Delete for good", {"name": record.name}, {"thing": (self.as_thing(record),)})
            self.logbook.write(step)
        for one in gone:
            if one.known:
                store_for(one.kind).forget(self, one.id)
            self.maps.forget(one.id)  # the blank map of an image, too
            self._images.pop(one.id, None)
        self.history.forget()
        for path in files:
            shutil.rmtree(path, ignore_errors=True) if path.is_dir() else path.unlink(missing_ok=True)

    def look_again(self) -> None:
        """Forget what was read: another process has written since."""
        self.items.forget()
        self.history.forget()
        self.maps.forget()
        self.marks.forget()

    def _record(self, key: int) -> Record:
        record = self.items.get(key)
        if record is None:
            raise Trouble(f"There is nothing with the id {key} in this study", "choose something on the Shelf")
        return record

    def refresh(self, key: int) -> None:
        """A row has changed: what is in memory of the thing follows."""
        record = self.items.get(key)
        if record is None:
            return
        image, labels = self._images.get(key), self.maps.in_memory(key)
        if isinstance(record, ImageRecord) and image is not None:
            if image.space != record.grid or image.facts != record.facts or image.axes != record.axes:
                image = self._images[key] = image.placed(Placement(record.grid, (), (), record.facts, record.axes))
            if image.name != record.name:
                image.name = record.name
                image._frames.clear()
            image.caveats, image.subject = record.caveats, record.subject
            self.maps.moved(key, record)
        if labels is not None and record.space is not None:
            labels.space, labels.name, labels.subject = record.space, record.name, record.subject
        self.marks.refresh(key)

    # results

    def tables(self) -> list[Record]:
        """Tables made so far, the newest first."""
        return sorted(self.items.of_kind("table"), key=lambda r: -r.id)

    def table(self, key: int) -> Table:
        return self.thing(key)

    def curves(self) -> list[tuple[int, Curve]]:
        """The curves that are kept, with their ids, in the order they came."""
        return [(record.id, self.thing(record.id)) for record in self.items.of_kind("curve")]

    def run(self, operation: str, progress: Progress | None = None, **given):
        """Run an operation on this study and keep what it makes; see `kestrelmist.study.keeping.run`."""
        from .keeping import run

        return run(self, operation, given, progress)
