"""Amounts of stains from colours, and colours from amounts; pixel by pixel, part by part."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from threading import Lock

import numpy as np

from ...core.kernel import kernel

LARGEST = 1 << 28
"""Bytes of the largest part that is kept: what several stains are asked for, one after another, is worked out once."""
BAND = 512


class Unmixing:
    """Separates colours into stains.

    Parameters
    ----------
    vectors : array (stains, 3)
        Two or three, of length 1, in optical density of red, green and blue.
    white : array (3,)
        What passes where nothing is, 0 to 255.
    """

    def __init__(self, vectors: np.ndarray, white: np.ndarray):
        self.vectors = np.asarray(vectors, np.float64)
        self.white = np.asarray(white, np.float64)
        levels = np.maximum(np.arange(256.0), 0.5)
        self.table = np.ascontiguousarray(-np.log10(levels[None, :] / self.white[:, None]), np.float32)
        self._inverse = np.ascontiguousarray(np.linalg.pinv(self.vectors.T), np.float32)
        self._known: tuple[object, np.ndarray] | None = None
        self._lock = Lock()

    def amounts(self, colours: np.ndarray) -> np.ndarray:
        """Amounts of each stain, not below 0, and last what of the density they do not explain: float32 (stains + 1, a,
        b) of colours, packed uint32 (a, b) or uint8 (a, b, 3)."""
        if abs(colours.strides[0]) < abs(colours.strides[1]):  # along the memory, whichever axis comes first in it
            return self.amounts(colours.swapaxes(0, 1)).swapaxes(1, 2)
        colours = np.ascontiguousarray(colours)
        out = np.empty((len(self.vectors) + 1, *colours.shape[:2]), np.float32)
        vectors, work = self.vectors.astype(np.float32), _of_bytes if colours.ndim == 3 else _of_packed
        middle = len(colours) // 2
        bands = [band for band in ((0, middle), (middle, len(colours))) if band[1] > band[0]]
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(lambda band: work(colours, self.table, self._inverse, vectors, out, *band), bands))
        return out

    def amount(self, n: int, key: object, read) -> np.ndarray:
        """Amounts of one stain, or with `n` the number of stains, the residual: float32 (a, b), of a part whose colours
        `read()` gives. All of the last part that was not large is kept under its key for a while."""
        with self._lock:
            if self._known is None or self._known[0] != key:
                self._known = None
                colours = read()
                if 4 * colours.shape[0] * colours.shape[1] * (len(self.vectors) + 1) > LARGEST:
                    return self._in_bands(n, colours)
                self._known = key, self.amounts(colours)
            return self._known[1][n]

    def _in_bands(self, n: int, colours: np.ndarray) -> np.ndarray:
        """The amounts of one stain alone, of a picture whose others would take too much room."""
        if abs(colours.strides[0]) < abs(colours.strides[1]):
            return self._in_bands(n, colours.swapaxes(0, 1)).T
        bands = (colours[a : a + BAND] for a in range(0, len(colours), BAND))
        return np.concatenate([self.amounts(band)[n] for band in bands])

    def colours(self, amounts: np.ndarray) -> np.ndarray:
        """Colours uint8 (rows, columns, 3) of amounts (stains, rows, columns)."""
        density = np.tensordot(np.asarray(amounts, np.float32), self.vectors.astype(np.float32), (0, 0))
        light = self.white.astype(np.float32) * np.power(np.float32(10), -density)
        return np.clip(np.rint(light), 0, 255).astype(np.uint8)


@kernel(inline="always")
def _one(r, g, b, inverse, vectors, out, y, x):
    stains = vectors.shape[0]
    er, eg, eb = r, g, b
    for n in range(stains):
        amount = max(inverse[n, 0] * r + inverse[n, 1] * g + inverse[n, 2] * b, np.float32(0))
        out[n, y, x] = amount
        er -= amount * vectors[n, 0]
        eg -= amount * vectors[n, 1]
        eb -= amount * vectors[n, 2]
    out[stains, y, x] = np.sqrt(er * er + eg * eg + eb * eb)


@kernel(fastmath={"reassoc", "contract"})
def _of_packed(packed, table, inverse, vectors, out, first, last):
    for y in range(first, last):
        for x in range(packed.shape[1]):
            colour = packed[y, x]
            r, g, b = table[0, (colour >> 16) & 255], table[1, (colour >> 8) & 255], table[2, colour & 255]
            _one(r, g, b, inverse, vectors, out, y, x)


@kernel(fastmath={"reassoc", "contract"})
def _of_bytes(colours, table, inverse, vectors, out, first, last):
    for y in range(first, last):
        for x in range(colours.shape[1]):
            r, g, b = table[0, colours[y, x, 0]], table[1, colours[y, x, 1]], table[2, colours[y, x, 2]]
            _one(r, g, b, inverse, vectors, out, y, x)
