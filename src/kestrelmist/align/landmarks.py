"""The best transform between pairs of landmarks."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.errors import Trouble
from ..core.mapping import Mapping
from ..core.thin_plate import ThinPlate
from ..core.transform import Transform

LEAST = {"3": 1, "6": 3, "7": 3, "12": 4, "spline": 4}
LEAST_IN_PLANE = {"3": 1, "6": 2, "7": 2, "12": 3, "spline": 3}
"""Pairs that each needs."""
THIN = 1e-4
"""Share of the longest spread below which landmarks lie on one line, or in one plane."""


@dataclass(frozen=True)
class Pairs:
    """Landmarks of two images that mean the same.

    Parameters
    ----------
    here, there : arrays (n, 3)
        In the fixed image and in the moving one, mm.
    names : tuple of str
    flat : bool
        Whether they are of pictures, so that nothing leads out of the plane.
    """

    here: np.ndarray
    there: np.ndarray
    names: tuple[str, ...]
    flat: bool = False

    def __len__(self) -> int:
        return len(self.names)

    def without(self, number: int) -> Pairs:
        """All but one, counted from 0."""
        return self.only(np.arange(len(self)) != number)

    def only(self, kept: np.ndarray) -> Pairs:
        """Some of them, bool (n,)."""
        names = tuple(name for name, one in zip(self.names, kept) if one)
        return Pairs(self.here[kept], self.there[kept], names, self.flat)


def fit(pairs: Pairs, freedom: str) -> Mapping:
    """The mapping from the fixed world to the moving one that leaves the least squared distances.

    Parameters
    ----------
    freedom : text
        "3" shift, "6" and turn, "7" and one scale (B. K. P. Horn, J. Opt. Soc. Am. A 4, 1987), "12" affine, "spline" a
        thin-plate spline, which leaves none.

    Raises
    ------
    Trouble
        When there are too few pairs, or they lie on one line, or in one plane.
    """
    least = (LEAST_IN_PLANE if pairs.flat else LEAST)[freedom]
    if len(pairs) < least:
        raise Trouble(
            f"{_words(freedom)} needs {least} pairs of landmarks, and there are {len(pairs)}",
            "set more, or ask for less",
        )
    _require_spread(pairs, freedom)
    if freedom == "spline":
        return ThinPlate(pairs.here, pairs.there)
    return Transform(_affine(pairs) if freedom == "12" else _rigid(pairs, freedom != "3", freedom == "7"))


def distances(mapping: Mapping, pairs: Pairs) -> np.ndarray:
    """What is left between each pair, mm."""
    return np.linalg.norm(mapping.to(pairs.here) - pairs.there, axis=1)


def left_out(pairs: Pairs, freedom: str) -> np.ndarray:
    """What each pair is off by a fit of all others, mm; NaN where these are too few."""
    found = np.full(len(pairs), np.nan)
    for n in range(len(pairs)):
        try:
            mapping = fit(pairs.without(n), freedom)
        except Trouble:
            continue
        found[n] = float(np.linalg.norm(mapping.to(pairs.here[n]) - pairs.there[n]))
    return found


def _words(freedom: str) -> str:
    names = {"3": "A shift", "6": "Shift and turn", "7": "Shift, turn and scale", "12": "An affine transform"}
    return names.get(freedom, "A thin-plate spline")


def _require_spread(pairs: Pairs, freedom: str) -> None:
    wanted = {"3": 0, "6": 2, "7": 2}.get(freedom, 3)
    if pairs.flat:
        wanted = min(wanted, {"3": 0, "6": 1, "7": 1}.get(freedom, 2))
    for points in (pairs.here, pairs.there):
        spread = np.linalg.svd(points - points.mean(0), compute_uv=False)
        if int((spread > THIN * max(float(spread[0]), 1e-30)).sum()) < wanted or (wanted and not spread[0] > 0):
            where = "in one plane" if wanted == 3 else "on one line" if wanted == 2 else "at one place"
            raise Trouble(f"The landmarks lie {where}", "set one beside it")


def _rigid(pairs: Pairs, turns: bool, scales: bool) -> np.ndarray:
    """By Horn's quaternion: the eigenvector of the largest eigenvalue of a matrix of sums of products."""
    middle, goal = pairs.here.mean(0), pairs.there.mean(0)
    a, b = pairs.here - middle, pairs.there - goal
    matrix = np.eye(4)
    if turns:
        s = a.T @ b
        (xx, xy, xz), (yx, yy, yz), (zx, zy, zz) = s
        four = np.array(
            [
                [xx + yy + zz, yz - zy, zx - xz, xy - yx],
                [yz - zy, xx - yy - zz, xy + yx, zx + xz],
                [zx - xz, xy + yx, yy - xx - zz, yz + zy],
                [xy - yx, zx + xz, yz + zy, zz - xx - yy],
            ]
        )
        if pairs.flat:  # a turn about z alone
            four[1:3], four[:, 1:3] = 0, 0
            four[1, 1] = four[2, 2] = -np.inf if not np.isfinite(four).all() else four.min() - abs(four).sum() - 1
        w, x, y, z = np.linalg.eigh(four)[1][:, -1]
        matrix[:3, :3] = [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    if scales:  # the same there and back
        matrix[:3, :3] *= np.sqrt(float((b**2).sum()) / float((a**2).sum()))
    matrix[:3, 3] = goal - matrix[:3, :3] @ middle
    return matrix


def _affine(pairs: Pairs) -> np.ndarray:
    middle, goal = pairs.here.mean(0), pairs.there.mean(0)
    axes = 2 if pairs.flat else 3
    found = np.linalg.lstsq((pairs.here - middle)[:, :axes], (pairs.there - goal)[:, :axes], rcond=None)[0]
    matrix = np.eye(4)
    matrix[:axes, :axes] = found.T
    matrix[:3, 3] = goal - matrix[:3, :3] @ middle
    return matrix
