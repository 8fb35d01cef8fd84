"""Labels from DICOM: segmentation objects, RT structure sets, and overlays in an image's own header, on the grid of an
image."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from ...core.errors import Trouble, let_through
from ...core.image import Image
from ...core.labels import PALETTE, Label, LabelMap, LabelTable
from ...core.progress import Progress, silent
from ...core.space import Space
from .header import FROM_DICOM_AXES

SEGMENTATIONS = ("1.2.840.10008.5.1.4.1.1.66.4", "1.2.840.10008.5.1.4.1.1.66.7")
STRUCTURES = "1.2.840.10008.5.1.4.1.1.481.3"


def read_dicom_labels(path: Path, space: Space, progress: Progress | None = None) -> LabelMap:
    """The segments or structures of a file as labels on a grid, by world position.

    Where segments overlap, the one with the higher number is kept.

    Raises
    ------
    Trouble
        When the file holds no labels, is damaged, or nothing of it lies on the grid.
    """
    import pydicom

    try:
        ds = pydicom.dcmread(path)
        sop = str(ds.SOPClassUID)
        labels = (
            _segments(ds, space, progress or silent())
            if sop in SEGMENTATIONS
            else _structures(ds, space, progress or silent())
            if sop == STRUCTURES
            else None
        )
    except Trouble:
        raise
    except BaseException as error:  # a damaged object breaks in many ways
        let_through(error)
        raise Trouble("This file's labels cannot be read; it is damaged", "copy it again", path) from error
    if labels is None:
        raise Trouble("This DICOM file holds no labels", "choose a segmentation or a structure set", path)
    owner = str(ds.get("PatientID", "")).strip()
    labels.subject, labels.table = owner, LabelTable(replace(row, subject=owner) for row in labels.table)
    if labels.counts[0] == labels.kji.size:
        raise Trouble("None of the labels in this file lies on this image", "choose the image they were drawn on", path)
    return labels


def referenced_series(path: Path) -> set[str]:
    """Identifiers of the series and the frame of reference that a label object belongs to."""
    import pydicom

    found: set[str] = set()

    def walk(dataset):
        for element in dataset:
            if element.VR == "SQ" and element.keyword not in (
                "PerFrameFunctionalGroupsSequence",
                "ContourImageSequence",
                "ROIContourSequence",
            ):
                for item in element.value:
                    walk(item)
            elif element.keyword in ("SeriesInstanceUID", "FrameOfReferenceUID", "ReferencedFrameOfReferenceUID"):
                found.add(str(element.value))

    try:
        ds = pydicom.dcmread(path, stop_before_pixels=True)
        own = str(ds.get("SeriesInstanceUID"))
        walk(ds)
    except BaseException as error:  # a damaged file refers to nothing
        let_through(error)
        return set()
    return found - {own}


def _segments(ds, space: Space, progress: Progress) -> LabelMap:
    frames = ds.pixel_array.reshape(-1, ds.Rows, ds.Columns)
    table: list = []
    whole = ds.get("SegmentationType", "BINARY") == "LABELMAP"
    for item in ds.SegmentSequence:
        number = int(item.SegmentNumber)
        table.append(
            Label(number, _free(str(item.get("SegmentLabel", "") or f"Segment {number}"), table), _colour(item, number))
        )
    data = np.zeros(space.shape, np.uint16, order="F")
    shared = ds.SharedFunctionalGroupsSequence[0] if ds.get("SharedFunctionalGroupsSequence") else None
    half = 0.5 * float(ds.get("MaximumFractionalValue", 1)) if ds.get("SegmentationType") == "FRACTIONAL" else 0.5

    def group(own: Any, name: str) -> Any:
        found: Any = own.get(name) or (shared.get(name) if shared is not None else None)
        return found[0]

    geometry = []
    for own in ds.PerFrameFunctionalGroupsSequence:
        measures = group(own, "PixelMeasuresSequence")
        axes = np.array(group(own, "PlaneOrientationSequence").ImageOrientationPatient, float).reshape(2, 3)
        affine = np.eye(4)
        affine[:3, 0], affine[:3, 1] = (
            axes[0] * float(measures.PixelSpacing[1]),
            axes[1] * float(measures.PixelSpacing[0]),
        )
        thick = float(measures.get("SpacingBetweenSlices") or measures.get("SliceThickness") or 1.0)
        affine[:3, 2] = np.cross(*axes) * thick
        affine[:3, 3] = np.array(group(own, "PlanePositionSequence").ImagePositionPatient, float)
        number = int(group(own, "SegmentIdentificationSequence").ReferencedSegmentNumber) if not whole else 0
        geometry.append((number, FROM_DICOM_AXES @ affine))
    for n in progress.over(sorted(range(len(geometry)), key=lambda n: geometry[n][0]), what="Reading segments"):
        number, affine = geometry[n]
        _stamp(data, space, affine, frames[n] if whole else np.where(frames[n] >= half, number, 0).astype(np.uint16))
    return LabelMap(space, data, LabelTable(table))


def _stamp(data: np.ndarray, space: Space, affine: np.ndarray, plane: np.ndarray) -> None:
    """Put a plane [row, column] of numbers onto a grid: every voxel whose centre lies in the plane's slab takes the
    nearest pixel's."""
    rows, columns = plane.shape
    corners = np.array([[c, r, k] for c in (-0.5, columns - 0.5) for r in (-0.5, rows - 0.5) for k in (-0.5, 0.5)])
    voxels = space.to_voxel(corners @ affine[:3, :3].T + affine[:3, 3])
    low = np.maximum(np.floor(voxels.min(0)).astype(int), 0)
    high = np.minimum(np.ceil(voxels.max(0)).astype(int) + 1, space.shape)
    if np.any(high <= low):
        return
    i, j, k = np.meshgrid(*(np.arange(a, b) for a, b in zip(low, high)), indexing="ij", sparse=True)
    turn = np.linalg.inv(affine) @ space.affine
    at = [turn[n, 0] * i + turn[n, 1] * j + turn[n, 2] * k + turn[n, 3] for n in range(3)]
    column, row = np.floor(at[0] + 0.5).astype(int), np.floor(at[1] + 0.5).astype(int)
    inside = (
        (column >= 0) & (column < columns) & (row >= 0) & (row < rows) & (at[2] >= -0.5 - 1e-6) & (at[2] < 0.5 - 1e-6)
    )
    numbers = plane[np.clip(row, 0, rows - 1), np.clip(column, 0, columns - 1)]
    block = data[low[0] : high[0], low[1] : high[1], low[2] : high[2]]
    np.copyto(block, numbers.astype(np.uint16), where=inside & (numbers > 0))


def _structures(ds, space: Space, progress: Progress) -> LabelMap:
    names = {
        int(r.ROINumber): str(r.get("ROIName", "") or f"Structure {r.ROINumber}") for r in ds.StructureSetROISequence
    }
    table: list[Label] = []
    data = np.zeros(space.shape, np.uint16, order="F")
    for n, item in enumerate(progress.over(list(ds.get("ROIContourSequence") or ()), what="Reading structures"), 1):
        red_green_blue = item.get("ROIDisplayColor")
        colour = (
            "#" + "".join(f"{min(max(int(v), 0), 255):02X}" for v in red_green_blue)
            if red_green_blue
            else PALETTE[(n - 1) % len(PALETTE)]
        )
        table.append(Label(n, _free(names.get(int(item.ReferencedROINumber), f"Structure {n}"), table), colour))
        filled: dict[int, np.ndarray] = {}
        for contour in item.get("ContourSequence") or ():
            if str(contour.get("ContourGeometricType", "")) not in ("CLOSED_PLANAR", "CLOSEDPLANAR_XOR"):
                continue
            points = np.array(contour.ContourData, float).reshape(-1, 3) @ FROM_DICOM_AXES[:3, :3]
            voxels = space.to_voxel(points)
            across = int(np.argmin(np.ptp(voxels, axis=0)))
            if across != 2:
                raise Trouble(
                    "The outlines of this structure set run across the image's slices",
                    "open it on the series they were drawn on",
                )
            k = int(np.floor(voxels[:, 2].mean() + 0.5))
            if 0 <= k < space.shape[2]:
                mask = polygon_mask(voxels[:, :2], space.shape[:2])
                filled[k] = filled[k] ^ mask if k in filled else mask  # an outline within an outline is a hole
        for k, mask in filled.items():
            data[:, :, k][mask] = n
    return LabelMap(space, data, LabelTable(table))


def polygon_mask(corners: np.ndarray, shape: tuple[int, int]) -> np.ndarray:
    """Pixels [i, j] whose centre lies inside a closed polygon, by the even-odd rule.

    Parameters
    ----------
    corners : array (n, 2)
        In pixel coordinates; the last is joined to the first.
    shape : pixels along i and j
    """
    mask = np.zeros(shape, bool)
    a, b = corners, np.roll(corners, -1, axis=0)
    low, high = np.maximum(int(np.ceil(corners[:, 1].min())), 0), min(int(np.floor(corners[:, 1].max())), shape[1] - 1)
    for j in range(low, high + 1):
        crossing = (a[:, 1] <= j) != (b[:, 1] <= j)
        if crossing.any():
            p, q = a[crossing], b[crossing]
            at = np.sort(p[:, 0] + (j - p[:, 1]) / (q[:, 1] - p[:, 1]) * (q[:, 0] - p[:, 0]))
            for start, end in zip(at[::2], at[1::2]):
                mask[max(int(np.ceil(start)), 0) : max(int(np.ceil(end)), 0), j] = True
    return mask


def overlay_labels(image: Image, files: list[Path]) -> LabelMap | None:
    """Graphics drawn in the headers (groups 60xx) as labels on the image, None when there are none.

    `files` are single pictures, one a slice in the order of the image's slices.
    """
    import pydicom

    data = np.zeros(image.space.shape, np.uint16, order="F")
    names: dict = {}
    if len(files) != image.space.shape[2]:
        return None
    for k, path in enumerate(files):
        try:
            ds = pydicom.dcmread(path)
        except BaseException as error:  # the pixels may still be whole; overlays are an extra
            let_through(error)
            continue
        for group in range(0x6000, 0x6020, 2):
            if (group, 0x3000) not in ds:
                continue
            try:
                bits = ds.overlay_array(group)
                top, left = (int(v) - 1 for v in (ds.get((group, 0x0050)).value if (group, 0x0050) in ds else (1, 1)))
            except BaseException as error:
                let_through(error)
                continue
            bits = bits[0] if bits.ndim == 3 else bits
            number = (group - 0x6000) // 2 + 1
            label = ds.get((group, 0x1500)) or ds.get((group, 0x0022))
            names.setdefault(number, str(label.value) if label is not None and label.value else f"Overlay {number}")
            rows, columns = np.nonzero(bits)
            rows, columns = rows + top, columns + left
            kept = (rows >= 0) & (columns >= 0) & (rows < data.shape[1]) & (columns < data.shape[0])
            data[columns[kept], rows[kept], k] = number
    if not data.any():
        return None
    table: list[Label] = []
    for number, name in sorted(names.items()):
        table.append(Label(number, _free(name, table), PALETTE[(number - 1) % len(PALETTE)]))
    return LabelMap(image.space, data, LabelTable(table), name=f"Labels on {image.name}", subject=image.subject)


def _free(name: str, table: list[Label]) -> str:
    """The name, with a number behind it when it is taken."""
    taken, wanted, n = {row.name.casefold() for row in table}, name.strip() or "Label", 2
    name = wanted
    while name.casefold() in taken:
        name, n = f"{wanted} {n}", n + 1
    return name


def _colour(item, number: int) -> str:
    """A segment's recommended colour (CIELab as 16 bits, PS3.3 C.10.7.1.1) as #RRGGBB, or one of our own."""
    lab = item.get("RecommendedDisplayCIELabValue")
    if lab is None or len(lab) != 3:
        return PALETTE[(number - 1) % len(PALETTE)]
    lightness, a, b = float(lab[0]) / 65535 * 100, float(lab[1]) / 257 - 128, float(lab[2]) / 257 - 128
    fy = (lightness + 16) / 116
    xyz = [f**3 if f**3 > 0.008856 else (f - 16 / 116) / 7.787 for f in (fy + a / 500, fy, fy - b / 200)] * np.array(
        [0.9505, 1.0, 1.0888]
    )
    linear = np.array([[3.2405, -1.5371, -0.4985], [-0.9693, 1.8760, 0.0416], [0.0556, -0.2040, 1.0572]]) @ xyz
    rgb = np.clip(
        np.where(linear > 0.0031308, 1.055 * np.maximum(linear, 0) ** (1 / 2.4) - 0.055, 12.92 * linear), 0, 1
    )
    return "#" + "".join(f"{round(255 * v):02X}" for v in rgb)
