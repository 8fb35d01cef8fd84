"""Tooth enamel under a scanning probe, as a text matrix and as X3P."""

from __future__ import annotations

import numpy as np

from ...core.image import Image
from ...core.space import picture_space
from ...formats.tiff_write import save_ome_tiff
from ...formats.x3p import save_x3p
from ..enamel import PIXEL, enamel
from ..scene import Station, scene


@scene("Enamel", 80)
def enamel_maps(station: Station) -> None:
    """One map for the Shelf, one to be gathered, and what is known of them."""
    known = {}
    for name, seed in (("enamel, etched window", 1), ("enamel, second window", 2)):
        made = enamel(seed)
        rows, columns = made.heights.shape
        space = picture_space(columns, rows, (PIXEL / 1000, PIXEL / 1000))
        truth = Image(made.surface.T[:, :, None].astype(np.float32), space, name, unit="nm")
        save_ome_tiff(station.folder / "truth" / f"{name}, without tilt.ome.tif", truth)
        known[name] = made.depth
        if seed == 1:
            side = f"{columns * PIXEL:g}"
            head = f"# Width: {side} µm\n# Height: {side} µm\n# Value units: nm\n"
            lines = "\n".join("\t".join(f"{v:.2f}" for v in row) for row in made.heights.tolist())
            (station.folder / f"{name}.txt").write_text(head + lines + "\n", encoding="utf-8")
        else:
            metres = Image((made.heights.T[:, :, None] * 1e-9), space, name, unit="m")
            save_x3p(station.incoming / f"{name}.x3p", metres)
    station.truth["etched_depth_nm"] = known
