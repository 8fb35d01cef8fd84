"""Colouring what was sampled over what is there: the second half of drawing a layer.

Pictures are uint32 (height, width) of packed colours 0xFFRRGGBB.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..core import kernel as kernels
from ..core.kernel import kernel
from . import plain
from .colours import packed
from .layer import ImageLook
from .sampling import SMALL, in_bands

BACKGROUND = packed("#0B1013")


def compiled(out: np.ndarray) -> bool:
    return kernels.ready() and out.size > SMALL


def over_values(
    values: np.ndarray, look: ImageLook, colours: np.ndarray, opacity: float, out: np.ndarray, sign: int = 1
) -> None:
    """Colour values, taken with a sign, over a picture by a map of 256 colours; places without a value stay as they
    are."""
    limits = (
        -np.inf if look.hide_below is None else float(look.hide_below),
        np.inf if look.hide_above is None else float(look.hide_above),
    )
    tint = (np.inf, -np.inf) if look.tint is None else (float(look.tint[0]), float(look.tint[1]))
    shared = (float(look.low), float(look.high), colours, float(opacity))
    if not compiled(out):
        plain.colour_values(values if sign > 0 else -values, *shared, limits, tint, packed(look.tint_colour), out)
        return
    colour, turned = packed(look.tint_colour), np.float32(sign)
    in_bands(out.shape, lambda a, b: _over_values(values, turned, *shared, *limits, *tint, colour, out, a, b))


def over_numbers(
    numbers: np.ndarray, colours: np.ndarray, fill: float, edges: int, opacity: float, out: np.ndarray
) -> None:
    """Colour label numbers over a picture. `colours` holds a colour for each number, 0 for those not drawn; edges are
    `edges` pixels wide, 0 for none."""
    if not compiled(out):
        plain.colour_numbers(numbers, colours, fill, edges, opacity, out)
        return
    work = (numbers, colours, float(fill) * opacity, int(edges), float(opacity), out)
    in_bands(out.shape, lambda a, b: _over_numbers(*work, a, b))


def over_colours(found: np.ndarray, opacity: float, out: np.ndarray) -> None:
    """Lay colours over a picture; 0 is nothing."""
    if not compiled(out):
        plain.colour_colours(found, opacity, out)
        return
    in_bands(out.shape, lambda a, b: _over_colours(found, float(opacity), out, a, b))


@kernel(inline="always")
def _blend(under, over, opacity):
    a = int(opacity * 256)
    r = (((under >> 16) & 255) * (256 - a) + ((over >> 16) & 255) * a) >> 8
    g = (((under >> 8) & 255) * (256 - a) + ((over >> 8) & 255) * a) >> 8
    b = ((under & 255) * (256 - a) + (over & 255) * a) >> 8
    return np.uint32(0xFF000000 | (r << 16) | (g << 8) | b)


@kernel
def _over_values(
    values, sign, low, high, colours, opacity, least, most, tint_low, tint_high, tint_colour, out, top, bottom
):
    scale = np.float32(255.0 / (high - low)) if high > low else np.float32(0.0)
    base = np.float32(low)
    for y in range(top, bottom):
        for x in range(out.shape[1]):
            value = values[y, x] * sign
            if not least <= value <= most:  # no value was measured here, or it is hidden
                continue
            colour = colours[int(min(max((value - base) * scale, np.float32(0.0)), np.float32(255.0)))]
            if opacity < 1.0:
                colour = _blend(out[y, x], colour, opacity)
            if tint_low <= value <= tint_high:
                colour = _blend(colour, tint_colour, 0.45)
            out[y, x] = colour


@kernel
def _over_numbers(numbers, colours, fill, edges, opacity, out, top, bottom):
    height, width = numbers.shape
    for y in range(top, bottom):
        for x in range(width):
            number = numbers[y, x]
            if number == 0 or colours[number] == 0:
                continue
            edge = False
            for far in range(1, edges + 1):
                if (
                    x < far
                    or numbers[y, x - far] != number
                    or x + far >= width
                    or numbers[y, x + far] != number
                    or y < far
                    or numbers[y - far, x] != number
                    or y + far >= height
                    or numbers[y + far, x] != number
                ):
                    edge = True
                    break
            if edge:
                out[y, x] = colours[number] if opacity >= 1.0 else _blend(out[y, x], colours[number], opacity)
            elif fill > 0.0:
                out[y, x] = _blend(out[y, x], colours[number], fill)


@kernel
def _over_colours(found, opacity, out, top, bottom):
    for y in range(top, bottom):
        for x in range(out.shape[1]):
            colour = found[y, x]
            if colour != 0:
                out[y, x] = colour if opacity >= 1.0 else _blend(out[y, x], colour, opacity)


def over_light(
    values: list[np.ndarray], channels: Sequence[tuple[str, float, float, bool]], opacity: float, out
) -> None:
    """Lay channels over a picture as lights that add up: each in its colour, dark at its lower limit and full at its
    upper one; places without a value give no light.

    Parameters
    ----------
    values : arrays (height, width)
        Of each channel.
    channels : sequence of (colour, low, high, shown)
    """
    light = np.zeros((*out.shape, 3), np.float32)
    there = np.zeros(out.shape, bool)
    for found, (colour, low, high, shown) in zip(values, channels):
        there |= np.isfinite(found)
        if shown and high > low:
            share = np.clip((np.nan_to_num(found, nan=low) - np.float32(low)) / np.float32(high - low), 0, 1)
            light += share[..., None] * np.array([packed(colour) >> s & 255 for s in (16, 8, 0)], np.float32)
    rgb = np.minimum(np.rint(light), 255).astype(np.uint32)
    mixed = np.uint32(0xFF000000) | rgb[..., 0] << np.uint32(16) | rgb[..., 1] << np.uint32(8) | rgb[..., 2]
    over_colours(np.where(there, mixed, np.uint32(0)), opacity, out)
