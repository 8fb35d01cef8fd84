"""Colour maps and packed colours. A packed colour is a uint32 0xFFRRGGBB."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from ..core.labels import LARGEST, LabelTable

MAPS = {
    "Grey": ("#000000", "#FFFFFF"),
    "Grey, inverted": ("#FFFFFF", "#000000"),
    "Ember": ("#0B0508", "#4A1420", "#A44E28", "#E8A547", "#FFF6D8"),
    "Lagoon": ("#05080D", "#12344A", "#2B7A86", "#8CC6A8", "#F6F8E2"),
    "Tarn and ember": ("#8FD3DE", "#2E8095", "#14404F", "#0F1416", "#4A1E14", "#A44E28", "#F0B263"),
}
"""Colour stops from low to high, evenly spaced."""
TWO_SIDED = "Tarn and ember"
"""For values on both sides of zero: dark at zero, one colour below it and another above."""


def first_map(image) -> str:
    """The colour map an image is shown with at first."""
    if image.two_sided:
        return TWO_SIDED
    return "Grey, inverted" if image.inverted else "Grey"


def first_range(image) -> tuple[float, float]:
    """The range an image is shown in at first: symmetric about zero for values on both sides of it."""
    low, high = image.display_range()
    if image.two_sided:
        most = max(-low, high)
        return -most, most
    return low, high


def packed(colour: str) -> int:
    """The packed form of "#RRGGBB"."""
    return 0xFF000000 | int(colour[1:], 16)


@lru_cache(maxsize=32)
def colour_table(name: str) -> np.ndarray:
    """256 packed colours of a colour map, uint32."""
    stops = np.array([[int(c[n : n + 2], 16) for n in (1, 3, 5)] for c in MAPS.get(name, MAPS["Grey"])], float)
    at = np.linspace(0, len(stops) - 1, 256)
    rgb = np.stack([np.interp(at, np.arange(len(stops)), stops[:, n]) for n in range(3)], 1).round().astype(np.uint32)
    return (0xFF000000 | rgb[:, 0] << 16 | rgb[:, 1] << 8 | rgb[:, 2]).astype(np.uint32)


def label_colours(table: LabelTable, only: int | None = None) -> np.ndarray:
    """Packed colour of every label number, 0 where nothing is to be drawn, (65536,) uint32."""
    colours = np.zeros(LARGEST + 1, np.uint32)
    for label in table:
        if not label.hidden and (only is None or only == label.number):
            colours[label.number] = packed(label.colour)
    return colours
