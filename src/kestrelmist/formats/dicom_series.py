"""A DICOM series as one volume: exact values, exact positions."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image, Origin
from ..core.progress import Progress
from ..core.space import Space
from .dicom_header import Slice
from .dicom_scan import Series

FROM_DICOM_AXES = np.diag([-1.0, -1.0, 1.0, 1.0])
"""DICOM's patient axes run left, back, up; the world's run right, front, up."""


def series_image(series: Series, uneven: str = "refuse", facts: bool = True) -> Image:
    """The volume of a series, values still on disk.

    Parameters
    ----------
    series : Series
    uneven : "refuse" or "mend"
        What to do when slices are missing or doubled. "mend" leaves missing places blank (filled with the
        lowest value of the volume) and takes the first of doubled slices; both are noted in the image.
    facts : bool
        Read the whole header of the first file as well.

    Raises
    ------
    Trouble
        When files are cut short, positions unknown, spacing uneven, or slices missing or doubled and
        `uneven` is "refuse".
    """
    where = series.first.path.parent
    if series.broken or any("cut short" in p for p in series.problems):
        sentence = next(p for p in series.problems if "cut short" in p)
        raise Trouble(f"“{series.description}” cannot be read whole. {sentence}", "copy the files again from the scanner", where)
    if series.first.orientation is None or series.spacing is None:
        raise Trouble(f"“{series.description}” does not say where its slices lie or how large its pixels are",
                      "export it again with positions", where)
    if any("unevenly" in p for p in series.problems):
        sentence = next(p for p in series.problems if "unevenly" in p)
        raise Trouble(f"“{series.description}” cannot become one volume. {sentence}", "export an evenly spaced series", where)
    if uneven == "refuse" and (series.missing or series.doubled):
        sentences = " ".join(p + "." for p in series.problems if "missing" in p or "same place" in p).rstrip(".")
        raise Trouble(f"“{series.description}” is not a whole stack. {sentences}",
                      "copy the series again, or take it in with “mend”, which leaves missing slices blank and"
                      " takes the first of doubled ones", where)
    if int(series.first.get("SamplesPerPixel", 1)) != 1 or int(series.first.get("NumberOfFrames", 1) or 1) != 1:
        raise Trouble(f"“{series.description}” holds colour or many frames in a file, which cannot be opened yet",
                      "choose a series of single grey slices", where)
    dtype, scale = _value_type(series)
    columns, rows = series.matrix
    space = Space((columns, rows, series.depth), _affine(series))
    notes = [p for p in series.problems if "cut short" not in p]
    header = series.first
    unit = "HU" if series.modality == "CT" and str(header.get("RescaleType", "HU")) in ("HU", "") else ""
    return Image(partial(_load, series, dtype, scale, space), space, name=series.description, subject=series.subject,
                 modality=series.modality, unit=unit, facts=_facts(series) if facts else {},
                 origin=Origin("DICOM", [s.path for s in series.slices], notes=notes))


def _affine(series: Series) -> np.ndarray:
    row, column = series.first.orientation
    first, last = series.slices[0].position, series.slices[-1].position
    affine = np.eye(4)
    affine[:3, 0] = row * series.spacing[0]
    affine[:3, 1] = column * series.spacing[1]
    affine[:3, 2] = (last - first) / (series.depth - 1) if series.depth > 1 else np.cross(row, column) * series.step
    affine[:3, 3] = first
    return FROM_DICOM_AXES @ affine


def _value_type(series: Series):
    """Smallest number type that can hold every value exactly, and (slope, intercept) per slice.

    Unsigned 16-bit CT with its intercept of −1024 gets int16 on trust, as real CT numbers fit; `_load` starts over in
    float32 when they do not.
    """
    scale = [(float(s.get("RescaleSlope", 1) or 1), float(s.get("RescaleIntercept", 0) or 0)) for s in series.slices]
    bits, signed = int(series.first.get("BitsStored", 16)), int(series.first.get("PixelRepresentation", 0))
    if bits <= 16 and len(set(scale)) == 1 and scale[0][0] == 1 and scale[0][1] == int(scale[0][1]):
        low = (-(1 << (bits - 1)) if signed else 0) + scale[0][1]
        high = ((1 << (bits - 1)) if signed else (1 << bits)) - 1 + scale[0][1]
        for kind in (np.uint8, np.int16, np.uint16):
            if np.iinfo(kind).min <= low and (high <= np.iinfo(kind).max or (kind is np.int16 and low < 0)):
                return kind, scale
    return np.float32, scale


class _TooLarge(Exception):
    """A value does not fit the number type chosen for the volume."""


def _load(series: Series, dtype, scale, space: Space, progress: Progress) -> np.ndarray:
    missing = set(series.missing)
    volume = np.empty(space.shape[::-1], dtype)
    places = [k for k in range(space.shape[2]) if k not in missing]
    jobs = list(zip(places, series.slices, scale))
    try:
        with ThreadPoolExecutor(2) as pool:
            for _ in progress.over(pool.map(lambda job: _load_slice(volume[job[0]], *job[1:]), jobs), len(jobs), "Reading slices"):
                pass
    except _TooLarge:
        return _load(series, np.float32, scale, space, progress)
    for k in missing:
        volume[k] = volume[places].min()
    return volume.T


def _load_slice(target: np.ndarray, s: Slice, scale: tuple[float, float]) -> None:
    raw = _stored_plain(s, target.shape) if s.plain else _stored_decoded(s)
    if raw.shape != target.shape:
        raise Trouble(f"A slice has {raw.shape[1]} × {raw.shape[0]} pixels where the series has"
                      f" {target.shape[1]} × {target.shape[0]}", "copy the files again", s.path)
    slope, intercept = scale
    if target.dtype == np.float32:
        np.multiply(raw, np.float32(slope), out=target, casting="unsafe")
        target += np.float32(intercept)
        return
    limits = np.iinfo(target.dtype)
    if int(raw.max()) + intercept > limits.max or int(raw.min()) + intercept < limits.min:
        raise _TooLarge
    if raw.dtype.itemsize == target.dtype.itemsize:
        # both sides wrap around alike, and the sum is known to fit: no wider copy is needed
        np.add(raw.view(target.dtype), np.array(int(intercept)).astype(target.dtype), out=target)
    else:
        np.add(raw, np.int32(intercept), out=target, casting="unsafe")


def _stored_plain(s: Slice, shape: tuple[int, int]) -> np.ndarray:
    bits, stored = int(s.get("BitsAllocated", 16)), int(s.get("BitsStored", 16))
    signed = bool(int(s.get("PixelRepresentation", 0)))
    kind = np.dtype(f"<{'i' if signed else 'u'}{bits // 8}")
    try:
        raw = np.fromfile(s.path, kind, shape[0] * shape[1], offset=s.offset)
    except OSError as error:
        raise Trouble("A file of the series can no longer be read", "check the disk or copy it again", s.path) from error
    if raw.size < shape[0] * shape[1]:
        raise Trouble("A file of the series is cut short", "copy it again from the scanner", s.path)
    if stored < bits:  # bits above the stored ones may hold anything; shift them out, keeping the sign
        raw = np.right_shift(np.left_shift(raw, bits - stored), bits - stored)
    return raw.reshape(shape)


def _stored_decoded(s: Slice) -> np.ndarray:
    import pydicom  # takes a quarter of a second to load and is not needed for plain files

    try:
        return pydicom.dcmread(s.path).pixel_array
    except Exception as error:
        raise Trouble("The pixels of a file cannot be decompressed", "export the series uncompressed", s.path) from error


def thumbnail_values(series: Series) -> np.ndarray | None:
    """The middle slice, (rows, columns), for a small picture; None when it cannot be read."""
    s = series.slices[len(series.slices) // 2]
    if int(s.get("SamplesPerPixel", 1)) != 1 or s.cut_short:
        return None
    try:
        raw = _stored_plain(s, series.matrix[::-1]) if s.plain else _stored_decoded(s)
    except Trouble:
        return None
    return raw if raw.ndim == 2 else None


def _facts(series: Series) -> dict[str, str]:
    import pydicom

    header = pydicom.dcmread(series.first.path, stop_before_pixels=True)
    facts = {}
    for element in header:
        if element.VR != "SQ" and element.VM < 20:
            name = element.keyword or element.name
            facts[name] = str(element.value)[:200]
    facts["Files"] = f"{len(series.slices)} below {Path(series.first.path).parent}"
    return facts
