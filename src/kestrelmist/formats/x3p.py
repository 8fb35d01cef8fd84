"""Height maps in X3P, the open container of ISO 25178-72: a zip with an XML header and a binary matrix. Read and
written here."""

from __future__ import annotations

import hashlib
import io
import xml.etree.ElementTree as ElementTree
import zipfile
from datetime import datetime
from pathlib import Path

import numpy as np

from ..core.caveat import NO_SCALE, Caveat
from ..core.errors import Trouble
from ..core.heights import in_small_units
from ..core.image import Image, Origin
from ..core.progress import Progress
from ..core.safe_write import written_whole
from ..core.space import picture_space
from .format import Format, image_name, register

NAMESPACE = "http://www.opengps.eu/2008/ISO5436_2"
TYPES = {"I": "<i2", "L": "<i4", "F": "<f4", "D": "<f8"}
MOST_HEADER = 4 << 20


def read_x3p(path: Path) -> Image:
    """A surface on an even grid. Heights, which the standard has in metres, come in nanometres; the matrix is not
    resampled.

    Raises
    ------
    Trouble
        When the container is damaged, names parts outside itself, or holds a profile or a cloud of points.
    """
    with zipfile.ZipFile(path) as archive:
        root = _header(archive, path)
        sizes = [int(_text(root, "Record3/MatrixDimension/" + key, "0")) for key in ("SizeX", "SizeY", "SizeZ")]
        if min(sizes) < 1 or _text(root, "Record1/FeatureType", "SUR") not in ("SUR", "PRF"):
            raise Trouble("This X3P file holds no surface on a grid", "export the surface as a matrix", path)
        columns, rows, layers = sizes
        kind = _text(root, "Record1/Axes/CZ/DataType", "D")
        link = _text(root, "Record3/DataLink/PointDataLink", "")
        if link:
            values = _matrix(archive, link, np.dtype(TYPES.get(kind, "<f8")), (layers, rows, columns), path)
        else:
            values = _listed(root, (layers, rows, columns), path)
        values = _valid(archive, root, values, path)
    steps = [float(_text(root, f"Record1/Axes/{axis}/Increment", "0") or 0) for axis in ("CX", "CY", "CZ")]
    if kind in "IL" and not (steps[2] in (0.0, 1.0) and float(_text(root, "Record1/Axes/CZ/Offset", "0") or 0) == 0):
        values = values * (steps[2] or 1.0) + float(_text(root, "Record1/Axes/CZ/Offset", "0") or 0)
    values, unit = in_small_units(values, "m")
    spacing = (steps[0] * 1000, steps[1] * 1000) if min(steps[:2]) > 0 else None
    facts = {
        e.tag.split("}")[-1]: e.text.strip()
        for e in root.iter()
        if e.text and e.text.strip() and len(e) == 0 and e.tag != "Datum"
    }
    caveats = [] if spacing else [Caveat(NO_SCALE, "The file gives no scale: pixel spacing is missing")]
    return Image(
        values.transpose(2, 1, 0),
        picture_space(columns, rows, spacing, layers),
        image_name(path),
        unit=unit,
        facts=facts,
        origin=Origin("X3P", [path]),
        caveats=caveats,
    )


def _header(archive: zipfile.ZipFile, path: Path):
    names = {n.lstrip("./"): n for n in archive.namelist()}
    if "main.xml" not in names:
        raise Trouble("This X3P file has no header", "copy it again", path)
    text = _part(archive, names["main.xml"], MOST_HEADER, path)
    if b"<!DOCTYPE" in text or b"<!ENTITY" in text:
        raise Trouble("The header of this X3P file is not allowed to define entities", "export it anew", path)
    return ElementTree.fromstring(text)


def _part(archive: zipfile.ZipFile, name: str, most: int, path: Path) -> bytes:
    """A part of the container, read into memory and never written anywhere."""
    parts = Path(name).parts
    if ".." in parts or name.startswith(("/", "\\")):
        raise Trouble("This X3P file names a part outside itself", "get it again from where it was made", path)
    with archive.open(name) as stream:
        data = stream.read(most + 1)
    if len(data) > most:
        raise Trouble("A part of this X3P file is larger than its header says", "copy it again", path)
    return data


def _text(root, place: str, default: str) -> str:
    found = root.find(place)
    return default if found is None or found.text is None else found.text.strip()


def _matrix(archive, link: str, kind: np.dtype, shape, path: Path) -> np.ndarray:
    needed = int(np.prod(shape, dtype=object)) * kind.itemsize
    if needed > 1100 * max(path.stat().st_size, 64):
        raise Trouble("The header of this file promises more values than it can hold", "copy it again", path)
    data = _part(archive, link.removeprefix("./"), needed, path)
    if len(data) < needed:
        raise Trouble(f"This file is cut short: {len(data)} of {needed} bytes are there", "copy it again", path)
    return np.frombuffer(data, kind).reshape(shape)


def _listed(root, shape, path: Path) -> np.ndarray:
    """Heights written in the header itself, "x;y;z" or just "z"."""
    texts = [e.text for e in root.iter() if e.tag.split("}")[-1] == "Datum"]
    if len(texts) != int(np.prod(shape, dtype=object)):
        raise Trouble("This X3P file does not hold the values its header promises", "copy it again", path)
    return np.array([float(t.split(";")[-1]) if t and t.strip() else np.nan for t in texts]).reshape(shape)


def _valid(archive, root, values: np.ndarray, path: Path) -> np.ndarray:
    """Points that a mask calls invalid become "no value"."""
    link = _text(root, "Record3/DataLink/ValidPointsLink", "")
    if not link or link not in archive.namelist():
        return values
    bits = np.unpackbits(
        np.frombuffer(_part(archive, link, values.size // 8 + 4096, path)[: values.size // 8 + 1], np.uint8),
        bitorder="little",
    )
    if bits.size < values.size:
        return values
    kept = values.astype(np.float64 if values.dtype.itemsize > 2 else np.float32)
    kept[~bits[: values.size].astype(bool).reshape(values.shape)] = np.nan
    return kept


def save_x3p(path: Path, image: Image, progress: Progress | None = None) -> None:
    """Write a height map as X3P. Heights in a length unit are turned into metres, as the standard asks.

    Raises
    ------
    Trouble
        When the image is no height map of one layer in a length unit, or has no scale.
    """
    from .lengths import millimetres

    scale = millimetres(image.unit)
    if image.axes or image.colour or image.space.shape[2] != 1 or scale is None or image.space.unit != "mm":
        raise Trouble(
            f"“{image.name}” is no height map with a scale, which X3P asks for",
            "choose .ome.tif, or set its scale and unit first",
            path,
        )
    values = image.stored((), progress).exact()[:, :, 0].T
    if image.unit != "m":
        values = values.astype(np.float64) * (scale / 1000)
    kind = next((k for k, v in TYPES.items() if values.dtype == np.dtype(v)), "D")
    binary = np.ascontiguousarray(values, TYPES[kind]).tobytes()
    digest = hashlib.md5(binary, usedforsecurity=False).hexdigest().upper()
    columns, rows = image.space.shape[:2]
    across, down = (s / 1000 for s in image.space.spacing[:2])
    axes = _axis("CX", "I", across, "L") + _axis("CY", "I", down, "L") + _axis("CZ", "A", 1, kind)
    now = datetime.now().isoformat(timespec="seconds")
    header = (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        f'<p:ISO5436_2 xmlns:p="{NAMESPACE}"><Record1><Revision>ISO5436 - 2000</Revision>'
        f"<FeatureType>SUR</FeatureType><Axes>{axes}</Axes></Record1>"
        f"<Record2><Date>{now}</Date><Creator>Kestrelmist</Creator></Record2>"
        f"<Record3><MatrixDimension><SizeX>{columns}</SizeX><SizeY>{rows}</SizeY><SizeZ>1</SizeZ></MatrixDimension>"
        "<DataLink><PointDataLink>bindata/data.bin</PointDataLink>"
        f"<MD5ChecksumPointData>{digest}</MD5ChecksumPointData></DataLink></Record3>"
        "<Record4><ChecksumFile>md5checksum.hex</ChecksumFile></Record4></p:ISO5436_2>"
    ).encode()
    whole = io.BytesIO()
    with zipfile.ZipFile(whole, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("main.xml", header)
        archive.writestr("bindata/data.bin", binary)
        archive.writestr(
            "md5checksum.hex", hashlib.md5(header, usedforsecurity=False).hexdigest().upper() + " *main.xml\n"
        )
    with written_whole(path) as stream:
        stream.write(whole.getvalue())


def _axis(name: str, way: str, step: float, dtype: str) -> str:
    """One axis of the header; `way` is "I" for even steps or "A" for heights as they are."""
    return (
        f"<{name}><AxisType>{way}</AxisType><DataType>{dtype}</DataType><Increment>{step:.17g}</Increment>"
        f"<Offset>0</Offset></{name}>"
    )


register(Format("X3P", (".x3p",), read_x3p, save_x3p))
