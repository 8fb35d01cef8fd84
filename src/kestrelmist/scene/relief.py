"""A height map as a surface for the Solid view."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.coarse import coarse_image, steps_for
from ..core.image import Image
from ..core.quantity import nanometres
from .colours import colour_table
from .layer import ImageLook
from .showing import display_range

MOST = 120_000
"""Points of the surface: fine enough for a pane, few enough to be turned by software."""
UNKNOWN = (70, 78, 83)
TALL = 0.18
"""How tall the range that is shown is drawn, as a share of the map's longer side."""


@dataclass(frozen=True)
class Relief:
    """Points of a surface.

    Parameters
    ----------
    heights : float32 array (rows, columns)
        mm above the plane of the map, exaggerated.
    colours : uint8 array (rows, columns, 3)
    affine : array (4, 4)
        Of the map's grid, at the resolution of the surface.
    times : number
        How much taller than they are heights are drawn.
    """

    heights: np.ndarray
    colours: np.ndarray
    affine: np.ndarray
    times: float


def relief_of(image: Image, look: ImageLook) -> Relief:
    """The surface of a height map in the range and colours of a look. Points without a height are grey, as high as the
    nearest that has one."""
    coarse = coarse_image(image, steps_for(image.space.shape, MOST))
    values = coarse.kji[0].astype(np.float32)
    low, high = (look.low, look.high) if look.high > look.low else display_range(image)
    side = max(n * s for n, s in zip(image.space.shape[:2], image.space.spacing[:2]))
    there = np.isfinite(values)
    inside = np.clip(_filled(values, there), low - (high - low), high + (high - low))
    heights = (inside - low) / (high - low) * np.float32(TALL * side)
    share = np.clip((inside - low) / (high - low), 0, 1)
    packed = colour_table(look.colour_map, look.inverted)[(share * 255).astype(int)]
    rgb = np.stack([(packed >> shift) & 255 for shift in (16, 8, 0)], -1).astype(np.uint8)
    rgb[~there] = UNKNOWN
    return Relief(heights.astype(np.float32), rgb, coarse.space.affine, times_taller(image, look))


def times_taller(image: Image, look: ImageLook) -> float:
    """How much taller than they are heights are drawn in a look; 0 where that means nothing."""
    low, high = (look.low, look.high) if look.high > look.low else display_range(image)
    side = max(n * s for n, s in zip(image.space.shape[:2], image.space.spacing[:2]))
    own = (high - low) * (nanometres(image.unit) or 0.0) * 1e-6
    return TALL * side / own if own else 0.0


def _filled(values: np.ndarray, there: np.ndarray) -> np.ndarray:
    from scipy import ndimage

    if there.all():
        return values
    if not there.any():
        return np.zeros_like(values)
    nearest = ndimage.distance_transform_edt(~there, return_distances=False, return_indices=True)
    return values[tuple(nearest)]
