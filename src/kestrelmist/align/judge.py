"""Judge an alignment by numbers: likeness, overlap, how far it moves and stretches, whether it finds back."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.mapping import Mapping
from ..core.operation import operation
from ..core.progress import Progress, silent
from ..core.space import Space
from ..core.table import Column, Table
from ..core.transform import Transform
from .align_report import score, score_through
from .fit_landmarks import paired
from .label_agreement import agreements
from .landmarks import distances
from .levels import Level, levels_of
from .sides import require_comparable, side_of
from .similar import similarity_named

MOST = 60_000
"""Places at which a mapping is looked at."""
LITTLE, SOME = 20.0, 60.0
"""Percent of overlap below which an alignment is bad, or doubtful."""
FAR = 0.5
"""Voxels that there and back may miss by before it is doubtful."""
THIN = 1.03
"""Normalised mutual information below which both images have little in common."""


@dataclass
class Judged:
    """Rows of a table, and what speaks against the alignment."""

    rows: list[tuple]
    bad: list[str]
    doubtful: list[str]

    def say(self, what: str, value: float | None, unit: str = "") -> None:
        """One number."""
        self.rows.append((what, None if value is None or not np.isfinite(value) else float(value), unit, ""))


@operation(
    "align",
    "Judge an alignment",
    name="judge",
    keywords=(
        "quality check control registration qc alignment accuracy jacobian folding inverse consistency overlap "
        "similarity dice"
    ),
    called={
        "onto": "Onto",
        "landmarks": "Landmarks (moves)",
        "onto_landmarks": "Landmarks (onto)",
        "regions": "Labels (moves)",
        "onto_regions": "Labels (onto)",
    },
    rare="mask landmarks onto_landmarks regions onto_regions",
    group="Two images",
    methods="Alignments were judged by likeness, overlap, the Jacobian, and the way there and back",
    cites=("Studholme 1999", "Dice 1945"),
)
def judge(
    image: Image,
    onto: Image,
    transform: Mapping,
    *,
    mask: LabelMap | None = None,
    landmarks: Marks | None = None,
    onto_landmarks: Marks | None = None,
    regions: LabelMap | None = None,
    onto_regions: LabelMap | None = None,
    progress: Progress = silent(),
) -> Table:
    """How well an image fits another one through a transform, in numbers, and a verdict with its reasons.

    The verdict looks at folding, at how much overlaps, at likeness before and after, and at whether the way back leads
    back. It cannot see one that makes both images more alike and is wrong all the same: look at their edges, too.

    Parameters
    ----------
    onto : image
        What it was aligned with.
    transform : transform
        From places of `onto` to where they are found in the image, as *Align two images* gives it.
    mask : label map
        Of `onto`: only what carries a label there is compared.
    landmarks, onto_landmarks : marks
        Points of both that are known to go together; how far they lie apart is told.

    regions, onto_regions : label map
        Labels of both: for each name that both have, Dice and the distance of the surfaces are told.

    Returns
    -------
    Table
        The verdict and its reasons, then a row a number: likeness before and after, overlap, shifts (mm), Jacobian,
        there and back.

    Raises
    ------
    Trouble
        When the images cannot be compared, the transform joins other spaces, or landmarks of one image alone are given.
    """
    flat = require_comparable(image, onto)
    if (landmarks is None) != (onto_landmarks is None):
        raise Trouble("Landmarks are held against an alignment in pairs", "name those of both images, or of none")
    if (regions is None) != (onto_regions is None):
        raise Trouble("Labels are held against an alignment in pairs", "name those of both images, or of none")
    _require_ends(transform, image, onto)
    fixed, moving = side_of(onto, mask, progress.part(0.0, 0.1)), side_of(image, None, progress.part(0.1, 0.2))
    level = levels_of(fixed, moving, shrinks=(2, 1))[-1]
    judged = Judged([], [], [])
    _likeness(judged, level, transform)
    progress.at(0.5, "Judging")
    _moves(judged, onto.space, level, transform, flat)
    if landmarks is not None and onto_landmarks is not None:
        left = distances(transform, paired(landmarks, onto_landmarks))
        for name, value in (("mean", left.mean()), ("largest", left.max())):
            judged.say(f"landmarks apart, {name}", float(value), onto.space.unit)
    if regions is not None and onto_regions is not None:
        for one in agreements(regions, onto_regions, transform):
            judged.say(f"{one.name}, Dice", one.dice)
            judged.say(f"{one.name}, surfaces apart, mean", one.mean, onto.space.unit)
            judged.say(f"{one.name}, surfaces apart, largest", one.largest, onto.space.unit)
    verdict = "bad" if judged.bad else "doubtful" if judged.doubtful else "nothing speaks against it"
    because = [("because", None, "", reason) for reason in (*judged.bad, *judged.doubtful)]
    judged.rows[:0] = [("verdict", None, "", verdict), *because]  # first, as it is what is looked for
    columns = [Column("what"), Column("value", figures=4), Column("unit"), Column("said")]
    return Table(f"{image.name} to {onto.name}, judged", columns, judged.rows)


def _require_ends(transform: Mapping, image: Image, onto: Image) -> None:
    for which, world, one in (("starts from", transform.source, onto), ("leads to", transform.target, image)):
        here = one.space.world
        if world.id and here.id and not world.is_one_with(here):
            raise Trouble(
                f"“{transform.name}” {which} {world}, and “{one.name}” lies in {here}",
                "choose the transform from the one that stays to the one that moves, or turn it round",
            )


def _likeness(judged: Judged, level: Level, way: Mapping) -> None:
    for name in ("normalised-information", "correlation"):
        measure = similarity_named(name)
        before, after = score(level, measure, np.eye(4)), score_through(level, measure, way)
        judged.say(f"{measure.title.lower()}, before", before)
        judged.say(f"{measure.title.lower()}, after", after)
        if name == "normalised-information":
            if np.isfinite(before) and after < before:
                judged.doubtful.append("both are less alike than where they lay before")
            if after < THIN:
                judged.doubtful.append("both have little in common")


def _moves(judged: Judged, space: Space, level: Level, way: Mapping, flat: bool) -> None:
    """How far it moves, and stretches, and whether it finds back, on a grid over the image that stays."""
    steps = _steps(space)
    index = np.stack(np.meshgrid(*(np.arange(0, n, s) for n, s in zip(space.shape, steps)), indexing="ij"), -1)
    here = space.to_world(index.reshape(-1, 3)).reshape(index.shape)
    there = way.to(here)
    far = np.linalg.norm(there - here, axis=-1)
    known = np.isfinite(far)
    at = level.moving_space.to_voxel(there[known])
    inside = ((at >= -0.5) & (at <= np.array(level.moving_space.shape) - 0.5)).all(-1)
    overlap = 100.0 * float(inside.sum()) / max(known.size, 1)
    judged.say("overlap", overlap, "%")
    if overlap < LITTLE:
        judged.bad.append(f"only {overlap:.0f} % of the image that stays is reached")
    elif overlap < SOME:
        judged.doubtful.append(f"{overlap:.0f} % of the image that stays is reached")
    for name, value in (("mean", np.nanmean(far)), ("largest", np.nanmax(far))):
        judged.say(f"shift, {name}", float(value), space.unit)
    stretch = _jacobian(there, here, flat)
    for name, value in (("smallest", stretch.min()), ("largest", stretch.max())):
        judged.say(f"Jacobian, {name}", float(value))
    folds = 100.0 * float((stretch <= 0).mean())
    judged.say("folds", folds, "%")
    if folds > 0:
        judged.bad.append(f"it folds at {folds:.2g} % of the places")
    if isinstance(way, Transform):
        return
    within = np.zeros(known.shape, bool)  # beyond its edge a field says nothing
    within[tuple(slice(n // 10, n - n // 10) for n in known.shape)] = True
    counted = within[known] & inside
    if not counted.any():
        return
    back = np.linalg.norm(way.back(there[known][counted]) - here[known][counted], axis=-1)
    missed = float(np.nanmean(back)) if np.isfinite(back).any() else float("nan")
    judged.say("there and back, mean", missed, space.unit)
    judged.say("there and back, largest", float(np.nanmax(back)) if np.isfinite(back).any() else None, space.unit)
    lost = 100.0 * float((~np.isfinite(back)).mean())
    if lost > 5:
        judged.doubtful.append(f"the way back is not found for {lost:.0f} % of the places")
    if missed > FAR * min(s for s, n in zip(space.spacing, space.shape) if n > 1 or flat):
        judged.doubtful.append(f"there and back misses by {missed:.3g} {space.unit}")


def _steps(space: Space) -> list[int]:
    """Voxels from place to place along each axis."""
    step = 1
    while np.prod([-(-n // step) for n in space.shape], dtype=float) > MOST:
        step += 1
    return [min(step, max(1, (n - 1) // 2)) if n > 1 else 1 for n in space.shape]


def _jacobian(there: np.ndarray, here: np.ndarray, flat: bool) -> np.ndarray:
    """By how much volumes, or areas of a picture, grow between the places of a grid."""
    axes = [n for n in range(3) if there.shape[n] > 1]
    if len(axes) < (2 if flat else 3):
        return np.ones(1)
    grown = []
    for points in (there, here):
        ways = [np.diff(points, axis=a) for a in axes]
        cut = tuple(slice(0, n - 1) if a in axes else slice(None) for a, n in enumerate(points.shape[:3]))
        ways = [w[cut] for w in ways]
        if len(axes) == 2:
            grown.append(ways[0][..., 0] * ways[1][..., 1] - ways[0][..., 1] * ways[1][..., 0])
        else:
            grown.append(np.einsum("...a,...a->...", np.cross(ways[0], ways[1]), ways[2]))
    found = grown[0] / grown[1]
    return found[np.isfinite(found)] if np.isfinite(found).any() else np.ones(1)
