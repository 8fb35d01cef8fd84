"""A picture brought to one size, its boxes along; its values onto one scale, in one number type."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from .box_table import Box

Rule = Literal["stretch", "fit", "crop"]
Values = Literal["type", "range", "percentiles", "none"]
NumberType = Literal["float16", "float32", "uint8"]
GAP = 1.5
"""How many times larger than wanted a picture is after its pixels were first taken together in whole blocks."""


@dataclass(frozen=True)
class Fit:
    """Where the pixels of a picture go: x to x × `x` + `left`, y to y × `y` + `top`, counted from the edge of the first
    pixel, into a picture of `columns` × `rows`."""

    x: float
    y: float
    left: float
    top: float
    columns: int
    rows: int

    def box(self, box: Box) -> Box | None:
        """A box in the new picture, cut off at its edges; None when nothing of it is there."""
        moved = box.scaled(self.x, self.y)
        left, top = moved.left + self.left, moved.top + self.top
        right, bottom = min(left + moved.width, self.columns), min(top + moved.height, self.rows)
        left, top = max(left, 0.0), max(top, 0.0)
        return Box(left, top, right - left, bottom - top) if right - left > 0 and bottom - top > 0 else None


def fit_of(columns: int, rows: int, size: tuple[int, int], rule: Rule) -> Fit:
    """How a picture of some columns and rows fills a size: "stretch" to it, "fit" into it with a border, or "crop" what
    stands out of it, both about the middle."""
    x, y = size[0] / columns, size[1] / rows
    if rule != "stretch":
        x = y = min(x, y) if rule == "fit" else max(x, y)
    return Fit(x, y, (size[0] - columns * x) / 2, (size[1] - rows * y) / 2, size[0], size[1])


def resized(values: np.ndarray, fit: Fit, border: float = 0.0) -> np.ndarray:
    """The picture itself, float32 (rows, columns): each new pixel is the mean of what it covers, weighted towards its
    middle (a triangle, as Pillow has it); what lies beside the picture is `border`."""
    from PIL import Image as Pillow

    rows, columns = values.shape
    # what of the new picture is filled, in whole pixels, and what of the old one that shows
    left, right = max(0, round(fit.left)), min(fit.columns, round(fit.left + columns * fit.x))
    top, bottom = max(0, round(fit.top)), min(fit.rows, round(fit.top + rows * fit.y))
    right, bottom = max(right, left + 1), max(bottom, top + 1)
    shown = (
        max(0.0, (left - fit.left) / fit.x),
        max(0.0, (top - fit.top) / fit.y),
        min(float(columns), (right - fit.left) / fit.x),
        min(float(rows), (bottom - fit.top) / fit.y),
    )
    source = Pillow.fromarray(np.ascontiguousarray(values, np.float32))
    made = source.resize((right - left, bottom - top), Pillow.Resampling.BILINEAR, shown, GAP)
    if (right - left, bottom - top) == (fit.columns, fit.rows):
        return np.asarray(made)
    out = np.full((fit.rows, fit.columns), border, np.float32)
    out[top:bottom, left:right] = np.asarray(made)
    return out


def scaled(
    values: np.ndarray, how: Values, limits: tuple[float, float], span: tuple[float, float], kind: NumberType
) -> np.ndarray:
    """Values in a number type.

    Parameters
    ----------
    values : float32 array
    how : text
        "type": `span`, the range of the number type, becomes 0 to 1. "range": `limits` do. "percentiles": those two
        percentiles of the picture's own finite values do. "none": as they are. Of uint8 it is 0 to 255.
    """
    low, high = span if how == "type" else limits
    if how == "percentiles":
        there = values[np.isfinite(values)]
        low, high = np.percentile(there, limits) if there.size else (0.0, 1.0)
    found = np.nan_to_num(values, nan=low if how != "none" else 0.0)
    if how != "none":
        width = float(high - low)
        found = np.clip((found - np.float32(low)) / np.float32(width), 0, 1) if width > 0 else np.zeros_like(found)
        if kind == "uint8":
            found = found * np.float32(255)
    if kind == "uint8":
        return np.clip(np.rint(found), 0, 255).astype(np.uint8)
    if kind == "float16":
        return np.clip(found, -65504, 65504).astype(np.float16)
    return found.astype(np.float32)
