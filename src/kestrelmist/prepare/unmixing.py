"""Amounts of stains from colours, and colours from amounts; pixel by pixel, part by part."""

from __future__ import annotations

from collections import OrderedDict
from concurrent.futures import ThreadPoolExecutor
from threading import Lock

import numpy as np

from ..core.kernel import kernel

KEPT, LARGEST = 2, 1 << 28
"""Parts that are kept, and bytes of the largest of them: what several stains are asked for, one after another, is
worked out once."""
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
        self._known: OrderedDict[object, np.ndarray] = OrderedDict()
        self._lock = Lock()

    def amounts(self, packed: np.ndarray) -> np.ndarray:
        """Amounts of each stain, not below 0, and last what of the density they do not explain: float32 (stains + 1,
        rows, columns) of packed colours uint32 (rows, columns)."""
        stains = len(self.vectors)
        out = np.empty((stains + 1, *packed.shape), np.float32)
        vectors = self.vectors.astype(np.float32)
        middle = packed.shape[0] // 2
        bands = [band for band in ((0, middle), (middle, packed.shape[0])) if band[1] > band[0]]
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(lambda band: _unmixed(packed, self.table, self._inverse, vectors, out, *band), bands))
        return out

    def amount(self, n: int, key: object, read) -> np.ndarray:
        """Amounts of one stain, or with `n` the number of stains, the residual: float32 (rows, columns), of a part that
        `read()` gives as packed colours. All of a part that is not large are kept under its key for a while."""
        with self._lock:
            if key not in self._known:
                packed = np.ascontiguousarray(read())
                if 4 * packed.size * (len(self.vectors) + 1) > LARGEST:
                    bands = (packed[a : a + BAND] for a in range(0, len(packed), BAND))
                    return np.concatenate([self.amounts(band)[n] for band in bands])
                self._known[key] = self.amounts(packed)
                while len(self._known) > KEPT:
                    self._known.popitem(last=False)
            self._known.move_to_end(key)
            return self._known[key][n]

    def colours(self, amounts: np.ndarray) -> np.ndarray:
        """Colours uint8 (rows, columns, 3) of amounts (stains, rows, columns)."""
        density = np.tensordot(np.asarray(amounts, np.float32), self.vectors.astype(np.float32), (0, 0))
        light = self.white.astype(np.float32) * np.power(np.float32(10), -density)
        return np.clip(np.rint(light), 0, 255).astype(np.uint8)


@kernel(fastmath={"reassoc", "contract"})
def _unmixed(packed, table, inverse, vectors, out, first, last):
    stains = vectors.shape[0]
    for y in range(first, last):
        for x in range(packed.shape[1]):
            colour = packed[y, x]
            r = table[0, (colour >> 16) & 255]
            g = table[1, (colour >> 8) & 255]
            b = table[2, colour & 255]
            er, eg, eb = r, g, b
            for n in range(stains):
                amount = inverse[n, 0] * r + inverse[n, 1] * g + inverse[n, 2] * b
                amount = max(amount, np.float32(0))
                out[n, y, x] = amount
                er -= amount * vectors[n, 0]
                eg -= amount * vectors[n, 1]
                eb -= amount * vectors[n, 2]
            out[stains, y, x] = np.sqrt(er * er + eg * eg + eb * eb)
