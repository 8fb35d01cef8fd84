"""Points as a person types them."""

from __future__ import annotations

import re

import numpy as np

from ..errors import Trouble
from ..kinds.plain import in_unit
from .shape import shape_named

SPACED = re.compile(r"(?<=[\d.])\s+(?=[A-Za-zµμ])")
"""Between a number and its unit."""
GROUP = re.compile(r"[^,\s]+,[^,\s]+(,[^,\s]+)?")
"""Two or three numbers with commas between and no blank."""


def points_of(text: str, unit: str = "mm") -> np.ndarray:
    """World positions (n, 3) from text: "1, 2, 3; 4, 5, 6" or "1,2,3 4,5,6", or x and y alone on a
    picture; numbers may have a unit of their own behind them, as in 5um. Raises Trouble."""
    found = []
    parts = text.split(";")
    if len(parts) == 1 and len(text.split()) > 1 and all(GROUP.fullmatch(one) for one in text.split()):
        parts = text.split()
    for part in filter(None, (one.strip() for one in parts)):
        words = SPACED.sub("", part.replace("−", "-")).replace(",", " ").split()
        try:
            numbers = [in_unit(word, unit) for word in words]
        except ValueError as error:
            raise Trouble(f"“{part[:40]}” is no position", f"write points as in 1, 2, 3; 4, 5, 6, in {unit}") from error
        if len(numbers) not in (2, 3):
            raise Trouble(f"“{part[:40]}” is no position", "give two or three numbers a point, with ; between points")
        found.append([*numbers, 0.0][:3])
    if not found:
        raise Trouble("There are no points", "write them as in 1, 2, 3; 4, 5, 6")
    return np.array(found)


def corners_of(shape: str, points: np.ndarray) -> np.ndarray:
    """The points of a shape; of a rectangle, an ellipse or a box two opposite corners will do."""
    known = shape_named(shape)
    if len(points) == 2 and known.least == 4:
        low, high = points.min(0), points.max(0)
        if known.cut is not None:
            return np.vstack((low, low + np.diag(high - low)))
        thin = int((high - low).argmin())
        a, b = (n for n in range(3) if n != thin)
        corners = np.repeat(low[None], 4, 0)
        corners[1:3, a], corners[2:, b] = high[a], high[b]
        return (corners + np.roll(corners, -1, 0)) / 2 if shape == "ellipse" else corners
    return points
