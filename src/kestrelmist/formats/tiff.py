"""TIFF and OME-TIFF: pages, channels, time, physical sizes, pyramids. Tiles are read when they are looked at."""

from __future__ import annotations

import threading
from collections import OrderedDict
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from ..core.axis import Axis
from ..core.caveat import NO_SCALE, NOTED, Caveat
from ..core.errors import Trouble, let_through
from ..core.image import Image, Origin
from ..core.progress import Progress
from ..core.space import picture_space
from .format import Format, image_name, register
from .own_words import take_in_words
from .plain_rows import PlainRows
from .planes import AXIS_NAMES, Planes, deep_enough, in_parts
from .sampling import sampled_levels
from .tiff_colours import PALETTE, in_colours, sample_names
from .tiff_ome import Described, described, others_left, require_sensible
from .turned import FLIPS, ORIENTATION, SAID, turned_planes

USUAL_PRINT = {72, 96, 100, 150, 180, 200, 240, 300, 360, 400, 600, 720, 1200}
"""Dots an inch that programs write when nobody measured anything."""


def read_tiff(path: Path, palette: bool = True, turn: bool = True) -> Image:
    """The largest picture of a TIFF file.

    Parameters
    ----------
    palette : bool
        Whether numbers that stand for colours of a palette become these colours.
    turn : bool
        Whether the picture is turned as its orientation tag says.

    Raises
    ------
    Trouble
        When the file is damaged or cut short.
    """
    import logging

    import tifffile

    logging.getLogger("tifffile").setLevel(logging.CRITICAL)  # what matters of it is said in our own words
    with tifffile.TiffFile(path) as file:
        require_sensible(file, path)
        if not file.series:
            raise Trouble("There is no picture in this TIFF file", "copy it again or convert it anew", path)
        series = max(file.series, key=lambda s: s.size)
        page = series.keyframe
        _require_whole(file, series, path)
        said = described(file, series)
        at = next(n for n, one in enumerate(file.series) if one is series)
        levels = [_level(path, at, n, level) for n, level in enumerate(series.levels)]
        facts = _facts(page, file)
        spacing, caveats = _spacing(page, said)
        caveats += said.caveats + others_left(file, series)
        orientation = int(page.tags[ORIENTATION].value) if turn and ORIENTATION in page.tags else 1
        samples = sample_names(page, levels[0].size("s"))
        if palette or int(page.photometric) != PALETTE:
            coloured = [in_colours(level, page) for level in levels]
            levels = [level for level, _ in coloured]
            caveats += coloured[0][1]
    if orientation in FLIPS and orientation != 1:
        levels = [turned_planes(level, orientation) for level in levels]
        caveats.append(SAID)
        spacing = spacing[::-1] if spacing and orientation >= 5 else spacing
    first = levels[0]
    space = picture_space(*first.space()[:2], spacing, first.size("z"), said.steps.get("z"))
    axes = [_axis(first, n, said, samples) for n in first.along]
    common: dict[str, Any] = {"name": image_name(path), "facts": facts, "axes": axes, "colour": first.colour}
    coarser = [
        in_parts(Image(level.fetch, space.resized(level.space()), **common), level)
        for level in levels[1:]
        if level.along == first.along and [level.shape[n] for n in level.along] == [first.shape[n] for n in first.along]
    ]
    image = in_parts(
        Image(first.fetch, space, origin=Origin("TIFF", [path]), caveats=caveats, levels=coarser, **common), first
    )
    image.levels = image.levels or sampled_levels(first, image, first.dtype)
    take_in_words(image, said.words)
    return image


def _level(path: Path, series: int, number: int, level) -> Planes:
    axes = level.axes.lower()
    letters, used = "", set("xyzs")
    for letter in axes:  # every axis gets a letter of its own
        letters += (
            letter
            if letter in "xyzs" or letter not in used
            else next(c for c in "abdefghijklmnopqruvw" if c not in used)
        )
        used.add(letters[-1])
    return Planes(partial(_read, path, series, number), letters, tuple(level.shape), np.dtype(level.dtype))


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


def _spacing(page, said: Described) -> tuple[tuple[float, float] | None, list[Caveat]]:
    """Pixel size in mm: from the description, else from the resolution tags when somebody seems to have measured it."""
    if "x" in said.steps:
        return (said.steps["x"], said.steps.get("y", said.steps["x"])), []
    tags = page.tags
    unit = {2: 25.4, 3: 10.0}.get(int(tags["ResolutionUnit"].value) if "ResolutionUnit" in tags else 2)
    if unit and "XResolution" in tags and "YResolution" in tags:
        (a, b), (c, d) = tags["XResolution"].value, tags["YResolution"].value
        if min(a, b, c, d) > 0:
            inch = a / b * (25.4 / unit)
            if not any(abs(inch - usual) < 0.02 * usual for usual in USUAL_PRINT) and a / b != 1:
                return (unit * b / a, unit * d / c), [Caveat(NOTED, "The scale is that of the resolution tags")]
    return None, [Caveat(NO_SCALE, "The file gives no scale: pixel spacing is missing")]


def _axis(planes: Planes, n: int, said: Described, samples: tuple[str, ...]) -> Axis:
    letter, size = planes.axes[n], planes.shape[n]
    if letter == "t":
        return Axis.even("time", size, said.steps.get("t"), "s")
    if letter == "c" and len(said.channels) == size:
        return Axis("channel", size, labels=tuple(said.channels))
    if letter == "s" and size in (3, 4):
        return Axis("channel", size, labels=samples)
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
        read_numbers=partial(read_tiff, palette=False),
        read_before=partial(read_tiff, palette=False, turn=False),
    )
)
