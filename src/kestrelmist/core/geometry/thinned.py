"""Lines with fewer points."""

from __future__ import annotations

import numpy as np


def thinned(line: np.ndarray, tolerance: float) -> np.ndarray:
    """A line without points that lie within a tolerance of it anyway.

    U. Ramer, Computer Graphics and Image Processing 1, 1972; D. H. Douglas and T. K. Peucker, Cartographica 10, 1973.

    Parameters
    ----------
    line : array (n, 3)
    tolerance : in the line's unit
    """
    if len(line) < 3:
        return line
    kept = np.zeros(len(line), bool)
    kept[[0, -1]] = True
    waiting = [(0, len(line) - 1)]
    while waiting:
        first, last = waiting.pop()
        if last - first < 2:
            continue
        start, way = line[first], line[last] - line[first]
        between = line[first + 1 : last] - start
        length = float(way @ way)
        share = np.clip(between @ way / length, 0, 1)[:, None] if length > 0 else np.zeros((len(between), 1))
        away = np.linalg.norm(between - share * way, axis=1)
        furthest = int(away.argmax())
        if away[furthest] > tolerance:
            at = first + 1 + furthest
            kept[at] = True
            waiting += [(first, at), (at, last)]
    return line[kept]
