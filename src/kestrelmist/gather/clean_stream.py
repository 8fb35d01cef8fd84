"""Pixel data without what is no pixel: comments and camera facts in packed pictures, bytes after the last one.

Packed pictures keep their coded bytes, so that nothing is lost; of the segments around them only those that a decoder
needs are copied (JPEG and JPEG-LS: ITU-T T.81, T.87; JPEG 2000: T.800 Annex A; run lengths: DICOM PS3.5 Annex G).
"""

from __future__ import annotations

import math
import struct

JPEG = ("1.2.840.10008.1.2.4.5", "1.2.840.10008.1.2.4.6", "1.2.840.10008.1.2.4.7", "1.2.840.10008.1.2.4.8")
"""How the transfer syntaxes of JPEG and JPEG-LS begin."""
JPEG_2000 = ("1.2.840.10008.1.2.4.9", "1.2.840.10008.1.2.4.20")
RLE = "1.2.840.10008.1.2.5"


def bare_pixels(ds) -> None:
    """Rid the pixel data of a data set of everything that no picture needs, in place.

    Raises ValueError when packed pictures are not what their transfer syntax says.
    """
    for keyword in ("PixelData", "FloatPixelData", "DoubleFloatPixelData"):
        if keyword not in ds or "Rows" not in ds:
            continue
        if keyword == "PixelData" and ds.file_meta.TransferSyntaxUID.is_encapsulated:
            _bare_frames(ds)
            continue
        whole, data = _plain_size(ds, keyword), ds[keyword].value
        if len(data) > whole + whole % 2:
            ds[keyword].value = bytes(data[:whole]) + b"\0" * (whole % 2)
        elif len(data) == whole + 1 and whole % 2 and data[-1]:
            ds[keyword].value = bytes(data[:whole]) + b"\0"


def _plain_size(ds, keyword: str) -> int:
    pictures = max(1, int(ds.get("NumberOfFrames", 1) or 1))
    values = int(ds.Rows) * int(ds.Columns) * int(ds.get("SamplesPerPixel", 1) or 1) * pictures
    if keyword != "PixelData":
        return values * (4 if keyword == "FloatPixelData" else 8)
    if str(ds.get("PhotometricInterpretation", "")) == "YBR_FULL_422":
        values = values // 3 * 2
    return math.ceil(values * int(ds.get("BitsAllocated", 16)) / 8)


def _bare_frames(ds) -> None:
    from pydicom.encaps import encapsulate, generate_frames

    syntax = str(ds.file_meta.TransferSyntaxUID)
    clean = (
        bare_jpeg2000
        if syntax.startswith(JPEG_2000)
        else bare_jpeg
        if syntax.startswith(JPEG)
        else _bare_runs(ds)
        if syntax == RLE
        else None
    )
    count = max(1, int(ds.get("NumberOfFrames", 1) or 1))
    if clean is None:  # a film is one stream, which is left as it is
        return
    offsets = None
    if "ExtendedOffsetTable" in ds and "ExtendedOffsetTableLengths" in ds:
        offsets = (ds.ExtendedOffsetTable, ds.ExtendedOffsetTableLengths)
    packed = generate_frames(ds.PixelData, number_of_frames=count, extended_offsets=offsets)
    pictures = [clean(one) for _, one in zip(range(count), packed)]
    if len(pictures) < count:
        raise ValueError("pictures are missing")
    for keyword in ("ExtendedOffsetTable", "ExtendedOffsetTableLengths"):
        if keyword in ds:
            delattr(ds, keyword)
    ds.PixelData = encapsulate(pictures, has_bot=sum(map(len, pictures)) < 1 << 31)


def bare_jpeg(data: bytes) -> bytes:
    """A JPEG or JPEG-LS stream without comments, camera facts and what follows its end.

    Raises ValueError when it is none.
    """
    if data[:2] != b"\xff\xd8":
        raise ValueError("no JPEG stream")
    out, at = [b"\xff\xd8"], 2
    while at < len(data) - 1:
        if data[at] != 0xFF:
            raise ValueError("no marker where one should be")
        marker = data[at + 1]
        if marker == 0xFF:  # a fill byte
            at += 1
            continue
        if marker == 0xD9:
            out.append(b"\xff\xd9")
            break
        if marker == 0x01 or 0xD0 <= marker <= 0xD7:
            out.append(data[at : at + 2])
            at += 2
            continue
        size = struct.unpack_from(">H", data, at + 2)[0]
        body = data[at + 4 : at + 2 + size]
        needed = _needed(marker, body)
        if needed is not None:
            out.append(bytes((0xFF, marker)) + struct.pack(">H", len(needed) + 2) + needed)
        at += 2 + size
        if marker == 0xDA:
            end = _end_of_scan(data, at)
            out.append(data[at:end])
            at = end
    else:
        out.append(b"\xff\xd9")
    return _even(b"".join(out))


def _needed(marker: int, body: bytes) -> bytes | None:
    """What a decoder needs of a segment; None when it needs nothing of it."""
    if marker == 0xFE:
        return None
    if not 0xE0 <= marker <= 0xEF:
        return body
    if marker == 0xE0 and body[:5] == b"JFIF\0" and len(body) >= 14:
        return body[:12] + b"\0\0"  # without its thumbnail
    if marker == 0xEE and body[:5] == b"Adobe" and len(body) >= 12:
        return body[:12]  # says how colours were turned
    if marker == 0xE8 and body[:4] == b"mrfx" and len(body) >= 5:
        return body[:5]
    return None


def _end_of_scan(data: bytes, at: int) -> int:
    """Where the coded bytes end: at a marker that is no part of them."""
    while True:
        at = data.find(b"\xff", at)
        if at < 0 or at + 1 >= len(data):
            return len(data)
        following = data[at + 1]
        if following >= 0x80 and not 0xD0 <= following <= 0xD7 and following != 0xFF:
            return at
        at += 1 if following == 0xFF else 2


def bare_jpeg2000(data: bytes) -> bytes:
    """A JPEG 2000 codestream without its comments, the boxes around it and what follows its end.

    Raises ValueError when it is none.
    """
    if data[4:8] == b"jP  ":
        data = _codestream(data)
    if data[:2] != b"\xff\x4f":
        raise ValueError("no JPEG 2000 codestream")
    out, at = [b"\xff\x4f"], 2
    while data[at : at + 2] != b"\xff\x90":  # the main header, up to the first part of a tile
        marker, size = struct.unpack_from(">HH", data, at)
        if marker not in (0xFF64, 0xFF55):  # comments; lengths of tile parts, which may change
            out.append(data[at : at + 2 + size])
        at += 2 + size
    while data[at : at + 2] == b"\xff\x90":
        start = at
        tile, length, part, parts = struct.unpack_from(">HIBB", data, at + 4)
        head, at = [], at + 12
        while data[at : at + 2] != b"\xff\x93":
            marker, size = struct.unpack_from(">HH", data, at)
            if marker != 0xFF64:
                head.append(data[at : at + 2 + size])
            at += 2 + size
        end = start + length if length else (data.rfind(b"\xff\xd9") if b"\xff\xd9" in data[at:] else len(data))
        body = b"".join(head) + data[at:end]
        out.append(b"\xff\x90" + struct.pack(">HHIBB", 10, tile, len(body) + 12 if length else 0, part, parts) + body)
        at = end
    out.append(b"\xff\xd9")
    return _even(b"".join(out))


def _codestream(data: bytes) -> bytes:
    at = 0
    while at + 8 <= len(data):
        size, kind = struct.unpack_from(">I4s", data, at)
        head = 8
        if size == 1:
            size, head = struct.unpack_from(">Q", data, at + 8)[0], 16
        if kind == b"jp2c":
            return data[at + head : at + size if size else len(data)]
        if size < head:
            break
        at += size
    raise ValueError("no codestream in its boxes")


def _bare_runs(ds):
    """A function that cuts each segment of run lengths where its bytes are all there."""
    needed = int(ds.Rows) * int(ds.Columns)

    def clean(data: bytes) -> bytes:
        count, *offsets = struct.unpack_from("<16L", data)
        if not 1 <= count <= 15:
            raise ValueError("no run lengths")
        segments = []
        for n in range(count):
            end = offsets[n + 1] if n + 1 < count else len(data)
            segments.append(_even(_runs(data[offsets[n] : end], needed)))
        places, at = [], 64
        for one in segments:
            places.append(at)
            at += len(one)
        return struct.pack("<16L", count, *places, *[0] * (15 - count)) + b"".join(segments)

    return clean


def _runs(data: bytes, needed: int) -> bytes:
    at = made = 0
    while made < needed:
        if at >= len(data):
            raise ValueError("run lengths are cut short")
        length = data[at]
        if length < 128:
            made, at = made + length + 1, at + length + 2
        elif length > 128:
            made, at = made + 257 - length, at + 2
        else:
            at += 1
    return data[:at]


def _even(data: bytes) -> bytes:
    return data + b"\0" * (len(data) % 2)
