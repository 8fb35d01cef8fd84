"""The way of a vessel from place to place, its middle, and how wide it is there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

RAYS, STEPS = 24, 0.25
"""Rays across a vessel, and steps along them, in voxels."""
LOST = 0.35
"""Share of rays that must find an edge for a cut to count."""


@dataclass(frozen=True)
class Course:
    """The middle of a vessel: voxel places (n, 3) as k, j, i; radii in the unit of the spacing; and how sure each is:
    the share of rays that found an edge."""

    places: np.ndarray
    radii: np.ndarray
    sure: np.ndarray


def cheapest_way(cost: np.ndarray, start, end, spacing) -> np.ndarray:
    """Voxels (n, 3) of the cheapest way between two (minimal path: L. D. Cohen and R. Kimmel, Int. J. Comput. Vis. 24,
    1997)."""
    from skimage.graph import MCP_Geometric

    ways = MCP_Geometric(cost, sampling=tuple(spacing))
    ways.find_costs([tuple(start)], [tuple(end)])
    return np.array(ways.traceback(tuple(end)), float)


def measured(values: np.ndarray, sign: float, way: np.ndarray, most: float, spacing) -> Course:
    """The middle of the vessel along a way, and its radius.

    Across the way, rays run to where the image has fallen half-way from the vessel's middle to what lies beside it
    (full width at half maximum); the middle of their ends is the vessel's.

    Parameters
    ----------
    most : length
        Largest radius that is looked for.
    """
    step = np.array(spacing, float)
    flat = values.shape[0] == 1
    places = _smooth(way, 3)
    radii, sure = np.zeros(len(places)), np.zeros(len(places))
    for _ in range(2):
        tangents = _tangents(places * step)
        moved = places.copy()
        for n, (at, tangent) in enumerate(zip(places, tangents)):
            middle, radius, share = _cut(values, sign, at, tangent, most, step, flat)
            radii[n], sure[n] = radius, share
            if share >= LOST:
                moved[n] = middle
        places = _smooth(moved, 3)
    known = sure >= LOST
    if known.any():
        radii = np.interp(np.arange(len(radii)), np.flatnonzero(known), radii[known])
    else:
        radii = np.full(len(radii), float(step[-2:].mean()))
    return Course(places, _smooth(_middle_of(radii, 5)[:, None], 3)[:, 0], sure)


def _middle_of(values: np.ndarray, width: int) -> np.ndarray:
    from scipy.ndimage import median_filter

    return median_filter(values, size=min(width, len(values)), mode="nearest")


def _smooth(line: np.ndarray, width: int) -> np.ndarray:
    from scipy.ndimage import uniform_filter1d

    if len(line) <= width:
        return line.astype(float)
    found = uniform_filter1d(line.astype(float), width, axis=0, mode="nearest")
    found[0], found[-1] = line[0], line[-1]
    return found


def _tangents(line: np.ndarray) -> np.ndarray:
    if len(line) < 2:
        return np.tile((1.0, 0.0, 0.0), (len(line), 1))
    half = min(3, len(line) - 1)
    ahead = np.minimum(np.arange(len(line)) + half, len(line) - 1)
    behind = np.maximum(np.arange(len(line)) - half, 0)
    way = line[ahead] - line[behind]
    return way / np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-30)


def _cut(values, sign: float, at: np.ndarray, tangent: np.ndarray, most: float, step: np.ndarray, flat: bool):
    """Middle, radius, and share of rays that found an edge, of the cut across a vessel at a place."""
    from scipy import ndimage

    if flat:
        across = np.array([[0.0, -tangent[2], tangent[1]]])
        ways = np.concatenate((across, -across))
    else:
        beside = np.cross(tangent, np.eye(3)[int(np.abs(tangent).argmin())])
        beside /= np.linalg.norm(beside)
        other = np.cross(tangent, beside)
        turn = np.linspace(0, 2 * np.pi, RAYS, endpoint=False)[:, None]
        ways = np.cos(turn) * beside + np.sin(turn) * other
    fine = STEPS * float(step[1:].min())
    reach = np.arange(0, 2.2 * most + fine, fine)
    places = at + ways[:, None, :] * reach[None, :, None] / step
    seen = sign * ndimage.map_coordinates(values, places.reshape(-1, 3).T, order=1, mode="nearest").reshape(
        len(ways), -1
    )
    core = float(np.percentile(seen[:, reach <= 0.35 * most + fine], 75))
    ground = float(np.percentile(seen[:, reach > 0.6 * most], 25)) if (reach > 0.6 * most).any() else float(seen.min())
    level = (core + ground) / 2
    if not core > ground:
        return at, 0.0, 0.0
    below = seen < level
    ends = np.full(len(ways), np.nan)
    for n in range(len(ways)):
        if below[n, 0]:
            continue
        first = int(below[n].argmax())
        if below[n, first] and first > 0:
            high, low = seen[n, first - 1], seen[n, first]
            ends[n] = reach[first - 1] + fine * (high - level) / max(high - low, 1e-30)
    found = np.isfinite(ends) & (ends <= 1.3 * most)
    share = float(found.mean())
    if share < LOST:
        return at, 0.0, share
    usual = float(np.median(ends[found]))
    found &= ends <= 2.0 * usual
    tips = ways[found] * ends[found][:, None]
    if flat:
        middle = tips.mean(0) if found.all() else np.zeros(3)
        return at + middle / step, float(ends[found].mean()), share
    paired = found & np.roll(found, len(ways) // 2)
    middle = (ways[paired] * ends[paired][:, None]).mean(0) if paired.any() else np.zeros(3)
    length = float(np.linalg.norm(middle))
    if length > 0.5 * usual:
        middle *= 0.5 * usual / length
    return at + middle / step, float(np.sqrt(np.mean(ends[found] ** 2))), share
