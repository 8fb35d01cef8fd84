"""Grey matter, white matter and fluid of a brain, as shares of every voxel."""

from __future__ import annotations

import math
from typing import Annotated, Literal, NamedTuple

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.left_out import LeftOut
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Between, Unit
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from ..intensity.denoise import noise_level, non_local_means
from .tissue_model import Box, Mixture, fitted, shares_of

CALM = 0.55
"""How much noise is taken away before, as a share of what is usual."""
SEARCH = 3
"""Voxels to each side in which alike surroundings are sought."""
SMOOTH = 0.13
"""Full width at half maximum of the field, as a share of the cube root of the mask's volume."""
LEAST = 0.15
"""Shares below this tell of noise, and are none."""
MARGIN = 3
FEWEST = 200
TISSUES = ("fluid", "grey", "white")


class Tissues(NamedTuple):
    """Shares of fluid, grey and white matter, the field that was fitted along, and volumes."""

    grey: Image
    white: Image
    fluid: Image
    field: Image
    volumes: Table


@operation(
    "prepare",
    "Split tissues",
    name="split-tissues",
    version=2,
    keywords=(
        "segmentation grey gray white matter csf fluid partial volume mixture brain tissue segmentation "
        "tissue classes gm wm"
    ),
    group="Taken out",
    reach=math.inf,
    called={"mask": "Brain", "others": "More contrasts", "knots": "Field over", "noise": "Take noise away"},
    rare="knots noise",
    made_by={"mask": "take-out-brain"},
    methods=(
        "Grey matter, white matter and fluid were separated by a mixture of tissues fitted together with "
        "the uneven brightness"
    ),
    cites=(
        "Zhang 2001",
        "Shattuck 2001",
    ),
)
def split_tissues(
    image: Image,
    mask: LabelMap,
    others: list[Image] | None = None,
    *,
    brightest: Literal["white", "fluid"] = "white",
    knots: Annotated[float | None, Unit("mm"), Between(0, 1e6), LeftOut("an eighth of the brain", was=0.0)] = None,
    noise: bool = True,
    progress: Progress = silent(),
) -> Tissues:
    """Split a brain into grey matter, white matter and fluid: for every voxel its share of each.

    A mixture of three tissues and of voxels that two of them share is fitted to the brightness, together with the
    smooth field that makes it uneven (Y. Zhang et al., IEEE Trans. Med. Imaging 20, 2001; D. W. Shattuck et al.,
    NeuroImage 13, 2001). It starts from the likeliest of many shares of white matter and fluid. Noise is taken away
    before by non-local means.

    Parameters
    ----------
    mask : label map
        Voxels that carry a label are the brain; the first label named “Brain” when there is one, else any.
    others : images
        More contrasts of the same brain, on the same grid.
    brightest : text
        What is brightest in the first image: white matter, as in T1, or fluid, as in T2.
    knots : mm
        Full width at half maximum of the field; about an eighth of the size of the brain when left out. A small one
        follows the anatomy, which helps where grey matter differs from place to place.
    noise : bool
        Whether noise is taken away before.

    Returns
    -------
    grey, white, fluid : Image
        Shares between 0 and 1, which add up to 1 in the mask; 0 outside.
    field : Image
        What the first image's brightness is multiplied by; 1 outside.
    volumes : Table
        For each tissue its volume by shares, by voxels of which it has the most, its mean brightness and spread.

    Raises
    ------
    Trouble
        When the mask is empty, too small or on another grid, an image lies on another grid or holds one value in the
        mask, or the tissues cannot be told apart.
    """
    everyone = [image, *(others or ())]
    for one in everyone[1:]:
        if not one.space.same_grid(image.space):
            raise Trouble(f"“{one.name}” lies on another grid than “{image.name}”", "resample it onto that first")
    inside = _inside(image, mask)
    where = _box_of(inside)
    inside = inside[where]
    values = []
    for n, one in enumerate(everyone):
        part = progress.part(0.6 * n / len(everyone), 0.6 * (n + 1) / len(everyone))
        values.append(_calm(one, where, inside, noise, part))
    given = np.stack([v[inside] for v in values], 1)
    middles = np.median(given, 0)
    for one, middle, column in zip(everyone, middles, given.T):
        if not middle > 0 or column.min() == column.max():
            raise Trouble(f"“{one.name}” has no brightness to tell tissues by", "choose another image or mask")
    given = (given / middles).astype(np.float32)
    size = float(np.cbrt(inside.sum() * image.space.voxel_volume))
    box = Box(inside, image.space.spacing, knots or SMOOTH * size)
    found = fitted(given, box, brightest == "fluid", progress.part(0.6, 0.95))
    order = found.means[:, 0]
    if not (order[0] > order[1] > order[2] if brightest == "fluid" else order[0] < order[1] < order[2]):
        raise Trouble(
            f"Three tissues cannot be told apart in “{image.name}”",
            "check what is brightest, or give a mask of the brain alone",
        )
    shares = cleared(shares_of(given / found.field, found))
    made = [_image(image, where, inside, shares[:, n], 0.0, f"{image.name}, {t}") for n, t in enumerate(TISSUES)]
    field = _image(image, where, inside, found.field[:, 0], 1.0, f"{image.name}, field")
    return Tissues(made[1], made[2], made[0], field, _volumes(image, shares, found, float(middles[0])))


def cleared(shares: np.ndarray) -> np.ndarray:
    """Shares (n, 3) without those that are too small to tell of anything, adding up to 1."""
    kept = np.where(shares < LEAST, np.float32(0), shares)
    return kept / np.maximum(kept.sum(1, keepdims=True), np.float32(1e-6))


def _inside(image: Image, mask: LabelMap) -> np.ndarray:
    require_same_grid(image, mask)
    row = next((r for r in mask.table if r.name.casefold() == "brain"), None)
    inside = mask.kji == row.number if row is not None and mask.counts[row.number] else mask.kji > 0
    if not inside.any():
        raise Trouble("The mask is empty", "take out the brain first, or choose a label map with voxels")
    inside = inside & np.isfinite(image.kji)
    if inside.sum() < FEWEST:
        raise Trouble(f"The mask has {int(inside.sum())} voxels, too few for three tissues", "choose a larger one")
    return inside


def _box_of(inside: np.ndarray) -> tuple[slice, slice, slice]:
    ends = [np.flatnonzero(inside.any(axis=tuple(m for m in range(3) if m != n))) for n in range(3)]
    a, b, c = (slice(max(int(e[0]) - MARGIN, 0), min(int(e[-1]) + 1 + MARGIN, n)) for e, n in zip(ends, inside.shape))
    return a, b, c


def _calm(image: Image, where, inside: np.ndarray, noise: bool, progress: Progress) -> np.ndarray:
    """Values in the box with less noise, without missing ones."""
    values = image.kji[where].astype(np.float32)
    there = np.isfinite(values)
    if not there[inside].any():
        raise Trouble(f"“{image.name}” has no values in the mask", "choose another image or mask")
    values = np.where(there, values, np.float32(np.median(values[inside & there])))
    spread = noise_level(values) if noise else 0.0
    if not spread > 0:
        return values
    return non_local_means(values, CALM * spread, False, spread, progress, SEARCH)


def _image(image: Image, where, inside: np.ndarray, values: np.ndarray, outside: float, name: str) -> Image:
    whole = np.full(image.kji.shape, outside, np.float32)
    part = whole[where]
    part[inside] = values
    return image.like(whole.T, name=name, unit="")


def _volumes(image: Image, shares: np.ndarray, found: Mixture, scale: float) -> Table:
    _, cell, unit = image.space.extent
    table = Table(
        f"Tissues of {image.name}",
        [
            Column("tissue"),
            Column("by shares", unit, 2),
            Column("by voxels", unit, 2),
            Column("mean brightness", image.unit, 3),
            Column("spread", image.unit, 3),
        ],
    )
    most = shares.argmax(1)
    for n, tissue in enumerate(TISSUES):
        by_shares, by_voxels = float(shares[:, n].sum(dtype=np.float64)) * cell, int((most == n).sum()) * cell
        table.rows.append(
            (tissue, by_shares, by_voxels, float(found.means[n, 0]) * scale, float(found.spreads[n, 0]) * scale)
        )
    return table
