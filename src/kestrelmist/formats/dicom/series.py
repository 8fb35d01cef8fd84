"""A DICOM series as one image, a volume or a series of them: exact values, exact positions."""

from __future__ import annotations

import json
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import partial

import numpy as np

from ...core.caveat import (
    AT_DETECTOR,
    CUT_SHORT,
    NO_SCALE,
    NOTED,
    SIDES_NOT_GIVEN,
    SLICES_DOUBLED,
    SLICES_MISSING,
    SLICES_SIDEWAYS,
    SLICES_UNEVEN,
    Caveat,
    without_caveats,
)
from ...core.errors import Trouble
from ...core.image import Image, Origin
from ...core.memory import require_room
from ...core.progress import Progress
from ...core.quantity import nanometres
from ...core.space import Space, picture_space
from ...core.values import Stored
from ...core.world import World
from ..acquisition import acquisition_facts
from ..guarded import guard
from ..series import Series
from ..sidecar import KEY
from .facts import facts_of
from .header import FROM_DICOM_AXES, Slice
from .pixels import pixels_of, read_picture, scale_of, value_table
from .sideways import in_place

TOWARDS = {"R": (1, 0, 0), "L": (-1, 0, 0), "A": (0, 1, 0), "P": (0, -1, 0), "H": (0, 0, 1), "F": (0, 0, -1)}
"""World directions of the letters in Patient Orientation."""
UNITS = {"BQML": "Bq/mL", "CNTS": "counts", "US": "", "HU": "HU", "Gy": "Gy", "GY": "Gy", "1": ""}


def series_image(series: Series, uneven: str = "refuse", facts: bool = True) -> Image:
    """The image of a series, values still on disk.

    Parameters
    ----------
    series : Series
    uneven : "refuse" or "mend"
        What to do when slices are missing, doubled or lie sideways. "mend" leaves missing places blank (filled with
        the lowest value of the volume), takes the first of doubled slices, and resamples those that lie sideways of
        the others to where they belong; all is noted in the image.
    facts : bool
        Read the whole header of the first file as well.

    Raises
    ------
    Trouble
        When the files are no image or cut short, positions unknown, spacing uneven, or slices missing, doubled or
        sideways and `uneven` is "refuse".
    """
    require_sound(series, uneven)
    space, caveats = _space_of(series)
    dtype = _value_type(series)
    header = series.first
    require_room(
        int(np.prod(space.shape)) * (4 if header.colour else np.dtype(dtype).itemsize),
        f"“{series.description}”",
        header.path,
    )
    caveats = without_caveats(series.caveats, CUT_SHORT) + caveats
    if any(s.header.get("RealWorld") for s in series.slices[:1]):
        caveats.append(Caveat(NOTED, "Values are those of the header's real-world value map"))
    unit = _unit_of(series)
    image = Image(
        partial(_load, series, dtype, space),
        space,
        name=series.description,
        subject=series.subject,
        modality=series.modality,
        unit=unit,
        facts=_all_facts(series, space) if facts else {},
        axes=series.axes,
        colour=header.colour,
        origin=Origin("DICOM", series.files, reading={"series": _mark(series), "uneven": uneven}),
        caveats=caveats,
    )
    if facts and not series.axes and any(s.header.get("Overlays") for s in series.slices):
        from .labels import overlay_labels

        image.labels = overlay_labels(image, [s.path for s in series.grid[0] if s is not None])
    return guard(image, header.path if len(series.files) == 1 else header.path.parent)


def _all_facts(series: Series, space: Space) -> dict[str, str]:
    found = facts_of(series)
    acquisition = acquisition_facts(series, space)
    return found | ({KEY: json.dumps(acquisition)} if acquisition else {})


def _mark(series: Series) -> dict:
    """What tells this series from others in the same files."""
    s = series.first
    return {"uid": series.uid, "sop": str(s.get("SOPInstanceUID")), "frame": s.frame}


def matches_mark(series: Series, mark: dict) -> bool:
    return series.uid == mark["uid"] and any(
        str(s.get("SOPInstanceUID")) == mark["sop"] and s.frame == mark["frame"] for s in series.slices
    )


def require_sound(series: Series, uneven: str) -> None:
    """Raises Trouble when a series cannot become an image."""
    where = series.first.path.parent if len(series.files) > 1 else series.first.path
    if series.kind:
        raise Trouble(
            f"“{series.description}” is no image but a {series.kind}",
            "gather its labels onto their image"
            if series.kind in ("segmentation", "structure set")
            else "choose an image",
            where,
        )
    if series.broken or series.has(CUT_SHORT):
        sentence = next((c.sentence for c in series.caveats if c.code == CUT_SHORT), "A file is cut short")
        raise Trouble(
            f"“{series.description}” cannot be read whole. {sentence}", "copy the files again from the scanner", where
        )
    if series.first.orientation is None and len(series.files) > 1:
        raise Trouble(
            f"“{series.description}” does not say where its slices lie or how large its pixels are",
            "export it again with positions",
            where,
        )
    if series.first.orientation is not None and series.spacing is None:
        raise Trouble(
            f"“{series.description}” does not say how large its pixels are",
            "export it again with its pixel spacing",
            where,
        )
    if series.has(SLICES_UNEVEN):
        sentence = next(c.sentence for c in series.caveats if c.code == SLICES_UNEVEN)
        raise Trouble(
            f"“{series.description}” cannot become one volume. {sentence}", "export an evenly spaced series", where
        )
    if uneven == "refuse" and (series.missing or series.doubled or series.has(SLICES_SIDEWAYS)):
        doubts = [c.sentence for c in series.caveats if c.code in (SLICES_MISSING, SLICES_DOUBLED, SLICES_SIDEWAYS)]
        sentences = " ".join(f"{d}." for d in doubts).rstrip(".")
        raise Trouble(
            f"“{series.description}” is not a whole stack. {sentences}",
            "copy the series again, or take it in with “mend”, which leaves missing slices blank, takes the first of"
            " doubled ones, and resamples those that lie sideways into place",
            where,
        )
    if series.first.rows < 1 or series.first.columns < 1 or series.first.bytes_needed < 1:
        raise Trouble(f"The header of “{series.description}” gives no sensible size", "copy the files again", where)


# place


def _space_of(series: Series) -> tuple[Space, list[Caveat]]:
    columns, rows = series.matrix
    spacing = series.spacing
    if series.first.orientation is None:
        return _flat_space(series, spacing)
    assert spacing is not None, "looked at by require_sound"
    row, column = series.first.orientation
    volume = series.grid[0] if any(series.grid[0]) else next(v for v in series.grid if any(v))
    there = [(k, s) for k, s in enumerate(volume) if s is not None]
    (k0, first), (k1, last) = there[0], there[-1]
    affine = np.eye(4)
    affine[:3, 0] = row * spacing[0]
    affine[:3, 1] = column * spacing[1]
    affine[:3, 2] = (last.position - first.position) / (k1 - k0) if k1 > k0 else np.cross(row, column) * series.step
    affine[:3, 3] = first.position - affine[:3, 2] * k0
    if series.line is not None:
        affine[:3, 3], affine[:3, 2] = series.line
    return Space((columns, rows, series.depth), FROM_DICOM_AXES @ affine, world=_world(first)), []


def _flat_space(series: Series, spacing) -> tuple[Space, list[Caveat]]:
    """The space of a picture without positions: upright, in the body's directions when the header names them."""
    columns, rows = series.matrix
    first = series.first
    caveats: list[Caveat] = []
    if spacing is None:
        spacing, unit = (1.0, 1.0, 1.0), "px"
        caveats.append(Caveat(NO_SCALE, "The file gives no scale: pixel spacing is missing"))
    else:
        unit = "mm"
        if "PixelSpacing" not in first.header:
            caveats.append(Caveat(AT_DETECTOR, "The scale is that at the detector, not in the body"))
    right, down, known = _directions(first)
    if not known:
        caveats.append(Caveat(SIDES_NOT_GIVEN, "The file does not say which side is which, so sides are unknown"))
        return replace(picture_space(columns, rows, spacing[:2], step=max(series.step, 1e-3)), unit=unit), caveats
    if any(s.header.get("Mirrored") for s in series.slices):
        caveats.append(
            Caveat(NOTED, "Pictures from the other side are turned over, so that left and right agree in all")
        )
    affine = np.eye(4)
    affine[:3, 0], affine[:3, 1] = right * spacing[0], down * spacing[1]
    affine[:3, 2] = np.cross(right, down) * max(series.step, 1e-3)
    affine[:3, 3] = -affine[:3, 0] * (columns - 1) / 2 - affine[:3, 1] * (rows - 1) / 2
    return Space((columns, rows, 1), affine, unit, _world(first)), caveats


def _world(first: Slice) -> World:
    """The scanner's space under the identity that the header gives it; pictures of one frame of reference share it."""
    return World(str(first.get("FrameOfReferenceUID") or "").strip())


def _directions(s: Slice) -> tuple[np.ndarray, np.ndarray, bool]:
    letters = [part[:1] for part in str(s.get("PatientOrientation")).split("\\")]
    if len(letters) == 2 and all(part in TOWARDS for part in letters):
        right, down = (np.array(TOWARDS[part], float) for part in letters)
        if abs(right @ down) < 0.5:
            return right, down, True
    axes = s.header.get("DetectorOrientation") or []
    if len(axes) == 6 and np.all(np.isfinite(axes)):
        right, down = (FROM_DICOM_AXES[:3, :3] @ np.array(part, float) for part in (axes[:3], axes[3:]))
        lengths = np.linalg.norm(right), np.linalg.norm(down)
        if min(lengths) > 0.5 and abs(right @ down) < 0.1:
            return right / lengths[0], down / lengths[1], True
    return np.zeros(3), np.zeros(3), False


def _unit_of(series: Series) -> str:
    header = series.first
    if header.colour:
        return ""
    given = str(header.get("RescaleType"))
    if series.modality == "CT":
        return "HU" if given in ("HU", "") else ""
    if series.modality == "PT" and header.get("Units"):
        return UNITS.get(str(header.get("Units")), "")
    return UNITS.get(given, given if header.header.get("RealWorld") or nanometres(given) else "")


# values


def _value_type(series: Series):
    """Smallest kernel type that can hold every value.

    Unsigned 16-bit CT with its intercept of −1024 gets int16 on trust, as real CT numbers fit; `_load` starts over in
    float32 when they do not.
    """
    first = series.first
    if first.colour:
        return np.uint8
    scale = {scale_of(s) for s in series.slices}
    kinds = {(int(s.number("BitsStored", 16)), bool(s.number("PixelRepresentation"))) for s in series.slices}
    slope, intercept = next(iter(scale))
    if (
        any("ValueTable" in s.header or s.header.get("FloatPixels") for s in series.slices)
        or max(bits for bits, _ in kinds) > 16
        or len(scale) > 1
        or slope != 1
        or intercept != int(intercept)
    ):
        return np.float32
    low = min(-(1 << (bits - 1)) if signed else 0 for bits, signed in kinds) + intercept
    high = max((1 << (bits - 1)) if signed else (1 << bits) for bits, signed in kinds) - 1 + intercept
    for kind in (np.uint8, np.int16, np.uint16):
        if np.iinfo(kind).min <= low and (high <= np.iinfo(kind).max or (kind is np.int16 and low < 0)):
            return kind
    return np.float32


class _TooLarge(Exception):
    """A value does not fit the number type chosen for the volume."""


def _load(series: Series, dtype, space: Space, index: tuple[int, ...], progress: Progress):
    """One volume: whole numbers with an offset worked out, others as stored with slope and intercept beside them."""
    sizes = [a.size for a in series.axes]
    place = int(np.ravel_multi_index(index, sizes, order="F")) if sizes else 0
    column = series.grid[place]
    there = [(k, s) for k, s in enumerate(column) if s is not None]
    scale = {scale_of(s) for _, s in there}
    one_scale = len(scale) == 1 and not any("ValueTable" in s.header for _, s in there)
    if dtype is np.float32 and one_scale:
        kind = np.result_type(*{_stored_type(s) for _, s in there} or {_stored_type(series.first)})
        stored = _filled(space, there, kind, lambda s, target, raw: np.copyto(target, raw), progress)
        return Stored(stored, *next(iter(scale), (1.0, 0.0)))
    if series.first.colour:
        volume = np.zeros((*space.shape[::-1], 3), np.uint8)
        _each(there, lambda k, s, raw: np.copyto(volume[k], raw if raw.ndim == 3 else raw[..., None]), progress)
        return volume.transpose(2, 1, 0, 3)
    try:
        return _filled(space, there, dtype, _scaled_into, progress)
    except _TooLarge:
        return _filled(space, there, np.float32, _scaled_into, progress)


def _stored_type(s: Slice) -> np.dtype:
    if s.header.get("FloatPixels"):
        return np.dtype(np.float64 if s.number("BitsAllocated") == 64 else np.float32)
    bits = {1: 8}.get(int(s.number("BitsAllocated", 16)), int(s.number("BitsAllocated", 16)))
    return np.dtype(f"{'i' if s.number('PixelRepresentation') else 'u'}{max(1, bits // 8)}")


def _filled(space: Space, there, dtype, put, progress: Progress) -> np.ndarray:
    volume = np.empty(space.shape[::-1], dtype)
    _each(there, lambda k, s, raw: put(s, volume[k], raw), progress)
    filled = {k for k, _ in there}
    if len(filled) < len(volume):
        low = min((volume[k].min() for k in filled), default=0)
        for k in set(range(len(volume))) - filled:
            volume[k] = low
    return volume.T


def _each(there, put, progress: Progress) -> None:
    """Read slices on two cores, the files whole; `put(k, slice, pixels)` for each."""
    parts: list[list] = []
    for k, s in there:
        if parts and parts[-1][-1][1].path == s.path:
            parts[-1].append((k, s))
        else:
            parts.append([(k, s)])

    def work(part):
        for (k, s), (_, raw) in zip(part, pixels_of([s for _, s in part])):
            put(k, s, in_place(s, raw))

    with ThreadPoolExecutor(2) as pool:
        for _ in progress.over(pool.map(work, parts), len(parts), "Reading slices"):
            pass


def _scaled_into(s: Slice, target: np.ndarray, raw: np.ndarray) -> None:
    if "ValueTable" in s.header:
        target[...] = value_table(s, raw)
        return
    slope, intercept = scale_of(s)
    if target.dtype == np.float32:
        # worked out in float64 and rounded once
        target[...] = raw if (slope, intercept) == (1.0, 0.0) else raw * np.float64(slope) + intercept
        return
    limits = np.iinfo(target.dtype)
    if int(raw.max()) + intercept > limits.max or int(raw.min()) + intercept < limits.min:
        raise _TooLarge
    if raw.dtype.itemsize == target.dtype.itemsize and raw.dtype.isnative:
        # both sides wrap around alike, and the sum is known to fit: no wider copy is needed
        np.add(raw.view(target.dtype), np.array(int(intercept)).astype(target.dtype), out=target)
    else:
        np.add(raw, np.int32(intercept), out=target, casting="unsafe")


def thumbnail_values(series: Series) -> np.ndarray | None:
    """The middle slice, (rows, columns) or with colours, for a small picture; None when it cannot be read."""
    volumes: list = series.grid or [series.slices]
    volume = [s for s in volumes[len(series.grid) // 2 if series.grid else 0] if s is not None]
    if not volume or series.kind or volume[0].cut_short:
        return None
    raw = read_picture(volume[len(volume) // 2])
    if raw is not None and str(series.first.get("PhotometricInterpretation")) == "MONOCHROME1":
        raw = raw.max() - raw
    return raw
