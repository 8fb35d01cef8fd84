"""NIfTI-1 and NIfTI-2, volumes and series: read lazily, written exactly and fast."""

from __future__ import annotations

import json
import logging
from pathlib import Path

import numpy as np

from ..core.axis import Axis
from ..core.caveat import NOTED, SCALE_UNSURE, SIDES_UNKNOWN, Caveat
from ..core.errors import Trouble, let_through
from ..core.image import Image, Origin
from ..core.progress import Progress
from ..core.space import Space
from ..core.world import World
from .format import Format, register
from .gradients import take_in_gradients
from .layout import Layout
from .neuro_files import nibabel
from .nifti_write import WORLDS, save_nifti, write_nifti
from .own_words import KEY, take_in
from .raw_values import RawValues
from .sampling import sampled_levels
from .sidecar import take_in_sidecar

__all__ = ["read_nifti", "write_nifti", "save_nifti", "is_nifti"]

LONG_NAMES = ("time", "component", "dimension 6", "dimension 7")
SECONDS = {"sec": 1.0, "msec": 1e-3, "usec": 1e-6}
OTHER_THAN_TIME = {"hz": ("frequency", "Hz"), "ppm": ("shift", "ppm"), "rads": ("frequency", "rad/s")}
"""What the fourth axis is when its unit is none of time."""
STANDARD = ("Talairach", "MNI 152")
LENGTHS = {"meter": 1000.0, "mm": 1.0, "micron": 1e-3}


NO_TIME_UNIT = Caveat(NOTED, "The file gives no unit of time; its steps are taken for seconds")


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
    reader = nibabel()
    logging.getLogger("nibabel.global").setLevel(logging.CRITICAL)  # what matters of it is said in our own words
    path = Path(path)
    if not path.exists():
        raise Trouble("This file does not exist", "check the name", path)
    try:
        file = reader.load(path)
        header, shape = file.header, tuple(int(n) for n in file.shape)
        dtype, offset = header.get_data_dtype(), int(file.dataobj.offset)
        slope, intercept = float(file.dataobj.slope), float(file.dataobj.inter)
        length, seconds = (str(u) for u in header.get_xyzt_units())
    except BaseException as error:
        let_through(error)
        raise Trouble("This is not a NIfTI file, or it is damaged", "copy it again or convert it anew", path) from error
    if not shape or min(shape) < 1 or offset < 0:
        raise Trouble("The header of this file gives no sensible size", "copy it again or convert it anew", path)
    if not np.isfinite((slope, intercept)).all() or slope == 0.0:
        slope, intercept = 1.0, 0.0
    data = Path(file.file_map["image"].filename) if path.suffix.lower() == ".hdr" else path
    shape = shape + (1,) * (3 - len(shape))
    affine, caveats = _place(file, path, spacing, LENGTHS.get(length, 1.0))
    axes, along = _axes(shape, header, seconds)
    packing = {".gz": "gzip", ".bz2": "bz2"}.get(data.suffix.lower(), "")
    layout = _layout(data, offset, dtype, shape, packing, along, slope, intercept)
    layout.raw.require_whole()
    if dtype.kind == "c":
        axes.append(Axis("part", 2, labels=("real", "imaginary")))
    more = _extension(header)
    facts = {key: said(header[key]) for key in header.keys()}
    name = path.name
    for ending in (".gz", ".bz2", ".nii", ".hdr"):
        name = name.removesuffix(ending)
    if "space" in more:  # older files do not say it
        more.setdefault("length", "px" if length == "unknown" else "mm")
    image = Image(
        layout.fetch,
        Space((shape[0], shape[1], shape[2]), affine, "mm", _world(header)),
        name=name,
        facts=facts,
        axes=axes,
        colour=layout.colours is not None,
        origin=Origin(
            "NIfTI",
            [path] if data == path else [path, data],
            reading={"spacing": list(spacing)} if spacing else {},
            layout=layout,
        ),
        caveats=caveats,
    )
    take_in(image, more)
    times_sure = seconds in SECONDS or bool(more.get("axes"))
    take_in_sidecar(image, path, times_sure)
    if not times_sure and axes and axes[0].values and axes[0].unit == "s" and image.axes[0] == axes[0]:
        image.caveats.append(NO_TIME_UNIT)
    take_in_gradients(image, path)
    image.levels = sampled_levels(layout, image, layout.raw.dtype)
    return image


def said(value) -> str:
    """A header field in words: text without the bytes it is kept in, numbers as they are."""
    value = np.asarray(value)
    if value.dtype.kind == "S":
        return value.tobytes().rstrip(b"\0 ").decode("latin-1")
    return " ".join(f"{v:.7g}" if value.dtype.kind == "f" else str(v) for v in value.ravel())


def _world(header) -> World:
    """What the header's position code says of the world."""
    codes = [int(header[key]) for key in ("sform_code", "qform_code") if key in header]
    name = WORLDS.get(next((c for c in codes if c > 0), 1), "scanner")
    return World(name if name in STANDARD else "", name)


def _extension(header) -> dict:
    """What this program wrote beside the header's own fields; nothing when it did not, or when it is damaged."""
    for extension in getattr(header, "extensions", ()):
        try:
            content = extension.get_content()
            found = json.loads(content if isinstance(content, str) else bytes(content).rstrip(b"\0"))[KEY]
            return dict(found)
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


def _axes(shape, header, unit: str) -> tuple[list[Axis], tuple[int, ...]]:
    axes, along = [], []
    zooms = header.get_zooms()
    for axis in range(3, len(shape)):
        if shape[axis] > 1:
            step = float(zooms[axis]) if axis == 3 and len(zooms) > 3 and np.isfinite(zooms[axis]) else None
            if axis == 3 and unit in OTHER_THAN_TIME:
                axes.append(_other_axis(header, shape[axis], step, *OTHER_THAN_TIME[unit]))
            else:
                step = step and step * SECONDS.get(unit, 1.0)
                axes.append(Axis.even(LONG_NAMES[axis - 3], shape[axis], step, "s"))
            along.append(axis)
    return axes, tuple(along)


def _other_axis(header, size: int, step: float | None, name: str, unit: str) -> Axis:
    start = float(header["toffset"]) if "toffset" in header and np.isfinite(header["toffset"]) else 0.0
    return Axis(name, size, unit, tuple(start + step * n for n in range(size)) if step else ())


def _place(file, path: Path, spacing, to_mm: float) -> tuple[np.ndarray, list[Caveat]]:
    if spacing is not None:
        return np.diag([*spacing, 1.0]), [
            Caveat(SCALE_UNSURE, "The voxel size was given by hand and sides are unknown")
        ]
    header, affine = file.header, np.array(file.affine, float)
    unsure = "sform_code" in header and int(header["sform_code"]) == 0 and int(header["qform_code"]) == 0
    try:
        Space((1, 1, 1), affine)
        if unsure and np.any(np.asarray(header["pixdim"][1:4]) == 0):
            raise Trouble("no voxel size")
    except Trouble:
        raise Trouble(
            "The position matrix of this file is zero or flattens space, so no voxel has a place",
            "write it again with a right matrix, or give the voxel size with the setting “spacing”",
            path,
        ) from None
    affine[:3] *= to_mm
    return affine, [
        Caveat(SIDES_UNKNOWN, "The file gives a voxel size but no position, so sides are unknown")
    ] if unsure else []


def _save(path: Path, image: Image, progress: Progress) -> None:
    save_nifti(path, image, progress)


register(
    Format(
        "NIfTI",
        (".nii", ".nii.gz", ".nii.bz2", ".hdr"),
        read_nifti,
        _save,
        (".nii.gz", ".nii"),
        takes_spacing=True,
    )
)
