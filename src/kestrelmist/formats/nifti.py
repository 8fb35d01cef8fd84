"""NIfTI-1 and NIfTI-2, volumes and series: read lazily, written exactly and fast."""

from __future__ import annotations

import json
import logging
import os
from pathlib import Path

import numpy as np

from ..core.axis import Axis
from ..core.errors import Trouble
from ..core.image import Image, Origin
from ..core.labels import LabelMap, LabelTable
from ..core.progress import Progress, silent
from ..core.space import Space
from .layout import Layout
from .nifti_write import EXTENSION, save_nifti, write_nifti
from .raw_values import RawValues
from .sampling import sampled_levels

__all__ = ["read_nifti", "read_label_map", "write_label_map", "write_nifti", "save_nifti", "is_nifti"]

LONG_NAMES = ("time", "component", "dimension 6", "dimension 7")
SECONDS = {"sec": 1.0, "msec": 1e-3, "usec": 1e-6}
LENGTHS = {"meter": 1000.0, "mm": 1.0, "micron": 1e-3}


def is_nifti(path: Path) -> bool:
    return path.name.lower().endswith((".nii", ".nii.gz", ".nii.bz2", ".hdr"))


def read_nifti(path: str | Path, spacing: tuple[float, float, float] | None = None) -> Image:
    """A NIfTI volume or series, values left on disk until asked for.

    Parameters
    ----------
    path : path
        `.nii`, `.nii.gz`, `.nii.bz2`, or the `.hdr` of a pair.
    spacing : three lengths in mm, optional
        Voxel size to use when the file's own position matrix is of no use; sides are then unknown.

    Raises
    ------
    Trouble
        When the file is damaged, or has a zero or singular position matrix.
    """
    import nibabel  # loaded when the first such file is met

    logging.getLogger("nibabel.global").setLevel(logging.CRITICAL)  # what matters of it is said in our own words
    path = Path(path)
    if not path.exists():
        raise Trouble("This file does not exist", "check the name", path)
    try:
        file = nibabel.load(path)
        header, shape = file.header, tuple(int(n) for n in file.shape)
        dtype, offset = header.get_data_dtype(), int(file.dataobj.offset)
        slope, intercept = float(file.dataobj.slope), float(file.dataobj.inter)
        length, seconds = (str(u) for u in header.get_xyzt_units())
    except Exception as error:
        raise Trouble("This is not a NIfTI file, or it is damaged", "copy it again or convert it anew", path) from error
    if not shape or min(shape) < 1 or offset < 0:
        raise Trouble("The header of this file gives no sensible size", "copy it again or convert it anew", path)
    if not np.isfinite((slope, intercept)).all() or slope == 0.0:
        slope, intercept = 1.0, 0.0
    data = Path(file.file_map["image"].filename) if path.suffix.lower() == ".hdr" else path
    shape = shape + (1,) * (3 - len(shape))
    affine, notes = _place(file, path, spacing, LENGTHS.get(length, 1.0))
    axes, along = _axes(shape, header, SECONDS.get(seconds, 1.0))
    packing = {".gz": "gzip", ".bz2": "bz2"}.get(data.suffix.lower(), "")
    layout = _layout(data, offset, dtype, shape, packing, along, slope, intercept)
    layout.raw.require_whole()
    if dtype.kind == "c":
        axes.append(Axis("part", 2, labels=("real", "imaginary")))
    more = _extension(header)
    if more.get("axes") and [a["size"] for a in more["axes"]] == [a.size for a in axes]:
        axes = [Axis.from_dict(a) for a in more["axes"]]
    facts = {key: str(header[key]) for key in header.keys()}
    name = path.name
    for ending in (".gz", ".bz2", ".nii", ".hdr"):
        name = name.removesuffix(ending)
    space = Space(shape[:3], affine, "px" if length == "unknown" and "space" in more else "mm", str(more.get("space", "scanner")))
    image = Image(layout.fetch, space, name=name, facts=facts, unit=str(more.get("unit", "")), axes=axes, colour=layout.colours is not None,
                  origin=Origin("NIfTI", [path] if data == path else [path, data], notes=notes, reading={"spacing": list(spacing)} if spacing else {}))
    image.levels = sampled_levels(layout, image, layout.raw.dtype)
    return image


def _extension(header) -> dict:
    """What this program wrote beside the header's own fields; nothing when it did not, or when it is damaged."""
    for extension in getattr(header, "extensions", ()):
        try:
            content = extension.get_content()
            found = json.loads(content if isinstance(content, str) else bytes(content).rstrip(b"\0"))[EXTENSION]
            for axis in found.get("axes", ()):
                Axis.from_dict(axis)
            return found
        except (ValueError, KeyError, TypeError, AttributeError):
            continue
    return {}


def _layout(data: Path, offset: int, dtype: np.dtype, shape, packing, along, slope, intercept) -> Layout:
    if dtype.fields:  # red, green, blue and perhaps opacity, a byte each
        raw = RawValues(data, offset, np.dtype(np.uint8), (len(dtype.fields), *shape), packing)
        return Layout(raw, (1, 2, 3), tuple(a + 1 for a in along), 0)
    if dtype.kind == "c":
        half = np.dtype(f"{dtype.byteorder}f{dtype.itemsize // 2}")
        raw = RawValues(data, offset, half, (2, *shape), packing)
        return Layout(raw, (1, 2, 3), (*(a + 1 for a in along), 0), None, slope, intercept)
    return Layout(RawValues(data, offset, dtype, shape, packing), (0, 1, 2), along, None, slope, intercept)


def _axes(shape, header, second: float) -> tuple[list[Axis], tuple[int, ...]]:
    axes, along = [], []
    zooms = header.get_zooms()
    for axis in range(3, len(shape)):
        if shape[axis] > 1:
            step = float(zooms[axis]) * second if axis == 3 and len(zooms) > 3 and np.isfinite(zooms[axis]) else None
            axes.append(Axis.even(LONG_NAMES[axis - 3], shape[axis], step, "s"))
            along.append(axis)
    return axes, tuple(along)


def _place(file, path: Path, spacing, to_mm: float) -> tuple[np.ndarray, list[str]]:
    if spacing is not None:
        return np.diag([*spacing, 1.0]), ["The voxel size was given by hand and sides are unknown"]
    header, affine = file.header, np.array(file.affine, float)
    unsure = "sform_code" in header and int(header["sform_code"]) == 0 and int(header["qform_code"]) == 0
    try:
        Space((1, 1, 1), affine)
        if unsure and np.any(np.asarray(header["pixdim"][1:4]) == 0):
            raise Trouble("no voxel size")
    except Trouble:
        raise Trouble("The position matrix of this file is zero or flattens space, so no voxel has a place",
                      "write it again with a right matrix, or give the voxel size with the setting “spacing”", path) from None
    affine[:3] *= to_mm
    return affine, ["The file gives a voxel size but no position, so sides are unknown"] if unsure else []


def read_label_map(path: str | Path, table: LabelTable | None = None, progress: Progress | None = None) -> LabelMap:
    """A label map from a NIfTI file of whole numbers from 0 to 65535."""
    return label_map_of(read_nifti(path), path, progress, table)


def label_map_of(image: Image, path, progress: Progress | None = None, table: LabelTable | None = None) -> LabelMap:
    """The whole numbers of an image as labels; raises Trouble when it holds measured values."""
    if image.axes or image.colour:
        raise Trouble("This file holds a series or colours, not label numbers", "choose a label map", path)
    data = image.stored((), progress or silent()).exact()
    if data.min() < 0 or data.max() > 65535 or (data.dtype.kind == "f" and np.any(data != np.round(data))):
        raise Trouble("This file holds measured values, not label numbers", "choose a label map", path)
    return LabelMap(image.space, data.astype(np.uint16, order="F", copy=False), table, name=image.name)


def write_label_map(path: str | Path, labels: LabelMap) -> None:
    write_nifti(path, labels.data, labels.space, os.path.basename(labels.name))
