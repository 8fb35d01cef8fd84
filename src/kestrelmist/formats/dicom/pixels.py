"""Pixels of DICOM pictures: read straight where they lie plain, decoded where not, scaled as the header says."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import groupby
from pathlib import Path

import numpy as np

from ...core.errors import Trouble, let_through
from .header import DEFLATED, EXPLICIT_BIG, EXPLICIT_LITTLE, IMPLICIT, Slice


def pixels_of(slices: list[Slice]) -> Iterator[tuple[Slice, np.ndarray]]:
    """The stored pixels of each slice, (rows, columns) or (rows, columns, 3) for colours; files are opened once each.

    Raises Trouble when a file is cut short, gone, or packed in a way that cannot be undone.
    """
    for _, same in groupby(slices, key=lambda s: s.path):
        group = list(same)
        frames: Iterable[np.ndarray]
        if group[0].plain and not group[0].colour and group[0].header.get("BitsAllocated") in (8, 16, 32):
            frames = (_plain(s) for s in group)
        else:
            frames = _decoded(group)
        for s, picture in zip(group, frames):
            if s.tile:
                top, left, high, wide = s.tile
                picture = picture[top : top + high, left : left + wide]
            if picture.shape[:2] != (s.rows, s.columns):
                raise Trouble(
                    f"A slice has {picture.shape[1]} × {picture.shape[0]} pixels where its header says"
                    f" {s.columns} × {s.rows}",
                    "copy the files again",
                    s.path,
                )
            yield s, picture[:, ::-1] if s.header.get("Mirrored") else picture


def _plain(s: Slice) -> np.ndarray:
    rows, columns = int(s.number("Rows")), int(s.number("Columns"))
    bits, signed = int(s.number("BitsAllocated", 16)), bool(s.number("PixelRepresentation"))
    kind = np.dtype(f"<{'i' if signed else 'u'}{bits // 8}")
    try:
        raw = np.fromfile(s.path, kind, rows * columns, offset=s.offset + s.frame * s.bytes_needed)
    except OSError as error:
        raise Trouble(
            "A file of the series can no longer be read", "check the disk or copy it again", s.path
        ) from error
    if raw.size < rows * columns:
        raise Trouble("A file of the series is cut short", "copy it again from the scanner", s.path)
    return _stored_bits(s, raw).reshape(rows, columns)


def _stored_bits(s: Slice, raw: np.ndarray) -> np.ndarray:
    """The bits that are values: those above them, and below where the highest one lies higher than they are many, may
    hold anything; they are shifted out, keeping the sign."""
    bits, stored = 8 * raw.dtype.itemsize, int(s.number("BitsStored", 16))
    high = int(s.number("HighBit", stored - 1))
    if not 0 < stored < bits:
        return raw
    if not stored <= high + 1 <= bits:  # cannot be
        high = stored - 1
    return np.right_shift(np.left_shift(raw, bits - 1 - high), bits - stored)


def _decoded(group: list[Slice]) -> Iterator[np.ndarray]:
    import pydicom  # takes a quarter of a second to load and is not needed for plain files
    from pydicom.pixels import iter_pixels

    path = group[0].path
    try:
        source = path if _says_enough(group[0]) else _whole(path)
        palette = str(group[0].get("PhotometricInterpretation")).startswith("PALETTE")
        table = pydicom.dcmread(path, stop_before_pixels=True, force=True) if palette else None
        tiles = group if group[0].tile is None else group[:1]
        pictures = iter_pixels(source, indices=[s.frame for s in tiles])
        for _, picture in zip(tiles, pictures):
            if _highest_is_odd(group[0]) and picture.ndim == 2 and picture.dtype.kind in "iu":
                picture = _stored_bits(group[0], picture)
            picture = _coloured(picture, table, group[0])
            yield picture
            for _ in group[1:] if group[0].tile is not None else ():
                yield picture
    except Trouble:
        raise
    except MemoryError as error:
        raise Trouble("The pixels of a file promise more than fits in memory", "copy it again", path) from error
    except BaseException as error:  # decoders meet broken pixels with many kinds of error
        let_through(error)
        raise Trouble(
            "The pixels of a file cannot be decoded", "copy it again, or export the series uncompressed", path
        ) from error


def _highest_is_odd(s: Slice) -> bool:
    """Whether values that are not packed lie higher in their words than the standard has it."""
    packed = s.header.get("TransferSyntaxUID") not in (None, DEFLATED, IMPLICIT, EXPLICIT_LITTLE, EXPLICIT_BIG)
    stored = s.number("BitsStored", 16)
    return not packed and not s.header.get("FloatPixels") and s.number("HighBit", stored - 1) != stored - 1


def _says_enough(s: Slice) -> bool:
    """Whether the decoder can take the file as it is; it cannot without a transfer syntax, and not when all is
    deflated."""
    return not s.header.get("FloatPixels") and s.header.get("TransferSyntaxUID") not in (None, DEFLATED)


def _whole(path: Path):
    import pydicom
    from pydicom.uid import ExplicitVRLittleEndian, ImplicitVRLittleEndian

    dataset = pydicom.dcmread(path, force=True)
    if not hasattr(dataset, "file_meta") or "TransferSyntaxUID" not in dataset.file_meta:
        dataset.file_meta = pydicom.dataset.FileMetaDataset()
        dataset.file_meta.TransferSyntaxUID = (
            ImplicitVRLittleEndian if dataset.original_encoding[0] else ExplicitVRLittleEndian
        )
    elif dataset.file_meta.TransferSyntaxUID == DEFLATED:
        dataset.file_meta.TransferSyntaxUID = ExplicitVRLittleEndian  # unpacked on reading
    return dataset


def _coloured(picture: np.ndarray, table, s: Slice) -> np.ndarray:
    """Palette and deep colours as eight bits each."""
    if table is not None:
        from pydicom.pixels import apply_color_lut

        picture = apply_color_lut(picture, table)
    if picture.ndim == 3 and picture.dtype != np.uint8:
        deep = 16 if table is not None else int(s.number("BitsStored", 16))
        picture = (picture >> max(0, deep - 8)).astype(np.uint8)
    return picture[..., :3] if picture.ndim == 3 else picture


def value_table(s: Slice, raw: np.ndarray) -> np.ndarray:
    """Values through the header's look-up table; numbers beyond its ends take the value there."""
    first, *table = s.header["ValueTable"]
    place = np.clip(raw.astype(np.int64) - int(first), 0, len(table) - 1)
    return np.asarray(table, np.float32)[place]


def scale_of(s: Slice) -> tuple[float, float]:
    slope, intercept = s.number("RescaleSlope", 1.0), s.number("RescaleIntercept", 0.0)
    return (slope or 1.0), intercept


def read_picture(s: Slice) -> np.ndarray | None:
    """The pixels of one slice for a small picture, (rows, columns) or with colours; None when they cannot be read."""
    try:
        return next(iter(pixels_of([s])))[1]
    except (Trouble, StopIteration):
        return None
