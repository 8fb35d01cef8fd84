"""Blank areas of pictures, plain or packed."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..core.errors import Trouble, let_through
from ..core.values import holds
from ..formats.dicom.header import Slice


@dataclass(frozen=True)
class PixelRule:
    """What is to be blanked.

    Parameters
    ----------
    what : "keep" or "blank"
        Fill all outside the area, or the area itself.
    area : column, row, columns, rows
        In pixels, counted from 0.
    only : int or None
        One picture of the series, counted from 0 over all its files; all when None.
    fill : number
        Stored value that is written.
    masks : dict or None
        Instead of an area: for each picture, by its number, a mask [row, column] of the region.
    """

    what: str
    area: tuple[int, int, int, int] | None = None
    only: int | None = None
    fill: float = 0.0
    masks: dict[int, np.ndarray] | None = None

    def mask(self, number: int, rows: int, columns: int) -> list[Any] | None:
        """Where picture `number` is filled: None for nowhere, else masks or pairs of slices."""
        if self.only is not None and number != self.only:
            return None
        if self.masks is not None:
            inside = self.masks.get(number)
            inside = np.zeros((rows, columns), bool) if inside is None else inside
            if inside.shape != (rows, columns):
                raise Trouble(
                    f"The region is {inside.shape[1]} × {inside.shape[0]} and the picture {columns} × {rows}",
                    "frame the area on this image",
                )
            return [inside if self.what == "blank" else ~inside]
        assert self.area is not None
        left, top, wide, high = self.area
        left, top, right, bottom = max(left, 0), max(top, 0), min(left + wide, columns), min(top + high, rows)
        if right <= left or bottom <= top:
            raise Trouble(
                f"The area {left}, {top}, {wide}, {high} lies outside the picture of {columns} × {rows} pixels",
                "frame an area of the picture",
            )
        if self.what == "blank":
            return [(slice(top, bottom), slice(left, right))]
        return [
            (slice(0, top), slice(None)),
            (slice(bottom, None), slice(None)),
            (slice(top, bottom), slice(0, left)),
            (slice(top, bottom), slice(right, None)),
        ]


def blank(frames: np.ndarray, rule: PixelRule, first: int) -> int:
    """Blank pictures [picture, row, column(, 3)] in place; returns how many were changed.

    Parameters
    ----------
    first : int
        Number of the first one within the series.
    """
    require_held(frames.dtype, rule.fill)
    if rule.only is None and rule.masks is None:  # the same place in all
        place = rule.mask(first, *frames.shape[1:3])
        for part in place or ():
            frames[(slice(None), *part)] = rule.fill
        return len(frames)
    changed = 0
    for n, frame in enumerate(frames):
        place = rule.mask(first + n, *frame.shape[:2])
        if place is None:
            continue
        changed += 1
        for part in place:
            frame[part] = rule.fill
    return changed


def require_held(kind: np.dtype, fill: float) -> None:
    """Raises Trouble when pixels of a number type cannot hold what is to be written over them: it would wrap round."""
    if not holds(kind, fill):
        ends = np.iinfo(kind) if kind.kind in "iu" else None
        told = f"whole numbers from {ends.min} to {ends.max} can" if ends is not None else "use another number"
        raise Trouble(f"{fill:.15g} cannot stand in these pixels", told)


def pictures_of(path: Path, header: Slice | None, ds) -> np.ndarray:
    """The pictures of a file [picture, row, column(, 3)], to be written into.

    Plain ones are read straight into memory of their own; packed ones are unpacked, and `ds` says so from now on.

    Parameters
    ----------
    path : path
    header : Slice
        What a quick look at the file found.
    ds : pydicom data set, with or without its pixels
    """
    rows, columns, count = int(ds.Rows), int(ds.Columns), max(1, int(ds.get("NumberOfFrames", 1) or 1))
    samples, bits = int(ds.get("SamplesPerPixel", 1)), int(ds.get("BitsAllocated", 16))
    shape = (count, rows, columns) + ((samples,) if samples > 1 else ())
    if header is not None and is_plain(header, ds):
        kind = np.dtype(f"<{'i' if ds.PixelRepresentation else 'u'}{bits // 8}")
        pixels = np.fromfile(path, kind, int(np.prod(shape)), offset=header.offset)
        if pixels.size < np.prod(shape):
            raise Trouble("A file of the series is cut short", "copy it again", path)
        return pixels.reshape(shape)
    return _unpacked(ds, shape, samples, path)


def is_plain(header: Slice | None, ds) -> bool:
    """Whether the pixels lie in the file as they are, so that they need not be parsed."""
    return (
        header is not None
        and header.plain
        and int(ds.get("BitsAllocated", 16)) in (8, 16, 32)
        and (
            int(ds.get("SamplesPerPixel", 1)) == 1
            or (ds.PhotometricInterpretation == "RGB" and int(ds.get("PlanarConfiguration", 0)) == 0)
        )
    )


def save_with(ds, frames: np.ndarray, target: Path) -> None:
    """Write a data set with pictures as its pixels, plain and little endian. They go to disk as they lie in memory,
    without a copy."""
    for keyword in ("PixelData", "SmallestImagePixelValue", "LargestImagePixelValue"):
        if keyword in ds:
            delattr(ds, keyword)
    implicit = ds.file_meta.TransferSyntaxUID.is_implicit_VR
    if ds.original_encoding[1]:
        ds.save_as(target, enforce_file_format=True)
    else:
        _save_turned(ds, target)
    whole: Any = np.ascontiguousarray(frames, frames.dtype.newbyteorder("<"))
    data = memoryview(whole).cast("B")
    odd = len(data) % 2
    form = b"" if implicit else (b"OB" if frames.dtype.itemsize == 1 else b"OW") + b"\0\0"
    with open(target, "ab") as stream:
        stream.write(b"\xe0\x7f\x10\x00" + form + struct.pack("<I", len(data) + odd))
        stream.write(data)
        stream.write(b"\0" * odd)


def _save_turned(ds, target: Path) -> None:
    """A header that was big endian: every element has to be understood before it can be written the other way."""
    import pydicom

    list(ds.iterall())
    pydicom.dcmwrite(target, ds, implicit_vr=False, little_endian=True, force_encoding=True)


def _unpacked(ds, shape: tuple[int, ...], samples: int, path: Path) -> np.ndarray:
    from pydicom.pixels import pixel_array
    from pydicom.uid import ExplicitVRLittleEndian

    if "FloatPixelData" in ds or "DoubleFloatPixelData" in ds:
        raise Trouble("Areas of parametric maps cannot be blanked", "convert the image first", path)
    try:
        pixels = pixel_array(ds, raw=False)  # colours come as red, green, blue
    except BaseException as error:  # decoders meet broken pixels with many kinds of error
        let_through(error)
        raise Trouble(
            "The pixels of a file cannot be decoded", "copy it again, or export the series uncompressed", path
        ) from error
    colour = samples == 3
    if colour:
        ds.PhotometricInterpretation = "RGB"
    pixels = np.array(pixels).reshape(shape)
    if colour:
        ds.PlanarConfiguration = 0
    if pixels.dtype == bool or int(ds.BitsAllocated) == 1:
        pixels = pixels.astype(np.uint8)
        ds.BitsAllocated = ds.BitsStored = 8
        ds.HighBit = 7
    ds.file_meta.TransferSyntaxUID = ExplicitVRLittleEndian
    return pixels
