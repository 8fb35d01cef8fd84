"""A picture of a set, read: its values, which are brighter where more was stopped, and the range of its number type."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from ...core.errors import Trouble
from ...core.progress import silent
from ...scene.showing import low_is_bright


@dataclass(frozen=True)
class Read:
    """Values (rows, columns), or (rows, columns, 3) of colours, as the file has them or turned over, and the range that
    its numbers may have."""

    values: np.ndarray
    span: tuple[float, float]
    turned: bool = False


def read_picture(path: Path, colour: bool = False) -> Read:
    """One picture; of colours their brightness, unless `colour` is wanted: red, green and blue then, which a grey one
    has alike. One that is stored with dense bone dark (MONOCHROME1) is turned over.

    Raises
    ------
    Trouble
        When the file cannot be read, or is no single picture.
    """
    with open(path, "rb") as stream:
        start = stream.read(132)
    found = _plain_dicom(path) if start[128:] == b"DICM" else None
    read = found if found is not None else _any(path, colour)
    if colour and read.values.ndim == 2:
        return replace(read, values=np.repeat(read.values[..., None], 3, axis=2))
    return read


def _plain_dicom(path: Path) -> Read | None:
    """A single grey frame, which the library gives at once; None for what takes more thought."""
    import pydicom

    try:
        ds = pydicom.dcmread(path)
        if int(ds.get("SamplesPerPixel", 1)) != 1 or int(ds.get("NumberOfFrames", 1) or 1) != 1:
            return None
        bits, signed = int(ds.BitsStored), int(ds.get("PixelRepresentation", 0)) == 1
        slope, shift = float(ds.get("RescaleSlope", 1) or 1), float(ds.get("RescaleIntercept", 0) or 0)
        turned = str(ds.get("PhotometricInterpretation", "")) == "MONOCHROME1"
        values = _native(ds, bits, signed)
        values = ds.pixel_array if values is None else values
    except Exception:  # whatever the library makes of it: the program's own reader says what is wrong
        return None
    low, high = (-(1 << (bits - 1)), (1 << (bits - 1)) - 1) if signed else (0, (1 << bits) - 1)
    if (slope, shift) != (1.0, 0.0):
        values = values.astype(np.float32) * np.float32(slope) + np.float32(shift)
    span = tuple(sorted((low * slope + shift, high * slope + shift)))
    return _turned(values, (span[0], span[1])) if turned else Read(values, (span[0], span[1]))


def _native(ds, bits: int, signed: bool) -> np.ndarray | None:
    """Plain pixels as they lie in the file, which is quicker than to have them looked at one by one; None when they are
    packed, or their numbers hold more than a value."""
    kinds = {"1.2.840.10008.1.2": "<", "1.2.840.10008.1.2.1": "<", "1.2.840.10008.1.2.2": ">"}
    order = kinds.get(str(ds.file_meta.get("TransferSyntaxUID", "")))
    allocated = int(ds.BitsAllocated)
    if order is None or allocated not in (8, 16) or int(ds.HighBit) != bits - 1 or (signed and bits != allocated):
        return None
    shape = int(ds.Rows), int(ds.Columns)
    kind = np.dtype(f"{order}{'i' if signed else 'u'}{allocated // 8}")
    if len(ds.PixelData) < shape[0] * shape[1] * kind.itemsize:
        return None
    values = np.frombuffer(ds.PixelData, kind, shape[0] * shape[1]).reshape(shape)
    return values if signed or bits == allocated or int(values.max()) < 1 << bits else None


def _any(path: Path, colour: bool) -> Read:
    from ...core.values import colour_channels
    from ...formats.opening import open_image

    image = open_image(path)
    if image.axes or image.space.shape[2] != 1:
        raise Trouble("This file holds more than one picture", "take it apart first", path)
    if image.colour and colour:
        return Read(colour_channels(image.fetch(silent())[:, :, 0].T), (0.0, 255.0))
    image = image.grey()
    stored = image.stored()
    values = stored.exact()[:, :, 0].T
    kind = stored.values.dtype
    if kind.kind in "iu":
        info = np.iinfo(kind)
        ends = sorted((info.min * stored.slope + stored.intercept, info.max * stored.slope + stored.intercept))
        span = float(ends[0]), float(ends[1])
    else:
        there = values[np.isfinite(values)]
        span = (float(there.min()), float(there.max())) if there.size else (0.0, 1.0)
    return _turned(values, span) if low_is_bright(image) else Read(values, span)


def _turned(values: np.ndarray, span: tuple[float, float]) -> Read:
    return Read(np.float32(span[0] + span[1]) - values.astype(np.float32), span, True)
