"""A section with two stains, whose amounts are kept."""

from __future__ import annotations

import numpy as np

from ...core.image import Image
from ...core.space import picture_space
from ...formats.tiff_write import save_ome_tiff
from ..scene import Station, scene
from ..stained import stained

PIXEL = 0.0005
"""mm."""


@scene("Stained section", 75)
def stained_section(station: Station) -> None:
    """The picture to be gathered, and both stains in optical density beside."""
    made = stained(5, 1024)
    rows, columns = made.amounts.shape[1:]
    space = picture_space(columns, rows, (PIXEL, PIXEL))
    colours = np.ascontiguousarray(made.colours.transpose(1, 0, 2)[:, :, None, :])
    name = "brown fat, haematoxylin and eosin"
    save_ome_tiff(station.incoming / f"{name}.ome.tif", Image(colours, space, name, colour=True))
    for stain, amount in zip(("haematoxylin", "eosin"), made.amounts):
        image = Image(np.asfortranarray(amount.T[:, :, None]), space, stain, unit="OD")
        save_ome_tiff(station.folder / "truth" / f"{name}, {stain}.ome.tif", image)
