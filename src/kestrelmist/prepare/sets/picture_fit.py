"""A picture brought to one size, its boxes along; its values onto one scale, in one number type."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from ...core.kernel import kernel
from ...core.values import KERNEL_TYPES
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

    @property
    def filled(self) -> tuple[int, int, int, int]:
        """First and past the last column, first and past the last row of the new picture that the old one fills; what
        lies beside is border."""
        left, right = max(0, round(self.left)), min(self.columns, round(self.columns - self.left))
        top, bottom = max(0, round(self.top)), min(self.rows, round(self.rows - self.top))
        return left, max(right, left + 1), top, max(bottom, top + 1)

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
    """The picture itself, float32, of values of any number type (rows, columns, and perhaps channels): each new pixel
    is the mean of what it covers, weighted towards its middle (a triangle, as Pillow has it, over whole blocks of
    pixels where it becomes much smaller); what lies beside the picture, and what has no value, is `border`."""
    from PIL import Image as Pillow

    if values.ndim == 3:
        return np.stack([resized(values[..., n], fit, border) for n in range(values.shape[2])], axis=2)
    rows, columns = values.shape
    # what of the new picture is filled, in whole pixels, and what of the old one that shows
    left, right, top, bottom = fit.filled
    down, across = max(1, int(1 / (GAP * fit.y))), max(1, int(1 / (GAP * fit.x)))
    shown = (
        max(0.0, (left - fit.left) / fit.x) / across,
        max(0.0, (top - fit.top) / fit.y) / down,
        min(float(columns), (right - fit.left) / fit.x) / across,
        min(float(rows), (bottom - fit.top) / fit.y) / down,
    )
    blocks = np.empty((-(-rows // down), -(-columns // across)), np.float32)
    _means(np.ascontiguousarray(kernel_values(values)), down, across, np.float32(border), blocks)
    made = Pillow.fromarray(blocks).resize((right - left, bottom - top), Pillow.Resampling.BILINEAR, shown)
    if (right - left, bottom - top) == (fit.columns, fit.rows):
        return np.asarray(made)
    out = np.full((fit.rows, fit.columns), border, np.float32)
    out[top:bottom, left:right] = np.asarray(made)
    return out


def kernel_values(values: np.ndarray) -> np.ndarray:
    """Values in one of the number types that kernels are compiled for."""
    return values if values.dtype in KERNEL_TYPES and values.dtype.isnative else values.astype(np.float32)


@kernel
def _means(values, down, across, border, out):
    rows, columns = values.shape
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            total = np.float32(0)
            count = np.float32(0)
            for v in range(y * down, min((y + 1) * down, rows)):
                for u in range(x * across, min((x + 1) * across, columns)):
                    value = np.float32(values[v, u])
                    good = value - value == np.float32(0)
                    total += value if good else border
                    count += np.float32(1)
            out[y, x] = total / count


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
