"""A stage ruler under two objectives, and a section under the first: pictures that do not know their scale."""

from __future__ import annotations

import numpy as np
from PIL import Image as Picture

from ..scene import Station, scene
from ..stage_ruler import ruler_picture
from ..stained import stained

TRUE = {"10x": 0.0003318, "40x": 0.0000853}
"""Side of a pixel, mm: that of the camera is 3.45 µm, and both objectives magnify a few percent more or less than is
engraved."""
SIZE = (1280, 960)


@scene("Stage ruler", 76)
def stage_rulers(station: Station) -> None:
    """Pictures to be gathered; how large their pixels are is kept beside."""
    folder = station.incoming / "microscope, no scale"
    folder.mkdir(parents=True, exist_ok=True)
    for n, (objective, pixel) in enumerate(TRUE.items()):
        ruler = ruler_picture(pixel, size=SIZE, middle=(0.003, 0.0), turn=0.021 - 0.05 * n, seed=n)
        Picture.fromarray(np.rint(ruler).astype(np.uint8)).save(folder / f"stage ruler 10 um, {objective}.png")
    section = stained(6, SIZE[0]).colours[: SIZE[1]]
    Picture.fromarray(section).save(folder / "brown fat, 10x.png")
    station.truth["pixel_mm"] = dict(TRUE)
