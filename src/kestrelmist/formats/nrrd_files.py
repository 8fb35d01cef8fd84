"""NRRD, attached (.nrrd) and detached (.nhdr): read lazily, written packed."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np

from ..core.axis import Axis
from ..core.caveat import SIDES_UNKNOWN, Caveat
from ..core.errors import Trouble, let_through
from ..core.image import Image, Origin
from ..core.progress import Progress, silent
from ..core.space import Space, picture_space
from .detached import millimetres_of, text_values, values_beside
from .exact_planes import exact_planes, number_type
from .format import Format, image_name, register
from .layout import Layout
from .own_words import KEY, own_words, take_in_words
from .raw_values import RawValues

PACKINGS = {"raw": "", "gz": "gzip", "gzip": "gzip", "bz2": "bz2", "bzip2": "bz2"}
AXES_OF = {
    "right-anterior-superior": (1, 1, 1),
    "ras": (1, 1, 1),
    "left-posterior-superior": (-1, -1, 1),
    "lps": (-1, -1, 1),
    "left-anterior-superior": (-1, 1, 1),
    "las": (-1, 1, 1),
}
"""Signs that turn the axes of a space into the world's right, front, up."""
WORDS = {"space units": True, "units": True, "labels": True, "sample units": False, "content": False}
"""Fields in words, and whether they hold one for each axis."""
MOST_HEADER = 1 << 20
COLOURS = ("RGB-color", "RGBA-color")


def read_nrrd(path: Path) -> Image:
    """An NRRD of any layout: axes with a direction in space become i, j, k, "time" and others the image's own axes."""
    import nrrd

    with open(path, "rb") as stream:
        try:
            header = nrrd.read_header(stream)
        except BaseException as error:  # the parser breaks on damaged headers in many ways
            let_through(error)
            raise Trouble(
                "The header of this NRRD file is damaged", "copy it again or convert it anew", path
            ) from error
        end = stream.tell()
        stream.seek(0)
        _letters_kept(header, stream.read(min(end, MOST_HEADER)))
    sizes = tuple(int(n) for n in header["sizes"])
    dtype = _dtype(header, path)
    named = header.get("data file", header.get("datafile"))
    if isinstance(named, (list, tuple)) or str(named).upper().startswith("LIST") or "%" in str(named or ""):
        raise Trouble(
            "The values of this NRRD lie in a list of files", "write it again with all values in one file", path
        )
    data = path if named is None else values_beside(path, str(named))
    kinds = list(header.get("kinds") or [""] * len(sizes))
    space_axes, directions = _space_axes(header, kinds, sizes)
    colours = next(
        (n for n, kind in enumerate(kinds) if kind in COLOURS and dtype == np.uint8 and sizes[n] in (3, 4)), None
    )
    others = [n for n in range(len(sizes)) if n not in space_axes and n != colours]
    along = tuple(n for n in others if sizes[n] > 1)
    fetch = _fetch(header, data, end if named is None else 0, dtype, sizes, _full(space_axes), along, colours, path)
    space, caveats = _space(header, directions, space_axes, [sizes[n] for n in space_axes])
    unit = str(header.get("sample units", header.get("sampleunits", ""))).strip('"')
    words = str(header.pop(KEY, "")).replace("\\\\", "\\")
    facts = {str(k): _text(v) for k, v in header.items()}
    image = Image(
        fetch,
        space,
        image_name(path),
        facts=facts,
        unit=unit,
        axes=[_axis(header, kinds[n], n, sizes[n]) for n in along],
        colour=colours is not None,
        origin=Origin("NRRD", [path] if named is None else [path, data]),
        caveats=caveats,
    )
    take_in_words(image, words)
    return image


def _letters_kept(header, text: bytes) -> None:
    """Fields in words as they stand in the file: the parser leaves letters beyond ASCII out, and makes metres of µm."""
    for line in text.splitlines():
        if line.isascii():
            continue
        try:
            name, _, value = line.decode("utf-8").partition(":")
        except UnicodeDecodeError:
            name, _, value = line.decode("latin-1").partition(":")
        name = name.strip().casefold()
        if name in WORDS:
            found = [a or b for a, b in re.findall(r'"([^"]*)"|(\S+)', value)]
            header[name] = found if WORDS[name] else value.strip()


def _text(value) -> str:
    return (
        " ".join(f"{v:.10g}" for v in np.ravel(value))
        if isinstance(value, np.ndarray) and value.dtype.kind in "fiu"
        else str(value)
    )


def _full(space_axes: list[int]) -> tuple[int, int, int]:
    i, j, k = (space_axes + [-1, -1])[:3]
    return i, j, k


def _dtype(header, path: Path) -> np.dtype:
    from nrrd.reader import _determine_datatype

    try:
        kind = np.dtype(_determine_datatype(header))
    except BaseException as error:
        let_through(error)
        raise Trouble(
            f"Values of type “{header.get('type')}” in this NRRD cannot be read", "convert it anew", path
        ) from error
    if kind.kind not in "iuf":
        raise Trouble("This NRRD holds blocks instead of numbers", "convert it anew", path)
    return kind


def _space_axes(header, kinds, sizes) -> tuple[list[int], list[np.ndarray] | None]:
    """Axes of the array that run through space, and the direction of each when the header gives them."""
    given = header.get("space directions")
    if given is not None:
        found = [
            (n, np.array(d, float))
            for n, d in enumerate(given)
            if d is not None and np.all(np.isfinite(np.array(d, float)))
        ]
        if 1 <= len(found) <= 3:
            return [n for n, _ in found], [d for _, d in found]
    free = [n for n, kind in enumerate(kinds) if kind in ("", "domain", "space", "???", "none")]
    return free[:3] or list(range(min(3, len(sizes)))), None


def _space(header, directions, space_axes, shape) -> tuple[Space, list[Caveat]]:
    shape3 = tuple((shape + [1, 1])[:3])
    if directions is None or len(directions[0]) not in (2, 3):
        return _space_of_spacings(header, space_axes, shape, shape3)
    rank = len(directions[0])
    signs = AXES_OF.get(str(header.get("space", "")).strip().lower())
    # the units of the space count for its directions and its origin, and those of the axes where it has none
    units = _words(header, "space units") or _of_axes(header, space_axes)
    factors, caveats = millimetres_of(units, rank)
    if not signs:
        caveats.append(Caveat(SIDES_UNKNOWN, "The file does not say which side is which, so sides are unknown"))
    affine = np.eye(4)
    for n, direction in enumerate(directions):
        affine[:3, n] = 0.0
        affine[:rank, n] = direction * factors
    for n in range(len(directions), 3):
        free = np.linalg.svd(affine[:3, :n].T)[2][-1] if n else np.eye(3)[0]
        affine[:3, n] = free * np.linalg.norm(affine[:3, 0])
    affine[:rank, 3] = np.asarray(header.get("space origin", np.zeros(rank)), float)[:rank] * factors
    return Space(shape3, np.diag([*(signs or (1, 1, 1)), 1.0]) @ affine), caveats


def _space_of_spacings(header, space_axes, shape, shape3) -> tuple[Space, list[Caveat]]:
    given = np.atleast_1d(header.get("spacings", np.array([np.nan])))
    factors, caveats = millimetres_of(_of_axes(header, space_axes), len(space_axes))
    spacings = [float(given[n]) * f for n, f in zip(space_axes, factors) if n < len(given)]
    spacings = [v for v in spacings if np.isfinite(v) and v > 0]
    if len(shape) == 3 and len(spacings) >= 3:
        said = Caveat(SIDES_UNKNOWN, "The file gives a voxel size but no position, so sides are unknown")
        return Space(shape3, np.diag([*spacings[:3], 1.0])), [*caveats, said]
    scale = (spacings[0], spacings[1]) if len(spacings) > 1 else None
    return picture_space(shape3[0], shape3[1], scale, shape3[2]), caveats if scale else []


def _words(header, field: str) -> list[str]:
    return [str(word).strip('"') for word in header.get(field) or []]


def _of_axes(header, axes: list[int]) -> list[str]:
    """The units of some axes of the array."""
    words = _words(header, "units")
    return [words[n] if n < len(words) else "" for n in axes]


def _axis(header, kind: str, n: int, size: int) -> Axis:
    spacings = header.get("spacings")
    step = float(spacings[n]) if spacings is not None and len(spacings) > n and np.isfinite(spacings[n]) else None
    labels = header.get("labels") or []
    if kind == "time" or (n < len(labels) and str(labels[n]).strip('"') in ("time", "t")):
        units = header.get("units") or []
        return Axis.even("time", size, step, str(units[n]).strip('"') if n < len(units) and units[n] else "s")
    names = {"vector": "component", "list": "volume", "RGB-color": "channel", "RGBA-color": "channel"}
    return Axis(names.get(kind, kind if kind and kind not in ("domain", "???", "none") else f"axis {n + 1}"), size)


def _fetch(header, data: Path, start: int, dtype, sizes, space, along, colours, path: Path):
    encoding = str(header.get("encoding", "raw")).lower()
    if not data.is_file():
        raise Trouble("The file that holds the values is missing", "put it beside its header", data)
    lines, skip = int(header.get("line skip", 0)), int(header.get("byte skip", 0))
    if lines:
        with open(data, "rb") as stream:
            stream.seek(start)
            for _ in range(min(lines, 1 << 20)):
                stream.readline(1 << 20)
            start = stream.tell()
    if encoding in PACKINGS:
        packing = PACKINGS[encoding]
        raw = RawValues(data, skip if packing else start + skip, dtype, sizes, packing, start if packing else 0)
        if skip == -1 and not packing:
            raw.offset = data.stat().st_size - raw.bytes_needed
        raw.require_whole()
        return Layout(raw, space, along, colours).fetch
    if encoding not in ("ascii", "text", "txt", "hex"):
        raise Trouble(f"Values packed as “{encoding}” cannot be read", "write the file again as raw or gzip", path)
    values = text_values(data, start, dtype, sizes, 16 if encoding == "hex" else 10)
    return Layout(values, space, along, colours).fetch


def save_nrrd(path: Path, image: Image, progress: Progress | None = None) -> None:
    """Write an image as an attached NRRD in right-anterior-superior axes, packed with gzip, values exactly as they
    are."""
    from isal import isal_zlib

    from ..core.safe_write import written_whole

    progress = progress or silent()
    dtype = np.dtype(np.uint8) if image.colour else number_type(image, progress.part(0.0, 0.4))
    name = {"i": "int", "u": "uint", "f": ""}[dtype.kind] + (
        str(8 * dtype.itemsize) if dtype.kind != "f" else {4: "float", 8: "double"}[dtype.itemsize]
    )
    vectors = ["(" + ",".join(f"{v:.17g}" for v in image.space.affine[:3, n]) + ")" for n in range(3)]
    first = ["RGB-color"] if image.colour else []
    more = [{"time": "time"}.get(a.name, "list") for a in image.axes]
    steps = ["nan"] * (len(first) + 3) + [f"{a.step:.10g}" if a.step else "nan" for a in image.axes]
    lines = [
        "NRRD0005",
        f"type: {name}",
        f"dimension: {len(first) + 3 + len(more)}",
        *(["space: right-anterior-superior"] if image.space.sides_known else ["space dimension: 3"]),
        "sizes: " + " ".join(map(str, ([3] if image.colour else []) + list(image.shape))),
        "space directions: " + " ".join(["none"] * len(first) + vectors + ["none"] * len(more)),
        "kinds: " + " ".join(first + ["domain"] * 3 + more),
        "labels: " + " ".join(f'"{n}"' for n in [""] * len(first) + ["", "", ""] + [a.name for a in image.axes]),
        *(["spacings: " + " ".join(steps)] if any(a.step for a in image.axes) else []),
        f"endian: little\nencoding: gzip\nspace origin: ({','.join(f'{v:.17g}' for v in image.space.affine[:3, 3])})",
        *([f'sample units: "{" ".join(image.unit.split())}"'] if image.unit else []),
        *([f"{KEY}:={words}"] if (words := own_words(image, place=False).replace("\\", "\\\\")) else []),
    ]
    with written_whole(path) as stream:
        stream.write(("\n".join(lines) + "\n\n").encode())
        packer = isal_zlib.compressobj(1, isal_zlib.DEFLATED, 31)
        total = image.image_planes
        for n, plane in enumerate(exact_planes(image, dtype, progress)):
            progress.at(0.4 + 0.6 * n / total, f"Writing {path.name}")
            flat: Any = plane
            stream.write(packer.compress(memoryview(flat).cast("B")))
        stream.write(packer.flush())


register(Format("NRRD", (".nrrd", ".nhdr"), read_nrrd, save_nrrd, (".nrrd",), (b"NRRD000",)))
