"""MGH and MGZ volumes and series, read lazily."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ..core.axis import Axis
from ..core.caveat import SIDES_UNKNOWN, Caveat
from ..core.image import Image, Origin
from ..core.space import Space
from .format import Format, image_name, register
from .layout import Layout
from .neuro_files import nibabel
from .nifti import said
from .raw_values import RawValues


def read_mgh(path: Path) -> Image:
    """An MGH file; the fourth axis becomes "time", or "frame" when no repetition time is given."""
    file = nibabel().MGHImage.from_filename(path)
    header = file.header
    shape = tuple(int(n) for n in file.shape)
    packing = "gzip" if path.name.lower().endswith(("z", ".gz")) else ""
    raw = RawValues(path, 284, np.dtype(header.get_data_dtype()).newbyteorder(">"), shape, packing)
    raw.require_whole()
    axes: list[Axis] = []
    along: tuple[int, ...] = ()
    if len(shape) > 3 and shape[3] > 1:
        zooms = header.get_zooms()
        repeat = float(zooms[3]) / 1000 if len(zooms) > 3 else 0.0
        axes = [Axis.even("time" if repeat > 0 else "frame", shape[3], repeat or None, "s")]
        along = (3,)
    caveats = (
        []
        if int(header["goodRASFlag"])
        else [Caveat(SIDES_UNKNOWN, "The file gives a voxel size but no position, so sides are unknown")]
    )
    facts = {key: said(header[key]) for key in header.keys()}
    layout = Layout(raw, (0, 1, 2), along)
    return Image(
        layout.fetch,
        Space((shape[0], shape[1], shape[2]), file.affine),
        image_name(path),
        facts=facts,
        axes=axes,
        origin=Origin("MGH", [path], layout=layout),
        caveats=caveats,
    )


register(Format("MGH", (".mgh", ".mgz", ".mgh.gz"), read_mgh))
