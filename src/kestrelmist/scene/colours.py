"""Colour maps and packed colours. A packed colour is a uint32 0xFFRRGGBB."""

from __future__ import annotations

import importlib.util
from functools import lru_cache
from pathlib import Path

import numpy as np

from ..core.labels import LARGEST, LabelTable
from .showing import display_range, low_is_bright, two_sided

MAPS: dict[str, tuple[str, ...]] = {
    "Grey": ("#000000", "#FFFFFF"),
    "Grey, inverted": ("#FFFFFF", "#000000"),
    "Ember": ("#0B0508", "#4A1420", "#A44E28", "#E8A547", "#FFF6D8"),
    "Lagoon": ("#05080D", "#12344A", "#2B7A86", "#8CC6A8", "#F6F8E2"),
    "Coal glow": ("CET-L3",),
    "Meadow": ("CET-L5",),
    "Deep water": ("CET-L6",),
    "Foxglove": ("CET-L7",),
    "Evening": ("CET-L8",),
    "Night sky and sand": ("CET-CBL2",),
    "Many hues": ("CET-R2",),
    "Even light": ("CET-I1",),
    "Tarn and ember": ("#8FD3DE", "#2E8095", "#14404F", "#0F1416", "#4A1E14", "#A44E28", "#F0B263"),
    "Blue and red on white": ("CET-D1",),
    "Blue and red on black": ("CET-D4",),
    "Green and violet": ("CET-D2",),
    "Blue and ochre": ("CET-CBD1",),
}
"""Colour stops from low to high, evenly spaced; or the name of a table by P. Kovesi (Good Colour Maps: How to Design
Them, arXiv:1509.03700, 2015), along which equal steps are seen as equal. The last five have a middle, for values on
both sides of zero; "Night sky and sand" and "Blue and ochre" are seen alike by most colour-blind eyes."""
TWO_SIDED = "Tarn and ember"
"""For values on both sides of zero: dark at zero, one colour below it and another above."""


def first_map(image) -> str:
    """The colour map an image is shown with at first."""
    if two_sided(image):
        return TWO_SIDED
    dense_is_dark = low_is_bright(image) or image.unit == "OD"  # what takes light looks as it does under the microscope
    return "Grey, inverted" if dense_is_dark else "Grey"


def first_range(image) -> tuple[float, float]:
    """The range an image is shown in at first: symmetric about zero for values on both sides of it."""
    low, high = display_range(image)
    if two_sided(image):
        most = max(-low, high)
        return -most, most
    return low, high


def packed(colour: str) -> int:
    """The packed form of "#RRGGBB"."""
    return 0xFF000000 | int(colour[1:], 16)


@lru_cache(maxsize=64)
def colour_table(name: str, inverted: bool = False) -> np.ndarray:
    """256 packed colours of a colour map, uint32; turned round when `inverted`. An unknown name is grey."""
    stops = MAPS.get(name, MAPS["Grey"])
    rgb = _table(stops[0]) if len(stops) == 1 else _between(stops)
    rgb = rgb[::-1] if inverted else rgb
    return (0xFF000000 | rgb[:, 0] << 16 | rgb[:, 1] << 8 | rgb[:, 2]).astype(np.uint32)


def _between(stops: tuple[str, ...]) -> np.ndarray:
    given = np.array([[int(c[n : n + 2], 16) for n in (1, 3, 5)] for c in stops], float)
    at = np.linspace(0, len(given) - 1, 256)
    return np.stack([np.interp(at, np.arange(len(given)), given[:, n]) for n in range(3)], 1).round().astype(np.uint32)


def _table(name: str) -> np.ndarray:
    """One of the tables that come with the library that plots; it is read without loading the library, which needs a
    window."""
    spec = importlib.util.find_spec("pyqtgraph")
    places = (spec.submodule_search_locations if spec is not None else None) or []
    for place in places:
        path = Path(place) / "colors" / "maps" / f"{name}.csv"
        if path.is_file():
            given = np.loadtxt(path, delimiter=",")[:, :3]
            scale = 255.0 if given.max() <= 1 else 1.0
            return (given * scale).round().astype(np.uint32)
    return _between(MAPS["Grey"])


def label_colours(table: LabelTable, only: int | None = None) -> np.ndarray:
    """Packed colour of every label number, 0 where nothing is to be drawn, (65536,) uint32."""
    colours = np.zeros(LARGEST + 1, np.uint32)
    for label in table:
        if not label.hidden and (only is None or only == label.number):
            colours[label.number] = packed(label.colour)
    return colours
