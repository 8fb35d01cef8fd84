"""Writing NIfTI: values exactly as the source holds them, volume by volume, packed on two cores."""

from __future__ import annotations

import json
import os
import struct
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

from ..core.axis import Axis, shape_of
from ..core.errors import Trouble
from ..core.image import Image
from ..core.progress import Progress, silent
from ..core.safe_write import written_whole
from ..core.space import Space
from ..core.values import Stored, colour_channels, extremes
from .neuro_files import nibabel
from .own_words import KEY, words_of

CHUNK = 8 << 20
WORLDS = {1: "scanner", 2: "aligned", 3: "Talairach", 4: "MNI 152"}
"""What the codes of the position matrix mean, as the NIfTI-1 standard has them."""
LEVEL = 1
"""Compression of isal, 0 to 3: the fastest that still looks for repeats."""


class PackedStream:
    """A gzip file of many members, each packed by itself, so that two cores share the work (RFC 1952, section 2.2)."""

    def __init__(self, stream):
        self.stream, self.pool = stream, ThreadPoolExecutor(2)
        self.waiting: list = []
        self.rest = bytearray()

    def write(self, data) -> None:
        view = memoryview(data).cast("B")
        at = 0
        if self.rest:
            at = min(CHUNK - len(self.rest), len(view))
            self.rest += view[:at]
            if len(self.rest) < CHUNK:
                return
            self._pack(bytes(self.rest))
            self.rest = bytearray()
        while len(view) - at >= CHUNK:
            self._pack(view[at : at + CHUNK])
            at += CHUNK
        self.rest += view[at:]

    def _pack(self, block) -> None:
        from isal import igzip

        self.waiting.append(self.pool.submit(igzip.compress, block, LEVEL))
        while len(self.waiting) > 4:
            self.stream.write(self.waiting.pop(0).result())

    def close(self) -> None:
        if self.rest:
            self._pack(bytes(self.rest))
        for packed in self.waiting:
            self.stream.write(packed.result())
        self.pool.shutdown()


UNITS = {"s": "sec", "Hz": "hz", "ppm": "ppm", "rad/s": "rads"}
"""What the format calls the unit of the fourth axis."""
FREQUENCIES = ("Hz", "ppm", "rad/s")


def header_for(
    shape,
    dtype: np.dtype,
    space: Space,
    description: str = "",
    steps=(),
    slope: float = 1.0,
    intercept: float = 0.0,
    along: str = "",
):
    """A NIfTI header; NIfTI-2 when an axis is longer than NIfTI-1 can say."""
    header_of = nibabel().Nifti2Header if max(shape) > 32767 else nibabel().Nifti1Header
    header = header_of()
    header.set_data_dtype(dtype)
    header.set_data_shape(shape)
    header.set_zooms([*space.spacing, *steps][: len(shape)])
    header.set_xyzt_units("mm" if space.unit == "mm" else None, UNITS.get(along))
    header["descrip"] = description.encode("ascii", "replace")[:79]
    # a world that the standard has no code for is one that something was aligned with
    code = next((code for code, name in WORLDS.items() if space.world.name == name), 2 if space.sides_known else 1)
    header.set_sform(space.affine, code)
    header.set_qform(space.affine, 0 if sheared(space) else code, strip_shears=True)
    header["scl_slope"], header["scl_inter"] = slope, intercept
    header["vox_offset"] = 352 if header["sizeof_hdr"] == 348 else 544
    return header


def sheared(space: Space) -> bool:
    axes = space.affine[:3, :3] / np.array(space.spacing)
    return bool(np.abs(axes.T @ axes - np.eye(3)).max() > 1e-5)


def write_nifti(
    path: str | Path, data: np.ndarray, space: Space, description: str = "", progress: Progress | None = None
) -> None:
    """Write an array [i, j, k] as NIfTI, gz by the name's ending."""
    kind = data.dtype.newbyteorder("<")
    planes = (np.ascontiguousarray(data[:, :, k].T, kind) for k in range(data.shape[2]))
    _written(path, header_for(data.shape, kind, space, description), b"", planes, data.shape[2], progress or silent())


class _DoesNotFit(Exception):
    """A volume holds what the number type chosen by the first one cannot say."""

    def __init__(self, kind: np.dtype):
        self.kind = kind


def save_nifti(path: str | Path, image: Image, progress: Progress | None = None) -> None:
    """Write an image as NIfTI with the values its file holds, one volume in memory at a time.

    Whole numbers stay as they are, with slope and intercept in the header when every volume has the same ones; other
    scaled values are worked out in float64 and rounded once to float32. Colours become three bytes a voxel. What the
    header has no room for (names of axes, a picture without sides) goes into an extension of kind "comment".

    Raises
    ------
    Trouble
        When the disk is full or the folder cannot be written.
    """
    progress = progress or silent()
    count = image.count
    first = image.stored(next(image.indices()), progress.part(0.0, 0.5 / count))
    dtype, scale = (np.dtype([(c, "u1") for c in "RGB"]), (1.0, 0.0)) if image.colour else _type_for(first)
    for _ in range(3):
        try:
            return _save(path, image, first, dtype, scale, progress)
        except _DoesNotFit as wider:
            dtype, scale = wider.kind, (1.0, 0.0)
    raise Trouble(
        "The volumes of this series need different number types, which NIfTI cannot say",
        "convert them one by one",
        path,
    )


def _save(path, image: Image, first: Stored, dtype: np.dtype, scale: tuple[float, float], progress: Progress) -> None:
    count = image.count
    time = next((a for a in image.axes if a.name == "time" or a.unit in FREQUENCIES), None)
    step = (time.step if time else None) or 1.0
    header = header_for(
        (*image.space.shape, *shape_of(image.axes)),
        dtype if image.colour else dtype.newbyteorder("<"),
        image.space,
        image.name,
        (step,) + (1.0,) * (len(image.axes) - 1) if image.axes else (),
        *scale,
        along=time.unit if time else "",
    )

    def planes():
        for n, index in enumerate(image.indices()):
            got = first if n == 0 else image.stored(index, progress.part(n / count, (n + 0.5) / count))
            yield from _colour_planes(got) if image.colour else _planes(got, dtype, scale)

    _written(path, header, extension_of(image), planes(), count * image.space.shape[2], progress)


def extension_of(image: Image) -> bytes:
    """The header extension that says what NIfTI has no field for; empty when there is nothing to say."""
    plain_time = len(image.axes) == 1 and image.axes[0] == Axis.even(
        "time", image.axes[0].size, image.axes[0].step, "s"
    )
    more = words_of(image, place=False)
    if plain_time:
        del more["axes"]
    if not more:
        return b""
    text = json.dumps({KEY: more}).encode()
    size = -(-(len(text) + 8) // 16) * 16
    return struct.pack("<ii", size, 6) + text.ljust(size - 8, b"\0")


def _type_for(first: Stored) -> tuple[np.dtype, tuple[float, float]]:
    """Number type and scale that hold a volume exactly."""
    if first.plain or (first.slope == 1.0 and first.intercept == int(first.intercept)):
        kind = first.exact().dtype
        held: dict[str, np.dtype] = {"bool": np.dtype(np.uint8), "float16": np.dtype(np.float32)}
        return held.get(kind.name, kind), (1.0, 0.0)
    if first.values.dtype.kind in "iu":
        return first.values.dtype, (first.slope, first.intercept)
    return np.dtype(np.float32), (1.0, 0.0)


def _planes(got: Stored, dtype: np.dtype, scale: tuple[float, float]):
    values = got.values if (got.slope, got.intercept) == scale else got.exact()
    if scale != (1.0, 0.0) and values is not got.values:
        raise _DoesNotFit(np.dtype(np.float32))  # scaled differently from the first volume
    if values.dtype.kind in "iu" and dtype.kind in "iu" and not np.can_cast(values.dtype, dtype):
        low, high = (int(v) for v in extremes(values))
        if low < np.iinfo(dtype).min or high > np.iinfo(dtype).max:
            raise _DoesNotFit(np.promote_types(values.dtype, dtype))
    elif values.dtype.kind == "f" and dtype.kind in "iu":
        raise _DoesNotFit(np.dtype(np.float32))
    for k in range(values.shape[2]):
        yield np.ascontiguousarray(values[:, :, k].T, dtype.newbyteorder("<"))


def _colour_planes(got: Stored):
    rgb = colour_channels(got.values)
    for k in range(rgb.shape[2]):
        yield np.ascontiguousarray(rgb[:, :, k].transpose(1, 0, 2))


def _written(path: str | Path, header, extension: bytes, planes, count: int, progress: Progress) -> None:
    header["vox_offset"] = int(header["vox_offset"]) + len(extension)
    with written_whole(path) as stream:
        packed = PackedStream(stream) if str(path).lower().endswith(".gz") else None
        target = packed or stream
        target.write(header.binaryblock + bytes([bool(extension), 0, 0, 0]) + extension)
        for n, plane in enumerate(planes):
            progress.at(0.5 + 0.5 * n / count, f"Writing {os.path.basename(path)}")
            target.write(plane)
        if packed:
            packed.close()
        progress.at(1.0)
