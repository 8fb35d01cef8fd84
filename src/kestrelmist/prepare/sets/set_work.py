"""The pictures of a set worked out in processes, each written whole; what is there already is not done again."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator
from concurrent.futures import FIRST_COMPLETED, Future, wait
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ...core.errors import Trouble
from ...core.progress import Progress
from ...core.safe_write import write_trouble
from ...core.workers import worker_pool
from .box_table import Row
from .picture_fit import NumberType, Rule, Values, fit_of, resized, scaled
from .set_reading import read_picture

CHUNK, ALONE = 16, 48
"""Pictures that a process is given at a time, and how few are worked out without any."""
JOURNAL = "done.jsonl"
HEAD = 128
"""Bytes of an .npy file before its values."""


@dataclass(frozen=True)
class Recipe:
    """What is done to each picture."""

    size: tuple[int, int]
    rule: Rule
    values: Values
    limits: tuple[float, float]
    kind: NumberType
    colour: bool = False

    @property
    def shape(self) -> tuple[int, ...]:
        """Of each array: rows, columns, and three channels where it has colours."""
        return (self.size[1], self.size[0], *((3,) if self.colour else ()))


@dataclass(frozen=True)
class Wanted:
    """A picture of the set: its name in the table, file, subject, part, rows of the table, and where it goes."""

    name: str
    file: Path
    subject: str
    part: str
    rows: tuple[Row, ...]
    target: str


@dataclass(frozen=True)
class Item:
    """A picture that is wanted: its file, and where it goes below the set's folder."""

    number: int
    file: str
    target: str


@dataclass(frozen=True)
class Done:
    """What became of one: its columns and rows, whether it was turned over; or what was wrong with it."""

    number: int
    columns: int = 0
    rows: int = 0
    turned: bool = False
    wrong: str = ""


def worked_out(items: list[Item], recipe: Recipe, folder: Path, workers: int, progress: Progress) -> dict[int, Done]:
    """All pictures, by their numbers; those that the folder's journal has were done before.

    Raises
    ------
    Trouble
        When nothing can be written there.
    Cancelled
    """
    whole = HEAD + math.prod(recipe.shape) * np.dtype(recipe.kind).itemsize
    known = {done.number: done for done in _journal(folder) if done.wrong or _is_whole(folder, items, done, whole)}
    left = [item for item in items if item.number not in known]
    for part in {Path(item.target).parent for item in items}:
        (folder / part).mkdir(parents=True, exist_ok=True)
    with open(folder / JOURNAL, "a", encoding="utf-8") as journal:
        for found in _each(left, recipe, folder, workers):
            for done in found:
                known[done.number] = done
                journal.write(json.dumps(asdict(done)) + "\n")
            journal.flush()
            progress.at(len(known) / max(len(items), 1), "Bringing pictures to one size")
    return known


def _is_whole(folder: Path, items: list[Item], done: Done, size: int) -> bool:
    """Whether the array of one that was done is there with all of its bytes: not so after a fall of the current."""
    path = folder / items[done.number].target
    return path.exists() and path.stat().st_size == size


def _journal(folder: Path) -> Iterator[Done]:
    if (folder / JOURNAL).exists():
        for line in (folder / JOURNAL).read_text(encoding="utf-8").splitlines():
            try:
                yield Done(**json.loads(line))
            except (ValueError, TypeError):
                continue  # the line that was being written when it was stopped


def _each(items: list[Item], recipe: Recipe, folder: Path, workers: int) -> Iterator[list[Done]]:
    chunks = [items[n : n + CHUNK] for n in range(0, len(items), CHUNK)]
    if workers < 1 or len(items) <= ALONE:
        for chunk in chunks:
            yield work_on(chunk, recipe, str(folder))
        return
    pool = worker_pool(workers)
    waiting: set[Future[Any]] = set()
    try:
        while True:
            while len(waiting) < 2 * workers and chunks:
                waiting.add(pool.submit(work_on, chunks.pop(0), recipe, str(folder)))
            if not waiting:
                return
            ended, waiting = wait(waiting, 0.2, FIRST_COMPLETED)
            for one in ended:
                yield one.result()
            if not ended:
                yield []  # so that a cancel is noticed
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


def work_on(items: list[Item], recipe: Recipe, folder: str) -> list[Done]:
    """Read, fit, scale and write some pictures. One that cannot be read is told of; a full disk is raised."""
    return [_one(item, recipe, Path(folder)) for item in items]


def _one(item: Item, recipe: Recipe, folder: Path) -> Done:
    try:
        read = read_picture(Path(item.file), recipe.colour)
        rows, columns = read.values.shape[:2]
        fit = fit_of(columns, rows, recipe.size, recipe.rule)
        how, (low, high) = recipe.values, recipe.limits
        if how == "percentiles":  # of the picture itself, before a border is put round it
            there = read.values[np.isfinite(read.values)]
            how, (low, high) = "range", np.percentile(there, recipe.limits) if there.size else (0.0, 1.0)
        ground = {"type": read.span[0], "range": low}.get(how, 0.0)
        small = scaled(resized(read.values, fit, ground), how, (float(low), float(high)), read.span, recipe.kind)
    except Trouble as trouble:
        return Done(item.number, wrong=str(trouble))
    except Exception as error:  # a damaged file may make a decoder do anything; the others go on
        return Done(item.number, wrong=f"{Path(item.file).name} cannot be read ({type(error).__name__}: {error})")
    target = folder / item.target
    try:
        np.save(target, small)  # it counts when the journal has it
    except OSError as error:
        raise write_trouble(error, target) from error
    return Done(item.number, columns, rows, read.turned)
