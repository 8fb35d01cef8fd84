"""Align by pairs of landmarks."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np

from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.mapping import Mapping
from ..core.operation import operation
from ..core.table import Column, Table
from .landmarks import Pairs, distances, fit, left_out


class Fitted(NamedTuple):
    """Where the landmarks say that the moving image lies, and what is left of each pair."""

    transform: Mapping
    report: Table


@operation(
    "align",
    "Align by landmarks",
    name="fit-landmarks",
    keywords="landmark fiducial point pairs corresponding points procrustes horn thin-plate spline register manual",
    called={"marks": "Moves", "onto": "Onto"},
    group="Two images",
    methods="Images were aligned by pairs of landmarks ({freedom})",
    cites=("Horn 1987", "Bookstein 1989"),
)
def fit_landmarks(
    marks: Marks,
    onto: Marks,
    *,
    freedom: Literal["3", "6", "7", "12", "spline"] = "6",
    without: str = "",
) -> Fitted:
    """The transform that brings landmarks of one image best onto those of another.

    Points of one name are a pair. Where names do not say it, the first goes with the first, and so on.

    Parameters
    ----------
    onto : marks
        Those of the image that stays.
    freedom : text
        3 (shift), 6 (and turn), 7 (and one scale), 12 (affine), or a thin-plate spline through all of them.
    without : text
        Names of pairs that are left out, or their numbers from 1 on, with commas between.

    Returns
    -------
    transform : Mapping
        From places of the image that stays to where they are found in the one that moves.
    report : Table
        For each pair the distance that is left (mm), and how far it is off by a fit of all others: a pair that was set
        wrongly stands out there.

    Raises
    ------
    Trouble
        When there are too few pairs, they lie on one line or in one plane, or a name that is left out is none.
    """
    if marks.unit != onto.unit and marks.unit and onto.unit:
        raise Trouble(f"“{marks.name}” is in {marks.unit}, “{onto.name}” in {onto.unit}", "give both images a scale")
    pairs = paired(marks, onto)
    kept = _kept(pairs, without)
    used = pairs.only(kept)
    name = f"{marks.of or marks.name} to {onto.of or onto.name} by landmarks"
    mapping = fit(used, freedom).between(onto.world, marks.world).named(name, marks.subject or onto.subject)
    left, alone = distances(mapping, pairs), np.full(len(pairs), np.nan)
    alone[kept] = left_out(used, freedom)
    alone[~kept] = left[~kept]
    unit = marks.unit or onto.unit or "mm"
    rms = float(np.sqrt((left[kept] ** 2).mean()))
    columns = [Column("pair"), Column("left", unit, 4), Column("by the others", unit, 4), Column("counts")]
    rows: list[tuple] = [
        (name, float(a), None if np.isnan(b) else float(b), "yes" if c else "no")
        for name, a, b, c in zip(pairs.names, left, alone, kept)
    ]
    rows.append(("root mean square", rms, _rms(alone[kept]), f"{int(kept.sum())} of {len(pairs)}"))
    return Fitted(mapping, Table(f"{name}, what is left", columns, rows))


def paired(marks: Marks, onto: Marks) -> Pairs:
    """Points that go together: by their names where each has one of its own in both, else one after the other."""
    there, here = ([mark for mark in each if mark.shape == "point"] for each in (marks, onto))
    for each, found in ((marks, there), (onto, here)):
        if not found:
            raise Trouble(f"There are no points among the marks “{each.name}”", "set some with the tool “Point mark”")
    names = [[mark.name for mark in each] for each in (there, here)]
    if all(len(set(one)) == len(one) and all(one) for one in names):
        both = [name for name in names[1] if name in names[0]]
        if not both:
            raise Trouble(f"No point of “{marks.name}” has the name of one of “{onto.name}”", "name pairs alike")
        by_name = [{mark.name: mark for mark in each} for each in (there, here)]
        there, here = ([known[name] for name in both] for known in by_name)
    elif len(there) != len(here):
        raise Trouble(
            f"“{marks.name}” has {len(there)} points and “{onto.name}” {len(here)}, and no names say which go together",
            "name pairs alike, or set as many in both",
        )
    told = tuple(mark.name or str(n) for n, mark in enumerate(here, 1))
    first, other = (np.array([mark.points[0] for mark in each]) for each in (here, there))
    return Pairs(first, other, told, bool(np.ptp(first[:, 2]) == 0 and np.ptp(other[:, 2]) == 0))


def _kept(pairs: Pairs, without: str) -> np.ndarray:
    kept = np.ones(len(pairs), bool)
    for word in filter(None, (w.strip() for w in without.split(","))):
        if word in pairs.names:
            kept[pairs.names.index(word)] = False
        elif word.isdigit() and 1 <= int(word) <= len(pairs):
            kept[int(word) - 1] = False
        else:
            raise Trouble(f"There is no pair “{word}”", f"choose among {', '.join(pairs.names)}")
    return kept


def _rms(values: np.ndarray) -> float | None:
    there = values[np.isfinite(values)]
    return float(np.sqrt((there**2).mean())) if there.size else None
