"""MGH and MGZ volumes and series, read lazily."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ..core.axis import Axis
from ..core.image import Image, Origin
from ..core.space import Space
from .layout import Layout
from .raw_values import RawValues


def read_mgh(path: Path) -> Image:
    """An MGH file; the fourth axis becomes "time", or "frame" when no repetition time is given."""
    import nibabel
    from .opening import image_name

    file = nibabel.MGHImage.from_filename(path)
    header = file.header
    shape = tuple(int(n) for n in file.shape)
    packing = "gzip" if path.name.lower().endswith(("z", ".gz")) else ""
    raw = RawValues(path, 284, np.dtype(header.get_data_dtype()).newbyteorder(">"), shape, packing)
    raw.require_whole()
    axes, along = [], ()
    if len(shape) > 3 and shape[3] > 1:
        zooms = header.get_zooms()
        repeat = float(zooms[3]) / 1000 if len(zooms) > 3 else 0.0
        axes = [Axis.even("time" if repeat > 0 else "frame", shape[3], repeat or None, "s")]
        along = (3,)
    notes = [] if int(header["goodRASFlag"]) else ["The file gives a voxel size but no position, so sides are unknown"]
    facts = {key: str(header[key]) for key in header.keys()}
    return Image(Layout(raw, (0, 1, 2), along).fetch, Space(shape[:3], file.affine), image_name(path), facts=facts, axes=axes,
                 origin=Origin("MGH", [path], notes=notes))
