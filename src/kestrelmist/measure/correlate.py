"""Seed maps: how every voxel's course goes with that of one place, and by how much."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from typing import Annotated, Literal

import numpy as np

from ..core.curve import Curve
from ..core.errors import Trouble
from ..core.image import Image
from ..core.kernel import kernel
from ..core.labels import LabelMap
from ..core.left_out import LeftOut
from ..core.on_grid import require_same_grid
from ..core.operation import operation
from ..core.parameter import Between, LabelName, Unit, WorldPoint
from ..core.progress import Progress, silent
from ..core.regressors import as_long, cosines, taken_out, told
from ..scene.showing import BOTH_SIDES
from .seed import Ball, held, seed_at, time_axis, volumes

BLOCK = 64 << 20
"""Bytes of volumes that are taken together when a series is not in memory."""
STRETCH = 512 << 20
"""Bytes of a series in memory, or in a plain file, that are gone through between two looks at the cancel button."""
SPAN = 8192
"""Voxels whose sums a core works on at once, so that they stay in its cache."""
RUN = 128
"""Volumes whose sums are kept in float32."""


@operation(
    "measure",
    "Correlate with a seed",
    name="correlate",
    version=2,
    keywords="functional connectivity pearson seed map series seed based correlation connectivity resting state "
    "regression slope beta response map effect size",
    takes="series",
    called={
        "ball": "Ball about it",
        "curve": "Or a curve",
        "without": "Take out",
        "mask": "Only within",
        "drift": "Slower than",
        "mean_course": "And the mean",
        "gives": "Tells",
    },
    group="Courses",
    methods=(
        "Courses were correlated with that of a seed, voxel by voxel ({gives}), after slow changes were removed by "
        "cosines"
    ),
    cites=("Ahmed 1974",),
)
def correlate(
    image: Image,
    labels: LabelMap,
    point: WorldPoint | None = None,
    ball: Ball = 0.0,
    label: LabelName = "",
    *,
    curve: Curve | None = None,
    without: list[Curve] | None = None,
    mask: LabelMap | None = None,
    drift: Annotated[float | None, Unit("s"), Between(0, 1e6), LeftOut("nothing is taken out", was=0.0)] = None,
    mean_course: bool = False,
    gives: Literal["r", "change"] = "r",
    progress: Progress = silent(),
) -> Image:
    """Map how every voxel's course goes with that of a voxel, a ball, a label or a curve.

    Pearson's r (K. Pearson, Proc. R. Soc. 58, 1895). Series larger than memory are gone through in blocks.

    Parameters
    ----------
    point : place
        World position of the seed.
    ball : mm
        Diameter of a ball about it; 0 for the voxel alone.
    label : label
        A label to be taken in place of the point.
    curve : curve
        One with as many values as the series has volumes, to be taken in place of a place in it.
    without : curves
        These are taken out of all courses first. Of a table all columns of numbers are, but times, or those that are
        named behind it, as in motion.csv#trans_x,trans_y. What was taken out is noted with the map.
    mask : label map
        Only voxels that carry a label have a value.
    drift : s
        Slower changes than of this period are taken out of all courses first, by cosines (N. Ahmed, T. Natarajan and
        K. R. Rao, IEEE Trans. Computers 23, 1974); 0 for none.
    mean_course : bool
        The mean course of all voxels, or of those in the mask, is taken out of all courses first.
    gives : text
        Pearson's r, or the change: by how much values go up where the seed or the curve goes up by 1, as least squares
        find it, in the unit of the image. Of a series whose voxels were each scaled to a mean of 100 it is per cent.
        Maps of several subjects are tested by it: r tells how clear a change is, not how large.

    Returns
    -------
    Image
        float32. r is −1 to 1, and has no value (NaN) where a course is constant; neither has one where it is not
        finite.

    Raises
    ------
    Trouble
        When the image is no series, nothing is where the seed is, its course is constant, or drift is asked of a series
        whose times nobody knows.
    """
    axis = time_axis(image)
    whole = held(image)
    if curve is not None:
        name, course = curve.name or "curve", as_long(curve, axis.size, image.name)
    else:
        seed = seed_at(image, labels, point, ball, label)
        name, course = seed.name, seed.course(image, progress.part(0.0, 0.1), whole)
    if not np.isfinite(course).all():
        raise Trouble(f"The course of “{name}” has no value in some volumes", "choose another seed")
    if mask is not None:
        require_same_grid(image, mask)
    inside = None if mask is None else mask.data > 0
    drift = drift or 0.0
    slow = list(cosines(axis.size, axis.step if axis.unit == "s" else None, drift))
    others = [np.ones(axis.size), *slow]
    others += taken_out(without, axis.size, image.name)
    if mean_course:
        others.append(_mean_course(image, inside, progress.part(0.1, 0.3)))
    basis = np.linalg.qr(np.array(others).T)[0].T
    wanted = course - basis.T @ (basis @ course)
    length = np.linalg.norm(wanted)
    if not length > 1e-10 * np.linalg.norm(course):
        raise Trouble(f"Nothing is left of the course of “{name}”", "choose another seed, or take less out of it")
    weights = np.vstack([wanted / length, basis])
    sums, squares = _projected(image, whole, weights, progress.part(0.3, 1.0))
    found = np.empty(squares.size, np.float32)
    if gives == "r":
        _coefficients(sums, squares, found)
    else:
        found[:] = np.where(np.isfinite(squares), sums[0] / length, np.nan)
    made = found.reshape(image.space.shape, order="F")
    if inside is not None:
        made[~inside] = np.nan
    said = told(len(slow), drift, without, ("the mean course",) if mean_course else ())
    about = {
        "facts": {**image.facts, BOTH_SIDES: "Pearson's r" if gives == "r" else f"Change with {name}"},
        "caveats": [*image.caveats, *([said] if said is not None else [])],
    }
    named, unit = ("r", "") if gives == "r" else ("change", image.unit)
    return image.like(made, name=f"{image.name}, {named} with {name}", unit=unit, axes=(), modality="", **about)


def _mean_course(image: Image, inside: np.ndarray | None, progress: Progress) -> np.ndarray:
    found = []
    for values in progress.over(volumes(image, progress), time_axis(image).size, "Reading the mean course"):
        chosen = values if inside is None else values[inside]
        found.append(np.nanmean(chosen, dtype=np.float64) if np.isfinite(chosen).any() else 0.0)
    return np.array(found)


def _projected(
    image: Image, whole: np.ndarray | None, weights: np.ndarray, progress: Progress
) -> tuple[np.ndarray, np.ndarray]:
    """Sums over time of weights [m, t] times the values of every voxel, [m, voxels], and the sums of their squares,
    each value counted from that of the first volume: that takes nothing from the first rows, which sum to zero, and
    keeps small changes on large values."""
    voxels, count = int(np.prod(image.space.shape)), weights.shape[1]
    sums, squares = np.zeros((len(weights), voxels)), np.zeros(voxels)
    cores = min(2, os.cpu_count() or 1)
    edges = np.linspace(0, voxels, 2 * cores + 1).astype(int)
    with ThreadPoolExecutor(cores) as pool:

        def add(rows: np.ndarray, first: np.ndarray, start: int) -> None:
            part = np.ascontiguousarray(weights[:, start : start + len(rows)])
            list(pool.map(lambda a, b: _accumulate(rows, first, part, sums, squares, a, b), edges[:-1], edges[1:]))

        if whole is not None:
            first_row = whole[0].copy()
            step = max(1, STRETCH // (4 * voxels))
            for start in range(0, count, step):
                progress.at(start / count, "Correlating")
                add(whole[start : start + step], first_row, start)
            return sums, squares
        most, block, first = max(1, BLOCK // (4 * voxels)), [], None
        for n, values in enumerate(volumes(image, progress)):
            progress.at(n / count, "Correlating")
            block.append(np.asarray(values).reshape(-1, order="F").astype(np.float32))
            first = block[0] if first is None else first
            if len(block) == most or n == count - 1:
                add(np.stack(block), first, n + 1 - len(block))
                block = []
    return sums, squares


@kernel
def _coefficients(sums, squares, found):
    """r of every voxel; none where nothing is left of its course but what rounding leaves."""
    for v in range(found.size):
        left = squares[v]
        for m in range(1, sums.shape[0]):
            left -= sums[m, v] * sums[m, v]
        if left > 1e-6 * squares[v]:
            found[v] = min(max(sums[0, v] / np.sqrt(left), -1.0), 1.0)
        else:
            found[v] = np.nan


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _accumulate(rows, first, weights, sums, squares, begin, end):
    """Add rows [t, voxels] to the sums, four at a time: what nearly every map needs, the first two weights and the
    squares, is as fast as memory gives the rows. Runs of rows are summed in float32, which a core does many of at once,
    and the runs in float64."""
    count, kinds = rows.shape[0], weights.shape[0]
    near, square = np.empty((kinds, SPAN), np.float32), np.empty(SPAN, np.float32)
    for start in range(begin, end, SPAN):
        size = min(SPAN, end - start)
        base = first[start : start + size]
        for run in range(0, count, RUN):
            near[:] = 0.0
            square[:] = 0.0
            last = min(run + RUN, count)
            for t in range(run, last, 4):
                # behind the last row, the last one again with no weight
                t1, t2, t3 = min(t + 1, last - 1), min(t + 2, last - 1), min(t + 3, last - 1)
                p, p1 = rows[t, start : start + size], rows[t1, start : start + size]
                p2, p3 = rows[t2, start : start + size], rows[t3, start : start + size]
                u1, u2, u3 = np.float32(t + 1 < last), np.float32(t + 2 < last), np.float32(t + 3 < last)
                for m in range(0, kinds, 2):
                    n = min(m + 1, kinds - 1)
                    w, w1 = np.float32(weights[m, t]), np.float32(weights[m, t1]) * u1
                    w2, w3 = np.float32(weights[m, t2]) * u2, np.float32(weights[m, t3]) * u3
                    x, x1 = np.float32(weights[n, t]), np.float32(weights[n, t1]) * u1
                    x2, x3 = np.float32(weights[n, t2]) * u2, np.float32(weights[n, t3]) * u3
                    total, other = near[m], near[n]
                    if m == 0:
                        for v in range(size):
                            a, b, c, d = p[v] - base[v], p1[v] - base[v], p2[v] - base[v], p3[v] - base[v]
                            square[v] += a * a + u1 * b * b + u2 * c * c + u3 * d * d
                            total[v] += w * a + w1 * b + w2 * c + w3 * d
                            other[v] += x * a + x1 * b + x2 * c + x3 * d
                    elif n > m:
                        for v in range(size):
                            a, b, c, d = p[v] - base[v], p1[v] - base[v], p2[v] - base[v], p3[v] - base[v]
                            total[v] += w * a + w1 * b + w2 * c + w3 * d
                            other[v] += x * a + x1 * b + x2 * c + x3 * d
                    else:
                        for v in range(size):
                            a, b, c, d = p[v] - base[v], p1[v] - base[v], p2[v] - base[v], p3[v] - base[v]
                            total[v] += w * a + w1 * b + w2 * c + w3 * d
            own = squares[start : start + size]
            for v in range(size):
                own[v] += square[v]
            for m in range(kinds):
                far, total = sums[m, start : start + size], near[m]
                for v in range(size):
                    far[v] += total[v]
