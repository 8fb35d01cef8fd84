"""Where a row of a table lies: its columns x, y and z, in any unit of length."""

from __future__ import annotations

import numpy as np

from ...core.quantity import nanometres
from ...core.space import Space
from ...core.table import Table


def place_in(table: Table, row: int, grid: Space) -> np.ndarray | None:
    """The world position that a row has, in the unit of a grid's world; None when it has none.

    Of pictures tables have x and y alone: z is then that of the picture.
    """
    columns = {c.name: n for n, c in enumerate(table.columns)}
    axes = [axis for axis in "xyz" if axis in columns]
    if axes not in (["x", "y"], ["x", "y", "z"]) or (len(axes) == 2 and grid.shape[2] > 1):
        return None
    factors = [_factor(table.columns[columns[axis]].unit, grid.unit) for axis in axes]
    values = [table.cell(row, columns[axis]) for axis in axes]
    if None in factors or not all(isinstance(v, int | float | np.number) and np.isfinite(v) for v in values):
        return None
    place = np.asarray(grid.centre, float).copy()
    place[: len(axes)] = [float(v) * f for v, f in zip(values, factors) if f is not None]
    return place


def _factor(unit: str, wanted: str) -> float | None:
    """How many of the wanted unit one of a unit is; None when they are not of one sort."""
    if unit == wanted:
        return 1.0
    one, other = nanometres(unit), nanometres(wanted)
    return one / other if one is not None and other is not None else None
