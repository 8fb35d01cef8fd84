"""What is taken out of courses through time: slow cosines and curves."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from .caveat import TAKEN_OUT, Caveat
from .curve import Curve
from .errors import Trouble

MISSING = 0.1
"""Share of the volumes in which a curve may have no value."""


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


def told(cosines: int, longest: float, curves: list[Curve] | None, more: tuple[str, ...] = ()) -> Caveat | None:
    """What was taken out, for the record; None when nothing was."""
    parts = [f"changes slower than {longest:g} s ({cosines} cosines)"] if cosines else []
    for curve in curves or ():
        none = [str(n) for n in np.flatnonzero(~np.isfinite(curve.values)) + 1]
        missing = f" (no value in volume {', '.join(none)}: its mean there)" if none else ""
        parts.append(f"{curve.name or 'a curve'}{missing}")
    parts += more
    return Caveat(TAKEN_OUT, f"Taken out of its courses: {', '.join(parts)}") if parts else None


def as_long(curve: Curve, count: int, series: str) -> np.ndarray:
    """The values of a curve, one for each volume; raises Trouble when there are more or fewer."""
    if curve.values.size != count:
        raise Trouble(
            f"“{curve.name}” has {curve.values.size} values and “{series}” {count} volumes",
            "choose a curve of this series",
        )
    return curve.values


def taken_out(curves: list[Curve] | None, count: int, series: str) -> Iterator[np.ndarray]:
    """The values of curves about their mean. Where one has no value, as what changes from volume to volume has none in
    the first, its mean stands in; raises Trouble when that is so in more than a tenth of the volumes."""
    for curve in curves or ():
        values = as_long(curve, count, series)
        there = np.isfinite(values)
        if np.count_nonzero(~there) > MISSING * count:
            raise Trouble(f"“{curve.name}” has no value in some volumes", "take another curve out, or none")
        yield np.where(there, values - values[there].mean(), 0.0)
