"""Align one image with another by computer: shift, turn, scale, shear."""

from __future__ import annotations

from typing import Annotated, Literal, NamedTuple

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.left_out import Leads, LeftOut
from ..core.mapping import Mapping
from ..core.operation import operation
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from ..core.transform import Transform
from .affine_fit import Judged, fitted
from .choices import UNLIKE, freedom_of, similarity_of
from .freedom import Freedom, numbers_of
from .freedom import freedom as freedom_named
from .full_search import begun_anywhere
from .levels import Level, levels_of
from .sides import require_comparable, side_of
from .similar import Similarity, similarity_named

MIRROR = 1.05
"""How many times as much information the mirror image must share before sides are said to be swapped."""


class Aligned(NamedTuple):
    """Where the moving image lies, and how well that fits."""

    transform: Mapping
    report: Table


@operation(
    "align",
    "Align two images",
    name="align",
    keywords=(
        "register registration coregister coregistration rigid affine line up match normalise linear registration "
        "multimodal motion between scans"
    ),
    called={
        "image": "Moves",
        "onto": "Onto",
        "mask": "Only where (onto)",
        "moving_mask": "Only where (moves)",
        "start": "Begin with",
    },
    rare="mask moving_mask start",
    group="Two images",
    methods="Images were aligned with {freedom} degrees of freedom by {similarity}",
    cites=("Viola 1997", "Mattes 2003", "Studholme 1999", "Roche 1998", "Avants 2008", "Liu 1989", "Alexa 2022"),
)
def align_images(
    image: Image,
    onto: Image,
    *,
    freedom: Annotated[
        Literal["2", "3", "4", "6", "7", "9", "12"] | None, LeftOut("6 within a subject, 12 between two", freedom_of)
    ] = None,
    similarity: Annotated[
        Literal[
            "squares",
            "correlation",
            "correlation-ratio",
            "information",
            "normalised-information",
            "local-correlation",
        ]
        | None,
        LeftOut("by what both images are", similarity_of),
    ] = None,
    search: Literal["near", "full"] = "near",
    mask: LabelMap | None = None,
    moving_mask: LabelMap | None = None,
    start: Annotated[Mapping | None, Leads("onto", "image")] = None,
    progress: Progress = silent(),
) -> Aligned:
    """Find where an image lies to another one, by shift, turn, scale and shear. Nothing is resampled.

    Parameters
    ----------
    onto : image
        It stays where it is.
    freedom : text
        Of volumes 3 (shift), 6 (and turn), 7 (and one scale), 9 (and three scales) or 12 (and shear); of pictures 2,
        3, 4 or 6.
    similarity : text
        Mean squares, correlation, correlation ratio, mutual information, normalised mutual information, or
        correlation within cubes of 7 voxels.
    search : "near" or "full"
        From where both lie, or from all turns.
    mask, moving_mask : label map
        Only what carries a label there is compared.
    start : transform
        Where to begin; where both lie in two spaces, the way between them that the study knows.

    Returns
    -------
    transform : Mapping
        From places of the image that stays to where they are found in the one that moves, as ITK has it.
    report : Table
        How alike both are before and after, shift (mm) of the middle, turns (degrees), scales, what overlaps.

    Raises
    ------
    Trouble
        When the images have no scale in common, one is a picture and one a volume, one is the same everywhere, a mask
        lies on another grid, or too little overlaps.
    """
    return aligned(image, onto, freedom, similarity, search, mask, moving_mask, start, progress)


def aligned(image, onto, number, measure, search, mask, moving_mask, start, progress: Progress) -> Aligned:
    """The same, of settings as they are."""
    flat = require_comparable(image, onto)
    given = {"image": image, "onto": onto}
    chosen = freedom_of(given) if number is None else None
    of = freedom_named(int(chosen.value if chosen is not None else number), flat)
    by = similarity_of(given) if measure is None else None
    similarity = similarity_named(by.value if by is not None else measure)
    fixed = side_of(onto, mask, progress.part(0.0, 0.05))
    moving = side_of(image, moving_mask, progress.part(0.05, 0.1))
    begin = _begin(start)
    levels = levels_of(fixed, moving, similarity.whole)
    mirror = ""
    if search == "full":
        begin, mirror = _anywhere(levels_of(fixed, moving) if similarity.whole else levels, of, progress.part(0.1, 0.6))
    _require_some(levels[-1], begin, image, onto)
    before = _score(levels[-1], similarity, begin if search == "near" else np.eye(4))
    matrix, _ = fitted(levels, similarity, of, begin, progress.part(0.6 if search == "full" else 0.1, 1.0))
    name = f"{image.name} to {onto.name}"
    made = Transform(matrix, onto.space.world, image.space.world, name, image.subject or onto.subject)
    return Aligned(made, _report(name, of, similarity, levels[-1], matrix, before, mirror))


def _begin(start: Mapping | None) -> np.ndarray:
    if start is None:
        return np.eye(4)
    if not isinstance(start, Transform):
        raise Trouble(
            f"“{start.name}” is a {start.words}, and shift, turn and scale begin with an affine one",
            "leave it out, or choose an affine one",
        )
    return start.matrix


def _anywhere(levels: list[Level], of: Freedom, progress: Progress) -> tuple[np.ndarray, str]:
    """Where to begin, and a word when the mirror image fits better."""
    similarity = similarity_named(UNLIKE)
    found = begun_anywhere(levels, similarity, of, progress.part(0.0, 0.5))
    mirrored = begun_anywhere([level.mirrored() for level in levels], similarity, of, progress.part(0.5, 1.0))
    # images that have nothing in common have 1
    gain = (-mirrored.cost - 1) / max(-found.cost - 1, 1e-9)
    return found.matrix, "its mirror image fits better: left and right may be swapped" if gain > MIRROR else "no"


def _require_some(level: Level, matrix: np.ndarray, image: Image, onto: Image) -> None:
    if Judged(level, similarity_named(UNLIKE)).cost(matrix) is None:
        raise Trouble(
            f"Too little of “{image.name}” and “{onto.name}” overlaps to begin there",
            "bring them nearer by hand, or search fully",
        )


def _score(level: Level, similarity: Similarity, matrix: np.ndarray) -> float:
    found = Judged(level, similarity).cost(matrix)
    return float("nan") if found is None else similarity.score(found[0])


def _report(
    name: str, of: Freedom, similarity: Similarity, level: Level, matrix: np.ndarray, before: float, mirror: str
) -> Table:
    numbers = numbers_of(matrix, level.centre)
    looks = Judged(level, similarity).looks
    overlap = float(looks.look(matrix)[1].mean())
    columns = [
        Column("freedom"),
        Column("similarity"),
        Column("before", digits=4),
        Column("after", digits=4),
        *(Column(f"shift {axis}", "mm", 4) for axis in "xyz"),
        *(Column(f"turn {axis}", "degrees", 3) for axis in "xyz"),
        *(Column(f"scale {axis}", digits=4) for axis in "xyz"),
        Column("overlap", "%", 1),
    ]
    row = [of.number, similarity.title, before, _score(level, similarity, matrix)]
    row += [*numbers[:3], *np.degrees(numbers[3:6]), *np.exp(numbers[6:9]), 100 * overlap]
    if mirror:
        columns.append(Column("swapped sides"))
        row.append(mirror)
    return Table(f"{name}, how it fits", columns, [tuple(row)])
