"""How sure the shapes of labels are: by chance at their border, and by the scale.

As for their size, each voxel of the border is taken as lying in or out with equal chance and independent of its
neighbours (a variance of 1/4 voxel). What that does to a length is worked out as for a disc or a ball of the same size.
"""

from __future__ import annotations

import math

import numpy as np

from ...core.scale import Scale
from ...core.space import Space
from .sums import RegionSums

CROFTON = 0.01 / math.sqrt(3)
"""Share of a border's length or area that its formula leaves open: 1 %, all of that alike."""
AXES = ("major_axis", "minor_axis", "longest_axis", "middle_axis", "shortest_axis")


def shape_spreads(made: dict[str, np.ndarray], found: RegionSums, space: Space, scale: Scale) -> dict[str, np.ndarray]:
    """Standard uncertainties of the lengths and areas among the shapes of labels, by their names.

    With B voxels of the border among N: that of an area or volume is √B / 2 voxels; a perimeter has half of that, and a
    surface two thirds, of it as its share, as if all of the border lay further out or in, and what Crofton's formula
    leaves open. The variance along an axis
    has a share of √(3 B) / 2 N of a disc, √(2 B / 3) / N of a ball, and the axis half of that. A middle is off by
    √(B / 4) / N times the radius / √2 or / √3 along each axis; Feret's diameter by a voxel either way.

    Parameters
    ----------
    made : dict
        As `shapes` gives them.
    """
    flat = space.flat_axis is not None
    border, count = found.sums[:, 10], np.maximum(found.sums[:, 0], 1)
    cell = space.extent[1]
    of_size = np.sqrt(border) / 2 / count
    x, y, z = (s if math.isfinite(s) and scale.unit != "px" else 0.0 for s in scale.sure)
    of_length = max(x, y) if flat else max(x, y, z)
    radius = np.sqrt(count * cell / math.pi) if flat else np.cbrt(3 * count * cell / (4 * math.pi))
    off = np.sqrt(border / 4) / count * radius / math.sqrt(2 if flat else 3)
    sides = [s for s, n in zip(space.spacing, space.shape) if n > 1] or [min(space.spacing)]
    told: dict[str, np.ndarray] = {}
    for name, values in made.items():
        if name == "perimeter":
            told[name] = values * np.sqrt((of_size / 2) ** 2 + of_length**2 + CROFTON**2)
        elif name == "surface":
            told[name] = values * np.sqrt((2 * of_size / 3) ** 2 + 4 * of_length**2 + CROFTON**2)
        elif name in AXES:
            share = np.sqrt(3 * border) / (4 * count) if flat else np.sqrt(2 * border / 3) / (2 * count)
            told[name] = values * np.hypot(share, of_length)
        elif name == "feret":
            told[name] = np.hypot(max(sides) / math.sqrt(3), values * of_length)
        elif name in ("x", "y", "z"):
            told[name] = off if name != "z" or not flat else np.zeros_like(off)
        elif name == "nearest":
            told[name] = np.hypot(math.sqrt(2) * off, values * of_length)
    return told
