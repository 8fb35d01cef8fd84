"""What is known of a run of a recipe: what was ordered, and what happened, written down as it happens. What was made is
in the study; this says how it came about, and where to go on."""

from __future__ import annotations

import json
import math
import os
import traceback
from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

from ... import VERSION
from ...core.errors import Trouble
from ...core.safe_write import write_trouble, written_whole
from ..catalogue import now
from ..journal.logbook import person
from .recipe import Recipe
from .text import as_dict, recipe_from

FOLDER = "runs"
ORDER, EVENTS = "order.json", "events.jsonl"
WAITING, RUNNING, DONE, FOUND, FAILED, STOPPED, MISSING, LEFT_OUT = (
    *("waiting", "running", "done", "was done", "failed", "stopped", "missing", "left out"),
)
OVER = (DONE, FOUND)
UNDER_WAY: set[Path] = set()
"""Folders of the runs that this process is at."""
FINE, DOUBTFUL, BAD = VERDICTS = ("fine", "doubtful", "bad")


@dataclass(frozen=True)
class Order:
    """What a run was begun with.

    Parameters
    ----------
    recipe : Recipe
    name, version, key : str, int, int
        Of the recipe in the study; 0 for one that came from a file. `key` is its id there.
    units : list of (key, subject, name)
        On whom, in order.
    use : dict
        Things that were chosen for slots, by unit and slot.
    left_out : dict
        Units that are left out, and why.
    noticed : dict
        What the checks said before it started, by the keys of the notices: the unit ("" for all), the sentence, and
        the reason why it was waived; "" where nobody has.
    where : str
    """

    recipe: Recipe
    name: str = ""
    version: int = 0
    key: int = 0
    units: tuple[tuple[str, str, str], ...] = ()
    use: dict[str, dict[str, int]] = field(default_factory=dict)
    left_out: dict[str, str] = field(default_factory=dict)
    noticed: dict[str, tuple[str, str, str]] = field(default_factory=dict)
    comes_in: dict[str, dict[str, str]] = field(default_factory=dict)
    """What filled the slots of each unit when it was begun, and how it was found."""
    passed: tuple[str, ...] = ()
    """Checks that had nothing to say."""
    where: str = ""
    made: str = ""
    who: str = ""
    program: str = VERSION
    allow_deleting: bool = False


@dataclass(frozen=True)
class Cell:
    """How far a step of a unit is."""

    state: str = WAITING
    seconds: float = 0.0
    what: str = ""
    step: int | None = None
    """Id of its line in the logbook."""
    log: str = ""
    """What was going on when it failed, for who looks into it."""


class RunBook:
    """The book of one run; see `begin` and `books`."""

    def __init__(self, folder: Path, order: Order):
        self.folder, self.order = folder, order
        self.steps = order.recipe.running().steps
        self.cells: dict[str, list[Cell]] = {u: [Cell()] * len(self.steps) for u, _, _ in order.units}
        self.units: dict[str, tuple[str, str]] = {}
        """State and sentence of units that did not run: missing, left out, stopped, failed before a step."""
        self.verdicts: dict[str, dict[str, str]] = {}
        self.heard: list[Callable[[str], object]] = []
        """Called with the key of a unit of which something was written; may be called from a worker's thread."""
        self._stream: Any = None
        self._read()

    @property
    def number(self) -> int:
        return int(self.folder.name)

    def words(self, unit: str) -> str:
        """What a unit is called."""
        return next((f"{s} {n}".strip() for u, s, n in self.order.units if u == unit), unit)

    # reading

    def _read(self) -> None:
        try:
            with open(self.folder / EVENTS, encoding="utf-8", errors="replace") as stream:
                for line in stream:
                    self._take(line)
        except FileNotFoundError:
            return

    def _take(self, line: str) -> None:
        try:
            event = json.loads(line)
            unit = event["unit"]
        except (ValueError, KeyError, TypeError, RecursionError):
            return  # the last line of a run that was cut short
        if not isinstance(unit, str) or unit not in self.cells:
            return
        if "verdict" in event:
            self.verdicts[unit] = {k: str(event.get(k, "")) for k in ("verdict", "note", "who", "at")}
        elif "step" in event:
            n = event["step"]
            if isinstance(n, int) and 0 <= n < len(self.steps):
                facts = {k: str(event[k]) for k in ("state", "what", "log") if k in event}
                seconds, line_of = event.get("seconds"), event.get("line")
                seconds = float(seconds) if isinstance(seconds, (int, float)) and math.isfinite(seconds) else 0.0
                self.cells[unit][n] = Cell(**facts, seconds=seconds, step=line_of if isinstance(line_of, int) else None)
        elif event.get("state"):
            self.units[unit] = str(event["state"]), str(event.get("what", ""))

    def state(self, unit: str) -> str:
        """How a unit is as a whole."""
        if unit in self.units and self.units[unit][0] != WAITING:
            return self.units[unit][0]
        states = [cell.state for cell in self.cells[unit]]
        for state in (FAILED, RUNNING):
            if state in states:
                return state
        if all(s in OVER for s in states):
            return FOUND if all(s == FOUND for s in states) else DONE
        return STOPPED if STOPPED in states else WAITING

    def said(self, unit: str) -> str:
        """What went wrong with a unit, in a sentence; empty where nothing did."""
        if unit in self.units and self.units[unit][0] != WAITING:
            return self.units[unit][1]
        return next((cell.what for cell in self.cells[unit] if cell.what), "")

    def nobody_else(self) -> RunBook:
        """The study is held by this process: what was under way when another one was killed is not any more."""
        if self.folder not in UNDER_WAY:
            for cells in self.cells.values():
                cells[:] = [replace(c, state=STOPPED) if c.state == RUNNING else c for c in cells]
        return self

    @property
    def unfinished(self) -> list[str]:
        """Units that a run would go on with."""
        return [u for u, _, _ in self.order.units if self.state(u) not in (*OVER, LEFT_OUT)]

    @property
    def seconds(self) -> float:
        """What all steps took."""
        return sum(cell.seconds for cells in self.cells.values() for cell in cells)

    # writing

    def write(self, unit: str, **facts: Any) -> None:
        """Write down what has happened to a unit. Raises Trouble when the disk is full."""
        line = json.dumps({"unit": unit, **facts, "at": now()}, ensure_ascii=False)
        try:
            if self._stream is None:
                self.folder.mkdir(parents=True, exist_ok=True)
                torn = _torn(self.folder / EVENTS)
                self._stream = open(self.folder / EVENTS, "a", encoding="utf-8")  # noqa: SIM115
                if torn:
                    self._stream.write("\n")
            self._stream.write(line + "\n")
            self._stream.flush()
        except OSError as error:
            self.close()
            raise write_trouble(error, self.folder / EVENTS) from error
        self._take(line)
        for hear in self.heard:
            hear(unit)

    def step(self, unit: str, n: int, state: str, **facts: Any) -> None:
        self.write(unit, step=n, state=state, **facts)

    def failed(self, unit: str, n: int, error: BaseException) -> None:
        """A step has failed: a sentence, and for who looks into it how it came to it."""
        what = str(error) if isinstance(error, Trouble) else f"The work failed ({type(error).__name__}: {error})"
        log = "".join(traceback.format_exception(error))[-4000:]
        self.step(unit, n, FAILED, what=what, log=log)

    def begin_again(self, unit: str) -> None:
        """A unit is gone on with: what was wrong with it is to be seen anew."""
        if unit in self.units:
            self.write(unit, state=WAITING)
        for n, cell in enumerate(self.cells[unit]):
            if cell.state not in (*OVER, WAITING):
                self.step(unit, n, WAITING)

    def judge(self, unit: str, verdict: str, note: str = "") -> None:
        """Write down what somebody who looked says of a unit."""
        if unit not in self.cells:
            raise Trouble(f"Run {self.number} has no “{unit}”", "name a subject of it")
        self.write(unit, verdict=verdict, note=note.strip(), who=person())

    def close(self) -> None:
        if self._stream is not None:
            self._stream.close()
            self._stream = None


def _torn(path: Path) -> bool:
    """Whether the last line of a file is a part of one."""
    try:
        with open(path, "rb") as stream:
            stream.seek(-1, os.SEEK_END)
            return stream.read(1) != b"\n"
    except OSError:
        return False


def begin(study_folder: Path, order: Order) -> RunBook:
    """A new book, with the next number. Raises Trouble when it cannot be written."""
    home = study_folder / FOLDER
    order = replace(order, made=order.made or now(), who=order.who or person())
    try:
        home.mkdir(exist_ok=True)
        number = max([0, *(int(p.name) for p in home.iterdir() if p.name.isdigit())]) + 1
        while True:
            folder = home / f"{number:04d}"
            try:
                folder.mkdir()
                break
            except FileExistsError:
                number += 1
    except OSError as error:
        raise write_trouble(error, home) from error
    with written_whole(folder / ORDER) as stream:
        stream.write(json.dumps(_written(order), ensure_ascii=False, default=str).encode())
    return RunBook(folder, order)


def _written(order: Order) -> dict[str, Any]:
    return asdict(replace(order, recipe=None)) | {"recipe": as_dict(order.recipe)}  # type: ignore[arg-type]


def books(study_folder: Path) -> list[RunBook]:
    """The books of a study, the oldest first; damaged ones are passed over."""
    return [book for n in numbers(study_folder) if (book := _opened(study_folder, n)) is not None]


def numbers(study_folder: Path) -> Iterable[int]:
    """Numbers of the runs there are."""
    home = study_folder / FOLDER
    return sorted(int(p.name) for p in home.iterdir() if p.name.isdigit()) if home.is_dir() else []


def book(study_folder: Path, number: int = 0) -> RunBook:
    """The book of a run, or the last one; raises Trouble when there is none."""
    known = list(numbers(study_folder))
    if not known:
        raise Trouble("No recipe was run in this study yet", "run one first", study_folder)
    found = _opened(study_folder, number or known[-1])
    if found is None and number in (0, *known):
        path = study_folder / FOLDER / f"{number or known[-1]:04d}" / ORDER
        raise Trouble("What was ordered of this run is damaged", "run the recipe again: what is done is found", path)
    if found is None:
        raise Trouble(f"There is no run {number}", f"there are {', '.join(map(str, known[-12:]))}")
    return found


def last_of(study_folder: Path, wanted: Callable[[Order], bool]) -> RunBook | None:
    """The last book whose order is wanted; those of others are not read."""
    for number in reversed(list(numbers(study_folder))):
        order = _order_of(study_folder, number)
        if order is not None and wanted(order):
            return _opened(study_folder, number)
    return None


def _opened(study_folder: Path, number: int) -> RunBook | None:
    order = _order_of(study_folder, number)
    return None if order is None else RunBook(study_folder / FOLDER / f"{number:04d}", order)


def _order_of(study_folder: Path, number: int) -> Order | None:
    path = study_folder / FOLDER / f"{number:04d}" / ORDER
    try:
        return _order_from(json.loads(path.read_text(encoding="utf-8")))
    except (OSError, ValueError, TypeError, KeyError, AttributeError, OverflowError, RecursionError, Trouble):
        return None


def _order_from(facts: dict[str, Any]) -> Order:
    """An order as it was written; raises one of many errors when it was not written by this program."""
    recipe = recipe_from(facts["recipe"])
    recipe.running()
    return Order(
        recipe,
        units=tuple((str(a), str(b), str(c)) for a, b, c in facts["units"]),
        noticed={k: (str(a), str(b), str(c)) for k, (a, b, c) in facts["noticed"].items()},
        passed=tuple(map(str, facts.get("passed", ()))),
        comes_in={u: {k: str(v) for k, v in named.items()} for u, named in facts.get("comes_in", {}).items()},
        left_out={u: str(why) for u, why in facts.get("left_out", {}).items()},
        use={u: {k: int(v) for k, v in named.items()} for u, named in facts.get("use", {}).items()},
        allow_deleting=facts.get("allow_deleting") is True,
        name=str(facts.get("name", "")),
        version=int(facts.get("version", 0)),
        key=int(facts.get("key", 0)),
        where=str(facts.get("where", "")),
        made=str(facts.get("made", "")),
        who=str(facts.get("who", "")),
        program=str(facts.get("program", "")),
    )
