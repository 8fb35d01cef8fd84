"""Marks as shapes on the files of a DICOM series: which file each lies on, and where in its pixels.

Places are in columns and rows from the outer corner of the first pixel (PS3.3 C.10.5.1.1): 0.5, 0.5 is its middle.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.mark import Mark
from ...core.geometry.marks import Marks
from ...core.geometry.on_image import require_on
from ...core.geometry.shape import shape_named
from ...core.image import Image
from ...core.names import printable
from .header import FROM_DICOM_AXES
from .objects import dataset, new_uid

OFF = 0.52
"""Slices by which a mark may lie off the middle of one and be in it."""
FLAT = 0.02
"""Slices over which a mark in one may run."""
KEPT = (
    "PatientName", "PatientID", "PatientBirthDate", "PatientSex", "StudyInstanceUID", "StudyDate", "StudyTime",
    "StudyID", "AccessionNumber", "ReferringPhysicianName", "SpecificCharacterSet",
)  # fmt: skip
"""What an object beside a series says as that does."""
EMPTY = (
    "PatientName",
    "PatientID",
    "PatientBirthDate",
    "PatientSex",
    "StudyDate",
    "StudyTime",
    "StudyID",
    "AccessionNumber",
    "ReferringPhysicianName",
)
"""What has to be there, if only empty."""


@dataclass(frozen=True)
class Drawn:
    """A mark on a file: its graphic type and points, (n, 2) columns and rows."""

    mark: Mark
    file: Any
    kind: str
    points: np.ndarray
    closed: bool


def headers_of(image: Image) -> list[Any]:
    """The headers of the files of every slice, in order.

    Raises
    ------
    Trouble
        When the image does not come from DICOM files of a slice each.
    """
    import pydicom

    slices = image.space.shape[2]
    if not image.origin.format.startswith("DICOM") or len(image.origin.files) != slices or image.axes:
        raise Trouble(
            f"“{image.name}” does not come from DICOM files of a slice each",
            "use the series itself, or draw the marks into pixels",
        )
    wanted = [*KEPT, "SOPClassUID", "SOPInstanceUID", "SeriesInstanceUID", "ImagePositionPatient", "Rows", "Columns"]
    found: dict[int, Any] = {}
    for file in image.origin.files:
        try:
            ds = pydicom.dcmread(file, stop_before_pixels=True, specific_tags=wanted)
            k = 0
            if slices > 1:
                place = FROM_DICOM_AXES[:3, :3] @ np.array(ds.ImagePositionPatient, float)
                k = int(np.floor(image.space.to_voxel(place)[2] + 0.5))
            sound = ds.SOPInstanceUID and (int(ds.Columns), int(ds.Rows)) == image.space.shape[:2]
        except Exception as error:
            raise Trouble("This file can no longer be read", "see that it is where it was", Path(file)) from error
        if sound:
            found[k] = ds
    if sorted(found) != list(range(slices)):
        what = f"The files of “{image.name}” are not its slices as it is now"
        raise Trouble(what, "use the series as it was gathered")
    return [found[k] for k in range(slices)]


def drawn_on(marks: Marks, image: Image, headers: list[Any]) -> tuple[list[Drawn], list[Mark]]:
    """Marks on the files of an image, and those that lie in none of its slices. Raises Trouble when there is no other,
    or they are of another image."""
    require_on(marks, image)
    found, outside = [], []
    for mark in marks:
        outline = image.space.to_voxel(mark.outline)
        k = round(float(outline[:, 2].mean()))
        thin = image.space.shape[2] == 1
        if not thin and (np.ptp(outline[:, 2]) > FLAT or abs(outline[:, 2].mean() - k) > OFF):
            outside.append(mark)
        elif not 0 <= k < len(headers) and not thin:
            outside.append(mark)
        else:
            ds = headers[0 if thin else k]
            found += [Drawn(mark, ds, *shape) for shape in _shapes(mark, outline[:, :2] + 0.5, image)]
    if not found:
        raise Trouble(f"No mark of “{marks.name}” lies in a slice of “{image.name}”", "draw some in its own plane")
    return found, outside


def _shapes(mark: Mark, pixels: np.ndarray, image: Image) -> list[tuple[str, np.ndarray, bool]]:
    shape = shape_named(mark.shape)
    if len(pixels) == 1:
        return [("POINT", pixels, False)]
    points = image.space.to_voxel(mark.array)[:, :2] + 0.5
    if mark.shape == "ellipse" and len(points) == 4:
        one, other = points[0] - points[2], points[1] - points[3]
        square = abs(float(one @ other)) <= 1e-3 * np.linalg.norm(one) * np.linalg.norm(other)
        if square:
            longer = np.linalg.norm(one) >= np.linalg.norm(other)
            order = (0, 2, 1, 3) if longer else (1, 3, 0, 2)
            return [("ELLIPSE", points[list(order)], True)]
    if shape.closed:
        return [("POLYLINE", np.vstack((pixels, pixels[:1])), True)]
    ends = [0, *shape.apart, len(pixels)]
    made = [("POLYLINE", pixels[a:b], False) for a, b in zip(ends, ends[1:])]
    if shape.ends == "arrow":
        made.append(("POLYLINE", _head(pixels), False))
    return made


def _head(pixels: np.ndarray) -> np.ndarray:
    """The head of an arrow, as long as a sixth of it."""
    tip, way = pixels[-1], pixels[0] - pixels[-1]
    along, across = way / 6, np.array((-way[1], way[0])) / 15
    return np.array([tip + along + across, tip, tip + along - across])


def beside(image: Image, headers: list[Any], modality: str, sop: str, description: str) -> Any:
    """A new object in the study of a series, of a series of its own: person and study as in its files."""
    from datetime import datetime

    now, ds = datetime.now(), dataset()
    for name in KEPT:
        if name in headers[0]:
            setattr(ds, name, headers[0].get(name))
    for name in EMPTY:
        if name not in ds:
            setattr(ds, name, "")
    ds.SpecificCharacterSet = "ISO_IR 192"
    ds.StudyInstanceUID = headers[0].get("StudyInstanceUID") or new_uid()
    ds.SeriesInstanceUID, ds.SOPInstanceUID, ds.SOPClassUID = new_uid(), new_uid(), sop
    ds.Modality, ds.SeriesNumber, ds.InstanceNumber = modality, 902, 1
    ds.SeriesDescription = printable(description).replace("\\", "/")[:64]  # a backslash parts values
    ds.SeriesDate = ds.ContentDate = now.strftime("%Y%m%d")
    ds.SeriesTime = ds.ContentTime = now.strftime("%H%M%S")
    ds.Manufacturer, ds.ManufacturerModelName = "Kestrelmist", "Kestrelmist"
    ds.DeviceSerialNumber, ds.SoftwareVersions = "1", "0"
    return ds
