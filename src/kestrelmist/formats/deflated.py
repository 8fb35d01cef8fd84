"""DICOM files whose data set is packed as a whole (PS3.5 A.5)."""

from __future__ import annotations

import zlib
from pathlib import Path

DEFLATED = "1.2.840.10008.1.2.1.99"


def is_deflated(start: bytes) -> bool:
    """Whether a file that begins so is packed."""
    return DEFLATED.encode() in start[:1024]


def packed_at(start: bytes) -> int:
    """Where the packed part begins: behind the file meta, whose length comes first (PS3.10); 0 when none is given."""
    at = start.find(b"\x02\x00\x00\x00UL\x04\x00")
    return 0 if at < 0 else at + 12 + int.from_bytes(start[at + 8 : at + 12], "little")


def unpacked(data: bytes) -> bytes:
    """A whole file with its data set unpacked; as it is when it cannot be."""
    at = packed_at(data[:4096])
    try:
        return data[:at] + zlib.decompressobj(-zlib.MAX_WBITS).decompress(data[at:]) if at else data
    except zlib.error:
        return data


def inflates(path: Path, size: int) -> bool:
    """Whether a packed data set unpacks to a size that a file of this one may have; nothing is kept of it."""
    room = 10 * size + (60 << 20)
    with open(path, "rb") as stream:
        at = packed_at(stream.read(4096))
        if not at:
            return True  # the parser says what is wrong with it
        stream.seek(at)
        unpacker = zlib.decompressobj(-zlib.MAX_WBITS)
        try:
            while block := unpacker.unconsumed_tail or stream.read(1 << 16):
                room -= len(unpacker.decompress(block, 1 << 22))
                if room < 0:
                    return False
                if unpacker.eof:
                    break
        except zlib.error:
            return True
    return True
