"""Blank areas of pictures, plain or packed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.errors import Trouble

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

    def mask(self, number: int, rows: int, columns: int) -> np.ndarray | tuple | None:
        """Where picture `number` is filled: None, a mask, or slices to be filled (quick)."""
        if self.only is not None and number != self.only:
            return None
        if self.masks is not None:
            inside = self.masks.get(number)
            inside = np.zeros((rows, columns), bool) if inside is None else inside
            if inside.shape != (rows, columns):
                raise Trouble(f"The region is {inside.shape[1]} × {inside.shape[0]} and the picture {columns} × {rows}", "frame the area on this image")
            return inside if self.what == "blank" else ~inside
        left, top, wide, high = self.area
        left, top, right, bottom = max(left, 0), max(top, 0), min(left + wide, columns), min(top + high, rows)
        if right <= left or bottom <= top:
            raise Trouble(f"The area {left}, {top}, {wide}, {high} lies outside the picture of {columns} × {rows} pixels", "frame an area of the picture")
        if self.what == "blank":
            return (slice(top, bottom), slice(left, right))
        return [(slice(0, top), slice(None)), (slice(bottom, None), slice(None)), (slice(top, bottom), slice(0, left)), (slice(top, bottom), slice(right, None))]


def blank(ds, rule: PixelRule, first: int) -> tuple[int, int]:
    """Blank the pictures of a data set in place; packed ones are unpacked.

    Parameters
    ----------
    first : int
        Number of its first picture within the series.

    Returns
    -------
    pictures in the file, pictures changed
    """
    rows, columns, count = int(ds.Rows), int(ds.Columns), max(1, int(ds.get("NumberOfFrames", 1) or 1))
    places = [rule.mask(first + n, rows, columns) for n in range(count)]
    if all(p is None for p in places):
        return count, 0
    frames = _frames(ds, rows, columns, count)
    changed = 0
    for frame, place in zip(frames, places):
        if place is None:
            continue
        changed += 1
        for part in place if isinstance(place, list) else [place]:
            frame[part] = rule.fill
    data = np.ascontiguousarray(frames, frames.dtype.newbyteorder("<")).tobytes()
    ds.PixelData = data + b"\0" * (len(data) % 2)
    for keyword in ("SmallestImagePixelValue", "LargestImagePixelValue"):
        if keyword in ds:
            delattr(ds, keyword)
    return count, changed


def _frames(ds, rows: int, columns: int, count: int) -> np.ndarray:
    """The pictures [frame, row, column(, 3)] to be written into, plain from now on."""
    syntax = ds.file_meta.TransferSyntaxUID
    samples, bits = int(ds.get("SamplesPerPixel", 1)), int(ds.get("BitsAllocated", 16))
    plain = not syntax.is_compressed and not syntax.is_deflated and syntax.is_little_endian and bits in (8, 16, 32) and "PixelData" in ds
    if plain and (samples == 1 or (ds.PhotometricInterpretation == "RGB" and int(ds.get("PlanarConfiguration", 0)) == 0)):
        kind = np.dtype(f"<{'i' if ds.PixelRepresentation else 'u'}{bits // 8}")
        shape = (count, rows, columns) + ((samples,) if samples > 1 else ())
        wanted = int(np.prod(shape)) * kind.itemsize
        if len(ds.PixelData) < wanted:
            raise Trouble("A file of the series is cut short", "copy it again", getattr(ds, "filename", None))
        return np.frombuffer(ds.PixelData, kind, int(np.prod(shape))).reshape(shape).copy()
    return _unpacked(ds, rows, columns, count, samples)


def _unpacked(ds, rows: int, columns: int, count: int, samples: int) -> np.ndarray:
    from pydicom.uid import ExplicitVRLittleEndian

    from pydicom.pixels import pixel_array

    try:
        pixels = pixel_array(ds, raw=False)  # colours come as red, green, blue
    except Exception as error:  # decoders meet broken pixels with many kinds of error
        raise Trouble("The pixels of a file cannot be decoded", "copy it again, or export the series uncompressed", getattr(ds, "filename", None)) from error
    colour = samples == 3
    if colour:
        ds.PhotometricInterpretation = "RGB"
    pixels = np.array(pixels).reshape((count, rows, columns) + ((samples,) if samples > 1 else ()))
    if colour:
        ds.PlanarConfiguration = 0
    if "FloatPixelData" in ds or "DoubleFloatPixelData" in ds:
        raise Trouble("Areas of parametric maps cannot be blanked", "convert the image first", getattr(ds, "filename", None))
    if pixels.dtype == bool or int(ds.BitsAllocated) == 1:
        pixels = pixels.astype(np.uint8)
        ds.BitsAllocated = ds.BitsStored = 8
        ds.HighBit = 7
    ds.file_meta.TransferSyntaxUID = ExplicitVRLittleEndian
    ds["PixelData"].VR = "OB" if pixels.dtype.itemsize == 1 else "OW"
    ds["PixelData"].is_undefined_length = False
    return pixels
