"""A made-up stage ruler under a microscope: marks at one distance, every fifth and tenth longer, at any angle."""

from __future__ import annotations

import numpy as np
from scipy.special import ndtr

WHITE, DARK = 205.0, 0.62
"""Light where nothing is, and what share of it a mark takes."""


def ruler_picture(
    pixel: float,
    spacing: float = 0.01,
    mark: float = 0.0015,
    size: tuple[int, int] = (1280, 960),
    middle: tuple[float, float] = (0.0, 0.0),
    turn: float = 0.0,
    blur: float = 0.9,
    noise: float = 3.0,
    seed: int = 0,
    length: float | None = None,
) -> np.ndarray:
    """A picture of it, float [row, column], from 0 to 255.

    Parameters
    ----------
    pixel, spacing, mark : mm
        Side of a pixel; from the middle of a mark to that of the next; how wide marks are.
    size : two whole numbers
        Columns and rows.
    middle : two mm
        Where on the ruler the middle of the picture lies: along it, and beside its base line.
    turn : radians
        Of the ruler in the picture.
    blur : pixels
        Standard deviation of the Gaussian that blurs it.
    length : mm, optional
        Of the shortest marks; eight times their distance when left out. Marks stand on the base line, half of it above.
    """
    rng = np.random.default_rng([19, seed])
    columns, rows = size
    length = 8 * spacing if length is None else length
    u, v = (np.arange(columns) - (columns - 1) / 2) * pixel, (np.arange(rows) - (rows - 1) / 2) * pixel
    u, v = u[None].astype(np.float32), v[:, None].astype(np.float32)
    along = u * np.float32(np.cos(turn)) + v * np.float32(np.sin(turn)) + np.float32(middle[0])
    beside = v * np.float32(np.cos(turn)) - u * np.float32(np.sin(turn)) + np.float32(middle[1])
    number = np.rint(along / spacing)
    away = (along - number * spacing) / pixel
    half = mark / pixel / 2
    high = np.where(number % 10 == 0, 2.0, np.where(number % 5 == 0, 1.5, 1.0)) * length
    ends = ndtr((beside + length / 2) / pixel / blur) - ndtr((beside + length / 2 - high) / pixel / blur)
    marks = (ndtr((away + half) / blur) - ndtr((away - half) / blur)) * ends
    falloff = 1 - 0.06 * (u**2 + v**2) / (columns * pixel / 2) ** 2
    picture = WHITE * falloff * (1 - DARK * marks)
    return np.clip(picture + rng.normal(0, noise, picture.shape), 0, 255)
