"""The pictures of a table of boxes as the window shows them: filtered, paged, and their boxes corrected by hand."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal

from ...core.errors import Trouble
from ...prepare.sets.box_table import Box, BoxTable, Row, lies_out, read_boxes, table_of
from ...prepare.sets.picture_match import Matched, files_below, matched
from ...study.box_corrections import BoxCorrections
from .session import Session

PAGE = 120
"""Pictures of one page."""
ALL, UNNAMED, NONE = "All classes", "Without a class", "Without a box"


@dataclass
class Entry:
    """A picture: its name in the table, its file when one was found, and its rows."""

    name: str
    file: Path | None
    rows: list[Row] = field(default_factory=list)
    problem: str = ""
    unread: bool = False
    corrected: bool = False
    size: tuple[int, int] | None = None
    """Columns and rows, once it was read."""

    @property
    def classes(self) -> set[str]:
        return {row.label for row in self.rows if row.box is not None}

    @property
    def missing(self) -> bool:
        """Whether it has no file."""
        return self.file is None and self.problem.startswith("no file")

    @property
    def outside(self) -> bool:
        """Whether one of its boxes reaches out of the picture, as far as its size is known."""
        return any(lies_out(row, self.size) for row in self.rows)


PROBLEMS: dict[str, Callable[[Entry], bool]] = {
    "All pictures": lambda entry: True,
    "Missing files": lambda entry: entry.missing,
    "Double names": lambda entry: entry.file is None and not entry.missing,
    "Not read": lambda entry: entry.unread,
    "Box outside": lambda entry: entry.outside,
    "Corrected": lambda entry: entry.corrected,
}
EVERY = next(iter(PROBLEMS))


class Collection(QObject):
    """What is shown in the grid. Corrections are remembered by the study as they are made."""

    opened = Signal()
    """Another table, or none, is shown."""
    saved = Signal(str)
    """The table was written with its corrections."""
    changed = Signal()
    """Other pictures are on the page, or a box is another one."""

    def __init__(self, session: Session):
        super().__init__(session)
        self.session = session
        self.table: Path | None = None
        self.folder: Path | None = None
        self.entries: list[Entry] = []
        self.heads = ""
        self.missing = 0
        """Pictures without a file."""
        self.chosen_class, self.chosen_problem, self.page = ALL, EVERY, 0
        self._undo: list[tuple[str, list[Row], bool]] = []
        self.corrections = BoxCorrections(session.study.catalogue)
        self._digest = ""
        self._said: tuple[str, Any, Any] = ("", "auto", None)
        self._asked = 0
        self._by_name: dict[str, Entry] = {}
        self._classes: list[str] | None = None
        self._places: dict[str, int] = {}
        self._visible: list[Entry] | None = None

    @property
    def is_open(self) -> bool:
        return self.table is not None

    def open(self, table: Path, folder: Path, columns: str = "", layout: Any = "auto", counted_in: Any = None) -> None:
        """Read a table, and find its pictures in a folder, beside the window."""
        self._asked += 1
        asked = self._asked

        def work(progress):
            digest = self._digest_at(table)
            boxes = read_boxes(table, columns, layout, counted_in)
            progress.at(0.5, "Matching rows and files")
            return digest, boxes, matched((row.picture for row in boxes.rows), files_below(folder, progress), folder)

        def put(found: tuple[str, BoxTable, Matched]) -> None:
            if asked == self._asked and not self.session.closed:
                self._said = columns, layout, counted_in
                self._put(table, folder, *found)

        self.session.work.start(f"Reading {table.name}", work, put)

    def _put(self, table: Path, folder: Path, digest: str, boxes: BoxTable, files: Matched) -> None:
        entries: dict[str, Entry] = {}
        for row in boxes.rows:
            if row.picture not in entries:
                several = files.double.get(row.picture)
                problem = f"{len(several)} files have this name" if several else ""
                problem = "no file has this name" if row.picture in files.missing else problem
                entries[row.picture] = Entry(row.picture, files.files.get(row.picture), problem=problem)
            entries[row.picture].rows.append(row)
        self.table, self.folder, self.entries, self._by_name = table, folder, list(entries.values()), entries
        self.heads = boxes.columns.told(boxes.heads)
        self.chosen_class, self.chosen_problem, self.page, self._undo = ALL, EVERY, 0, []
        self._digest = digest
        self.missing = sum(entry.file is None for entry in self.entries)
        self._recall(entries)
        self._classes = self._visible = None
        self._places = {}
        self.opened.emit()
        self.changed.emit()
        if boxes.problems:
            line, words = boxes.problems[0]
            self.session.trouble.emit(f"{len(boxes.problems)} rows of {table.name} are left out; line {line} {words}.")
        overtaken = self.corrections.overtaken(table, digest)
        if overtaken:
            self.session.trouble.emit(
                f"“{table.name}” holds something else than when the boxes of {overtaken} of its pictures were corrected"
                " here, so they are shown as the file has them: press “Bring the corrections back” if they still fit."
            )

    def close(self) -> None:
        """Put the pictures away; corrections stay remembered."""
        self._asked += 1
        self.table, self.folder, self.entries, self._by_name = None, None, [], {}
        self._classes = self._visible = None
        self.opened.emit()

    # filters and pages

    @property
    def classes(self) -> list[str]:
        """What can be chosen: all, each class, and pictures without a box."""
        if self._classes is None:
            found = {label for entry in self.entries for label in entry.classes}
            named = sorted(label for label in found if label)
            self._classes = [ALL, *named, *([UNNAMED] if "" in found else []), NONE]
            for label in named:
                self._places.setdefault(label, len(self._places))
        return self._classes

    def place_of(self, label: str) -> int | None:
        """The place of a class among all, which stays its own when others come; None for boxes without one."""
        if label and label not in self._places:
            self._places[label] = len(self._places)
        return self._places[label] if label else None

    @property
    def usual_class(self) -> str:
        """The class of most boxes; "" where none has one."""
        counts = Counter(row.label for entry in self.entries for row in entry.rows if row.box is not None and row.label)
        return counts.most_common(1)[0][0] if counts else ""

    @property
    def visible(self) -> list[Entry]:
        """Pictures that pass both filters."""
        if self._visible is None:
            self._visible = [entry for entry in self.entries if self._of_class(entry) and self._of_problem(entry)]
        return self._visible

    def _of_class(self, entry: Entry) -> bool:
        if self.chosen_class == NONE:
            return not entry.classes
        wanted = "" if self.chosen_class == UNNAMED else self.chosen_class
        return wanted == ALL or wanted in entry.classes

    def _of_problem(self, entry: Entry) -> bool:
        return PROBLEMS[self.chosen_problem](entry)

    @property
    def pages(self) -> int:
        return max(1, -(-len(self.visible) // PAGE))

    @property
    def shown(self) -> list[Entry]:
        """Pictures of the present page."""
        return self.visible[self.page * PAGE : (self.page + 1) * PAGE]

    def choose(self, chosen_class: str | None = None, problem: str | None = None) -> None:
        """Show other pictures."""
        self.chosen_class = self.chosen_class if chosen_class is None else chosen_class
        self.chosen_problem = self.chosen_problem if problem is None else problem
        self.page, self._visible = 0, None
        self.changed.emit()

    def turn_to(self, page: int) -> None:
        self.page = min(max(page, 0), self.pages - 1)
        self.changed.emit()

    def seen(self, name: str, columns: int, rows: int) -> None:
        """A picture was read, and is so large."""
        entry = self.entry(name)
        if entry is not None and entry.size is None:
            entry.size = columns, rows
            self._visible = None if self.chosen_problem == "Box outside" else self._visible

    def unreadable(self, name: str, words: str) -> None:
        """A picture could not be read."""
        entry = self.entry(name)
        if entry is not None and not entry.unread:
            entry.unread, entry.problem = True, words
            self._visible = None

    def entry(self, name: str) -> Entry | None:
        """The picture of a name."""
        return self._by_name.get(name)

    # corrections

    def correct(self, name: str, n: int | None, box: Box | None, label: str, size: tuple[int, int]) -> bool:
        """Change the `n`th box of a picture, take it away (box None), or add one (n None); in pixels of the picture,
        which has so many columns and rows. Returns whether that was done."""
        entry = self.entry(name)
        if entry is None:
            return False
        rows, first = list(entry.rows), entry.rows[0]
        counted = (float(size[0]), float(size[1]))
        if n is None:
            made = replace(first, line=0, box=box, label=label, size=counted, relative=False)
            rows = [made] if len(rows) == 1 and first.box is None else [*rows, made]
        elif box is None:
            rest = [row for k, row in enumerate(rows) if k != n]
            rows = rest or [replace(first, box=None, label="")]  # the picture stays, with nothing on it
        else:
            rows[n] = replace(rows[n], box=box, label=label, size=counted, relative=False)
        before = name, list(entry.rows), entry.corrected
        taken = self._take(entry, rows, True)
        if taken:
            self._undo.append(before)
        return taken

    def undo(self) -> None:
        """Take the last correction back."""
        if self._undo:
            name, rows, corrected = self._undo[-1]
            entry = self.entry(name)
            if entry is None or self._take(entry, rows, corrected):
                self._undo.pop()

    @property
    def can_undo(self) -> bool:
        return bool(self._undo)

    def _take(self, entry: Entry, rows: list[Row], corrected: bool) -> bool:
        """Show other rows of a picture once they are remembered; returns whether they are."""
        before = entry.rows, entry.corrected
        entry.rows, entry.corrected = rows, corrected
        kept = {e.name: [_as_list(row) for row in e.rows] for e in self.entries if e.corrected}

        def remember() -> bool:
            assert self.table is not None
            self.corrections.remember(self.table, self._digest, kept)
            return True

        taken = bool(self.session.guarded(remember))
        if not taken:
            entry.rows, entry.corrected = before
        self._classes = self._visible = None
        self.changed.emit()
        return taken

    def _recall(self, entries: dict[str, Entry]) -> None:
        """Corrections that were made before, to what this table holds."""
        for name, rows in self.corrections.of(self._digest).items():
            if name in entries:
                try:
                    entries[name].rows = [_from_list(entries[name].rows[0], row) for row in rows]
                    entries[name].corrected = True
                except (TypeError, ValueError, IndexError):
                    continue

    def save(self, path: Path) -> bool:
        """Write the table as it is now; returns whether it was written."""
        path = path if path.suffix.lower() == ".csv" else path.with_name(f"{path.name}.csv")

        def write() -> bool:
            if not self.entries:
                raise Trouble("There is no table of boxes to save", "look at one first")
            table_of(row for entry in self.entries for row in entry.rows).save_csv(path)
            return True

        kept = bool(self.session.guarded(write))
        if kept:
            self.session.said.emit(f"Saved: {path.name}")
            self._work_on(path)
            self.saved.emit(str(path))
        return kept

    def _work_on(self, table: Path) -> None:
        """What was saved is what is looked at from now on, and nothing of it is a correction any more."""
        self._said = ("", "auto", None)
        self.table, self._digest, self._undo = table, self._digest_at(table), []
        self.session.guarded(lambda: self.corrections.saved(table, self._digest))
        for entry in self.entries:
            entry.corrected = False
        self._visible = None
        self.changed.emit()

    def unsaved(self, table: Path) -> int:
        """Pictures of a table whose boxes were corrected here, while its file has them as they were."""
        if self.session.closed:
            return 0
        if self.is_open and table == self.table:  # asked at every change, when no drive may be waited for
            return sum(entry.corrected for entry in self.entries)
        digest = self._digest_of(table)
        return len(self.corrections.of(digest)) if digest else 0

    def _digest_of(self, table: Path) -> str:
        """What the corrections of a table are told by: what is shown of it, or what its file holds."""
        return self._digest if self.is_open and table == self.table else self._digest_at(table)

    def _digest_at(self, table: Path) -> str:
        """What its file holds; "" when it cannot be read, which is said when it is opened."""
        try:
            return self.corrections.digest(table)
        except OSError:
            return ""

    def forget(self, table: Path) -> None:
        """Let the corrections of a table go, until they are brought back; what is looked at is as its file has it."""
        if self.unsaved(table):
            self._and_look_again(table, lambda: self.corrections.let_go(table, self._digest_of(table)))

    def can_bring_back(self, table: Path) -> bool:
        """Whether there are corrections of it that were let go, or made of what lay there before, and none since."""
        return self.corrections.can_bring_back(table) and not self.unsaved(table)

    def bring_back(self, table: Path) -> None:
        """Take up the corrections of a table that were let go."""
        if self.can_bring_back(table):
            self._and_look_again(table, lambda: self.corrections.bring_back(table, self._digest_of(table)))

    def _and_look_again(self, table: Path, change: Callable[[], None]) -> None:
        self.session.guarded(change)
        if self.table == table and self.folder is not None:
            self.open(table, self.folder, *self._said)


def _as_list(row: Row) -> list:
    box = None if row.box is None else [row.box.left, row.box.top, row.box.width, row.box.height]
    return [row.line, box, row.label, None if row.size is None else list(row.size), row.relative]


def _from_list(first: Row, kept: list) -> Row:
    line, box, label, size, relative = kept
    made = None if box is None else Box(*(float(v) for v in box))
    counted = None if size is None else (float(size[0]), float(size[1]))
    return replace(first, line=int(line), box=made, label=str(label), size=counted, relative=bool(relative))
