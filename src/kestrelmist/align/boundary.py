"""The boundary of white matter as places in the world, and how well an image changes across it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.cell import cell, within
from ..core.errors import Trouble
from ..core.kernel import kernel
from ..core.space import Space
from .freedom import matrix_of, slopes_of

MOST = 40_000
"""Places of the boundary that are looked at."""
LEAST = 200
"""Places below which a boundary tells too little."""
DEEPEST = 160
"""Quarters of a voxel that are gone from a boundary to see how thick something is."""
STAY = 0.6
"""Share of the places seen at the start below which none is judged any more: the image is leaving them."""


@dataclass(frozen=True)
class Boundary:
    """Places on a surface.

    Parameters
    ----------
    places : array (n, 3)
        mm, in the world.
    outwards : array (n, 3)
        Of length 1, from white matter out.
    inner, outer : array (n,)
        mm to the middle of the white matter there, and of what lies between it and the next white matter.
    """

    places: np.ndarray
    outwards: np.ndarray
    inner: np.ndarray
    outer: np.ndarray

    def both_sides(self, depth: float) -> tuple[np.ndarray, np.ndarray]:
        """Places so deep (mm) inside, and as far outside; no further than the middle of what lies there."""
        inner, outer = (np.minimum(depth, far)[:, None] * self.outwards for far in (self.inner, self.outer))
        return self.places - inner, self.places + outer


def boundary_of(shares: np.ndarray, space: Space, name: str, random: int = 20261130) -> Boundary:
    """The surface on which the share of white matter is one half.

    Parameters
    ----------
    shares : array [k, j, i]
        0 to 1.

    Raises
    ------
    Trouble
        When there is none, or hardly any.
    """
    from scipy import ndimage
    from skimage.measure import marching_cubes

    none = Trouble(f"“{name}” has no boundary to go along", "choose the shares of white matter of “Split tissues”")
    if min(shares.shape) < 3 or not shares.min() < 0.5 < shares.max():
        raise none
    # the surface ends where the image does: what is cut there is no boundary
    at, _, _, _ = marching_cubes(np.asarray(shares, np.float32), 0.5)
    if len(at) > MOST:
        at = at[np.sort(np.random.default_rng(random).permutation(len(at))[:MOST])]
    smooth = ndimage.gaussian_filter(np.asarray(shares, np.float32), 0.7)
    steep = np.stack([ndimage.map_coordinates(g, at.T, order=1) for g in np.gradient(smooth)], 1)
    outwards = -steep[:, ::-1] @ space.inverse[:3, :3]
    length = np.linalg.norm(outwards, axis=1)
    kept = length > 0.05 * np.median(length)
    if kept.sum() < LEAST:
        raise none
    places, outwards = space.to_world(at[kept][:, ::-1]), outwards[kept] / length[kept, None]
    inner, outer = (_middle_of(shares, space, places, way * outwards, inside) for way, inside in ((-1, 1), (1, 0)))
    return Boundary(places, outwards, inner, outer)


def _middle_of(shares: np.ndarray, space: Space, places: np.ndarray, way: np.ndarray, inside: int) -> np.ndarray:
    """Half of how far (mm) one goes from each place along a way before one leaves white matter, or enters it."""
    from scipy import ndimage

    step = 0.25 * min(space.spacing)
    far, going = np.full(len(places), step), np.ones(len(places), bool)
    for n in range(2, DEEPEST):
        at = space.to_voxel(places[going] + n * step * way[going])
        same = (ndimage.map_coordinates(shares, at.T[::-1], order=1, mode="nearest") >= 0.5) == bool(inside)
        going[np.flatnonzero(going)[~same]] = False
        far[going] = n * step
        if not going.any():
            break
    return far / 2


class Across:
    """How an image changes across a boundary, for a matrix from the boundary's world to its own.

    The cost is low where what lies outside is brighter than what lies inside (`sign` 1), or darker (−1), in percent of
    their mean, and counts little beyond what is usual, so that places where something else lies do not decide (D. N.
    Greve and B. Fischl, NeuroImage 48, 2009).

    Parameters
    ----------
    values : float32 array [k, j, i]
    space : Space
    depth : mm
    usual : percent
        A change of this size counts three quarters of what any counts at most.
    aside : array (n,), optional
        By how many voxels of the image each place of the boundary is shifted in it, along `axis`.
    """

    def __init__(
        self,
        values: np.ndarray,
        space: Space,
        boundary: Boundary,
        depth: float,
        usual: float,
        sign: int,
        aside: np.ndarray | None = None,
        axis: int = 0,
    ):
        self.values, self.space = np.ascontiguousarray(values, np.float32), space
        self.centre = boundary.places.mean(0)
        inner, outer = boundary.both_sides(depth)
        self.inner, self.outer = ((p - self.centre).astype(np.float32) for p in (inner, outer))
        self.radius = float(np.sqrt(((boundary.places - self.centre) ** 2).sum(1).mean()))
        self.pixel = float(np.cbrt(space.voxel_volume))
        self.aside = np.zeros(len(inner), np.float32) if aside is None else aside.astype(np.float32)
        self.axis, self.sign, self.usual, self.least = axis, sign, float(usual), 0

    def _frame(self, matrix: np.ndarray) -> np.ndarray:
        whole = self.space.inverse @ matrix
        made = whole[:3].copy()
        made[:, 3] = whole[:3, :3] @ self.centre + whole[:3, 3]
        return made

    def changes(self, matrix: np.ndarray) -> np.ndarray:
        """Percent by which the image is brighter outside than inside, (n,); NaN for places that it does not see."""
        out = np.empty(len(self.inner))
        _changes(self.values, self._frame(matrix), self.inner, self.outer, self.aside, self.axis, out)
        return out

    def at(self, numbers: np.ndarray) -> tuple[float, np.ndarray] | None:
        """The cost of twelve numbers and how it grows with each; None when too few places are seen."""
        by_frame = np.zeros((3, 4))
        frame = self._frame(matrix_of(numbers, self.centre))
        given = self.values, frame, self.inner, self.outer, self.aside, self.axis, self.sign / self.usual
        cost, count = _cost(*given, by_frame)
        if count < max(LEAST // 2, self.least):
            return None
        self.least = max(self.least, int(STAY * count))
        turned = self.space.inverse[:3, :3] @ slopes_of(numbers, self.centre)[:, :3]
        turned[:, :, 3] += turned[:, :, :3] @ self.centre
        return cost / count, np.einsum("ab,nab->n", by_frame / count, turned)


@kernel
def _looked(volume, x, y, z, steep):
    """The value at voxel coordinates, and how steep it is; NaN outside."""
    nk, nj, ni = volume.shape
    if not within(x, y, z, ni, nj, nk):
        return np.nan
    (a, d, u), (b, e, v), (c, f, w) = cell(x, ni), cell(y, nj), cell(z, nk)
    v000, v001 = volume[c, b, a], volume[c, b, d]
    v010, v011 = volume[c, e, a], volume[c, e, d]
    v100, v101 = volume[f, b, a], volume[f, b, d]
    v110, v111 = volume[f, e, a], volume[f, e, d]
    x00, x01 = v000 + u * (v001 - v000), v010 + u * (v011 - v010)
    x10, x11 = v100 + u * (v101 - v100), v110 + u * (v111 - v110)
    y0, y1 = x00 + v * (x01 - x00), x10 + v * (x11 - x10)
    s0, s1 = v001 - v000 + v * (v011 - v010 - v001 + v000), v101 - v100 + v * (v111 - v110 - v101 + v100)
    steep[0] = s0 + w * (s1 - s0)
    steep[1] = x01 - x00 + w * (x11 - x10 - x01 + x00)
    steep[2] = y1 - y0
    return y0 + w * (y1 - y0)


@kernel
def _value(volume, frame, places, n, away, axis, steep):
    p, q, r = places[n, 0], places[n, 1], places[n, 2]
    x = frame[0, 0] * p + frame[0, 1] * q + frame[0, 2] * r + frame[0, 3]
    y = frame[1, 0] * p + frame[1, 1] * q + frame[1, 2] * r + frame[1, 3]
    z = frame[2, 0] * p + frame[2, 1] * q + frame[2, 2] * r + frame[2, 3]
    if axis == 0:
        x += away
    elif axis == 1:
        y += away
    else:
        z += away
    return _looked(volume, x, y, z, steep)


@kernel
def _changes(volume, frame, inner, outer, aside, axis, out):
    steep = np.zeros(3)
    for n in range(len(inner)):
        w = _value(volume, frame, inner, n, aside[n], axis, steep)
        g = _value(volume, frame, outer, n, aside[n], axis, steep)
        mean = 0.5 * (g + w)
        out[n] = 100.0 * (g - w) / mean if mean > 0 else np.nan


@kernel
def _cost(volume, frame, inner, outer, aside, axis, slope, out):
    """Sum of 1 − tanh(slope × change) over the places that are seen, and how many these are; `out` gets by how much
    the sum grows with each number of the frame."""
    total, count = 0.0, 0
    at_w, at_g = np.zeros(3), np.zeros(3)
    for n in range(len(inner)):
        w = _value(volume, frame, inner, n, aside[n], axis, at_w)
        g = _value(volume, frame, outer, n, aside[n], axis, at_g)
        mean = 0.5 * (g + w)
        if not mean > 0:
            continue
        t = np.tanh(slope * 100.0 * (g - w) / mean)
        total += 1.0 - t
        count += 1
        # of (g − w) over the mean, by g and by w
        common = -(1.0 - t * t) * slope * 100.0 / (mean * mean)
        by_g, by_w = common * w, -common * g
        for a in range(3):
            pull_g, pull_w = by_g * at_g[a], by_w * at_w[a]
            for b in range(3):
                out[a, b] += pull_g * outer[n, b] + pull_w * inner[n, b]
            out[a, 3] += pull_g + pull_w
    return total, count
