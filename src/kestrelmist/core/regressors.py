"""What is taken out of courses through time: slow cosines and curves."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from .curve import Curve
from .errors import Trouble


def cosines(count: int, step: float | None, longest: float) -> Iterator[np.ndarray]:
    """Cosines of half a period and more over a series whose periods are longer than `longest` (N. Ahmed, T. Natarajan
    and K. R. Rao, IEEE Trans. Computers 23, 1974).

    Parameters
    ----------
    count : volumes
    step : s between two volumes, or None
    longest : s
        None are given when 0.
    """
    if longest <= 0:
        return
    if step is None:
        raise Trouble("The times of this series are not known in s, so drift cannot be told", "leave drift at 0")
    for n in range(1, int(2 * count * step / longest) + 1):
        if n >= count - 2:
            raise Trouble(f"Changes slower than {longest:g} s are nearly all of this series", "choose a longer period")
        yield np.cos(np.pi * n * (np.arange(count) + 0.5) / count)


def as_long(curve: Curve, count: int, series: str) -> np.ndarray:
    """The values of a curve, one for each volume; raises Trouble when there are more or fewer."""
    if curve.values.size != count:
        raise Trouble(
            f"“{curve.name}” has {curve.values.size} values and “{series}” {count} volumes",
            "choose a curve of this series",
        )
    return curve.values


def taken_out(curves: list[Curve] | None, count: int, series: str) -> Iterator[np.ndarray]:
    """The values of curves about their mean; raises Trouble when one has no value somewhere."""
    for curve in curves or ():
        values = as_long(curve, count, series)
        if not np.isfinite(values).all():
            raise Trouble(f"“{curve.name}” has no value in some volumes", "take another curve out, or none")
        yield values - values.mean()
