"""Images seen, and worked out on another grid, through a mapping between two worlds."""

from __future__ import annotations

from copy import copy

import numpy as np

from .at_places import Places
from .errors import Trouble
from .image import Image
from .labels import LabelMap
from .mapping import Mapping
from .placement import Placement
from .progress import Progress, silent
from .resampling import How, resampled
from .space import Space
from .transform import Transform


def seen_through(image: Image, way: Mapping) -> Image:
    """An image as it lies in the world that a mapping leads to from its own; nothing is resampled or copied.

    An affine mapping moves the grid. Another one goes with the image (`Image.through`), and whoever draws or reads it
    asks the mapping for the place of each pixel.
    """
    if isinstance(way, Transform):
        space = image.space.moved(way.matrix)
        return image.placed(Placement(space.in_world(way.target)))
    seen = image.placed(Placement(image.space.in_world(way.target)))
    seen.through = way.inverse().prepared()
    return seen


def labels_through(labels: LabelMap, way: Mapping) -> LabelMap:
    """The same for a label map, to be drawn: it shares the voxels and has the names of now."""
    seen = copy(labels)
    seen.space = labels.space.moved(way.matrix) if isinstance(way, Transform) else labels.space
    seen.space = seen.space.in_world(way.target)
    seen.through = None if isinstance(way, Transform) else way.inverse().prepared()
    return seen


def resampled_through(
    values: np.ndarray,
    source: Space,
    target: Space,
    way: Mapping,
    how: How = "linear",
    outside: float = np.nan,
    progress: Progress | None = None,
    places: Places | None = None,
) -> np.ndarray:
    """A volume at the voxels of a grid in another world, interpolated once.

    Parameters
    ----------
    values : array [k, j, i]
    source, target : Space
        Its grid, and the one that is wanted.
    way : Mapping
        From the world of `target` to that of `source`.
    how : text
        As in `resampling.resampled`; a sinc only where the mapping is affine.
    places : Places, optional
        The same for all volumes of a series, so that transforms that bend are followed once.

    Returns
    -------
    float32 array [k, j, i]; of "nearest" the number type of `values`.

    Raises Trouble when a sinc is asked of a mapping that bends, Cancelled.
    """
    progress = progress or silent()
    if isinstance(way, Transform):
        return resampled(
            values, (source.inverse @ way.matrix @ target.affine)[:3], target.shape, how, outside, progress
        )
    if how == "sinc":
        raise Trouble(f"“{way.name}” bends space, and a sinc cannot follow it", "take cubic interpolation")
    return (places or Places(source, target, way)).look(values, how, outside, progress)
