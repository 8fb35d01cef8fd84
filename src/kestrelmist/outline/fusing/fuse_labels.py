"""Labels from atlases: several images with labels are aligned, and vote for what each voxel is."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np

from ...align.align_images import align_images
from ...core.errors import Trouble
from ...core.gaussian import smoothed
from ...core.image import Image
from ...core.labels import LabelMap, LabelTable
from ...core.mapping import Mapping
from ...core.operation import operation
from ...core.overlap import apart
from ...core.progress import Progress, silent
from ...core.through import resampled_through
from ...core.transform import Transform

LIKE = 2.0
"""Voxels over which two images are compared: standard deviation."""
POWER = 4.0
"""How much more a place counts where an atlas is more alike."""


class Fused(NamedTuple):
    """Labels, and the share of the votes that each voxel's label has got."""

    labels: LabelMap
    shares: Image


@operation(
    "outline",
    "Labels from atlases",
    name="fuse-labels",
    keywords="multi-atlas label propagation fusion warp template segmentation joint voting",
    called={"atlases": "Atlases", "regions": "Their labels", "align": "Align by"},
    rare="name",
    group="By example",
    methods="Labels of other images were aligned ({align}) and fused by votes weighted by local likeness",
    cites=("Artaechevarria 2009",),
)
def fuse_labels(
    image: Image,
    atlases: list[Image],
    regions: list[LabelMap],
    align: Literal["warp", "12", "6", "as they lie"] = "warp",
    *,
    name: str = "From atlases",
    progress: Progress = silent(),
) -> Fused:
    """Label an image by others that are labelled: each is aligned with it, and votes with its labels, the more the more
    alike it is round about.

    Weights are the fourth power of the local correlation (X. Artaechevarria et al., IEEE Trans. Med. Imaging 28, 2009).

    Parameters
    ----------
    atlases : images
        That have labels: of other animals, or templates.
    regions : label maps
        One for each atlas, in the same order; labels of one name are one.
    align : text
        "warp", 12 or 6 degrees of freedom; or as they lie in one space.
    name : text
        What the label map is called.

    Returns
    -------
    labels : LabelMap
    shares : Image
        The share of the votes that the label of each voxel has got, 0 to 1.

    Raises
    ------
    Trouble
        When there are not as many label maps as atlases, one lies on another grid than its atlas, or an atlas that is
        not to be aligned lies in another space.
    """
    if not atlases or len(atlases) != len(regions):
        count = f"{len(atlases)} atlases and {len(regions)} label maps"
        raise Trouble(f"There are {count}", "give one label map for each atlas, in the same order")
    table, numbers = _names(regions)
    brought: list[tuple[np.ndarray, np.ndarray]] = []
    for n, (atlas, known) in enumerate(zip(atlases, regions)):
        if not known.space.same_grid(atlas.space):
            raise Trouble(f"“{known.name}” lies on another grid than “{atlas.name}”", "give each atlas its own labels")
        part = progress.part(n / len(atlases), (n + 0.9) / len(atlases))
        way = _way(atlas, image, align, part)
        prepared = way.prepared()
        values = resampled_through(
            np.asarray(atlas.kji, np.float32), atlas.space, image.space, prepared, "linear", np.nan
        )
        given = resampled_through(known.kji, known.space, image.space, prepared, "nearest", 0)
        brought.append((numbers[n][given], _likeness(np.asarray(image.kji, np.float32), values)))
    return _voted(image, table, brought, name, progress)


def _names(regions: list[LabelMap]) -> tuple[LabelTable, list[np.ndarray]]:
    """One table for all, and for each map the common number by its own."""
    table, found = LabelTable(()), []
    for known in regions:
        turn = np.zeros(65536, np.uint16)
        for row in known.table:
            if not table.has_name(row.name):
                table, _ = table.with_new(row.name, row.colour)
            turn[row.number] = table.named(row.name).number
        found.append(turn)
    if not len(table):
        raise Trouble("None of the atlases has a label", "choose label maps that are drawn")
    return table, found


def _way(atlas: Image, image: Image, align: str, progress: Progress) -> Mapping:
    if align != "as they lie":
        return align_images(atlas, image, freedom=align, progress=progress).transform
    here, there = image.space.world, atlas.space.world
    if here.id and there.id and not here.is_one_with(there):
        raise apart(atlas.name, there, image.name, here)
    return Transform(np.eye(4), here, there)


def _likeness(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """Correlation round each voxel, 0 to 1, to a power; 0 where one of them is not known."""
    known = np.isfinite(one) & np.isfinite(other)
    a, b = np.where(known, one, 0).astype(np.float32), np.where(known, other, 0).astype(np.float32)
    a -= np.float32(a[known].mean()) if known.any() else 0
    b -= np.float32(b[known].mean()) if known.any() else 0
    a /= np.float32(a.std() or 1)
    b /= np.float32(b.std() or 1)
    wide = [LIKE if n > 1 else 0.0 for n in one.shape]
    means = [smoothed(v, wide) for v in (a, b, a * a, b * b, a * b)]
    spread = np.sqrt(np.maximum(means[2] - means[0] ** 2, 1e-4) * np.maximum(means[3] - means[1] ** 2, 1e-4))
    found = np.clip((means[4] - means[0] * means[1]) / spread, 0.05, 1)
    return np.where(known, found**POWER, 0).astype(np.float32)


def _voted(image: Image, table: LabelTable, brought, name: str, progress: Progress) -> Fused:
    shape = image.kji.shape
    total = np.maximum(sum(w for _, w in brought), np.float32(1e-20))
    best = sum(np.where(given == 0, w, 0) for given, w in brought)  # what votes for none of them
    data = np.zeros(shape, np.uint16)
    for row in table:
        votes = sum(np.where(given == row.number, w, 0) for given, w in brought)
        wins = votes > best
        data[wins], best = row.number, np.maximum(best, votes)
    progress.at(1.0)
    shares = np.where(sum(w for _, w in brought) > 0, np.minimum(best / total, 1), 0).astype(np.float32)
    made = LabelMap(image.space, data.T, table, name, image.subject)
    return Fused(made, image.like(shares.T, name=f"{image.name}, share of votes", unit=""))
