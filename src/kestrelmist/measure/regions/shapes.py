"""What shape a region has: middle, axes, how round, how long, how far across."""

from __future__ import annotations

import math

import numpy as np

from ...core.space import Space
from .feret import ferets
from .sums import RegionSums
from .surface import surfaces


def steps_of(space: Space) -> np.ndarray:
    """World vectors from voxel to voxel along k, j and i, a row each."""
    return space.affine[:3, [2, 1, 0]].T


def shapes(found: RegionSums, labels: np.ndarray, space: Space, feret: bool = True) -> dict[str, np.ndarray]:
    """Shape of each label, in the world's lengths.

    centroid: the mean place of its voxels. axes: 4 √λ of a picture and 2 √(5 λ) of a volume, λ being the variances of
    its places along their principal directions (those of an ellipse, or an ellipsoid, with the same variances).
    elongation: √(λ₁ / λ₂), flatness √(λ₂ / λ₃), λ falling. circularity: 4 π A / P². sphericity: π^⅓ (6 V)^⅔ / S
    (H. Wadell, J. Geol. 43, 1935). Feret: the longest way from one point of its border to another, the border running
    half-way between voxels within and without. extent: its share of its box along the grid.

    Returns
    -------
    dict of str to array
    """
    flat_axis = space.flat_axis
    flat = flat_axis is not None
    steps = steps_of(space)
    counts = found.sums[:, 0]
    with np.errstate(invalid="ignore", divide="ignore"):
        middle = found.sums[:, 1:4] / counts[:, None]
        squares = found.sums[:, 4:10] / counts[:, None]
    k, j, i = middle.T
    spread = np.empty((len(counts), 3, 3))
    for n, (a, b) in enumerate(((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))):
        spread[:, a, b] = spread[:, b, a] = squares[:, n] - middle[:, a] * middle[:, b]
    in_world = np.einsum("ab,nac,cd->nbd", steps, np.nan_to_num(spread), steps)
    variances = np.maximum(np.linalg.eigvalsh(in_world)[:, ::-1], 0)
    made = {"i": i, "j": j, "k": k}
    world = space.to_world(np.stack((i, j, k), 1))
    made |= dict(zip("xyz", np.asarray(world).T))
    if flat:
        made |= {"major_axis": 4 * np.sqrt(variances[:, 0]), "minor_axis": 4 * np.sqrt(variances[:, 1])}
    else:
        names = ("longest_axis", "middle_axis", "shortest_axis")
        made |= {name: 2 * np.sqrt(5 * variances[:, n]) for n, name in enumerate(names)}
    with np.errstate(invalid="ignore", divide="ignore"):
        made["elongation"] = _finite(np.sqrt(variances[:, 0] / variances[:, 1]))
        size = counts * space.extent[1]
        if flat_axis is not None:
            border = surfaces(found, steps, 2 - flat_axis)
            made["perimeter"] = border
            made["circularity"] = _finite(4 * math.pi * size / border**2)
        else:
            made["flatness"] = _finite(np.sqrt(variances[:, 1] / variances[:, 2]))
            border = surfaces(found, steps, None)
            made["surface"] = border
            made["sphericity"] = _finite(math.pi ** (1 / 3) * (6 * size) ** (2 / 3) / border)
        boxes = np.prod(found.boxes[:, :, 1] - found.boxes[:, :, 0], axis=1)
        made["extent"] = _finite(counts / boxes)
    if feret:
        made["feret"] = ferets(found, labels, steps)
    return made


def _finite(values: np.ndarray) -> np.ndarray:
    return np.where(np.isfinite(values), values, np.nan)


def nearest(made: dict[str, np.ndarray]) -> np.ndarray:
    """From each middle to the nearest other one; NaN where there is none."""
    from scipy.spatial import cKDTree

    places = np.stack([made[axis] for axis in "xyz"], 1)
    there = np.isfinite(places).all(1)
    found = np.full(len(places), np.nan)
    if there.sum() > 1:
        found[there] = cKDTree(places[there]).query(places[there], k=2)[0][:, 1]
    return found
