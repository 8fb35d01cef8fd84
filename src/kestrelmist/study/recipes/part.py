"""A part of a run for a batch system, which begins many on many machines at once: only the owner of a study may write
it, so each part works in a copy of the catalogue beside, with the study's own files, and what it has made is taken into
the study as soon as nobody else holds it."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import time
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ...core.errors import Trouble
from ...core.kind import is_edited
from ...core.operation import operation_called
from ...core.progress import Progress, silent
from ...core.safe_write import write_trouble, written_whole
from ..given import Given, still_to_be_made
from ..items import Record
from ..journal.changes import unpacked
from ..journal.logbook import Step, Thing
from ..journal.stacks import LongEntry
from ..keeping import AlreadyThere, keep_and_tell
from ..store import STORES, Prepared, side_folder, store_for
from ..task import Made, Task
from . import book as states
from .book import FOLDER, RunBook, begin, books

if TYPE_CHECKING:
    from ..study import Study

FACTS, CATALOGUE, LOCK = "part.json", "study.db", "study.lock"
LOOK = 0.5
"""Seconds between looks at whether the study is free."""


def begin_part(folder: Path, name: str) -> Path:
    """A copy of a study's catalogue beside, with its files; the one of that name that was begun before, where it is
    there. Raises Trouble when it cannot be made."""
    home = folder / FOLDER / f"part {name}"
    if (home / FACTS).is_file():
        return home
    beside = folder / FOLDER / f".part {name}.{os.getpid()}"
    try:
        shutil.rmtree(beside, ignore_errors=True)
        beside.mkdir(parents=True)
        source = sqlite3.connect(f"{(folder / CATALOGUE).resolve().as_uri()}?mode=ro", uri=True)
        copy = sqlite3.connect(beside / CATALOGUE)
        try:
            source.backup(copy)
            last = [copy.execute(f"SELECT max(id) FROM {table}").fetchone()[0] or 0 for table in ("item", "step")]
        finally:
            source.close()
            copy.close()
        for store in STORES.values():
            _link(folder / store.folder, beside / store.folder, is_edited(store.kind))
        with written_whole(beside / FACTS) as stream:
            stream.write(json.dumps({"items": last[0], "steps": last[1]}).encode())
        shutil.rmtree(home, ignore_errors=True)  # a copy that was never finished
        beside.rename(home)
    except (OSError, sqlite3.Error) as error:
        shutil.rmtree(beside, ignore_errors=True)
        if isinstance(error, OSError):
            raise write_trouble(error, home) from error
        raise Trouble("The catalogue of the study could not be copied", "try again", folder) from error
    return home


def _link(source: Path, target: Path, copied: bool) -> None:
    """The files of a kind of thing, as they are; of what edits change, a copy of its own."""
    if not source.is_dir():
        return
    if copied:
        shutil.copytree(source, target)
        return
    target.mkdir()
    for one in source.iterdir():
        os.symlink(os.path.relpath(one, target), target / one.name)


def parts_left(folder: Path) -> list[Path]:
    """Parts that have not been taken in and that nobody works on."""
    home = folder / FOLDER
    found = sorted(home.glob("part *")) if home.is_dir() else []
    return [path for path in found if (path / FACTS).is_file() and not _held(path)]


def _held(path: Path) -> bool:
    import fcntl

    try:
        with open(path / LOCK, "a") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return True
    return False


def wait_for(folder: Path, seconds: float, progress: Progress | None = None) -> Study | None:
    """The study, open to write as soon as nobody else holds it; None when that takes longer. Raises Cancelled."""
    from ..study import Study

    end = time.monotonic() + seconds
    while True:
        study = Study(folder)
        if not study.read_only:
            return study
        study.close()
        if time.monotonic() > end:
            return None
        (progress or silent()).at(0.99, "Waiting for the study")
        time.sleep(LOOK)


def take_part(study: Study, path: Path) -> list[RunBook]:
    """Take what a part has made into the study it is of, step by step; what is there already is not taken twice. The
    part is thrown away then. Gives the books of its runs.

    Raises
    ------
    Trouble
        When the part is damaged, or the study cannot be written; what was taken in by then stays.
    """
    from ..study import Study as Opened

    try:
        facts = json.loads((path / FACTS).read_text())
        items, steps = int(facts["items"]), int(facts["steps"])
    except (OSError, ValueError, KeyError) as error:
        raise Trouble("This part of a run is damaged", "run that part again", path) from error
    entry = LongEntry(f"Take in {path.name}")
    try:
        with Opened(path, read_only=True) as part, study.history.together(entry):
            taking = _Taking(study, part, items)
            for step in part.logbook.entries():
                about = operation_called(step.operation)
                if step.id > steps and not step.undone and about is not None and not about.acts:
                    taking.take(step, entry)
            made = [_book_of(study, one, taking.lines) for one in books(path)]
    finally:
        study.history.over(entry)
    shutil.rmtree(path, ignore_errors=True)
    return made


class _Taking:
    """Steps of a part, done again on the study with what they have made."""

    def __init__(self, study: Study, part: Study, items: int):
        self.study, self.part = study, part
        self.known: dict[int, int] = {}
        """Ids in the study of what the part has made."""
        self.lines: dict[int, int | None] = {}
        """Lines of the study's logbook, by those of the part."""
        self.items = items

    def take(self, step: Step, entry: LongEntry) -> None:
        about = operation_called(step.operation)
        assert about is not None
        inputs = {name: tuple(self._given(t) for t in things) for name, things in step.inputs.items()}
        task = Task(step.operation, about.checked(step.settings), inputs)
        before = next((s for s in self.study.logbook.with_key(task.key) if self._there(s)), None)
        if before is not None:
            self._remember(step, before.outputs)
            self.lines[step.id] = before.id
            return
        made = Made({}, {}, step.seconds)
        for result in about.results:
            things = step.outputs.get(result.name, ())
            if result.kind.is_thing:
                made.prepared[result.name] = [self._prepared(t) for t in things if t.item is not None]
                read = result.kind.is_read
                values = [self.part.thing(t.item) if read and t.item is not None else None for t in things]
                made.values[result.name] = values if result.many else next(iter(values), None)
            elif result.kind.is_change:
                made.values[result.name] = self._edit(step)
            else:
                made.values[result.name] = None
        entry.step = None
        outputs: dict[str, tuple[Thing, ...]] = {}
        with suppress(AlreadyThere):
            _, outputs = keep_and_tell(self.study, task, made)
        self._remember(step, outputs)
        self.lines[step.id] = entry.step

    def _there(self, step: Step) -> bool:
        keys = [t.item for things in step.outputs.values() for t in things if t.item is not None]
        return bool(keys) and all((r := self.study.items.get(k)) is not None and not r.removed for k in keys)

    def _remember(self, step: Step, outputs: dict[str, tuple[Thing, ...]]) -> None:
        for name, things in step.outputs.items():
            for mine, theirs in zip(things, outputs.get(name, ())):
                if mine.item is not None and theirs.item is not None and mine.item > self.items:
                    self.known[mine.item] = theirs.item

    def _id(self, item: int) -> int | None:
        """The id in the study of a thing of the part; None for what is still to be made."""
        return item if item <= self.items else self.known.get(item)

    def _given(self, thing: Thing) -> Given:
        if thing.item is None:
            if thing.path:
                return Given(thing, file=Path(thing.path))
            owner = int(thing.hash.rpartition(" ")[2]) if thing.blank else None
            mine = None if owner is None else self._id(owner)
            record = None if mine is None else self.study.items.get(mine)
            if record is None:
                return Given(thing)
            there = [r for r in self.study.items.on(record.id, thing.kind) if r.name == thing.name]
            if there:
                return self._now(there[0], thing)
            return still_to_be_made(record, thing.kind, store_for(thing.kind).blank(record, thing.name))
        mine = self._id(thing.item)
        record = None if mine is None else self.study.items.get(mine)
        if record is None:
            raise Trouble(f"“{thing.name}” of {thing.subject} is no longer in the study", "run that part again")
        return self._now(record, thing)

    def _now(self, record: Record, thing: Thing) -> Given:
        now = self.study.as_thing(record)
        return Given(
            Thing(now.kind, now.name, now.subject, now.of, thing.place, now.item, now.hash), record.id, record.of
        )

    def _prepared(self, thing: Thing) -> Prepared:
        """A thing of the part, made ready to be kept: its row, and its files in a side folder."""
        assert thing.item is not None
        record = self.part.items.get(thing.item)
        if record is None:
            raise Trouble(f"“{thing.name}” is missing in this part of the run", "run that part again", self.part.folder)
        store, side = store_for(record.kind), None
        home = self.part.folder / store.folder / str(record.id)
        body = dict(record.body)
        if home.is_dir():
            side = side_folder(self.study)
            shutil.copytree(home, side, dirs_exist_ok=True)
            if "files" in body:  # named from the side folder, as when they were made
                begins = f"{store.folder}/{record.id}/"
                body["files"] = [f.removeprefix(begins) for f in body["files"]]
        of = None if record.of is None else self._id(record.of)
        picture = self.part.items.thumbnail(record.id)
        return Prepared(record.kind, record.name, record.subject, record.space, record.hash, body, picture, side, of)

    def _edit(self, step: Step) -> Any:
        """What a step has drawn, as the journal of the part holds it."""
        rows = self.part.catalogue.rows("SELECT * FROM change WHERE step_id = ? ORDER BY seq", step.id)
        for row in rows:
            edit = getattr(unpacked(row), "edit", None)
            if edit is not None:
                return edit
        raise Trouble(f"“{step.title}” has left nothing in this part of the run", "run that part again")


def _book_of(study: Study, book: RunBook, lines: dict[int, int | None]) -> RunBook:
    """The book of a part's run as one of the study."""
    made = begin(study.folder, book.order)
    for unit, cells in book.cells.items():
        if unit in book.units:
            made.write(unit, state=book.units[unit][0], what=book.units[unit][1])
        for n, cell in enumerate(cells):
            if cell.state != states.WAITING:
                line = lines.get(cell.step, cell.step) if cell.step is not None else None
                facts = {"seconds": cell.seconds, "what": cell.what, "log": cell.log}
                made.step(unit, n, cell.state, line=line, **facts)
    made.close()
    return made
