"""The few header elements of a DICOM file that say what it is, where it lies and where its pixels start."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pydicom
from pydicom.uid import UID

PIXELS = 0x7FE00010
WANTED = [
    "SOPClassUID", "SOPInstanceUID", "SeriesInstanceUID", "StudyInstanceUID", "FrameOfReferenceUID", "Modality",
    "SeriesDescription", "ProtocolName", "SeriesNumber", "InstanceNumber", "AcquisitionNumber", "SeriesDate",
    "StudyDate", "PatientID", "PatientName", "Rows", "Columns", "PixelSpacing", "SliceThickness",
    "ImagePositionPatient", "ImageOrientationPatient", "NumberOfFrames", "SamplesPerPixel", "BitsAllocated",
    "BitsStored", "PixelRepresentation", "RescaleSlope", "RescaleIntercept", "RescaleType", "EchoNumbers",
    "EchoTime", "TemporalPositionIdentifier", "WindowCenter", "WindowWidth", "PhotometricInterpretation",
]


@dataclass
class Slice:
    """One single-frame DICOM image, header read, pixels still on disk."""

    path: Path
    header: pydicom.Dataset
    plain: bool
    """Pixels stored uncompressed, so that they can be read straight from `offset`."""
    offset: int
    position: np.ndarray | None
    """Centre of the first pixel, in DICOM's patient axes (x left, y back, z up), mm."""
    orientation: np.ndarray | None
    """Unit vectors along a row and along a column, (2, 3), same axes."""
    cut_short: bool

    def get(self, name: str, default=""):
        value = self.header.get(name, default)
        return default if value is None else value

    @property
    def bytes_needed(self) -> int:
        return int(self.get("Rows", 0)) * int(self.get("Columns", 0)) * int(self.get("BitsAllocated", 0)) // 8 * int(
            self.get("SamplesPerPixel", 1))


def read_slice(path: Path) -> Slice | None:
    """Header of a DICOM image; None when the file is not DICOM at all or holds no image.

    A file that starts as DICOM and then breaks off comes back with `cut_short` set.
    """
    try:
        size = path.stat().st_size
        with open(path, "rb") as stream:
            start = stream.read(132)
            stream.seek(0)
            if start[128:] != b"DICM":
                return None
            header = pydicom.dcmread(stream, specific_tags=WANTED, stop_before_pixels=True)
            # the reader stops in front of the pixel element: tag 4, VR 2, reserved 2, length 4 bytes
            offset = stream.tell() + (8 if header.file_meta.TransferSyntaxUID.is_implicit_VR else 12)
            meta: UID = header.file_meta.TransferSyntaxUID
    except (OSError, EOFError, AttributeError):
        return None
    except Exception:  # the parser meets a broken file with many kinds of error; all mean the same here
        return Slice(path, pydicom.Dataset(), False, 0, None, None, True)
    if "Rows" not in header or "Columns" not in header:
        broken = "SOPClassUID" not in header or size <= offset
        return Slice(path, header, False, offset, None, None, True) if broken and "SeriesInstanceUID" in header else None
    plain = not meta.is_compressed and meta.is_little_endian
    found = Slice(path, header, plain, offset, None, None, False)
    found.cut_short = plain and size < offset + found.bytes_needed or size <= offset
    try:
        found.position = np.array([float(v) for v in header.ImagePositionPatient])
        axes = np.array([float(v) for v in header.ImageOrientationPatient]).reshape(2, 3)
        if found.position.shape == (3,) and np.all(np.linalg.norm(axes, axis=1) > 0.5):
            found.orientation = axes / np.linalg.norm(axes, axis=1, keepdims=True)
        else:
            found.position = None
    except (AttributeError, TypeError, ValueError):
        found.position = found.orientation = None
    return found
