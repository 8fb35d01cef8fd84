"""How far an alignment may be off, place by place: from doing it again in other ways."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.mapping import Mapping
from ..core.operation import operation
from ..core.overlap import apart
from ..core.progress import Progress, silent
from ..core.resampling import frame_between, resampled
from ..core.space import Space
from ..core.table import Column, Table
from ..core.transform import Transform
from ..core.warp import Warp
from .align_images import align_images
from .choices import similarity_for
from .lay import hand_matrix
from .levels import grain_of
from .sides import require_comparable

MOST = 60
"""Places along the longest axis of the map."""
LEAST_OFF = 0.25
"""Voxels that are added: what no repeat tells of."""
WIDE = 8.0
"""Voxels of the finer image: standard deviation over which neighbouring places are taken together."""
SHIFT, TURN = 2.0, 2.0
"""Voxels and degrees by which the start is another one."""
RIGID = 1e-3


class HowSure(NamedTuple):
    """How far the alignment may be off (mm), and what that comes from."""

    map: Image
    report: Table


@operation(
    "align",
    "How sure an alignment is",
    name="how-sure",
    keywords="uncertainty accuracy error registration confidence interval quality there and back",
    called={"onto": "Onto", "transform": "Alignment"},
    group="Two images",
    methods="How far alignments may be off was told by repeats: exchanged roles, another measure and start, more noise",
    cites=("Studholme 1999", "Avants 2008"),
)
def how_sure(image: Image, onto: Image, transform: Mapping, *, progress: Progress = silent()) -> HowSure:
    """How far an alignment may be off at every place: a limit in mm that about 90 of 100 places keep to.

    The alignment is done three times more: with both images in each other's role, so that there and back can be
    compared; by another measure of similarity; and from another start with the noise of both images added once more.
    What these differ by is added up as errors are (root of the sum of squares), taken together over neighbouring
    places, and a quarter of a voxel is added.

    The limit was set on pairs of made-up animals, aligned by warps, where the true places are known; see
    `docs/truth.md`. It cannot tell of a mistake that every repeat makes.

    Parameters
    ----------
    onto : image
        What it was aligned with.
    transform : transform
        An affine one or a warp, from places of `onto` to where they are found in the image.

    Returns
    -------
    map : Image
        mm, on a coarse grid over `onto`.
    report : Table
        Mean, what 90 % of the places stay below, and the largest, where `onto` shows something; and what each repeat
        differs by there.

    Raises
    ------
    Trouble
        When the transform is neither an affine one nor a warp, joins other spaces, or a repeat does not succeed.
    """
    require_comparable(image, onto)
    for world, one in ((transform.source, onto), (transform.target, image)):
        if world.id and one.space.world.id and not world.is_one_with(one.space.world):
            raise apart(one.name, one.space.world, transform.name, world)
    freedom, affine = _freedom_of(transform, onto)
    measure = str(similarity_for(image, onto).value)
    other = "local-correlation" if freedom == "warp" else _other_than(measure)
    voxel = max(grain_of(image.space), grain_of(onto.space))
    grid = _coarse(onto.space)
    index = np.indices(grid.shape).reshape(3, -1).T
    here = grid.to_world(index)
    found = transform.to(here)
    turned, moved = Transform(np.linalg.inv(affine)), affine @ hand_matrix(
        (SHIFT * voxel, -SHIFT * voxel, 0.0 if onto.space.flat_axis is not None else SHIFT * voxel),
        (0.0, 0.0, TURN), 1.0, onto.space.centre,
    )  # fmt: skip
    repeats = (
        ("there and back", (onto, image), measure, turned, True),
        ("by another measure", (image, onto), other, Transform(affine), False),
        ("another start, more noise", (_noisier(image, 1), _noisier(onto, 2)), measure, Transform(moved), False),
    )
    off, rows, bright = np.zeros(len(here)), [], _bright(onto, grid)
    for n, (name, pair, similarity, start, back) in enumerate(repeats):
        part = progress.part(n / len(repeats), (n + 1) / len(repeats)).unseen()
        try:
            given = {"freedom": freedom, "similarity": similarity, "start": start, "progress": part}
            again = align_images(*pair, **given).transform
        except Trouble as trouble:
            raise Trouble(f"Doing it again ({name}) did not succeed: {trouble.what}", trouble.do) from trouble
        differs = np.linalg.norm((again.inverse() if back else again).to(here) - found, axis=1)
        known = np.isfinite(differs)
        off += np.where(known, differs, np.nanmax(differs, initial=0.0)) ** 2
        kept = differs[known & bright] if (known & bright).any() else differs[known]
        rows.append((f"differs by, {name}", float(kept.mean()), float(np.percentile(kept, 90)), ""))
    limit = _together(np.sqrt(off).reshape(grid.shape), grid, WIDE * voxel) + LEAST_OFF * voxel
    seen = limit.ravel()[bright]
    told = [("may be off by, mean", float(seen.mean()), float(np.percentile(seen, 90)), "where there is something"),
            ("may be off by, largest", float(seen.max()), None, "")]  # fmt: skip
    unit = onto.space.unit
    columns = [Column("what"), Column("value", unit, figures=3), Column("90 %", unit, figures=3), Column("said")]
    name = f"{transform.name}, how far it may be off"
    picture = Image(limit.astype(np.float32), grid, name, unit=unit, subject=image.subject or onto.subject)
    said = ("said of", None, None, f"{freedom} degrees of freedom" if freedom != "warp" else "a warp")
    return HowSure(picture, Table(name, columns, [*told, *rows, said]))


def _freedom_of(transform: Mapping, onto: Image) -> tuple[str, np.ndarray]:
    """What an alignment was free to do, as far as it tells, and its affine part."""
    flat = onto.space.flat_axis is not None
    if isinstance(transform, Warp):
        return "warp", transform.after @ transform.before
    if not isinstance(transform, Transform):
        raise Trouble(
            f"“{transform.name}” is a {transform.words}, and only affine transforms and warps can be done again",
            "choose what “Align two images” gives",
        )
    turn = transform.matrix[:3, :3]
    size = abs(float(np.linalg.det(turn))) ** (1 / 3) if not flat else abs(float(np.linalg.det(turn[:2, :2]))) ** 0.5
    one_size = np.diag((size, size, 1.0 if flat else size))
    for matrix, found in ((turn, "3" if flat else "6"), (turn @ np.linalg.inv(one_size), "4" if flat else "7")):
        if np.abs(matrix.T @ matrix - np.eye(3)).max() < RIGID:
            return found, transform.matrix
    return "6" if flat else "12", transform.matrix


def _other_than(measure: str) -> str:
    return "correlation-ratio" if "information" in measure else "normalised-information"


def _coarse(space: Space) -> Space:
    """A grid over the same extent with fewer places."""
    step = max(1, -(-max(space.shape) // MOST))
    shape = tuple(max(1, -(-n // step)) for n in space.shape)
    factor = np.array(space.shape) / shape
    affine = space.affine.copy()
    affine[:3, :3] = space.affine[:3, :3] * factor
    affine[:3, 3] = space.to_world((factor - 1) / 2)
    return Space(shape, affine, space.unit, space.world)  # type: ignore[arg-type]


def _noisier(image: Image, seed: int) -> Image:
    """An image with as much noise again as it has: told from how neighbours along the first axis differ."""
    values = np.where(np.isfinite(image.data), image.data, np.nan).astype(np.float32)
    differ = np.abs(np.diff(values, axis=0))
    differ = differ[np.isfinite(differ) & (differ > 0)]
    noise = float(np.median(differ)) / (0.6745 * np.sqrt(2)) if differ.size else 0.0
    more = np.random.default_rng(seed).standard_normal(values.shape, np.float32) * np.float32(noise)
    return image.like(values + more)


def _bright(onto: Image, grid: Space) -> np.ndarray:
    """Which places of a coarse grid show something: brighter than a quarter of the way from dark to bright."""
    values = resampled(np.asarray(onto.kji, np.float32), frame_between(onto.space, grid), grid.shape, "linear", np.nan)
    flat = np.nan_to_num(values.T.ravel(), nan=-np.inf)
    low, high = np.percentile(flat[np.isfinite(flat)], (2, 98)) if np.isfinite(flat).any() else (0.0, 0.0)
    found = flat > low + 0.25 * (high - low)
    return found if found.any() else np.ones(len(flat), bool)


def _together(off: np.ndarray, grid: Space, wide: float) -> np.ndarray:
    """Distances taken together over neighbouring places, as root mean squares."""
    from scipy import ndimage

    widths = [0.0 if n == 1 else wide / s for n, s in zip(grid.shape, grid.spacing)]
    return np.sqrt(ndimage.gaussian_filter(off**2, widths, mode="nearest"))
