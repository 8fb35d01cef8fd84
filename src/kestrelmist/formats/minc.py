"""MINC 1 and 2 volumes and series, read lazily."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from ..core.axis import Axis
from ..core.errors import Trouble
from ..core.image import Image, Origin
from ..core.progress import Progress
from ..core.space import Space
from .format import Format, image_name, register
from .neuro_files import nibabel
from .planes import deep_enough

STARTS = (b"CDF\x01", b"CDF\x02", b"\x89HDF\r\n\x1a\n")
"""MINC 1 lies in a NetCDF file, MINC 2 in an HDF5 file."""
GROUPS = ("patient", "study", "acquisition")
"""Variables whose attributes tell what was scanned, and how."""


def read_minc(path: Path) -> Image:
    """A MINC file; a time axis becomes the image's own axis. Values are real: each slice has a scale of its own.

    Raises
    ------
    Trouble
        When the file is damaged, is no MINC file, or has axes that are neither space nor time.
    """
    file: Any = nibabel().load(path)
    minc = file.dataobj.minc_file
    dims = [str(name) for name in minc._dim_names]
    shape = tuple(int(n) for n in file.shape)
    spatial = [n for n, name in enumerate(dims) if name.endswith("space")]
    others = [n for n in range(len(dims)) if n not in spatial]
    if len(spatial) != 3 or len(others) > 1 or len(shape) != len(dims):
        raise Trouble(f"A MINC file with the axes {', '.join(dims)} cannot be shown", "convert it to NIfTI", path)
    deep_enough(shape, path.stat().st_size, np.dtype(np.uint8), path)
    i, j, k = (int(shape[n]) for n in spatial)
    space = Space((i, j, k), file.affine)
    axes, along = [], None
    if others and shape[others[0]] > 1:
        along = others[0]
        axes = [_axis(minc, dims[along], shape[along])]
    fetch = partial(_fetch, file, len(shape), along)
    return Image(fetch, space, image_name(path), facts=_facts(minc), axes=axes, origin=Origin("MINC", [path]))


def _fetch(file: Any, rank: int, along: int | None, index: tuple[int, ...], progress: Progress) -> np.ndarray:
    pick: list[Any] = [slice(None)] * rank
    if rank > 3:
        pick[along if along is not None else 0] = index[0] if along is not None else 0
    values = np.asarray(file.dataobj[tuple(pick)], np.float64)
    kept = values.astype(np.float32)
    # most files hold 8 to 16 bits and a scale, which float32 tells apart; what it does not stays exact
    return kept if np.array_equal(kept.astype(np.float64), values, equal_nan=True) else values


def _axis(minc: Any, name: str, size: int) -> Axis:
    try:
        step = float(np.ravel(minc._dims[minc._dim_names.index(name)].step)[0])
    except (AttributeError, KeyError, TypeError, ValueError):
        step = 0.0
    label = "time" if name.startswith("time") else name
    return Axis.even(label, size, step if np.isfinite(step) and step > 0 else None, "s")


def _facts(minc: Any) -> dict[str, str]:
    """Attributes of the file and of the variables that describe the scan, as text."""
    found: dict[str, str] = {}
    file = minc._mincfile
    try:
        if hasattr(file, "variables"):
            groups = {"": file._attributes} | {g: file.variables[g]._attributes for g in GROUPS if g in file.variables}
        else:
            info = file["minc-2.0/info"]
            groups = {"": file["minc-2.0"].attrs} | {g: info[g].attrs for g in GROUPS if g in info}
        for group, attributes in groups.items():
            for key, value in attributes.items():
                text = value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
                found[f"{group}: {key}" if group else str(key)] = text.strip("\0 ")[:4000]
    except (KeyError, AttributeError, TypeError, OSError):
        return found
    return found


def _is_minc(path: Path, start: bytes) -> bool:
    return start.startswith(STARTS)


register(Format("MINC", (".mnc", ".mnc2"), read_minc, fits=_is_minc))
