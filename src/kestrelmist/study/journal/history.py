"""One history for the whole study. The journal is the stack: undo and redo go on where they were after a restart.

The journal only grows at its end. Doing something writes an entry of one or more changes; undo and redo write a row
that turns an entry round. What an entry has done is in force when it was turned an even number of times.
"""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager

from ...core.errors import Trouble
from ..catalogue import now
from ..catalogue_trouble import rows_understood
from ..open_study import OpenStudy
from .changes import Change, UnknownChange, unpacked
from .logbook import Step, storable
from .stacks import Entry, LongEntry, Stacks


class Stale(Trouble):
    """A change was worked out for a state of a thing that is no more."""


class History:
    """Does, undoes and redoes changes, of one thing or of the study.

    `listeners` are called with the things that an entry has changed, in the thread that did it. `finish_gesture` is
    called first, so that a gesture in hand is ended and journalled before anything else happens.
    """

    def __init__(self, study: OpenStudy):
        self.study, self.catalogue = study, study.catalogue
        self.listeners: list[Callable[[tuple[int, ...]], None]] = []
        self.finish_gesture: Callable[[], None] | None = None
        self._revisions: dict[int, int] = {}
        self._recent: dict[int, list[Change]] = {}
        """Changes of the entry that was done last, which is the one that is most often undone: to read millions of runs
        of a noisy threshold back from the journal is felt."""
        self._loaded: Stacks | None = None
        self._under_way: dict[int, LongEntry] = {}
        self._here = threading.local()
        self._lock = threading.RLock()

    # what there is

    @property
    def _stacks(self) -> Stacks:
        """Rebuilt from the journal when first asked for."""
        if (loaded := self._loaded) is not None:  # the window does not wait for a worker that turns a large entry
            return loaded
        with self._lock:
            if self._loaded is None:
                self._loaded = self._read()
            return self._loaded

    def _read(self) -> Stacks:
        stacks = Stacks()
        entries: dict[int, Entry] = {}
        here = self.study.items.everything()
        turned: set[tuple[int, int]] = set()
        for row in self.catalogue.rows(
            "SELECT seq, entry, turns, item_id, title, made, step_id, kind FROM change ORDER BY seq"
        ):
            if row["turns"] is None:
                step = [] if row["step_id"] is None else [row["step_id"]]
                if row["entry"] in entries:
                    entries[row["entry"]].items.append(row["item_id"])
                    entries[row["entry"]].steps += step
                    stacks.cannot_redo({row["item_id"]})
                    continue
                entry = entries[row["entry"]] = Entry(row["entry"], row["title"], [row["item_id"]], step)
                stacks.done.append(entry)
                stacks.undone.clear()
            elif row["entry"] not in turned and row["turns"] in entries:
                # the rows of one turn share an entry of their own
                turned.add(row["entry"])
                stacks.turn(entries[row["turns"]])
        for stack in (stacks.done, stacks.undone):
            stack[:] = [e for e in stack if all(item in here for item in e.items)]
        return stacks

    def _last(self, stack: list[Entry], thing: int | None) -> Entry | None:
        changed: set[int] = set()
        for entry in reversed(stack):
            if entry.id in self._under_way:
                changed.update(entry.items)
            elif thing is None or thing in entry.items:
                return entry if changed.isdisjoint(entry.items) else None
        return None

    def to_undo(self, thing: int | None = None) -> Entry | None:
        """What undo would take back."""
        return self._last(self._stacks.done, thing)

    def to_redo(self, thing: int | None = None) -> Entry | None:
        """What redo would do again."""
        return self._last(self._stacks.undone, thing)

    def revision(self, item: int) -> int:
        """Changes whenever a thing does: the place in the journal of its last change."""
        if item not in self._revisions:
            found = self.catalogue.rows("SELECT max(seq) AS last FROM change WHERE item_id = ?", item)
            self._revisions[item] = found[0]["last"] or 0
        return self._revisions[item]

    # what is done

    @contextmanager
    def together(self, long: LongEntry) -> Iterator[LongEntry]:
        """What this thread does meanwhile goes into a long entry."""
        before, self._here.long = getattr(self._here, "long", None), long
        try:
            yield long
        finally:
            self._here.long = before

    def over(self, long: LongEntry) -> None:
        """A long entry is over: from now on it is one as all others."""
        with self._lock:
            self._under_way = {entry: one for entry, one in self._under_way.items() if one is not long}
            last = next((e.items[-1:] for e in self._stacks.done if e.id == long.entry), [])
        if last:
            self._tell(tuple(last))

    def _goes_on(self, stacks: Stacks, long: LongEntry, items: set[int]) -> bool:
        """Whether a long entry may hold a change of these things: nobody else has changed them since it began."""
        for entry in reversed(stacks.done):
            if entry.id == long.entry:
                return True
            if not items.isdisjoint(entry.items):
                return False
        return False

    def do(
        self,
        changes: Sequence[Change] | Callable[[sqlite3.Connection], tuple[Sequence[Change], Step | None]],
        step: Step | None = None,
        title: str = "",
        take_back: Callable[[], object] | None = None,
        end_gesture: bool = True,
        into: int = 0,
    ) -> int:
        """Write changes to the journal, with their line in the logbook, and apply them; on disk when this returns.

        The journal comes first: what cannot be written is not shown as done.

        Parameters
        ----------
        changes : sequence, or callable
            The changes; or a function that does more in the same transaction and returns the changes and the step. When
            it returns no change, only the step is written.
        take_back : callable
            The hand that made the changes has applied them already; this takes them back, and is called when writing
            fails.
        end_gesture : bool
            End the gesture in hand first; off for the gesture's own change, and in a long entry.
        into : int
            An entry to be continued, when it is still the last one: both are then undone together.

        Returns
        -------
        The entry, for undoing just this; 0 when nothing was changed.

        Raises
        ------
        Stale
            When a change was made for another revision of its thing.
        Trouble
            When the study cannot be written.
        """
        long: LongEntry | None = getattr(self._here, "long", None)
        if end_gesture and long is None:
            self.end_gesture()
        given: Sequence[Change] = () if callable(changes) else changes
        with self._lock:
            stacks = self._stacks
            try:
                with self.catalogue.change() as db:
                    if callable(changes):
                        given, step = changes(db)
                    for change in given:
                        if change.revision is not None and change.revision != self.revision(change.item):
                            what = "What was worked out fits a state that has changed meanwhile"
                            raise Stale(what, "do it again")
                    written = None if step is None else self.study.logbook.write(step)
                    if long is not None:
                        title, into = long.title, long.entry
                        goes_on = self._goes_on(stacks, long, {c.item for c in given})
                    else:
                        goes_on = bool(stacks.done) and stacks.done[-1].id == into
                    entry, last = self._journal(db, given, written, title, into if goes_on else 0)
            except BaseException:
                if take_back is not None:
                    take_back()
                raise
            if long is not None and written is not None:
                long.step = written
            if not given:
                return 0
            self._revisions.update(last)
            items = tuple(dict.fromkeys(c.item for c in given))
            steps = () if written is None else (written,)
            if goes_on:
                there = next(e for e in reversed(stacks.done) if e.id == entry)
                there.items.extend(items)
                there.steps.extend(steps)
                self._recent.pop(entry, None)
                stacks.cannot_redo(set(items))
            else:
                stacks.done.append(Entry(entry, title or given[0].title, list(items), list(steps)))
                self._recent = {entry: list(given)}
                stacks.undone.clear()
            if long is not None:
                long.entry = entry
                self._under_way[entry] = long
            if take_back is None:
                for change in given:
                    change.apply(self.study)
        self._here.long = None  # what whoever hears of it does is none of it
        try:
            self._tell(items)
        finally:
            self._here.long = long
        return entry

    def _journal(
        self, db: sqlite3.Connection, changes: Sequence[Change], step: int | None, title: str, entry: int = 0
    ) -> tuple[int, dict[int, int]]:
        """Write the rows of one entry, the first of them under its title; returns the entry, which is the number of its
        first row, and the last row of each thing."""
        last: dict[int, int] = {}
        for change in changes:
            change.write(self.study, db)
            body, before, after = change.packed()
            # told before it is written: to change a row that holds millions of runs writes them twice
            first: int | None = None
            if not entry:
                first = entry = int(db.execute("SELECT COALESCE(MAX(seq), 0) + 1 FROM change").fetchone()[0])
            seq = db.execute(
                "INSERT INTO change (seq, entry, session_id, item_id, kind, title, made, step_id, body, before, after)"
                " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    first,
                    entry,
                    self.study.session,
                    change.item,
                    change.kind,
                    storable(title) if first and title else change.title,
                    now(),
                    step,
                    body,
                    before,
                    after,
                ),
            ).lastrowid
            assert seq is not None
            last[change.item] = seq
        return entry, last

    def undo(self, thing: int | None = None, only: Entry | None = None) -> Entry | None:
        """Take back the last entry, or the last that changed a thing; None when there is none.

        Raises Trouble when it is another one than `only`.
        """
        return self._turn_last(thing, True, only)

    def redo(self, thing: int | None = None, only: Entry | None = None) -> Entry | None:
        """Do again what was taken back last; as `undo`."""
        return self._turn_last(thing, False, only)

    def _turn_last(self, thing: int | None, back: bool, only: Entry | None = None) -> Entry | None:
        self.end_gesture()
        with self._lock:
            stacks = self._stacks
            entry = self._last(stacks.done if back else stacks.undone, thing)
            if only is not None and entry is not only:
                raise Trouble(f"Something else was done before “{only.title}” had its turn, so it stays", "try again")
            if entry is None:
                return None
            changes = self.changes_of(entry.id)
            if any(isinstance(c, UnknownChange) for c in changes):
                raise Trouble(f"“{entry.title}” was made by a newer version of the program", "undo it there")
            turned = [c.reversed() for c in reversed(changes)] if back else changes
            self.study.items.everything()  # what others see while this is written
            try:
                with self.catalogue.change() as db:
                    first = 0
                    for change in turned:
                        change.write(self.study, db)
                        seq = db.execute(
                            "INSERT INTO change (entry, turns, session_id, item_id, kind, title, made)"
                            " VALUES (?, ?, ?, ?, ?, ?, ?)",
                            (first, entry.id, self.study.session, change.item, change.kind, change.title, now()),
                        ).lastrowid
                        assert seq is not None
                        if not first:
                            first = seq
                            db.execute("UPDATE change SET entry = ? WHERE seq = ?", (first, seq))
                        self._revisions[change.item] = seq
                    for step in set(entry.steps):
                        db.execute("UPDATE step SET undone = ? WHERE id = ?", (int(back), step))
            except BaseException:
                self._revisions.clear()
                raise
            for change in turned:
                change.apply(self.study)
            stacks.turn(entry)
        self._tell(tuple(entry.items))
        return entry

    def changes_of(self, entry: int) -> list[Change]:
        """The changes of an entry, in the order they were made."""
        if entry in self._recent:
            return list(self._recent[entry])
        rows = self.catalogue.rows("SELECT * FROM change WHERE entry = ? AND turns IS NULL ORDER BY seq", entry)
        with rows_understood(self.catalogue.path):
            return [unpacked(row) for row in rows]

    def changes_since(self, item: int, seq: int) -> list[tuple[int, Change]]:
        """What happened to a thing after a place in the journal, in order, undo and redo as the changes they made."""
        found: list[tuple[int, Change]] = []
        turns: set[int] = set()
        for row in self.catalogue.rows("SELECT * FROM change WHERE item_id = ? AND seq > ? ORDER BY seq", item, seq):
            if row["turns"] is None:
                with rows_understood(self.catalogue.path):
                    found.append((row["seq"], unpacked(row)))
                continue
            if row["entry"] in turns:  # a turn has a row for each change
                continue
            turns.add(row["entry"])
            # an entry that is turned for the first time goes back, for the second time forth, and so on
            times = self.catalogue.rows(
                "SELECT count(DISTINCT entry) AS n FROM change WHERE turns = ? AND seq <= ?", row["turns"], row["seq"]
            )[0]["n"]
            own = [c for c in self.changes_of(row["turns"]) if c.item == item]
            found += (
                [(row["seq"], c.reversed()) for c in reversed(own)] if times % 2 else [(row["seq"], c) for c in own]
            )
        return found

    def forget(self) -> None:
        """Read the stacks anew: things were deleted for good."""
        self._loaded = None
        self._revisions.clear()
        self._recent.clear()

    def end_gesture(self) -> None:
        """Have the hand finish what it is at, so that it is journalled before anything else happens."""
        if self.finish_gesture is not None:
            self.finish_gesture()

    def _tell(self, items: tuple[int, ...]) -> None:
        for listener in list(self.listeners):
            listener(items)
