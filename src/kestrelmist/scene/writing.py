"""What is written over a picture that leaves the program: side letters, a scale bar, colour bars. Without a window."""

from __future__ import annotations

import math
from functools import lru_cache
from importlib.resources import files
from typing import Any

import numpy as np

from .colour_bars import WIDTH, colour_bars
from .layer import ImageLook
from .view import View

CHIP, INK, PALE, NIGHT = "#E8B68C", "#1F2C35", "#E8EDEE", "#0B1013"
FONTS = ("desk", "theme", "fonts")


def scale_bar(pixel: float, room: float, unit: str = "mm") -> tuple[float, str]:
    """A round length (in `unit`) that fills at most `room` pixels, and how it is written."""
    most = max(pixel * room, 1e-15)
    power = 10 ** math.floor(math.log10(most))
    length = next(m * power for m in (5, 2, 1) if m * power <= most)
    if unit == "mm" and length < 1e-4:
        return length, f"{length * 1e6:g} nm"
    return length, f"{length:g} {unit}" if length >= 0.1 or unit != "mm" else f"{length * 1000:g} µm"


class Written:
    """A picture to write on.

    Parameters
    ----------
    pixels : uint32 array (height, width) of packed colours
    view : View
    """

    def __init__(self, pixels: np.ndarray, view: View):
        from PIL import Image as Picture
        from PIL import ImageDraw

        rgb = np.stack([(pixels >> np.uint32(shift)) & np.uint32(255) for shift in (16, 8, 0)], -1).astype(np.uint8)
        self.view, self._picture = view, Picture.fromarray(rgb)
        self._draw: Any = ImageDraw.Draw(self._picture)

    def letters(self) -> None:
        """Side letters at the four edges, or that nobody knows the sides."""
        width, height = self._picture.size
        if not self.view.sides_known:
            self._words((width / 2, 14), "sides unknown", 12)
            return
        places = {
            "left": (16, height / 2),
            "right": (width - 16, height / 2),
            "top": (width / 2, 15),
            "bottom": (width / 2, height - 15),
        }
        for edge, letter in self.view.letters().items():
            x, y = places[edge]
            if letter in "LR":
                self._draw.rounded_rectangle((x - 9, y - 9, x + 9, y + 9), 3, CHIP)
                self._draw.text((x, y), letter, INK, _font(14, "700"), "mm")
            else:
                self._words((x, y), letter, 14, "600")

    def length_bar(self, unit: str) -> None:
        """A bar of round length at the lower left."""
        height = self._picture.size[1]
        length, text = scale_bar(self.view.pixel, min(self._picture.size[0] * 0.22, 110), unit)
        long = length / self.view.pixel
        for shift, colour in ((1, NIGHT), (0, PALE)):
            y = height - 14 + shift
            self._draw.line((14 + shift, y, 14 + shift + long, y), colour, 2)
            self._draw.text((14 + shift, y - 5), text, colour, _font(12, "mono"), "ls")

    def colour_bars(self, looks: list[tuple[ImageLook, str]]) -> None:
        """A bar for every look, from the right, with its limits and unit; of a look with two sides, one each."""
        for bar in colour_bars(looks, *self._picture.size):
            for n, colour in enumerate(bar.colours):
                self._draw.line((bar.x, bar.y + n, bar.x + WIDTH, bar.y + n), f"#{int(colour) & 0xFFFFFF:06X}")
            for text, y in ((bar.upper, bar.y), (bar.lower, bar.y + bar.height)):
                self._words((bar.x + WIDTH + 6, y), text, 12, "mono", "lm")
            if bar.unit:
                self._words((bar.x + WIDTH / 2, bar.y - 12), bar.unit, 12, "mono")

    def rgb(self) -> np.ndarray:
        """The picture as uint8 (height, width, 3)."""
        return np.asarray(self._picture)

    def _words(self, place: tuple[float, float], text: str, size: int, weight: str = "400", anchor="mm") -> None:
        for shift, colour in ((1, NIGHT), (0, PALE)):
            self._draw.text((place[0] + shift, place[1] + shift), text, colour, _font(size, weight), anchor)


@lru_cache(maxsize=16)
def _font(size: int, weight: str) -> Any:
    from PIL import ImageFont

    name = "mono-400" if weight == "mono" else f"next-{weight}"
    place = files("kestrelmist").joinpath(*FONTS, f"atkinson-hyperlegible-{name}.ttf")
    return ImageFont.truetype(str(place), size)
