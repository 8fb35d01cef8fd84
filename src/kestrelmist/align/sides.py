"""Two images as an alignment takes them: what of them is compared, and whether they can be."""

from __future__ import annotations

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.overlap import Apart
from ..core.progress import Progress
from ..core.space import Space
from .levels import Sides

LARGEST = 1e12
"""Value above which an image is compared by shares of its largest one."""
MOST_PIXELS = 6_000_000
"""Of a picture, above which a coarser level of it is compared."""


def side_of(image: Image, mask: LabelMap | None, progress: Progress, weights: Image | None = None) -> Sides:
    """An image and what of it counts: what carries a label in the mask, and how much by weights.

    Raises
    ------
    Trouble
        When the mask or the weights lie on another grid, or some weights are negative or infinite or all are nothing.
    """
    if mask is not None and not mask.space.same_grid(image.space):
        raise Trouble(
            f"The mask “{mask.name}” lies on another grid than “{image.name}”",
            "choose labels that were drawn on it, or bring them along first",
        )
    shown = image
    if int(np.prod(image.space.shape, dtype=object)) > MOST_PIXELS and image.levels:
        fitting = [one for one in image.levels if np.prod(one.space.shape, dtype=object) <= MOST_PIXELS]
        shown = fitting[0] if fitting else image.levels[-1]
    values = np.ascontiguousarray(shown.fetch(progress).T, np.float32)
    bad = ~np.isfinite(values)
    if bad.any():
        values = np.where(bad, np.float32(np.nan), values)
    peak = float(np.max(np.abs(values), where=~bad, initial=0.0))
    if peak > LARGEST:  # squares of such values go beyond float32
        values = values / np.float32(peak)
    inside = None
    if mask is not None:
        inside = (mask.kji if shown is image else _thinned(mask.kji, shown.space)) > 0
    heavy = None if weights is None else _weights(weights, image, shown)
    if heavy is not None:  # what weighs nothing is outside; when all else weighs the same, that is all there is to it
        some = heavy > 0
        inside = some if inside is None else inside & some
        heavy = None if float(heavy.min(where=some, initial=1.0)) == 1.0 else heavy
    return Sides(values, shown.space, inside, image.name, heavy)


def _weights(weights: Image, image: Image, shown: Image) -> np.ndarray:
    """How much each voxel counts, in shares of the largest; not at all where the weights tell no number (NaN)."""
    if not weights.space.same_grid(image.space) or weights.axes:
        raise Trouble(
            f"The weights “{weights.name}” lie on another grid than “{image.name}”", "bring them onto it first"
        )
    kji = weights.kji if shown is image else _thinned(weights.kji, shown.space)
    values = np.nan_to_num(kji.astype(np.float64), posinf=np.inf, neginf=-np.inf)
    top = float(values.max(initial=0.0))
    if float(values.min(initial=0.0)) < 0 or not 0 < top < np.inf:
        raise Trouble(f"The weights “{weights.name}” are to be 0 or more, and somewhere more", "choose others")
    return np.ascontiguousarray(values / top, np.float32)


def _thinned(kji: np.ndarray, space: Space) -> np.ndarray:
    """What an array [k, j, i] holds at the voxels of a coarser grid."""
    ways = [
        np.clip(np.rint((np.arange(n) + 0.5) * m / n - 0.5).astype(int), 0, m - 1)
        for n, m in zip(space.shape, kji.shape[::-1])
    ]
    return np.asarray(kji[np.ix_(ways[2], ways[1], ways[0])])


def require_comparable(image: Image, onto: Image) -> bool:
    """Whether both are pictures; raises Trouble when one is and the other is not, or their scales have nothing in
    common."""
    flat, onto_flat = image.space.flat_axis, onto.space.flat_axis
    if (flat is None) != (onto_flat is None):
        picture, volume = (image, onto) if flat is not None else (onto, image)
        raise Trouble(
            f"“{picture.name}” is a picture and “{volume.name}” a volume",
            "cut a slice of the volume first (Reslice), and align the picture to that",
        )
    if image.space.unit != onto.space.unit:
        unknown = image if image.space.unit == "px" else onto
        raise Apart(
            f"Nobody knows the scale of “{unknown.name}”, so it cannot be aligned with one that has one",
            "set its pixel size first",
            "no common scale",
        )
    if flat is not None and (flat != 2 or onto_flat != 2):
        raise Trouble(
            f"“{(image if flat != 2 else onto).name}” is a slice that stands upright in its world",
            "lay it flat first (Order axes), or align the volume it was cut from",
        )
    return flat is not None
