"""Surfaces as VTP, the XML of polygonal data: which part a triangle is of stands with it, names and unit as texts."""

from __future__ import annotations

import base64
import struct
import zlib
from pathlib import Path
from xml.etree import ElementTree
from xml.sax.saxutils import quoteattr

import numpy as np

from ...core.errors import Trouble
from ...core.surface.surface import COLOUR, Surface, Surfaces
from .told import OURS, hexed, rgb

KINDS = {
    "Float64": "<f8",
    "Float32": "<f4",
    "Int64": "<i8",
    "Int32": "<i4",
    "UInt8": "<u1",
    "Int16": "<i2",
    "UInt16": "<u2",
    "UInt32": "<u4",
    "UInt64": "<u8",
    "Int8": "<i1",
}


def vtp(several: Surfaces) -> bytes:
    """Positions as 64-bit numbers, all in the file itself."""
    corners = np.concatenate([one.corners for one in several.parts])
    starts = np.cumsum([0, *(len(one.corners) for one in several.parts)])
    triangles = np.concatenate([one.triangles + start for one, start in zip(several.parts, starts)]).astype(np.int64)
    part = np.repeat(np.arange(len(several.parts)), [len(one.triangles) for one in several.parts]).astype(np.int32)
    colours = np.array([rgb(one.colour) for one in several.parts], np.uint8)[part]
    ends = np.arange(3, 3 * len(triangles) + 1, 3, dtype=np.int64)
    words = {"unit": [several.unit], "axes": [OURS], "parts": [one.name for one in several.parts]}
    texts = "".join(_text(name, values) for name, values in words.items())
    rows = [
        '<?xml version="1.0"?>',
        '<VTKFile type="PolyData" version="1.0" byte_order="LittleEndian" header_type="UInt64">',
        f"<PolyData><FieldData>{texts}</FieldData>",
        f'<Piece NumberOfPoints="{len(corners)}" NumberOfPolys="{len(triangles)}" NumberOfVerts="0" '
        'NumberOfLines="0" NumberOfStrips="0">',
        f"<Points>{_array('Points', 'Float64', corners, 3)}</Points>",
        f'<CellData Scalars="part">{_array("part", "Int32", part)}{_array("colour", "UInt8", colours, 3)}</CellData>',
        f"<Polys>{_array('connectivity', 'Int64', triangles)}{_array('offsets', 'Int64', ends)}</Polys>",
        "</Piece></PolyData></VTKFile>",
    ]
    return "\n".join(rows).encode()


def _array(name: str, kind: str, values: np.ndarray, parts: int = 1) -> str:
    raw = np.ascontiguousarray(values, KINDS[kind]).tobytes()
    text = base64.b64encode(struct.pack("<Q", len(raw)) + raw).decode()
    return f'<DataArray type="{kind}" Name="{name}" NumberOfComponents="{parts}" format="binary">{text}</DataArray>'


def _text(name: str, values: list[str]) -> str:
    codes = " ".join(str(byte) for value in values for byte in [*value.encode(), 0])
    return (
        f'<DataArray type="String" Name={quoteattr(name)} NumberOfTuples="{len(values)}" format="ascii">'
        f"{codes}</DataArray>"
    )


def read_vtp(path: Path) -> Surfaces:
    """Surfaces of a VTP file whose numbers stand in the file as text or as base64, packed by zlib or not.

    Raises
    ------
    Trouble
        When it is no such file, its numbers lie behind the XML, or it has no triangles.
    """
    start = path.read_bytes()
    if b"<!DOCTYPE" in start[:4096] or b"<!ENTITY" in start:
        raise Trouble("This file defines entities of its own, which are not read", "write it anew without", path)
    root = ElementTree.fromstring(start)
    if root.tag != "VTKFile" or root.get("type") != "PolyData":
        raise Trouble("This file holds no polygons", "choose a VTP file of a surface", path)
    if root.get("byte_order", "LittleEndian") != "LittleEndian":
        raise Trouble("The numbers of this file run from the high end", "write it anew as LittleEndian", path)
    texts = {
        one.get("Name", ""): _words(one) for one in root.iter("DataArray") if one.get("type") == "String" and one.text
    }
    found: list[Surface] = []
    for piece in root.iter("Piece"):
        found += _piece(piece, root, texts.get("parts", []), path)
    unit = next(iter(texts.get("unit", [])), "")
    return Surfaces(tuple(found), path.stem, unit=unit)


def _piece(piece, root, names: list[str], path: Path) -> list[Surface]:
    arrays = {
        (group.tag, one.get("Name", "")): _numbers(one, root, path)
        for group in piece
        for one in group.iter("DataArray")
        if one.get("type") in KINDS
    }
    points = next((v for (group, _), v in arrays.items() if group == "Points"), None)
    chain, ends = arrays.get(("Polys", "connectivity")), arrays.get(("Polys", "offsets"))
    if points is None or chain is None or ends is None:
        return []
    corners = points.reshape(-1, 3).astype(float)
    sizes = np.diff(ends, prepend=0)
    triangles, of = fanned(chain.astype(np.int64), sizes.astype(np.int64))
    part = arrays.get(("CellData", "part"))
    if part is None or len(part) != len(sizes):
        return [Surface(corners, triangles, path.stem)]
    colours = arrays.get(("CellData", "colour"))
    found = []
    for n in np.unique(part):
        mine = triangles[part[of] == n]
        used, where = np.unique(mine, return_inverse=True)
        colour = hexed(colours.reshape(-1, 3)[part == n][0]) if colours is not None else COLOUR
        name = names[int(n)] if 0 <= n < len(names) else path.stem
        found.append(Surface(corners[used], where.reshape(-1, 3), name, colour))
    return found


def fanned(chain: np.ndarray, sizes: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Triangles (m, 3) of polygons, corner after corner, and the polygon that each is of."""
    starts = np.cumsum(sizes) - sizes
    of = np.repeat(np.arange(len(sizes)), np.maximum(sizes - 2, 0))
    within = np.arange(len(of)) - np.repeat(
        np.cumsum(np.maximum(sizes - 2, 0)) - np.maximum(sizes - 2, 0), np.maximum(sizes - 2, 0)
    )
    first = starts[of]
    return np.stack((chain[first], chain[first + within + 1], chain[first + within + 2]), 1), of


def _words(array) -> list[str]:
    codes = [int(code) for code in (array.text or "").split()]
    return [word.decode("utf-8", "replace") for word in bytes(c & 255 for c in codes).split(b"\0")[:-1]]


def _numbers(array, root, path: Path) -> np.ndarray:
    kind, text = np.dtype(KINDS[array.get("type")]), (array.text or "").strip()
    if array.get("format") == "ascii":
        return np.array(text.split(), kind)
    if array.get("format") != "binary":
        raise Trouble("The numbers of this file lie behind its XML", "write it anew with numbers in base64", path)
    head = np.dtype("<u8" if root.get("header_type") == "UInt64" else "<u4")
    if not root.get("compressor"):
        raw = base64.b64decode(text)
        size = int(np.frombuffer(raw, head, 1)[0])
        return np.frombuffer(raw[head.itemsize : head.itemsize + size], kind)
    if "ZLib" not in root.get("compressor", ""):
        raise Trouble("The numbers of this file are packed in a way that is not read", "write it anew unpacked", path)
    blocks = int(np.frombuffer(base64.b64decode(text[: 4 * -(-head.itemsize // 3)]), head, 1)[0])
    length = 4 * -(-head.itemsize * (3 + blocks) // 3)
    sizes = np.frombuffer(base64.b64decode(text[:length]), head)[3 : 3 + blocks]
    raw, at, parts = base64.b64decode(text[length:]), 0, []
    limit = int(np.frombuffer(base64.b64decode(text[:length]), head)[1])
    for size in sizes.tolist():
        unpack = zlib.decompressobj()
        parts.append(unpack.decompress(raw[at : at + size], limit))
        at += size
    return np.frombuffer(b"".join(parts), kind)
