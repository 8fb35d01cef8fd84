"""Panels put together on one page: in rows, aligned at their tops, with letters."""

from __future__ import annotations

import string
from collections.abc import Sequence

import numpy as np

from ..core.errors import Trouble
from ..scene.colours import packed
from ..scene.primitives import INK, PALE, Page, Primitive, Words, shifted

LETTERED, GROUND = 22.0, {"light": "#FFFFFF", "dark": "#0B1013"}
"""Page units over each panel for its letter."""
MOST_PIXELS = 200_000_000


def letter(n: int) -> str:
    """a, b, … z, aa, ab …"""
    text = ""
    n += 1
    while n:
        n, rest = divmod(n - 1, 26)
        text = string.ascii_lowercase[rest] + text
    return text


def figure_page(
    panels: Sequence[Page],
    columns: int,
    width: int,
    scale: float,
    millimetres: float,
    gap: float = 10.0,
    letters: bool = True,
    ground: str = "light",
    title: str = "",
) -> Page:
    """Panels as one page.

    Parameters
    ----------
    panels : sequence of Page
        Of the scale of the figure, each no wider than its column.
    columns : int
    width : pixels
    scale : pixels a page unit
    millimetres : of a pixel on paper
    gap : page units
        Between panels.
    """
    head = LETTERED if letters else 0.0
    columns = max(1, min(columns, len(panels)))
    wide = (width / scale - (columns - 1) * gap) / columns
    tops, heights, top = [], [], 0.0
    for first in range(0, len(panels), columns):
        row = panels[first : first + columns]
        tall = max(page.ground.shape[0] for page in row) / scale
        tops.append(top)
        heights.append(tall)
        top += head + tall + gap
    height = int(np.ceil((top - gap) * scale))
    if width * height > MOST_PIXELS:
        raise Trouble(f"This figure would have {width * height // 10**6} megapixels", "give fewer dots an inch")
    whole = np.full((height, width), packed(GROUND[ground]), np.uint32)
    over: list[Primitive] = []
    for n, page in enumerate(panels):
        line, column = divmod(n, columns)
        left, down = column * (wide + gap), tops[line] + head
        x, y = round(left * scale), round(down * scale)
        rows, across = min(page.ground.shape[0], height - y), min(page.ground.shape[1], width - x)
        whole[y : y + rows, x : x + across] = page.ground[:rows, :across]
        over += shifted(page.over, x / scale, y / scale)
        if letters:
            ink = INK if ground == "light" else PALE
            over.append(Words((left, down - 6), letter(n), 16, ink, "700", "ls"))
    facts = tuple((f"{letter(n)}: {name}", value) for n, page in enumerate(panels) for name, value in page.facts)
    caption = " ".join(f"({letter(n)}) {page.caption}" for n, page in enumerate(panels) if page.caption)
    return Page(whole, over, scale, millimetres, title, facts, caption)
