"""Classify: every voxel of an image gets the class that a classifier gives it."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ...core.classifier import Classifier, Learnt
from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import Label, LabelMap, LabelTable
from ...core.left_out import LeftOut
from ...core.operation import operation
from ...core.parameter import Between
from ...core.progress import Progress, silent
from ...core.space import Space
from .forest_kernel import shares_of
from .looked_at import Seen, each_block, features_in, spread_of
from .train import GROUP, _together

REACH = 4.5
"""How far round a voxel features tell of it, in standard deviations of the coarsest Gaussian."""


def _reach(space: Space, settings: dict) -> float:
    return 40 * max(space.spacing)


def _fitting(image: Image, others: list[Image] | None, by: Classifier, progress: Progress) -> tuple[Seen, list | None]:
    looked = _together(image, others or [], progress)
    learnt = by.learnt
    if len(looked.names) != len(learnt.channels):
        has, wants = len(looked.names), len(learnt.channels)
        named = ", ".join(filter(None, learnt.channels))
        raise Trouble(
            f"“{image.name}” has {has} channel{'s' if has > 1 else ''}, and “{by.name}” was taught with {wants}"
            + (f" ({named})" if named else ""),
            "give it the same channels, or train on this image",
        )
    missing = [n for n in learnt.channels if n and n not in looked.names]
    if missing and len(learnt.channels) > 1 and set(looked.names) & set(learnt.channels):
        raise Trouble(f"“{image.name}” has no channel “{missing[0]}”, which “{by.name}” learnt", "name channels alike")
    if learnt.channels != looked.names and set(learnt.channels) == set(looked.names):
        order = [looked.names.index(n) for n in learnt.channels]
        looked = Seen(looked.space, [looked.channels[n] for n in order], learnt.channels, image)
    if 1 in image.space.shape and not learnt.flat:
        raise Trouble(f"“{by.name}” looks at volumes, and “{image.name}” is a picture", "train on pictures")
    return looked, [spread_of(c) for c in looked.channels] if learnt.spread else None


@operation(
    "outline",
    "Classify",
    name="classify",
    version=2,
    keywords="predict random forest apply classifier pixel segmentation machine learning",
    takes="series colour",
    called={"by": "By", "least": "Only where the share is above"},
    rare="least",
    group=GROUP,
    reach=_reach,
    coarse=False,
    through_time=True,
    methods="Voxels were classified by a random forest that was trained on strokes",
    cites=("Breiman 2001",),
)
def classify(
    image: Image,
    by: Classifier,
    others: list[Image] | None = None,
    *,
    least: Annotated[float | None, Between(0.0, 1.0), LeftOut("the largest share wins")] = None,
    name: str = "Classified",
    progress: Progress = silent(),
) -> LabelMap:
    """Give every voxel the class that most trees of a classifier vote for.

    Parameters
    ----------
    image : image
        With the channels that the classifier was taught with.
    by : classifier
    others : images
        Further contrasts on the same grid, where it was taught with such.
    least : share
        Voxels of which no class has a larger share of the votes stay free.
    name : text
        What the label map is called.

    Raises
    ------
    Trouble
        When the image has other channels than the classifier learnt, another scale, or voxels too large.
    """
    looked, ranges = _fitting(image, others, by, progress.part(0.0, 0.1))
    made = LabelMap(image.space, table=_table(by.learnt), name=name, subject=image.subject)
    numbers = np.array([n for n, _, _ in by.learnt.classes], np.uint16)
    for part in each_block(looked, by.learnt.flat, progress.part(0.1, 1.0), "Classifying"):
        shares = _shares(looked, by, part, ranges, largest=least is None)
        found = numbers[shares.argmax(-1)]
        if least is not None:
            found[shares.max(-1) <= least] = 0
        made.kji[part] = found
    made.recount()
    return made


@operation(
    "outline",
    "Shares of classes",
    name="class-shares",
    version=2,
    keywords="probability map confidence uncertainty random forest predict",
    takes="series colour",
    called={"by": "By"},
    group=GROUP,
    reach=_reach,
    coarse=False,
    through_time=True,
    methods="Shares of classes were worked out by a random forest that was trained on strokes",
    cites=("Breiman 2001",),
)
def class_shares(
    image: Image, by: Classifier, others: list[Image] | None = None, progress: Progress = silent()
) -> list[Image]:
    """For every class of a classifier, the share of votes that it gets in every voxel, 0 to 1.

    Parameters
    ----------
    image : image
        With the channels that the classifier was taught with.
    by : classifier
    others : images
        Further contrasts on the same grid, where it was taught with such.

    Raises
    ------
    Trouble
        When the image has other channels than the classifier learnt, another scale, or voxels too large.
    """
    looked, ranges = _fitting(image, others, by, progress.part(0.0, 0.1))
    shape = looked.channels[0].shape
    found = np.zeros((len(by.learnt.classes), *shape), np.float32)
    for part in each_block(looked, by.learnt.flat, progress.part(0.1, 1.0), "Classifying"):
        found[(slice(None), *part)] = np.moveaxis(_shares(looked, by, part, ranges), -1, 0)
    grey = image.frame((0,)) if image.axes else image.grey()
    return [
        grey.like(values.T, name=f"{image.name}, {name}", unit="")
        for values, (_, name, _) in zip(found, by.learnt.classes)
    ]


def _shares(looked: Seen, by: Classifier, part, ranges, largest: bool = False) -> np.ndarray:
    features = features_in(looked, by.learnt, part, ranges)
    flat = shares_of(by.trees, features.reshape(-1, features.shape[-1]), largest)
    return flat.reshape(*features.shape[:3], -1)


def _table(learnt: Learnt) -> LabelTable:
    return LabelTable(Label(number, name, colour) for number, name, colour in learnt.classes)
