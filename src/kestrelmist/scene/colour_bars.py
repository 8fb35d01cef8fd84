"""Where colour bars stand in a picture, and what is written beside them: the same in a pane and in a file."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .colours import colour_table
from .layer import ImageLook

WIDTH, TALLEST, LEAST = 14, 120, 24
"""Pixels."""
TOP, BETWEEN, EACH = 44, 26, 84
"""First pixel row, between two bars of one look, and from one look to the next."""


@dataclass(frozen=True)
class ColourBar:
    """One bar.

    Parameters
    ----------
    x, y : pixels of its upper left corner
    colours : array (height,) of packed colours, from the top down
    upper, lower : str
        The values at its ends.
    unit : str
        Written above it, "" when it is written elsewhere or there is none.
    name : str
        Of what is shown, "" below the first bar of a look.
    """

    x: float
    y: float
    colours: np.ndarray
    upper: str
    lower: str
    unit: str = ""
    name: str = ""

    @property
    def height(self) -> int:
        return len(self.colours)


def colour_bars(
    looks: list[tuple[ImageLook, str, str]], width: float, height: float, right: float = 0.0
) -> list[ColourBar]:
    """Bars for looks with their units and names, from the right; of a look with two sides, one each. What would
    hide more than half of the picture is left out.

    Parameters
    ----------
    right : pixels
        That are taken at the right already.
    """
    found: list[ColourBar] = []
    x = width - right - 104  # left of the side letter
    for look, unit, name in looks:
        sides = [one for _, one in look.sides()]
        tall = min(TALLEST, (int(height) - 90) // max(1, len(sides)) - LEAST)
        if tall < LEAST or x < width / 2:
            break
        for n, one in enumerate(sides):
            turned = n == 1  # below zero the limit nearer to zero stands on top
            share = np.arange(tall) / max(1, tall - 1)
            picked = np.rint(255 * (share if turned else 1 - share)).astype(int)
            ends = (-one.low, -one.high) if turned else (one.high, one.low)
            words = [f"{value:.4g}".replace("-", "−") for value in ends]
            colours = colour_table(one.colour_map, one.inverted)[picked]
            upper, lower = words
            said = (unit, name) if n == 0 else ("", "")
            found.append(ColourBar(x, TOP + n * (tall + BETWEEN), colours, upper, lower, *said))
        x -= EACH
    return found
