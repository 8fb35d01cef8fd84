"""What lies beside the arrays of a set: tables, the mean and spread of the training part, and the manifest."""

from __future__ import annotations

import hashlib
import json
import shutil
from collections import Counter, defaultdict
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ... import VERSION
from ...core.errors import Trouble
from ...core.progress import Progress
from ...core.table import Column, Table
from .box_table import box_in
from .picture_fit import fit_of
from .set_parts import PARTS
from .set_plan import NO_SUBJECTS, Problem
from .set_work import JOURNAL, Done, Recipe, Wanted


def finish(
    folder: Path,
    wanted: list[Wanted],
    done: dict[int, Done],
    recipe: Recipe,
    said: dict[str, Any],
    problems: list[Problem],
    store: str,
    progress: Progress,
) -> Table:
    """Look at every array once more, write what lies beside them, and take the marks of the work away; returns the
    report.

    Raises
    ------
    Trouble
        When no picture could be read, or an array is not what was written.
    """
    kept = [n for n in range(len(wanted)) if not done[n].wrong]
    problems = list(problems)
    for n in sorted(done):
        if done[n].wrong:
            problems.append(("unreadable", wanted[n].name, wanted[n].rows[0].line, done[n].wrong))
    if not kept:
        raise Trouble(
            f"None of {len(wanted)} pictures could be read: {done[0].wrong}", "choose pictures of a kind that can be"
        )
    seen = _looked_at(folder, wanted, done, kept, recipe, progress)
    kept = _apart(folder, wanted, kept, seen, problems)
    boxes = _boxes(wanted, done, kept, recipe, problems)
    _pictures(wanted, done, kept, seen).save_csv(folder / "pictures.csv")
    boxes.save_csv(folder / "boxes.csv")
    _subjects(wanted, kept).save_csv(folder / "subjects.csv")
    listed = Table("Problems", [Column("problem"), Column("picture"), Column("line"), Column("what")])
    listed.rows = list(problems)
    listed.save_csv(folder / "problems.csv")
    statistics = _statistics(seen, wanted, kept)
    _json(folder / "statistics.json", statistics)
    if store == "zarr":
        _into_zarr(folder, wanted, kept, recipe)
    manifest = {
        "made with": f"Kestrelmist {VERSION}",
        "settings": {k: v for k, v in said.items() if k not in ("table", "folder")},
        "from": {"table": said["table"], "folder": said["folder"]},
        "pictures": {wanted[n].target: seen[n].sha256 for n in kept},
        "statistics": statistics,
    }
    _json(folder / "manifest.json", manifest)
    for mark in ("plan", JOURNAL):
        (folder / mark).unlink(missing_ok=True)
    return _report(wanted, kept, boxes, problems, statistics)


@dataclass(frozen=True)
class Seen:
    """What an array holds: its hash, whether all of it is one value, and of each channel how many values there are,
    their sum and their sum of squares, with the border and without."""

    sha256: str
    even: bool
    whole: np.ndarray
    inside: np.ndarray

    @property
    def mean(self) -> float:
        return float(self.whole[1].sum() / self.whole[0].sum())


def _looked_at(
    folder: Path, wanted: list[Wanted], done: dict[int, Done], kept: list[int], recipe: Recipe, progress: Progress
) -> dict[int, Seen]:
    """What each array holds, read back from where it was written."""
    found = {}
    shape = recipe.shape
    for n in progress.over(kept, what="Looking at each once more"):
        path = folder / wanted[n].target
        raw = path.read_bytes()
        values = np.load(path)
        if values.shape != shape or values.dtype != np.dtype(recipe.kind):
            raise Trouble("An array of this set is not what was written", "do it again", path)
        left, right, top, bottom = fit_of(done[n].columns, done[n].rows, recipe.size, recipe.rule).filled
        exact = values.astype(np.float64)
        inside, whole = exact[top:bottom, left:right], _sums(exact)
        sums = whole, whole if inside.shape == exact.shape else _sums(inside)
        found[n] = Seen(hashlib.sha256(raw).hexdigest(), bool(exact.min() == exact.max()), *sums)
    return found


def _sums(values: np.ndarray) -> np.ndarray:
    """How many values, their sum and sum of squares: a row each, a column a channel."""
    flat = values.reshape(-1, values.shape[2] if values.ndim == 3 else 1)
    return np.array([np.full(flat.shape[1], len(flat)), flat.sum(0), (flat**2).sum(0)])


def _apart(
    folder: Path, wanted: list[Wanted], kept: list[int], seen: dict[int, Seen], problems: list[Problem]
) -> list[int]:
    """Pictures that came out as the very same array are in one part: of others, those outside training are left out.
    Files that differ may well hold the same pixels."""
    first: dict[str, int] = {}
    left_out = set()
    for n in sorted(kept, key=lambda n: (PARTS.index(wanted[n].part), n)):
        one = wanted[first.setdefault(seen[n].sha256, n)]
        if one.part != wanted[n].part and not seen[n].even:
            words = f"holds the same pixels as “{one.name}”, which is in {one.part}: it is left out of {wanted[n].part}"
            problems.append(("same pixels", wanted[n].name, wanted[n].rows[0].line, words))
            left_out.add(n)
            (folder / wanted[n].target).unlink()
    return [n for n in kept if n not in left_out]


def _statistics(seen: dict[int, Seen], wanted: list[Wanted], kept: list[int]) -> dict[str, Any]:
    training = [n for n in kept if wanted[n].part == "training"]
    whole, inside = (np.sum([getattr(seen[n], name) for n in training], axis=0) for name in ("whole", "inside"))
    told: dict[str, Any] = {"part": "training", "pictures": len(training)}
    if not training:
        return told
    all_channels = whole.sum(1, keepdims=True)
    mean, spread = _mean_and_spread(all_channels)
    told |= {"values": int(all_channels[0, 0]), "mean": mean[0], "standard deviation": spread[0]}
    for name, sums in (("by channel", whole), ("without the border", inside)):
        mean, spread = _mean_and_spread(sums)
        told[name] = {"values": int(sums[0].sum()), "mean": mean, "standard deviation": spread}
    return told


def _mean_and_spread(sums: np.ndarray) -> tuple[list[float], list[float]]:
    mean = sums[1] / sums[0]
    return mean.tolist(), np.sqrt(np.maximum(sums[2] / sums[0] - mean**2, 0)).tolist()


def _pictures(wanted: list[Wanted], done: dict[int, Done], kept: list[int], seen: dict[int, Seen]) -> Table:
    heads = ("picture", "subject", "part", "array", "columns", "rows", "turned over", "boxes", "mean", "file")
    table = Table("Pictures", [Column(name) for name in heads])
    for n in kept:
        one, was = wanted[n], done[n]
        boxes = sum(row.box is not None for row in one.rows)
        mean = seen[n].mean
        turned = "yes" if was.turned else "no"
        table.rows.append(
            (one.name, one.subject, one.part, one.target, was.columns, was.rows, turned, boxes, mean, str(one.file))
        )
    return table


def _boxes(
    wanted: list[Wanted], done: dict[int, Done], kept: list[int], recipe: Recipe, problems: list[Problem]
) -> Table:
    """Every box in pixels of the new pictures; those of which nothing is left are problems."""
    heads = ("picture", "subject", "part", "array", "class", "left", "top", "width", "height", "line")
    table = Table("Boxes", [Column(name) for name in heads])
    for n in kept:
        one, was = wanted[n], done[n]
        fit = fit_of(was.columns, was.rows, recipe.size, recipe.rule)
        for row in one.rows:
            if row.box is None:
                continue
            box = box_in(row, was.columns, was.rows)
            assert box is not None
            own = replace(box, left=max(box.left, 0.0), top=max(box.top, 0.0))
            inside = (
                own.left < was.columns and own.top < was.rows and box.left + box.width > 0 and box.top + box.height > 0
            )
            new = fit.box(box) if inside else None
            if new is None:
                where = "the picture" if not inside else "what is kept of it"
                problems.append(("outside", one.name, row.line, f"its box lies outside {where}"))
                continue
            if (
                box.left < -0.5
                or box.top < -0.5
                or box.left + box.width > was.columns + 0.5
                or box.top + box.height > was.rows + 0.5
            ):
                problems.append(
                    ("cut", one.name, row.line, "part of its box lies outside the picture, and was cut off")
                )
            numbers = (new.left, new.top, new.width, new.height)
            table.rows.append((one.name, one.subject, one.part, one.target, row.label, *numbers, row.line))
    return table


def _subjects(wanted: list[Wanted], kept: list[int]) -> Table:
    table = Table(
        "Subjects", [Column("subject"), Column("part"), Column("pictures"), Column("boxes"), Column("classes")]
    )
    by_subject: dict[str, list[Wanted]] = defaultdict(list)
    for n in kept:
        by_subject[wanted[n].subject].append(wanted[n])
    for subject, several in sorted(by_subject.items()):
        classes = Counter(row.label for one in several for row in one.rows if row.box is not None)
        told = ", ".join(f"{name or 'no class'} {count}" for name, count in sorted(classes.items()))
        table.rows.append((subject, several[0].part, len(several), sum(classes.values()), told))
    return table


def _into_zarr(folder: Path, wanted: list[Wanted], kept: list[int], recipe: Recipe) -> None:
    """The arrays of each part as one, in the order of pictures.csv."""
    import zarr

    group = zarr.open_group(str(folder / "pictures.zarr"), mode="w")
    for part in PARTS:
        numbers = [n for n in kept if wanted[n].part == part]
        if not numbers:
            continue
        shape = (len(numbers), *recipe.shape)
        array = group.create_array(part, shape=shape, chunks=(1, *shape[1:]), dtype=recipe.kind)
        for place, n in enumerate(numbers):
            array[place] = np.load(folder / wanted[n].target)
        array.attrs["pictures"] = [wanted[n].name for n in numbers]
        shutil.rmtree(folder / part)


def _json(path: Path, said: dict[str, Any]) -> None:
    path.write_text(json.dumps(said, indent=1, ensure_ascii=False, default=str), encoding="utf-8")


def _report(
    wanted: list[Wanted], kept: list[int], boxes: Table, problems: list[Problem], statistics: dict[str, Any]
) -> Table:
    table = Table("Set of pictures", [Column("what"), Column("count", "", 6)])
    rows: list[tuple[str, float | int]] = []
    if any(problem[0] == NO_SUBJECTS for problem in problems):
        rows.append(("pictures that count as subjects of their own, as no column names subjects", len(kept)))
    for part in PARTS:
        here = [wanted[n] for n in kept if wanted[n].part == part]
        if here:
            rows += [(f"pictures for {part}", len(here)), (f"subjects for {part}", len({one.subject for one in here}))]
    rows.append(("boxes", len(boxes.rows)))
    for kind, count in sorted(Counter(problem[0] for problem in problems).items()):
        rows.append((f"problems: {kind}", count))
    for word in ("mean", "standard deviation") if "mean" in statistics else ():
        rows.append((f"{word} of the training part", statistics[word]))
        several = statistics["without the border"][word]
        names = ("",) if len(several) == 1 else (", red", ", green", ", blue")
        rows += [(f"{word} without the border{name}", value) for name, value in zip(names, several)]
    table.rows = list(rows)
    return table
