"""Height maps as a text matrix under a header of size and unit."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from ..core.caveat import NO_SCALE, Caveat
from ..core.errors import Trouble
from ..core.heights import in_small_units
from ..core.image import Image, Origin
from ..core.space import picture_space
from .format import Format, image_name, register
from .lengths import millimetres

MOST = 1 << 29
HEADER = re.compile(r"^\W*([A-Za-z][\w \-/().]*?)\s*[:=]\s*(\S.*)$")
NUMBER = re.compile(r"([-+]?\d+(?:[.,]\d+)?(?:[eE][-+]?\d+)?)\s*([^\d\s,;]*)")
WIDTHS = {"width": 0, "size x": 0, "x size": 0, "xsize": 0, "height": 1, "size y": 1, "y size": 1, "ysize": 1}
PIXELS = {
    "pixel size": (0, 1),
    "pixel width": (0,),
    "pixel height": (1,),
    "spacing": (0, 1),
    "spacing x": (0,),
    "spacing y": (1,),
}
VALUES = ("value units", "value unit", "height unit", "height units", "z unit", "unit", "units", "unit z")


def read_height_matrix(path: Path) -> Image:
    """Rows of heights. Header lines are "name: value unit" (or "="): the width and height of the field or the size of a
    pixel, the unit of the heights. Numbers stand apart by blanks, tabs, commas or semicolons; "nan" marks points
    without a height.

    Raises
    ------
    Trouble
        When the file is no matrix of numbers, or its rows differ in length.
    """
    if path.stat().st_size > MOST:
        raise Trouble("This text file is too large for a height map", "convert it to a float TIFF", path)
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError:
        text = path.read_text(encoding="latin-1")
    if "\0" in text[:4096]:
        raise Trouble("This is not a text file", "choose a height map", path)
    lines = text.splitlines()
    facts, start = _header(lines)
    rows = _rows(lines[start:], path)
    values = np.array(rows, np.float64)
    sizes, unit = _sizes(facts, values.shape)
    caveats = [] if sizes else [Caveat(NO_SCALE, "The file gives no scale: pixel spacing is missing")]
    values, unit = in_small_units(values, unit)
    kept = values.astype(np.float32)
    data = kept if np.array_equal(kept.astype(np.float64), values, equal_nan=True) else values
    return Image(
        data.T[:, :, None],
        picture_space(values.shape[1], values.shape[0], sizes),
        image_name(path),
        unit=unit,
        facts=facts,
        origin=Origin("height matrix", [path]),
        caveats=caveats,
    )


def _header(lines: list[str]) -> tuple[dict[str, str], int]:
    facts: dict[str, str] = {}
    for n, line in enumerate(lines[:200]):
        if not line.strip():
            continue
        found = HEADER.match(line)
        if found:
            facts[found.group(1).strip()] = found.group(2).strip()
        elif not line.lstrip().startswith(("#", ";", "%", "//")):
            return facts, n
    return facts, min(len(lines), 200)


def _rows(lines: list[str], path: Path) -> list[list[float]]:
    lines = [line for line in lines if line.strip()]
    if not lines:
        raise Trouble("There is no number in this file", "choose a height map", path)
    apart = next((mark for mark in (";", "\t", ",") if mark in lines[0]), None)
    comma = apart != "," and "," in lines[0]
    rows: list[list[float]] = []
    for n, line in enumerate(lines):
        parts = list(line.split(apart) if apart else line.split())
        if parts and not parts[-1].strip():
            parts.pop()
        try:
            rows.append([float(p.replace(",", ".") if comma else p) for p in parts])
        except ValueError:
            raise Trouble(
                f"Row {n + 1} of this file is not made of numbers", "choose a height map, or mend that row", path
            ) from None
        if len(rows[-1]) != len(rows[0]):
            raise Trouble(
                f"Row {n + 1} of this file has {len(rows[-1])} numbers where the first has {len(rows[0])}",
                "copy it again",
                path,
            )
    return rows


def _sizes(facts: dict[str, str], shape) -> tuple[tuple[float, float] | None, str]:
    found: dict[int, float] = {}
    unit = ""
    for name, value in facts.items():
        key = re.sub(r"[_\s]+", " ", name.lower()).strip()
        if key in VALUES:
            unit = value.strip("[]() ")
            continue
        number = NUMBER.search(value)
        if not number:
            continue
        scale = millimetres(number.group(2).strip("[]()"))
        length = float(number.group(1).replace(",", ".")) * (scale or 0.0)
        if not np.isfinite(length) or length <= 0:
            continue
        if key in WIDTHS:
            found[WIDTHS[key]] = length / shape[1 - WIDTHS[key]]
        for axis in PIXELS.get(key, ()):
            found[axis] = length
    if not found:
        return None, unit
    across, down = found.get(0, found.get(1)), found.get(1, found.get(0))
    return (None if across is None or down is None else (across, down)), unit


register(
    Format("height matrix", (".txt", ".asc", ".dat", ".xyz"), read_height_matrix, listed=False, instead=".ome.tif")
)
