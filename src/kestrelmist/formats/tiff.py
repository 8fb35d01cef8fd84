"""TIFF and OME-TIFF: pages, channels, time, physical sizes, pyramids. Tiles are read when they are looked at."""

from __future__ import annotations

import math
import re
import threading
import xml.etree.ElementTree as ElementTree
from collections import OrderedDict
from functools import partial
from pathlib import Path

import numpy as np

from ..core.axis import Axis
from ..core.caveat import NO_SCALE, NOTED, Caveat
from ..core.errors import Trouble, let_through
from ..core.image import Image, Origin
from ..core.progress import Progress
from ..core.space import picture_space
from .format import Format, image_name, register
from .own_words import KEY, take_in_words
from .plain_rows import PlainRows
from .planes import AXIS_NAMES, MILLIMETRES, SECONDS, Planes, deep_enough, in_parts
from .sampling import sampled_levels

USUAL_PRINT = {72, 96, 100, 150, 180, 200, 240, 300, 360, 400, 600, 720, 1200}
"""Dots an inch that programs write when nobody measured anything."""
COLOUR_MODELS = (2, 5, 6)
"""Photometric interpretations of colour: RGB, separated, YCbCr."""

MOST_PLANES = 100_000
"""Planes that a description may promise whatever the file holds: others may lie in files beside it."""


def read_tiff(path: Path) -> Image:
    """The first (largest) picture of a TIFF file.

    Raises
    ------
    Trouble
        When the file is damaged or cut short.
    """
    import logging

    import tifffile

    logging.getLogger("tifffile").setLevel(logging.CRITICAL)  # what matters of it is said in our own words
    with tifffile.TiffFile(path) as file:
        _require_planes(file, path)
        if not file.series:
            raise Trouble("There is no picture in this TIFF file", "copy it again or convert it anew", path)
        series = max(file.series[:8], key=lambda s: s.size)
        page = series.keyframe
        _require_whole(file, series, path)
        described = _described(file)
        levels = [_level(path, file.series.index(series), n, level) for n, level in enumerate(series.levels)]
        facts = _facts(page, file)
        spacing, caveats = _spacing(page, described)
        names = described.get("channels", [])
    first = levels[0]
    space = picture_space(*first.space()[:2], spacing, first.size("z"), described.get("z"))
    axes = [_axis(first, n, described, names) for n in first.along]
    common = {"name": image_name(path), "facts": facts, "axes": axes, "colour": first.colour}
    coarser = [
        in_parts(Image(level.fetch, space.resized(level.space()), **common), level)
        for level in levels[1:]
        if level.along == first.along and [level.shape[n] for n in level.along] == [first.shape[n] for n in first.along]
    ]
    image = in_parts(
        Image(first.fetch, space, origin=Origin("TIFF", [path]), caveats=caveats, levels=coarser, **common), first
    )
    image.levels = image.levels or sampled_levels(first, image, first.dtype)
    take_in_words(image, described.get("words", ""))
    return image


def _require_planes(file, path: Path) -> None:
    """Raises Trouble when the description of an OME-TIFF promises far more planes than there are: a table of all
    of them would be made before the first is looked for."""
    if not file.is_ome:
        return
    text = str(file.pages.first.description)
    for picture in re.findall(r"<(?:\w+:)?Pixels\b[^>]*", text):
        sizes = {name: int(size) for name, size in re.findall(r'\bSize([ZCT])\s*=\s*"(\d{1,18})"', picture)}
        planes = math.prod(sizes.values())
        if planes > max(MOST_PLANES, 64 * len(file.pages)):
            raise Trouble(
                f"The description of this OME-TIFF promises {planes} planes, which it cannot hold",
                "write it again",
                path,
            )


def _level(path: Path, series: int, number: int, level) -> Planes:
    axes = level.axes.lower()
    colour = (
        "s" in axes
        and level.shape[axes.index("s")] in (3, 4)
        and level.dtype == np.uint8
        and int(level.keyframe.photometric) in COLOUR_MODELS
    )
    letters, used = "", set("xyzs")
    for letter in axes:  # every axis gets a letter of its own
        letters += (
            letter
            if letter in "xyzs" or letter not in used
            else next(c for c in "abdefghijklmnopqruvw" if c not in used)
        )
        used.add(letters[-1])
    return Planes(partial(_read, path, series, number), letters, tuple(level.shape), np.dtype(level.dtype), colour)


class OpenLevels:
    """Levels of pictures that parts are read of, kept open: looking at a large one reads hundreds of small parts. Few
    at a time, since handles are few; opened anew when the file has changed."""

    MOST = 8

    def __init__(self) -> None:
        self._kept: OrderedDict[tuple, tuple] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, path: Path, series: int, number: int):
        """The array of one level."""
        import tifffile
        import zarr

        stat = path.stat()
        key = (str(path), series, number, stat.st_mtime_ns, stat.st_size)
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key][0]
            file = tifffile.TiffFile(path)
            plain = _plain(path, file.series[series].levels[number])
            if plain is not None:
                file.close()
                self._kept[key] = (plain, file, file)
                return plain
            try:
                store = file.series[series].aszarr(level=number)
                array = zarr.open_array(store, mode="r")
            except BaseException:
                file.close()
                raise
            self._kept[key] = (array, store, file)
            while len(self._kept) > self.MOST:
                _, (_, old_store, old_file) = self._kept.popitem(last=False)
                old_store.close()
                old_file.close()
            return array


def _plain(path: Path, level) -> PlainRows | None:
    """A level whose pixels lie in the file as they are; None for one that is packed or in tiles, which a library
    reads."""
    page, axes = level.keyframe, level.axes.lower()
    if level.dataoffset is None or not page.is_memmappable or not axes.endswith(("yx", "yxs")):
        return None
    dtype = np.dtype(level.dtype).newbyteorder(page.parent.byteorder)
    return PlainRows(path, int(level.dataoffset), dtype, tuple(level.shape), axes.rindex("y"))


OPENED = OpenLevels()


def _read(path: Path, series: int, number: int, selection: tuple) -> np.ndarray:
    """A part of one level. Opened for each read: files of a study may be many, and handles are few."""
    import tifffile

    try:
        if not all(isinstance(s, slice) and s == slice(None) for s in selection):
            return OPENED.get(path, series, number)[selection]
        with tifffile.TiffFile(path) as file:
            return file.series[series].levels[number].asarray()
    except Trouble:
        raise
    except MemoryError:
        raise
    except BaseException as error:  # decoders meet damaged tiles with many kinds of error
        let_through(error)
        raise Trouble(
            "The pixels of this TIFF file cannot be decoded; it is damaged or cut short", "copy it again", path
        ) from error


def _require_whole(file, series, path: Path) -> None:
    size = path.stat().st_size
    stored = 0
    for page in series.pages[:256] if len(series.pages) > 1 else [series.keyframe]:
        if page is None:
            continue
        for offset, count in zip(page.dataoffsets, page.databytecounts):
            stored += count
            if offset + count > size:
                raise Trouble("This file is cut short: some of its pixels lie beyond its end", "copy it again", path)
    if not series.shape or min(series.shape) < 1:
        raise Trouble("The header of this file gives no sensible size", "copy it again or convert it anew", path)
    deep_enough(series.shape, size, np.dtype(series.dtype), path)


def _described(file) -> dict:
    """What OME-XML or a plain description says: steps in mm and s, and channel names."""
    if file.is_ome and file.ome_metadata:
        try:
            return _ome(file.ome_metadata)
        except (ElementTree.ParseError, ValueError, AttributeError):
            return {}
    found: dict = {}
    shaped = file.shaped_metadata[0] if file.shaped_metadata else {}
    for key, axis in (("PhysicalSizeX", "x"), ("PhysicalSizeY", "y"), ("PhysicalSizeZ", "z")):
        if isinstance(shaped.get(key), (int, float)):
            found[axis] = shaped[key] * MILLIMETRES.get(str(shaped.get(f"{key}Unit", "µm")), 1e-3)
    return found


def _ome(text: str) -> dict:
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        return {}
    root = ElementTree.fromstring(text)
    pixels = next((e for e in root.iter() if e.tag.endswith("}Pixels") or e.tag == "Pixels"), None)
    if pixels is None:
        return {}
    found: dict = {}
    for axis in "XYZ":
        if size := pixels.get(f"PhysicalSize{axis}"):
            found[axis.lower()] = float(size) * MILLIMETRES.get(
                pixels.get(f"PhysicalSize{axis}Unit", "µm").lower(), 1e-3
            )
    if step := pixels.get("TimeIncrement"):
        found["t"] = float(step) * SECONDS.get(pixels.get("TimeIncrementUnit", "s"), 1.0)
    found["words"] = next((e.text or "" for e in root.iter() if e.tag.endswith("}M") and e.get("K") == KEY), "")
    channels = [e for e in pixels if e.tag.split("}")[-1] == "Channel"]
    found["channels"] = [c.get("Name") or f"channel {n + 1}" for n, c in enumerate(channels)]
    return found


def _spacing(page, described: dict) -> tuple[tuple[float, float] | None, list[Caveat]]:
    """Pixel size in mm: from the description, else from the resolution tags when somebody seems to have measured it."""
    if described.get("x", 0) > 0 and described.get("y", described["x"]) > 0:
        return (described["x"], described.get("y", described["x"])), []
    tags = page.tags
    unit = {2: 25.4, 3: 10.0}.get(int(tags["ResolutionUnit"].value) if "ResolutionUnit" in tags else 2)
    if unit and "XResolution" in tags and "YResolution" in tags:
        (a, b), (c, d) = tags["XResolution"].value, tags["YResolution"].value
        if min(a, b, c, d) > 0:
            inch = a / b * (25.4 / unit)
            if not any(abs(inch - usual) < 0.02 * usual for usual in USUAL_PRINT) and a / b != 1:
                return (unit * b / a, unit * d / c), [Caveat(NOTED, "The scale is that of the resolution tags")]
    return None, [Caveat(NO_SCALE, "The file gives no scale: pixel spacing is missing")]


def _axis(planes: Planes, n: int, described: dict, names: list[str]) -> Axis:
    letter, size = planes.axes[n], planes.shape[n]
    if letter == "t":
        return Axis.even("time", size, described.get("t"), "s")
    if letter == "c" and len(names) == size:
        return Axis("channel", size, labels=tuple(names))
    if letter == "s" and size in (3, 4):
        return Axis("channel", size, labels=("red", "green", "blue", "opacity")[:size])
    return Axis(AXIS_NAMES.get(letter, f"axis {letter}"), size)


def _facts(page, file) -> dict[str, str]:
    facts = {}
    for tag in page.tags:
        if tag.name not in ("StripOffsets", "StripByteCounts", "TileOffsets", "TileByteCounts", "JPEGTables"):
            facts[tag.name] = str(tag.value)[:4000]
    facts["Pages"] = str(len(file.pages))
    return facts


def _save(path: Path, image: Image, progress: Progress) -> None:
    from .tiff_write import save_ome_tiff

    save_ome_tiff(path, image, progress)


register(
    Format(
        "TIFF",
        (".tif", ".tiff", ".btf"),
        read_tiff,
        _save,
        (".ome.tif", ".ome.tiff", ".tif", ".tiff"),
        (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"),
        sequenced=True,
    )
)
