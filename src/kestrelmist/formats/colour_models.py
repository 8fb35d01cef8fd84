"""Red, green and blue of colours that files give in other ways."""

from __future__ import annotations

import numpy as np


def rgb_of_inks(values: np.ndarray) -> np.ndarray:
    """Red, green and blue of cyan, magenta, yellow and black along the last axis, bytes: what each ink leaves of the
    light."""
    light = 255 - values.astype(np.uint16)
    return ((light[..., :3] * light[..., 3:] + 127) // 255).astype(np.uint8)


def rgb_of_ycbcr(values: np.ndarray, parts: tuple[float, ...] = (0.299, 0.587, 0.114)) -> np.ndarray:
    """Red, green and blue of luma and differences, bytes along the last axis.

    References
    ----------
    TIFF 6.0 specification, section 21; the weights of red, green and blue in luma are `parts`.
    """
    red, green, blue = parts
    luma, cb, cr = (values[..., n].astype(np.float32) for n in range(3))
    r = luma + (cr - 128) * (2 - 2 * red)
    b = luma + (cb - 128) * (2 - 2 * blue)
    g = (luma - red * r - blue * b) / green
    return np.clip(np.rint(np.stack([r, g, b], -1)), 0, 255).astype(np.uint8)
