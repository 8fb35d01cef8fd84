"""The few header elements of a DICOM file that say what it is, where it lies and where its pixels start."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

TEXT, DECIMAL, WHOLE, SHORT = range(4)
WANTED: dict[int, tuple[str, int]] = {
    0x00080016: ("SOPClassUID", TEXT), 0x00080018: ("SOPInstanceUID", TEXT), 0x00080020: ("StudyDate", TEXT),
    0x00080021: ("SeriesDate", TEXT), 0x00080060: ("Modality", TEXT), 0x0008103E: ("SeriesDescription", TEXT),
    0x00100010: ("PatientName", TEXT), 0x00100020: ("PatientID", TEXT), 0x00180050: ("SliceThickness", DECIMAL),
    0x00180081: ("EchoTime", DECIMAL), 0x00180086: ("EchoNumbers", WHOLE), 0x00181030: ("ProtocolName", TEXT),
    0x0020000D: ("StudyInstanceUID", TEXT), 0x0020000E: ("SeriesInstanceUID", TEXT), 0x00200011: ("SeriesNumber", WHOLE),
    0x00200012: ("AcquisitionNumber", WHOLE), 0x00200013: ("InstanceNumber", WHOLE),
    0x00200032: ("ImagePositionPatient", DECIMAL), 0x00200037: ("ImageOrientationPatient", DECIMAL),
    0x00280002: ("SamplesPerPixel", SHORT), 0x00280004: ("PhotometricInterpretation", TEXT), 0x00280008: ("NumberOfFrames", WHOLE),
    0x00280010: ("Rows", SHORT), 0x00280011: ("Columns", SHORT), 0x00280030: ("PixelSpacing", DECIMAL),
    0x00280100: ("BitsAllocated", SHORT), 0x00280101: ("BitsStored", SHORT), 0x00280103: ("PixelRepresentation", SHORT),
    0x00281052: ("RescaleIntercept", DECIMAL), 0x00281053: ("RescaleSlope", DECIMAL), 0x00281054: ("RescaleType", TEXT),
}
PIXELS = 0x7FE00010
EXPLICIT_LITTLE = "1.2.840.10008.1.2.1"
LONG_FORMS = frozenset((b"OB", b"OW", b"OF", b"OD", b"OL", b"OV", b"SQ", b"UC", b"UR", b"UT", b"UN", b"SV", b"UV"))
_SHORT_HEAD, _LENGTH = struct.Struct("<HH2sH"), struct.Struct("<I")


@dataclass
class Slice:
    """One single-frame DICOM image, header read, pixels still on disk."""

    path: Path
    header: dict[str, Any]
    plain: bool
    """Pixels stored uncompressed, so that they can be read straight from `offset`."""
    offset: int
    position: np.ndarray | None
    """Centre of the first pixel, in DICOM's patient axes (x left, y back, z up), mm."""
    orientation: np.ndarray | None
    """Unit vectors along a row and along a column, (2, 3), same axes."""
    cut_short: bool

    def get(self, name: str, default=""):
        value = self.header.get(name)
        return default if value is None or value == "" else value

    @property
    def bytes_needed(self) -> int:
        return int(self.get("Rows", 0)) * int(self.get("Columns", 0)) * int(self.get("BitsAllocated", 0)) // 8 * int(
            self.get("SamplesPerPixel", 1))


def read_slice(path: Path) -> Slice | None:
    """Header of a DICOM image; None when the file is not DICOM at all or holds no image.

    A file that starts as DICOM and then breaks off comes back with `cut_short` set.
    """
    try:
        with open(path, "rb") as stream:
            start = stream.read(16384)
            size = stream.seek(0, 2)
    except OSError:
        return None
    if start[128:132] != b"DICM":
        return None
    try:
        found = _quick(start, whole=len(start) == size)
    except EOFError:
        return Slice(path, {}, False, 0, None, None, True)
    if found is None:
        try:
            found = _thorough(path)
        except Exception:  # the parser meets a broken file with many kinds of error; all mean the same here
            return Slice(path, {}, False, 0, None, None, True)
    header, offset, plain = found
    if "Rows" not in header or "Columns" not in header:
        broken = "SOPClassUID" not in header or size <= offset
        return Slice(path, header, False, offset, None, None, True) if broken and "SeriesInstanceUID" in header else None
    slice_ = Slice(path, header, plain, offset, None, None, False)
    slice_.cut_short = (plain and size < offset + slice_.bytes_needed) or size <= offset
    position, axes = np.array(header.get("ImagePositionPatient") or ()), np.array(header.get("ImageOrientationPatient") or ())
    if position.shape == (3,) and axes.shape == (6,):
        axes = axes.reshape(2, 3)
        lengths = np.linalg.norm(axes, axis=1, keepdims=True)
        if np.all(lengths > 0.5) and np.all(np.isfinite(position)):
            slice_.position, slice_.orientation = position, axes / lengths
    return slice_


def _quick(data: bytes, whole: bool = False) -> tuple[dict, int, bool] | None:
    """Walk the first bytes of an explicit little-endian file; None when anything is out of the ordinary.

    A general parser takes a millisecond a file; scans have thousands of files and nearly all are of this kind. Raises
    EOFError when `data` is the `whole` file and ends within an element.
    """
    header: dict[str, Any] = {}
    at, end, syntax = 132, len(data), None
    try:
        while at + 12 <= end:
            group, element, form, length = _SHORT_HEAD.unpack_from(data, at)
            tag = group << 16 | element
            at += 8
            if form in LONG_FORMS:
                length = _LENGTH.unpack_from(data, at)[0]
                at += 4
            elif not (form.isalpha() and form.isupper()):
                return None
            if group != 2 and syntax != EXPLICIT_LITTLE:
                return None
            if tag == PIXELS:
                return header, at, length != 0xFFFFFFFF
            if whole and length != 0xFFFFFFFF and at + length > end:
                raise EOFError
            if length == 0xFFFFFFFF or at + length > end:
                return None
            if tag == 0x00020010:
                syntax = data[at:at + length].decode("ascii").rstrip("\0 ")
            elif tag in WANTED:
                name, kind = WANTED[tag]
                header[name] = _decoded(data[at:at + length], kind)
            at += length
    except (struct.error, ValueError):
        return None
    if whole and at < end:
        raise EOFError
    return None


def _decoded(raw: bytes, kind: int):
    if kind == SHORT:
        return int.from_bytes(raw[:2], "little")
    text = raw.decode("ascii" if kind != TEXT else "latin-1").strip("\0 ")
    if kind == TEXT:
        if not text.isascii():
            raise ValueError  # the character set matters: leave it to the thorough parser
        return text
    values = [float(v) if kind == DECIMAL else int(float(v)) for v in text.split("\\")] if text else []
    return values if len(values) > 1 else values[0] if values else None


def _thorough(path: Path) -> tuple[dict, int, bool]:
    import pydicom

    with open(path, "rb") as stream:
        dataset = pydicom.dcmread(stream, stop_before_pixels=True)
        syntax = dataset.file_meta.TransferSyntaxUID
        # the reader stops in front of the pixel element: tag 4, VR 2, reserved 2, length 4 bytes
        offset = stream.tell() + (8 if syntax.is_implicit_VR else 12)
    header = {}
    for name, kind in WANTED.values():
        value = dataset.get(name)
        if value is None or value == "":
            continue
        if kind == TEXT:
            header[name] = str(value)
        else:
            number = float if kind == DECIMAL else int
            header[name] = [number(v) for v in value] if dataset.data_element(name).VM > 1 else number(value)
    return header, offset, not syntax.is_compressed and syntax.is_little_endian
