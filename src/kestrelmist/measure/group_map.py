"""Maps of several subjects tested together, voxel by voxel and cluster by cluster."""

from __future__ import annotations

from typing import Annotated, NamedTuple

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.left_out import Found, LeftOut
from ..core.on_grid import require_same_grid
from ..core.operation import operation
from ..core.parameter import Between
from ..core.progress import Progress, silent
from ..core.table import Column, Table

LEAST = 4
"""Subjects: of fewer, signs can be turned in too few ways to tell anything."""
CHANCE = 0.001
"""Of a voxel to be above the limit where there is nothing, on either side."""


class GroupMap(NamedTuple):
    """t at every voxel, the mean of all subjects, and the clusters that stand out."""

    image: Image
    mean: Image
    clusters: Table


def _limit(given: dict) -> Found | None:
    from scipy import stats

    count = 1 + len(given.get("others") or ())
    if count < LEAST:
        return None
    return Found(round(float(stats.t.isf(CHANCE / 2, count - 1)), 4), f"1 in 1000 of {count} subjects")


@operation(
    "measure",
    "Group map",
    version=2,
    keywords="second level group analysis t test statistic random effects cluster permutation family-wise response",
    group="Several subjects",
    called={"above": "Clusters above t", "flips": "Turns of signs", "others": "Of the other subjects"},
    rare="flips seed",
    methods=(
        "Maps of all subjects were tested voxel by voxel by Student's t; clusters of voxels beyond t = {above} were "
        "tested by their size against the largest ones of {flips} random turns of the subjects' signs"
    ),
    cites=("Student 1908", "Nichols 2002"),
)
def group_map(
    image: Image,
    others: list[Image],
    *,
    mask: LabelMap | None = None,
    above: Annotated[float | None, Between(0.1, 100), LeftOut("1 in 1000 by chance", _limit)] = None,
    flips: Annotated[int, Between(100, 100_000)] = 1000,
    seed: int = 1,
    progress: Progress = silent(),
) -> GroupMap:
    """Test whether maps of several subjects in one space differ from zero: t at every voxel, and clusters whose size
    would hardly come about by chance.

    Where there is nothing, the sign of every subject's map is as good as its opposite. Signs are turned at random, and
    the largest cluster of each turn tells how large clusters become by chance anywhere in the map (T. E. Nichols and
    A. P. Holmes, Hum. Brain Mapp. 15, 2002).

    Parameters
    ----------
    image, others : images
        A map of each subject, single volumes on one grid, such as how well each voxel follows the odour. What has no
        value in one of them is left out.
    mask : label map
        Only voxels that carry a label are tested.
    above : number
        Voxels with t beyond it, on one side, make clusters; they touch by faces.
    flips : whole number
        Turns of signs; of few subjects all there are.
    seed : whole number
        Of the random turns: the same gives the same.

    Returns
    -------
    image : Image
        t, float32; no value where it was not tested.
    mean : Image
        The mean of all subjects' maps, float32, in their unit; no value where it was not tested.
    clusters : Table
        The largest first: voxels, volume, p (for the whole map), the t farthest from 0, and the mean farthest from 0
        and where it lies, between voxels. A peak is taken from the mean, since t is divided by a spread of few
        subjects, whose noise leads its highest value astray by voxels.

    Raises
    ------
    Trouble
        When there are fewer than four subjects, they lie on several grids, or all of them are without values.
    """
    from scipy import ndimage

    images = [image, *others]
    if len(images) < LEAST:
        raise Trouble(f"A group of {len(images)} tells nothing", f"give the maps of {LEAST} subjects or more")
    for other in others:
        if not other.space.same_grid(image.space):
            what = f"“{other.name}” lies on another grid than “{image.name}”"
            raise Trouble(what, "bring all of them into one space first (“Bring through transforms”)")
    inside = np.ones(image.space.shape[::-1], bool)
    if mask is not None:
        require_same_grid(image, mask)
        inside = mask.kji > 0
    maps = np.empty((len(images), *inside.shape), np.float32)
    for n, one in enumerate(images):
        progress.at(0.1 * n / len(images), "Reading")
        maps[n] = one.kji
        inside = inside & np.isfinite(maps[n])
    if not inside.any():
        raise Trouble("No voxel has a value in all of these maps", "choose maps in one space")
    values = maps[:, inside].astype(np.float64)
    count, squares = len(values), (values**2).sum(0)
    limit = float(above) if above is not None else float(_limit({"others": others}).value)  # type: ignore[union-attr]

    def tested(signs: np.ndarray) -> np.ndarray:
        mean = signs @ values / count
        spread = np.sqrt(np.maximum(squares / count - mean**2, 0) * count / (count - 1))
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(spread > 0, mean / (spread / np.sqrt(count)), 0.0)

    def clusters(t: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Numbers of clusters at every voxel, and their sizes from number 1 on; both sides."""
        whole = np.zeros(inside.shape, np.float32)
        whole[inside] = t
        found, many = ndimage.label(whole > limit)
        below, more = ndimage.label(whole < -limit)
        found = np.where(below > 0, below + many, found)
        return found, np.bincount(found.ravel(), minlength=many + more + 1)[1:]

    largest = np.array([
        clusters(tested(signs))[1].max(initial=0)
        for signs in progress.part(0.1, 0.95).over(_turns(count, flips, seed), what="Turning signs")
    ])  # fmt: skip
    t = tested(np.ones(count))
    found, sizes = clusters(t)
    whole, mean = np.full((2, *inside.shape), np.nan, np.float32)
    whole[inside], mean[inside] = t, values.mean(0)
    made = image.like(whole.T, name=f"Group map of {count}", unit="")
    means = image.like(mean.T, name=f"Mean of {count}")
    return GroupMap(made, means, _table(means, whole, found, sizes, largest))


def _turns(count: int, flips: int, seed: int) -> np.ndarray:
    """Signs of the subjects for each turn: all ways there are, where these are few enough, but for that which turns
    none."""
    if 2 ** (count - 1) <= flips:
        bits = (np.arange(1, 2**count)[:, None] >> np.arange(count)) & 1
        return 1.0 - 2.0 * bits
    return np.random.default_rng(seed).choice([-1.0, 1.0], (flips, count))


def _table(mean: Image, t: np.ndarray, found: np.ndarray, sizes: np.ndarray, largest: np.ndarray) -> Table:
    space = mean.space
    unit = space.unit
    columns = [
        Column("cluster"),
        Column("voxels"),
        Column("volume", f"{unit}3", 3),
        Column("p", "", 4),
        Column("t", "", 3),
        Column("mean", mean.unit, figures=4),
    ]
    columns += [Column(axis, unit, 3) for axis in "xyz"]
    table = Table("Clusters of the group map", columns)
    for n, number in enumerate(np.argsort(-sizes, kind="stable") + 1, 1):
        at = np.flatnonzero(found == number)
        farthest = float(t.ravel()[at][np.argmax(np.abs(t.ravel()[at]))])
        peak = at[np.argmax(np.abs(mean.kji.ravel()[at]))]
        place = space.to_world(_between(mean.kji, np.unravel_index(peak, t.shape))[None, ::-1])[0]
        size = int(sizes[number - 1])
        chance = (1 + int((largest >= size).sum())) / (1 + len(largest))
        told = (n, size, size * space.voxel_volume, chance, farthest, float(mean.kji.ravel()[peak]))
        table.rows.append((*told, *map(float, place)))
    return table


def _between(values: np.ndarray, at: tuple) -> np.ndarray:
    """Where the parabola through a peak and its two neighbours along each axis has its top; the voxel itself where a
    neighbour has no value or stands out more."""
    place = np.array(at, float)
    for axis, n in enumerate(at):
        if not 0 < n < values.shape[axis] - 1:
            continue
        line = values[tuple(slice(n - 1, n + 2) if d == axis else m for d, m in enumerate(at))].astype(float)
        below, here, above = line * np.sign(line[1])
        bend = below - 2 * here + above
        if bend < 0 and here >= max(below, above):
            place[axis] += 0.5 * (below - above) / bend
    return place
