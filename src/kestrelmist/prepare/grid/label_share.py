"""Which share of every voxel of another grid a label takes."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ...core.at_places import Places
from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.left_out import Leads
from ...core.mapping import Mapping
from ...core.operation import operation
from ...core.parameter import LabelName, Role
from ...core.progress import Progress, silent
from ...core.through import resampled_through
from ...core.transform import Transform
from .bring_labels import require_together
from .resample import as_seen, softened, softening

Grid = Annotated[Image, Role("grid")]


@operation(
    "prepare",
    "Share of a label",
    name="label-share",
    keywords="fraction mask resample coarse grid probability region onto functional",
    group="Grid",
    called={"image": "On grid of", "source": "From", "label": "Label"},
    methods="The share of a label in every voxel was worked out on another grid",
)
def label_share(
    image: Grid,
    source: LabelMap,
    *,
    label: LabelName,
    through: Annotated[Mapping | None, Leads("image", "source")] = None,
    progress: Progress = silent(),
) -> Image:
    """Which share of every voxel of an image's grid a label of another image takes, 0 to 1: of a region that was
    outlined on a fine image, for instance, in a coarse functional one.

    Parameters
    ----------
    image : image
        Its grid is taken; its values do not count.
    source : label map
        Of an image of the same space, or of one that a way leads to.
    label : text
        Name of the label.
    through : transform
        From the space of the grid to that of the labels; in a study the way is found among its transforms.

    Returns
    -------
    Image
        float32.

    Raises
    ------
    Trouble
        When there is no such label, it has no voxel, or both do not lie together.
    """
    if not source.table.has_name(label):
        names = ", ".join(row.name for row in source.table) or "none"
        raise Trouble(f"“{source.name}” has no label “{label}”", f"choose one of: {names}")
    row = source.table.named(label)
    if not source.counts[row.number]:
        raise Trouble(f"The label “{row.name}” of “{source.name}” has no voxel", "outline it first, or choose another")
    require_together(image, source, through)
    way = through if through is not None else Transform(np.eye(4))
    widths = softening(source.space, as_seen(image.space, way))
    inside = softened((source.kji == row.number).astype(np.float32), widths)
    places = Places(source.space, image.space, way) if not isinstance(way, Transform) else None
    share = resampled_through(inside, source.space, image.space, way, "linear", 0.0, progress, places)
    name = f"{row.name}, share in {image.name}"
    return Image(np.clip(share, 0, 1).T, image.space, name, subject=image.subject)
