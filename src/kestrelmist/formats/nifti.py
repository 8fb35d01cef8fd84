"""NIfTI-1 and NIfTI-2 volumes, read lazily; gz written with a fast compressor."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image, Origin
from ..core.labels import LabelMap, LabelTable
from ..core.progress import Progress
from ..core.safe_write import written_whole
from ..core.space import Space


def read_nifti(path: str | Path, spacing: tuple[float, float, float] | None = None) -> Image:
    """A NIfTI volume, values left on disk until asked for.

    Parameters
    ----------
    path : path
        `.nii` or `.nii.gz`.
    spacing : three lengths in mm, optional
        Voxel size to use when the file's own position matrix is of no use; sides are then unknown.

    Raises
    ------
    Trouble
        When the file is damaged, is not a 3D volume, or has a zero or singular position matrix.
    """
    import nibabel  # loaded when the first such file is met

    path = Path(path)
    try:
        file = nibabel.load(path)
    except FileNotFoundError:
        raise Trouble("This file does not exist", "check the name", path) from None
    except Exception as error:
        raise Trouble("This is not a NIfTI file, or it is damaged", "copy it again or convert it anew", path) from error
    shape = tuple(int(n) for n in file.shape)
    while len(shape) > 3 and shape[-1] == 1:
        shape = shape[:-1]
    if len(shape) > 3:
        raise Trouble(f"This file holds {shape[3]} volumes, and 4D series cannot be opened yet", "split it first", path)
    shape = shape + (1,) * (3 - len(shape))
    header, notes = file.header, []
    if spacing is not None:
        affine = np.diag([*spacing, 1.0])
        notes.append("The voxel size was given by hand and sides are unknown")
    else:
        affine = _affine(file, path)
        if int(header["sform_code"]) == 0 and int(header["qform_code"]) == 0:
            notes.append("The file gives a voxel size but no position, so sides are unknown")
    needed = int(np.prod(shape)) * header.get_data_dtype().itemsize + int(header.get_data_offset())
    if path.suffix != ".gz" and path.stat().st_size < needed:
        raise Trouble(f"This file is cut short: {path.stat().st_size} of {needed} bytes are there", "copy it again", path)
    facts = {key: str(header[key]) for key in header.keys()}
    name = path.name.removesuffix(".gz").removesuffix(".nii")
    return Image(lambda progress: _values(file, shape, path, progress), Space(shape, affine), name=name,
                 facts=facts, origin=Origin("NIfTI", [path], notes=notes))


def _affine(file, path: Path) -> np.ndarray:
    header = file.header
    try:
        Space((1, 1, 1), file.affine)
        if int(header["sform_code"]) == 0 and np.any(np.asarray(header["pixdim"][1:4]) == 0):
            raise Trouble("no voxel size")
    except Trouble:
        raise Trouble("The position matrix of this file is zero or flattens space, so no voxel has a place",
                      "write it again with a right matrix, or give the voxel size with the setting “spacing”", path) from None
    return file.affine


def _values(file, shape, path: Path, progress: Progress) -> np.ndarray:
    progress.at(0.0, "Reading values")
    try:
        proxy = file.dataobj
        slope, inter = proxy.slope, proxy.inter
        unscaled = (slope, inter) == (1.0, 0.0)
        data = proxy.get_unscaled() if unscaled else np.asarray(proxy, np.float32)
    except Exception as error:
        raise Trouble("The values of this file cannot be read; it is damaged or cut short", "copy it again", path) from error
    progress.at(1.0, "Reading values")
    return np.asarray(data).reshape(shape, order="F")


def write_nifti(path: str | Path, data: np.ndarray, space: Space, description: str = "") -> None:
    """Write an array [i, j, k] as NIfTI-1 (NIfTI-2 for very long axes), gz by the name's ending."""
    import nibabel
    from isal import igzip

    kind = nibabel.Nifti2Image if max(data.shape) > 32767 else nibabel.Nifti1Image
    file = kind(data, space.affine)
    file.header.set_xyzt_units("mm")
    file.header["descrip"] = description.encode("ascii", "replace")[:79]
    file.set_sform(space.affine, 1)
    if not _sheared(space):
        file.set_qform(space.affine, 1)
    with written_whole(path) as stream:
        if str(path).endswith(".gz"):
            with igzip.open(stream, "wb", compresslevel=1) as packed:
                file.to_stream(packed)
        else:
            file.to_stream(stream)


def _sheared(space: Space) -> bool:
    axes = space.affine[:3, :3] / np.array(space.spacing)
    return bool(np.abs(axes.T @ axes - np.eye(3)).max() > 1e-5)


def read_label_map(path: str | Path, table: LabelTable | None = None) -> LabelMap:
    """A label map from a NIfTI file of whole numbers from 0 to 65535."""
    image = read_nifti(path)
    data = image.data
    if data.min() < 0 or data.max() > 65535 or (data.dtype == np.float32 and np.any(data != np.round(data))):
        raise Trouble("This file holds measured values, not label numbers", "choose a label map", path)
    return LabelMap(image.space, data.astype(np.uint16, order="F", copy=False), table, name=image.name)


def write_label_map(path: str | Path, labels: LabelMap) -> None:
    write_nifti(path, labels.data, labels.space, os.path.basename(labels.name))
