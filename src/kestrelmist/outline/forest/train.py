"""Train from strokes: a random forest learns what is under the strokes of each class."""

from __future__ import annotations

from typing import Annotated, NamedTuple

import numpy as np

from ...core.classifier import Classifier, Learnt
from ...core.errors import Trouble
from ...core.image import Image
from ...core.label_boxes import Box, boxes_of
from ...core.labels import LabelMap
from ...core.left_out import Found, LeftOut
from ...core.operation import operation
from ...core.parameter import Between, Unit
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from .features import feature_names
from .looked_at import Seen, each_block, features_in, seen, spread_of

GROUP = "By example"
TREES, DEPTH, LEAF = 60, 18, 2
MOST = 20_000
"""Voxels of a class that are learnt from; of more, that many by chance."""
THICK = 1.5
"""How much longer along k a voxel may be than across, up to which volumes are looked at in three dimensions."""


class Taught(NamedTuple):
    """What training gives."""

    classifier: Classifier
    counts: Table


def _flat(given: dict) -> Found | None:
    image = given.get("image")
    if image is None:
        return None
    space = image.space
    if 1 in space.shape:
        return Found(True, "a picture")
    if max(space.spacing) > THICK * min(space.spacing):
        return Found(True, "slices that are thick beside their pixels")
    return Found(False, "a volume of voxels as long as wide")


def _finest(given: dict) -> Found | None:
    image = given.get("image")
    if image is None:
        return None
    space = image.space
    fine = min(s for s, n in zip(space.spacing, space.shape) if n > 1 or space.shape == (1,) * 3)
    return Found(fine / 2, "half a voxel")


@operation(
    "outline",
    "Train from strokes",
    name="train",
    version=2,
    keywords="random forest pixel classifier machine learning texture segmentation teach learn supervised",
    takes="series colour",
    called={
        "strokes": "Strokes",
        "finest": "Finest scale",
        "scales": "Scales, each twice the one before",
        "flat": "Slice by slice",
        "position": "The place counts",
        "spread": "Values by percentile",
    },
    rare="finest scales flat position spread seed",
    group=GROUP,
    methods="A random forest was trained on strokes",
    cites=("Breiman 2001",),
)
def train(
    image: Image,
    strokes: LabelMap,
    others: list[Image] | None = None,
    more: Classifier | None = None,
    *,
    finest: Annotated[float | None, Unit("mm"), Between(1e-9, 1e4), LeftOut("half a voxel", _finest)] = None,
    scales: Annotated[int, Between(1, 8)] = 3,
    flat: Annotated[bool | None, LeftOut("as the voxels are", _flat)] = None,
    position: bool = False,
    spread: bool = False,
    seed: Annotated[int, Between(0, 2**31 - 1)] = 0,
    name: str = "Classifier",
    progress: Progress = silent(),
) -> Taught:
    """Teach a classifier by strokes of two classes or more.

    A random forest (L. Breiman, Machine Learning 45, 2001) on brightness, edges and texture at several scales, of every
    channel, contrast or colour. Classes are the labels of the strokes, with their names and colours.

    Parameters
    ----------
    image : image
        A picture or a volume, one with channels, or one in colour.
    strokes : label map
        A few strokes of each class, on the image's grid.
    others : images
        Further contrasts on the same grid, which count as channels.
    more : classifier
        One whose settings are to be used again.
    finest : mm
        Standard deviation of the finest Gaussian.
    scales : number
        How many there are.
    flat : bool
        Whether slices are looked at one by one.
    position : bool
        Whether the place in the image counts too.
    spread : bool
        Whether values are counted from the 1st to the 99th percentile of each image: for images whose brightness is
        arbitrary.
    seed : number
        Of what is left to chance; one number gives one result.
    name : text
        What the classifier is called.

    Returns
    -------
    classifier : Classifier
    counts : Table
        How much each feature counts, the sum being 1.

    Raises
    ------
    Trouble
        When there are strokes of one class only, or images lie on several grids.
    """
    known = [row for row in strokes.table if strokes.counts[row.number]]
    if len(known) < 2:
        whose = f"All strokes are of “{known[0].name}”" if known else f"“{strokes.name}” has no strokes"
        raise Trouble(whose, "draw some of two classes or more, each as a label")
    if len(known) > 255:
        raise Trouble(f"Strokes of {len(known)} classes are too many", "draw up to 255")
    looked = _together(image, others or [], progress)
    if not looked.space.same_grid(strokes.space):
        raise Trouble(f"The strokes lie on another grid than “{image.name}”", "draw them on this image")
    learnt = _learnt(more, looked, known, finest, scales, flat, position, spread)
    samples, classes = _samples(looked, learnt, strokes, [row.number for row in known], seed, progress.part(0.1, 0.6))
    progress.at(0.6, "Growing trees")
    from sklearn.ensemble import RandomForestClassifier

    model = RandomForestClassifier(
        TREES, max_depth=DEPTH, min_samples_leaf=LEAF, class_weight="balanced", n_jobs=2, random_state=seed
    )
    model.fit(samples, classes)
    counts = np.bincount(classes, minlength=len(known))
    notes = {"image": image.name, "voxels": {row.name: int(c) for row, c in zip(known, counts)}}
    made = Classifier(learnt, model, name, "", notes)
    return Taught(made, _counts(made))


def _learnt(more: Classifier | None, looked: Seen, known, finest, scales, flat, position, spread) -> Learnt:
    classes = tuple((row.number, row.name, row.colour) for row in known)
    if more is not None:
        before = more.learnt
        if before.channels != looked.names:
            raise Trouble(f"“{more.name}” was taught with other channels", "train anew, without it")
        return Learnt(classes, before.channels, before.scales, before.unit, before.flat, before.position, before.spread)
    given = {"image": looked.image}
    least = finest or float(_finest(given).value)  # type: ignore[union-attr]
    one_by_one = bool(_flat(given).value) if flat is None else flat  # type: ignore[union-attr]
    if 1 in looked.space.shape and not one_by_one:
        one_by_one = True
    return Learnt(
        classes,
        looked.names,
        tuple(least * 2.0**n for n in range(scales)),
        looked.space.unit,
        one_by_one,
        position,
        spread,
    )


def _together(image: Image, others: list[Image], progress: Progress) -> Seen:
    """All channels of several images on one grid."""
    first = seen(image, progress.part(0.0, 0.05))
    channels, names = list(first.channels), list(first.names)
    for other in others:
        if not other.space.same_grid(image.space):
            raise Trouble(f"“{other.name}” lies on another grid than “{image.name}”", "resample it onto that first")
        next_ = seen(other, progress.part(0.05, 0.1))
        channels += next_.channels
        names += [f"{other.name}{', ' + n if n else ''}" for n in next_.names]
    return Seen(first.space, channels, tuple(names), image)


def _samples(looked: Seen, learnt: Learnt, strokes: LabelMap, numbers: list[int], seed: int, progress: Progress):
    """Features of voxels under strokes, and which class each is of: only parts that strokes lie in are looked at."""
    ranges = [spread_of(c) for c in looked.channels] if learnt.spread else None
    rng = np.random.default_rng(seed)
    boxes = boxes_of(strokes.kji)
    kept = {n: _chosen(strokes, n, boxes[n], rng) for n in numbers}
    low = [min(boxes[n][a].start for n in numbers) for a in range(3)]
    high = [max(boxes[n][a].stop for n in numbers) for a in range(3)]
    found, classes = [], []
    for part in each_block(looked, learnt.flat, progress, "Looking at strokes"):
        if any(p.stop <= a or p.start >= b for p, a, b in zip(part, low, high)):
            continue
        there = []
        for c, n in enumerate(numbers):
            at = kept[n]
            inside = np.all([(at[:, a] >= p.start) & (at[:, a] < p.stop) for a, p in enumerate(part)], axis=0)
            there += [(c, at[inside] - [p.start for p in part])] if inside.any() else []
        if not there:
            continue
        features = features_in(looked, learnt, part, ranges)
        for c, at in there:
            found.append(features[tuple(at.T)])
            classes.append(np.full(len(at), c))
    return np.concatenate(found), np.concatenate(classes)


def _chosen(strokes: LabelMap, number: int, box: Box, rng: np.random.Generator) -> np.ndarray:
    at = np.argwhere(strokes.kji[box] == number) + [one.start for one in box]
    return at if len(at) <= MOST else at[np.sort(rng.choice(len(at), MOST, replace=False))]


def _counts(made: Classifier) -> Table:
    """How much each feature counts."""
    learnt = made.learnt
    names = feature_names(learnt.channels, learnt.scales, learnt.unit, learnt.flat, learnt.position)
    table = Table(f"What counts in {made.name}", [Column("feature"), Column("share", "", 4)])
    order = np.argsort(-made.model.feature_importances_, kind="stable")
    table.rows += [(names[n], float(made.model.feature_importances_[n])) for n in order]
    return table
