"""Align one image with another by computer: shift, turn, scale, shear, and warp."""

from __future__ import annotations

from typing import Annotated, Literal, NamedTuple

import numpy as np

from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.left_out import Leads, LeftOut
from ..core.mapping import Mapping
from ..core.operation import operation
from ..core.parameter import Between, Only, Unit
from ..core.progress import Progress, silent
from ..core.table import Table
from ..core.transform import Transform
from .affine_fit import Judged, fitted
from .align_report import fit_report, score, with_warp
from .choices import UNLIKE, freedom_for, freedom_of, similarity_for, similarity_of, warp_spacing_of
from .freedom import Freedom
from .freedom import freedom as freedom_named
from .full_search import begun_anywhere
from .guides import guides_of
from .levels import Level, levels_of
from .sides import require_comparable, side_of
from .similar import similarity_named
from .warp_fit import bent

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
        "multimodal motion between scans nonlinear non-linear warp deformable elastic diffeomorphic"
    ),
    called={
        "image": "Moves",
        "onto": "Onto",
        "mask": "Only where (onto)",
        "moving_mask": "Only where (moves)",
        "weights": "Weights (onto)",
        "moving_weights": "Weights (moves)",
        "start": "Begin with",
        "warp_spacing": "Warp spacing",
        "landmarks": "Landmarks (moves)",
        "onto_landmarks": "Landmarks (onto)",
        "regions": "Labels (moves)",
        "onto_regions": "Labels (onto)",
    },
    rare="mask moving_mask weights moving_weights stiffness start landmarks onto_landmarks regions onto_regions",
    group="Two images",
    methods="Images were aligned (freedom: {freedom}; similarity: {similarity}; search: {search})",
    cites=(
        "Vercauteren 2008",
        "Arsigny 2006",
        "Viola 1997",
        "Mattes 2003",
        "Studholme 1999",
        "Roche 1998",
        "Avants 2008",
        "Liu 1989",
        "Alexa 2022",
    ),
)
def align_images(
    image: Image,
    onto: Image,
    *,
    freedom: Annotated[
        Literal["2", "3", "4", "6", "7", "9", "12", "warp"] | None,
        LeftOut("6 within a subject, 12 between two", freedom_of),
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
        LeftOut("from both images", similarity_of),
    ] = None,
    search: Literal["near", "full"] = "near",
    mask: LabelMap | None = None,
    moving_mask: LabelMap | None = None,
    weights: Image | None = None,
    moving_weights: Image | None = None,
    warp_spacing: Annotated[
        float | None, Unit("mm"), Between(1e-9, 1e6), Only("freedom", "warp"), LeftOut("four voxels", warp_spacing_of)
    ] = None,
    stiffness: Annotated[float, Between(0, 50), Only("freedom", "warp")] = 1.0,
    start: Annotated[Mapping | None, Leads("onto", "image")] = None,
    landmarks: Marks | None = None,
    onto_landmarks: Marks | None = None,
    regions: LabelMap | None = None,
    onto_regions: LabelMap | None = None,
    progress: Progress = silent(),
) -> Aligned:
    """Find where an image lies to another one, by shift, turn, scale, shear and warp. Nothing is resampled.

    Parameters
    ----------
    onto : image
        It stays where it is.
    freedom : text
        Of volumes 3 (shift), 6 (and turn), 7 (and one scale), 9 (and three scales) or 12 (and shear); of pictures 2,
        3, 4 or 6. "warp" bends as well, after all that an affine transform can do.
    similarity : text
        Mean squares, correlation, correlation ratio, mutual information, normalised mutual information, or
        correlation within cubes of 7 voxels.
    search : "near" or "full"
        From where both lie, or from all turns; a start that is given is one of these.
    mask, moving_mask : label map
        Only what carries a label there is compared.
    weights, moving_weights : images
        How much each voxel counts, on the grid of its image: 0 for not at all, and in shares of the largest.
    warp_spacing : mm
        How fine a warp may be: the standard deviation by which its steps are smoothed; four voxels when left out.
    stiffness : number
        How much a warp itself is smoothed after each step, 0 for not at all.
    start : transform
        Where to begin; where both lie in two spaces, the way between them that the study knows.
    landmarks, onto_landmarks : marks
        Points of both that go together: a warp is guided by them besides.
    regions, onto_regions : label map
        Labels of both: a warp is guided by those of one name besides.

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
    flat = require_comparable(image, onto)
    chosen = freedom or str(freedom_for(image, onto).value)
    of = freedom_named((6 if flat else 12) if chosen == "warp" else int(chosen), flat)
    measure = similarity_named(similarity or str(similarity_for(image, onto).value))
    fixed = side_of(onto, mask, progress.part(0.0, 0.05), weights)
    moving = side_of(image, moving_mask, progress.part(0.05, 0.1), moving_weights)
    levels = levels_of(fixed, moving, measure.whole)
    guides = guides_of(landmarks, onto_landmarks, regions, onto_regions)
    if guides and chosen != "warp":
        raise Trouble("Landmarks and labels guide warps alone", "choose “warp”, or “Align by landmarks”")
    begin, mirror, rest = affine_start(start), "", progress.part(0.1, 0.4 if chosen == "warp" else 1.0)
    before = score(levels[-1], measure, begin)
    if search == "full":
        here = None if start is None else begin
        anywhere = levels_of(fixed, moving) if measure.whole else levels
        begin, mirror = _anywhere(anywhere, of, here, rest.part(0.0, 0.6).unseen())
        rest = rest.part(0.6, 1.0)
    _require_some(levels[-1], begin, image, onto)
    matrix = fitted(levels, measure, of, begin, rest)
    ends = onto.space.world, image.space.world
    whose = f"{onto.subject} " if onto.subject and image.subject and onto.subject != image.subject else ""
    name, subject = f"{image.name} to {whose}{onto.name}", image.subject or onto.subject
    made: Mapping = Transform(matrix, *ends, name, subject)
    table = fit_report(name, of, measure, levels[-1], matrix, before, mirror)
    if chosen == "warp":
        spacing = None if warp_spacing is None else float(warp_spacing)
        found = bent(fixed, moving, matrix, measure, spacing, stiffness, progress.part(0.4, 1.0), guides)
        made = found.warp.between(*ends).named(f"{name}, warped", subject)
        table = with_warp(table, levels[-1], measure, found)
    return Aligned(made, table)


def affine_start(start: Mapping | None) -> np.ndarray:
    """The matrix to begin with; raises Trouble when a start is none."""
    if start is None:
        return np.eye(4)
    if not isinstance(start, Transform):
        raise Trouble(
            f"“{start.name}” is a {start.words}, and shift, turn and scale begin with an affine one",
            "leave it out, or choose an affine one",
        )
    return start.matrix


def _anywhere(levels: list[Level], of: Freedom, start: np.ndarray | None, progress: Progress) -> tuple[np.ndarray, str]:
    """Where to begin, and a word when the mirror image fits better."""
    similarity = similarity_named(UNLIKE)
    found = begun_anywhere(levels, similarity, of, start, progress.part(0.0, 0.5))
    mirrored = begun_anywhere([level.mirrored() for level in levels], similarity, of, None, progress.part(0.5, 1.0))
    # images that have nothing in common have 1
    gain = (-mirrored.cost - 1) / max(-found.cost - 1, 1e-9)
    return found.matrix, "its mirror image fits better: left and right may be swapped" if gain > MIRROR else "no"


def _require_some(level: Level, matrix: np.ndarray, image: Image, onto: Image) -> None:
    if Judged(level, similarity_named(UNLIKE)).cost(matrix) is None:
        raise Trouble(
            f"Too little of “{image.name}” and “{onto.name}” overlaps to begin there",
            "bring them nearer by hand, or search fully",
        )
