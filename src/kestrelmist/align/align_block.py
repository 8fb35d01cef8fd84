"""Align sections of a block one onto the next."""

from __future__ import annotations

from typing import Annotated, Literal, NamedTuple

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.left_out import LeftOut
from ..core.mapping import Mapping
from ..core.operation import operation
from ..core.parameter import Between
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from ..core.transform import Transform
from .affine_fit import Judged, fitted
from .choices import UNLIKE, alike
from .freedom import freedom as freedom_of
from .freedom import matrix_of, numbers_of
from .full_search import begun_anywhere
from .levels import levels_of
from .sides import require_comparable, side_of
from .similar import similarity_named

REACH = 2
"""Sections to each side that one is aligned with: what is wrong of one pair is made up for by others."""


class Block(NamedTuple):
    """Where each section lies to the reference, and what was found."""

    transforms: list[Mapping]
    report: Table


@operation(
    "align",
    "Align sections of a block",
    name="align-block",
    keywords=(
        "serial sections histology stack reconstruction slices register consecutive slice to slice 3D reconstruction"
    ),
    called={"image": "First", "others": "Next ones", "reference": "Stays"},
    group="Several images",
    methods="Sections of a block were aligned with their neighbours, and all poses were found together",
    cites=("Studholme 1999", "Liu 1989"),
)
def align_block(
    image: Image,
    others: list[Image],
    *,
    freedom: Literal["2", "3", "4", "6"] = "3",
    reference: Annotated[int | None, Between(1, 100_000), LeftOut("the middle one")] = None,
    search: Literal["near", "full"] = "near",
    progress: Progress = silent(),
) -> Block:
    """Find how the sections of a block lie to one another: each to the two before it and the two after it, and all of
    them together so that these agree best. The one in the middle stays, so that little adds up towards the ends.

    Parameters
    ----------
    image, others : images
        Pictures of the sections, in their order in the block.
    freedom : text
        2 (shift), 3 (and turn), 4 (and scale) or 6.
    reference : number
        Which one stays, from 1 on.
    search : "near" or "full"
        From where they lie, or from all turns.

    Returns
    -------
    transforms : list of Mapping
        From the section that stays to each of the others, in their order; of itself one that changes nothing.
    report : Table
        For each section its shift and turn, and by how much its pairs disagree.

    Raises
    ------
    Trouble
        When there are fewer than two, they are no pictures, or two neighbours have too little in common.
    """
    everyone = [image, *others]
    count = len(everyone)
    if count < 2:
        raise Trouble("A block has two sections at least", "name the next ones too")
    if not all(require_comparable(one, image) for one in everyone):
        raise Trouble(f"“{image.name}” is a volume, and sections are pictures", "choose pictures")
    stays = (count - 1) // 2 if reference is None else int(reference) - 1
    if stays >= count:
        raise Trouble(f"There are {count} sections, and number {stays + 1} is to stay", f"choose one of 1 to {count}")
    sides = [side_of(one, None, progress.part(0.0, 0.02)) for one in everyone]
    same = all(alike(image, one) for one in others)
    similarity = similarity_named("correlation" if same else UNLIKE)
    of = freedom_of(int(freedom), True)
    pairs = [(a, a + far) for far in range(1, REACH + 1) for a in range(count - far)]
    ways: dict[tuple[int, int], np.ndarray] = {}
    weights: dict[tuple[int, int], float] = {}
    for n, (a, b) in enumerate(pairs):
        part = progress.part(0.02 + 0.93 * n / len(pairs), 0.02 + 0.93 * (n + 1) / len(pairs)).unseen()
        part.at(0.0, f"Aligning section {b + 1} with {a + 1}")
        levels = levels_of(sides[a], sides[b], similarity.whole)
        start = np.eye(4)
        if b - a == 2:
            start = ways[a + 1, b] @ ways[a, a + 1]
        elif search == "full":
            start = begun_anywhere(levels, similarity_named(UNLIKE), of, None, part.part(0.0, 0.6)).matrix
        try:
            ways[a, b] = fitted(levels, similarity, of, start, part.part(0.6, 1.0))
        except Trouble as trouble:
            what = f"Sections {a + 1} (“{everyone[a].name}”) and {b + 1} (“{everyone[b].name}”): {trouble.what}"
            raise Trouble(what, trouble.do) from trouble
        told = Judged(levels[-1], similarity_named(UNLIKE)).cost(ways[a, b])
        weights[a, b] = max(-told[0] - 1.0, 1e-3) if told is not None else 1e-3
    poses = agreed(ways, weights, count, stays, sides[stays].space.centre)
    return _told(everyone, poses, ways, stays)


def agreed(
    ways: dict[tuple[int, int], np.ndarray],
    weights: dict[tuple[int, int], float],
    count: int,
    stays: int,
    centre: np.ndarray,
) -> list[np.ndarray]:
    """Poses, (4, 4) each from the one that stays to it, that agree best with the ways between pairs: the numbers of
    each matrix by least squares, worked out anew about the poses so far.

    Parameters
    ----------
    ways : dict
        By two sections, from the first of them to the second.
    weights : dict
        How much each counts.
    """
    poses = [np.eye(4) for _ in range(count)]
    for n in range(stays + 1, count):
        poses[n] = ways[n - 1, n] @ poses[n - 1]
    for n in range(stays - 1, -1, -1):
        poses[n] = np.linalg.inv(ways[n, n + 1]) @ poses[n + 1]
    for _ in range(8):
        rows, goals = [], []
        for (a, b), way in ways.items():
            # what is left of going from a to b, and back by both poses, about the middle of the one that stays
            left = np.linalg.inv(poses[b]) @ way @ poses[a]
            row = np.zeros(count)
            row[a], row[b] = -1.0, 1.0
            rows.append(np.sqrt(weights[a, b]) * row)
            goals.append(np.sqrt(weights[a, b]) * numbers_of(left, centre))
        free = [n for n in range(count) if n != stays]
        found = np.linalg.lstsq(np.array(rows)[:, free], np.array(goals), rcond=None)[0]
        for n, step in zip(free, found):
            poses[n] = poses[n] @ matrix_of(step, centre)
        if np.abs(found).max(initial=0.0) < 1e-9:
            break
    return poses


def _told(everyone: list[Image], poses: list[np.ndarray], ways: dict[tuple[int, int], np.ndarray], stays: int) -> Block:
    onto = everyone[stays]
    centre, unit = onto.space.centre, onto.space.unit
    corners = onto.space.corners()
    made: list[Mapping] = []
    rows = []
    for n, (one, pose) in enumerate(zip(everyone, poses)):
        name = f"{one.name} to {onto.name}"
        made.append(Transform(pose, onto.space.world, one.space.world, name, one.subject or onto.subject))
        numbers = numbers_of(pose, centre)
        off = []
        for (a, b), way in ways.items():
            if n in (a, b):
                left = np.linalg.inv(poses[b]) @ way @ poses[a]
                off.append(np.linalg.norm(corners @ left[:3, :3].T + left[:3, 3] - corners, axis=1).mean())
        row = (one.name, float(numbers[0]), float(numbers[1]), float(np.degrees(numbers[5])), float(np.mean(off)))
        rows.append((*row, "yes" if n == stays else ""))
    columns = [
        Column("section"),
        Column("shift x", unit, figures=5),
        Column("shift y", unit, figures=5),
        Column("turn", "degrees", 3),
        Column("pairs disagree by", unit, figures=3),
        Column("stays"),
    ]
    return Block(made, Table(f"{len(everyone)} sections onto {onto.name}", columns, rows))
