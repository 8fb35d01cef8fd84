"""The few header elements of a DICOM file that say what it is, where it lies and where its pixels start."""

from __future__ import annotations

import math
import struct
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ...core.errors import let_through
from ...core.waiting import reading
from ..deflated import DEFLATED, inflates, is_deflated

FROM_DICOM_AXES = np.diag([-1.0, -1.0, 1.0, 1.0])
"""DICOM's patient axes run left, back, up; the world's run right, front, up."""
TEXT, DECIMAL, WHOLE, SHORT, DOUBLE = range(5)
WANTED: dict[int, tuple[str, int]] = {
    0x00080008: ("ImageType", TEXT),
    0x00080016: ("SOPClassUID", TEXT),
    0x00080018: ("SOPInstanceUID", TEXT),
    0x00080020: ("StudyDate", TEXT),
    0x00080021: ("SeriesDate", TEXT),
    0x00080022: ("AcquisitionDate", TEXT),
    0x00080023: ("ContentDate", TEXT),
    0x0008002A: ("AcquisitionDateTime", TEXT),
    0x00080032: ("AcquisitionTime", TEXT),
    0x00080033: ("ContentTime", TEXT),
    0x00080060: ("Modality", TEXT),
    0x00080070: ("Manufacturer", TEXT),
    0x0008103E: ("SeriesDescription", TEXT),
    0x00089208: ("ComplexImageComponent", TEXT),
    0x00100010: ("PatientName", TEXT),
    0x00100020: ("PatientID", TEXT),
    0x00120062: ("PatientIdentityRemoved", TEXT),
    0x00180023: ("MRAcquisitionType", TEXT),
    0x00180050: ("SliceThickness", DECIMAL),
    0x00180080: ("RepetitionTime", DECIMAL),
    0x00180081: ("EchoTime", DECIMAL),
    0x00180086: ("EchoNumbers", WHOLE),
    0x00180088: ("SpacingBetweenSlices", DECIMAL),
    0x00181030: ("ProtocolName", TEXT),
    0x00181060: ("TriggerTime", DECIMAL),
    0x00181063: ("FrameTime", DECIMAL),
    0x00181164: ("ImagerPixelSpacing", DECIMAL),
    0x00181310: ("AcquisitionMatrix", SHORT),
    0x00189087: ("DiffusionBValue", DOUBLE),
    0x00189089: ("DiffusionGradientOrientation", DOUBLE),
    0x0019100A: ("TilesInMosaic", SHORT),
    0x0020000D: ("StudyInstanceUID", TEXT),
    0x0020000E: ("SeriesInstanceUID", TEXT),
    0x00200011: ("SeriesNumber", WHOLE),
    0x00200012: ("AcquisitionNumber", WHOLE),
    0x00200013: ("InstanceNumber", WHOLE),
    0x00200020: ("PatientOrientation", TEXT),
    0x00200032: ("ImagePositionPatient", DECIMAL),
    0x00200037: ("ImageOrientationPatient", DECIMAL),
    0x00200052: ("FrameOfReferenceUID", TEXT),
    0x00200062: ("ImageLaterality", TEXT),
    0x00200100: ("TemporalPositionIdentifier", WHOLE),
    0x00200110: ("TemporalResolution", DECIMAL),
    0x00280002: ("SamplesPerPixel", SHORT),
    0x00280004: ("PhotometricInterpretation", TEXT),
    0x00280006: ("PlanarConfiguration", SHORT),
    0x00280008: ("NumberOfFrames", WHOLE),
    0x00280010: ("Rows", SHORT),
    0x00280011: ("Columns", SHORT),
    0x00280030: ("PixelSpacing", DECIMAL),
    0x00280100: ("BitsAllocated", SHORT),
    0x00280101: ("BitsStored", SHORT),
    0x00280102: ("HighBit", SHORT),
    0x00280103: ("PixelRepresentation", SHORT),
    0x00280301: ("BurnedInAnnotation", TEXT),
    0x00281052: ("RescaleIntercept", DECIMAL),
    0x00281053: ("RescaleSlope", DECIMAL),
    0x00281054: ("RescaleType", TEXT),
    0x00541001: ("Units", TEXT),
}
WEIGHTY = frozenset(
    (
        0x00081140,
        0x00186011,
        0x00283000,
        0x00409096,
        0x00540022,
        0x52009229,
        0x52009230,
        0x30060020,
        0x00620002,
        0x00041220,
    )
)
"""Sequences that change what the image is or where it lies: files that hold one go to the thorough parser."""
PIXELS, FLOATS, DOUBLES = 0x7FE00010, 0x7FE00008, 0x7FE00009
IMPLICIT, EXPLICIT_LITTLE, EXPLICIT_BIG = (f"1.2.840.10008.1.2{end}" for end in ("", ".1", ".2"))
LONG_FORMS = frozenset((b"OB", b"OW", b"OF", b"OD", b"OL", b"OV", b"SQ", b"UC", b"UR", b"UT", b"UN", b"SV", b"UV"))
UNDEFINED = 0xFFFFFFFF
WINDOWS = (16_384, 1 << 20)
"""Bytes of a file that are read at first, and when the header turns out to be longer."""
_SHORT_HEAD, _LENGTH, _BARE_HEAD = struct.Struct("<HH2sH"), struct.Struct("<I"), struct.Struct("<HHI")


@dataclass
class Slice:
    """One DICOM picture, a file or one frame or tile of it: header read, pixels still on disk."""

    path: Path
    header: dict[str, Any]
    plain: bool
    """Pixels stored uncompressed, so that they can be read straight from `offset`."""
    offset: int
    """Where the pixel element's values start."""
    position: Any = None
    """Centre of the first pixel, (3,), in DICOM's patient axes (x left, y back, z up), mm; None where it has none."""
    orientation: Any = None
    """Unit vectors along a row and along a column, (2, 3) or None, same axes."""
    cut_short: bool = False
    frame: int = 0
    tile: tuple[int, int, int, int] | None = None
    """Top, left, rows and columns within a tiled picture."""
    places: dict[str, float | str] = field(default_factory=dict)
    """Where the frame stands along named axes that the file itself gives: detector, time slot, phase …"""

    def get(self, name: str, default=""):
        value = self.header.get(name)
        return default if value is None or value == "" else value

    def number(self, name: str, default: float = 0.0) -> float:
        """A single number of the header, the first of several; `default` when it is missing or no number."""
        value = self.header.get(name)
        if isinstance(value, list):
            value = value[0] if value else None
        return float(value) if isinstance(value, (int, float)) and math.isfinite(value) else default

    @property
    def whole(self) -> bool:
        return not self.cut_short

    @property
    def rows(self) -> int:
        return self.tile[2] if self.tile else int(self.number("Rows"))

    @property
    def columns(self) -> int:
        return self.tile[3] if self.tile else int(self.number("Columns"))

    @property
    def samples(self) -> int:
        return int(self.number("SamplesPerPixel", 1)) or 1

    @property
    def colour(self) -> bool:
        return self.samples >= 3 or str(self.get("PhotometricInterpretation")).startswith("PALETTE")

    @property
    def bytes_needed(self) -> int:
        """Bytes of one uncompressed frame."""
        samples = (
            2 if self.get("PhotometricInterpretation") == "YBR_FULL_422" else self.samples
        )  # every second pixel's colour is left out
        bits = int(self.number("Rows")) * int(self.number("Columns")) * int(self.number("BitsAllocated")) * samples
        return -(-bits // 8)

    def set_place(self, position, axes) -> None:
        """Take position and orientation when they make sense."""
        try:
            position, axes = [float(v) for v in position or ()], [float(v) for v in axes or ()]
        except (TypeError, ValueError):
            return
        if len(position) != 3 or len(axes) != 6 or not all(map(math.isfinite, (*position, *axes))):
            return
        row, column = math.hypot(*axes[:3]), math.hypot(*axes[3:])
        if row <= 0.5 or column <= 0.5:
            return
        (a, b, c), (d, e, f) = unit = [v / row for v in axes[:3]], [v / column for v in axes[3:]]
        if math.hypot(b * f - c * e, c * d - a * f, a * e - b * d) > 0.1:
            self.position, self.orientation = np.array(position), np.array(unit)


def is_dicom(path: Path) -> bool:
    """Whether a file begins as DICOM does."""
    with open(path, "rb") as stream:
        return starts_as_dicom(stream.read(160))


def starts_as_dicom(start: bytes) -> bool:
    """Whether a file's first bytes are those of DICOM, with the preamble or without."""
    if start[128:132] == b"DICM":
        return True
    return (
        start[:2] in (b"\x08\x00", b"\x02\x00")
        and start[3:4] == b"\x00"
        and len(start) > 16
        and (start[4:6].isalpha() and start[4:6].isupper() or start[6:8] == b"\x00\x00")
    )


def read_header(path: Path) -> Slice | None:
    """What the header of a DICOM file says, image or not; None when the file is not DICOM at all.

    A file that starts as DICOM and then breaks off comes back with `cut_short` set. `header["thorough"]` is set when
    the file holds sequences that say more (many frames, ultrasound regions, detectors).
    """
    for window in WINDOWS:
        try:
            with reading(path), open(path, "rb") as stream:
                start = stream.read(window)
                size = stream.seek(0, 2)
        except OSError:
            return None
        if not starts_as_dicom(start):
            return None
        if is_deflated(start) and not inflates(path, size):
            return Slice(path, {}, False, 0, cut_short=True)
        try:
            found = _quick(start, whole=len(start) == size)
        except EOFError:
            return Slice(path, {}, False, 0, cut_short=True)
        if found is not None or len(start) == size:
            break
    if found is None:
        try:
            with reading(path):
                found = _thorough(path)
        except BaseException as error:  # the parser meets a broken file with many kinds of error
            let_through(error)
            return Slice(path, {}, False, 0, cut_short=True) if start[128:132] == b"DICM" else None
    header, offset, plain = found
    if "SOPClassUID" not in header and "Rows" not in header and start[128:132] != b"DICM":
        return None
    slice_ = Slice(path, header, plain, offset)
    if "Rows" not in header or "Columns" not in header:
        slice_.cut_short = "SOPClassUID" not in header and size <= offset + 12
        return slice_
    frames = max(1, int(slice_.number("NumberOfFrames", 1)))
    slice_.cut_short = (plain and size < offset + slice_.bytes_needed * frames) or size <= offset
    slice_.set_place(header.get("ImagePositionPatient"), header.get("ImageOrientationPatient"))
    return slice_


def _quick(data: bytes, whole: bool = False) -> tuple[dict, int, bool] | None:
    """Walk the first bytes of a little-endian file; None when anything is out of the ordinary or they do not reach the
    pixels.

    A general parser takes a millisecond a file; scans have thousands of files and nearly all are of this kind. Raises
    EOFError when `data` is the `whole` file and ends within an element.
    """
    header: dict[str, Any] = {}
    at = 132 if data[128:132] == b"DICM" else 0
    end, syntax, bare = len(data), None, False
    if at == 0 and not (data[4:6].isalpha() and data[4:6].isupper()):
        syntax, bare = IMPLICIT, True
    try:
        while at + 8 <= end:
            group = data[at] | data[at + 1] << 8
            if group != 2 and syntax is None and at > 0:
                syntax = header.get(
                    "TransferSyntaxUID", EXPLICIT_LITTLE if at == 0 or data[at + 4 : at + 6].isalpha() else IMPLICIT
                )
                if syntax in (DEFLATED, EXPLICIT_BIG):
                    return None
                bare = syntax == IMPLICIT
            if bare:
                group, element, length = _BARE_HEAD.unpack_from(data, at)
                tag, form = group << 16 | element, b""
                at += 8
            else:
                group, element, form, length = _SHORT_HEAD.unpack_from(data, at)
                tag = group << 16 | element
                at += 8
                if form in LONG_FORMS:
                    length = _LENGTH.unpack_from(data, at)[0]
                    at += 4
                elif not (form.isalpha() and form.isupper()):
                    return None
            if tag in (PIXELS, FLOATS, DOUBLES):
                if tag != PIXELS:
                    header["FloatPixels"] = True
                return header, at, length != UNDEFINED and tag == PIXELS
            if tag in WEIGHTY:
                header["thorough"] = True
            if group & 0xFF00 == 0x6000 and element == 0x3000:
                header["Overlays"] = True
            if length == UNDEFINED:
                at = _after_sequence(data, at, bare)
                continue
            if at + length > end:
                if whole:
                    raise EOFError
                return None
            if tag == 0x00020010:
                header["TransferSyntaxUID"] = data[at : at + length].decode("ascii").rstrip("\0 ")
            elif tag in WANTED:
                name, kind = WANTED[tag]
                header[name] = _decoded(data[at : at + length], kind)
            at += length
    except (struct.error, ValueError, IndexError):
        return None
    if not whole:
        return None
    if at < end:
        raise EOFError
    return (header, at, False) if "SOPClassUID" in header else None


def _after_sequence(data: bytes, at: int, bare: bool) -> int:
    """The byte after a sequence (or item) of undefined length that starts at `at`; raises IndexError when it is not all
    there."""
    depth = 1
    while depth:
        group, element, length = _BARE_HEAD.unpack_from(data, at)
        at += 8
        if group == 0xFFFE:
            if element in (0xE0DD, 0xE00D):
                depth -= 1
            elif length == UNDEFINED:
                depth += 1
            else:
                at += length
            continue
        if not bare:
            form = data[at - 4 : at - 2]
            if form in LONG_FORMS:
                length = _LENGTH.unpack_from(data, at)[0]
                at += 4
            else:
                length >>= 16
        if length == UNDEFINED:
            depth += 1
        else:
            at += length
        if at > len(data):
            raise IndexError
    return at


def _decoded(raw: bytes, kind: int):
    if kind == SHORT:
        values = [int.from_bytes(raw[n : n + 2], "little") for n in range(0, len(raw) - 1, 2)]
        return values if len(values) > 1 else values[0] if values else None
    if kind == DOUBLE:
        values = list(struct.unpack(f"<{len(raw) // 8}d", raw[: len(raw) // 8 * 8]))
        return values if len(values) > 1 else values[0] if values else None
    text = raw.decode("ascii" if kind != TEXT else "latin-1").strip("\0 ")
    if kind == TEXT:
        if not text.isascii():
            raise ValueError  # the character set matters: leave it to the thorough parser
        return text
    parts = [v for v in text.split("\\") if v.strip()]
    numbers: list[float] = [float(v) if kind == DECIMAL else int(float(v)) for v in parts]
    return numbers if len(numbers) > 1 else numbers[0] if numbers else None


def _thorough(path: Path) -> tuple[dict, int, bool]:
    import pydicom

    with open(path, "rb") as stream:
        dataset = pydicom.dcmread(stream, stop_before_pixels=True, force=True)
        syntax = dataset.file_meta.get("TransferSyntaxUID") if hasattr(dataset, "file_meta") else None
        # the reader stops in front of the pixel element: tag 4, VR 2, reserved 2, length 4 bytes
        offset = stream.tell() + (8 if syntax is None or syntax.is_implicit_VR else 12)
        head = stream.read(4)
    small = syntax is None or syntax.is_little_endian
    group, element = struct.unpack("<HH" if small else ">HH", head) if len(head) == 4 else (0, 0)
    floats: dict[str, Any] = {"FloatPixels": True} if (group << 16 | element) in (FLOATS, DOUBLES) else {}
    plain = syntax is not None and not syntax.is_compressed and not syntax.is_deflated and syntax.is_little_endian
    if syntax is not None and syntax.is_deflated:
        offset = 0  # counted in the unpacked stream, so it tells nothing of the file
    if syntax is not None:
        floats["TransferSyntaxUID"] = str(syntax)
    return header_of(dataset) | floats, offset, plain and "FloatPixels" not in floats


def header_of(dataset) -> dict[str, Any]:
    """The wanted elements of a parsed data set, in the form the quick walk gives them."""
    header: dict[str, Any] = {}
    for tag, (name, kind) in WANTED.items():
        element = dataset.get(tag)
        if element is None or element.value is None or element.value == "" or element.VM == 0:
            continue
        value = element.value
        if kind == TEXT:
            header[name] = "\\".join(map(str, value)) if element.VM > 1 else str(value)
            continue
        number = int if kind in (WHOLE, SHORT) else float
        try:
            header[name] = [number(v) for v in value] if element.VM > 1 else number(value)
        except (TypeError, ValueError):
            continue
    if any(tag in dataset for tag in WEIGHTY):
        header["thorough"] = True
    if any(tag.group & 0xFF00 == 0x6000 and tag.element == 0x3000 for tag in dataset.keys()):
        header["Overlays"] = True
    return header
