"""A gate: a range of one column of a table, or an area of two, that tells which rows are inside."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from .errors import Trouble
from .table import Table

ROUNDED = 1e-12
"""By what share of an area's sides a row may lie off its border and still be on it."""
WANTED = "write a range as 50..200, or three corners or more as 1,2 3,4 5,6"


def figures_of(table: Table, name: str) -> np.ndarray:
    """The numbers of a column, float64, NaN where there is none. Raises Trouble when there is no such column, or it
    holds words."""
    at = next((n for n, column in enumerate(table.columns) if column.name == name), None)
    if at is None:
        at = next((n for n, one in enumerate(table.columns) if one.name.casefold() == name.strip().casefold()), None)
    if at is None:
        there = [one.name for n, one in enumerate(table.columns) if holds_figures(table, n)]
        raise Trouble(f"“{table.title}” has no column “{name[:40]}”", f"choose one of {', '.join(there[:20])}")
    values = table.values[at] if table.lazy else [row[at] for row in table.rows]
    if isinstance(values, np.ndarray) and values.dtype.kind in "iufb":
        return values.astype(np.float64, copy=False)
    try:
        return np.array([math.nan if v is None or v == "" else v for v in values], np.float64)
    except (TypeError, ValueError) as error:
        raise Trouble(f"Column “{table.columns[at].name}” holds words", "choose one of numbers") from error


def holds_figures(table: Table, at: int) -> bool:
    """Whether a column is one of numbers, as far as its beginning tells."""
    values = table.values[at] if table.lazy else [row[at] for row in table.rows[:200]]
    if isinstance(values, np.ndarray) and values.dtype.kind in "iufb":
        return True
    some = [v for v in list(values[:200]) if v is not None and v != ""]
    return bool(some) and all(isinstance(v, int | float | np.number) for v in some)


def on_scale(values: np.ndarray, log: bool) -> np.ndarray:
    """Values where they stand along an axis: as they are, or their common logarithms; what has none is NaN."""
    if not log:
        return values
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(values > 0, np.log10(np.where(values > 0, values, 1.0)), np.nan)


@dataclass(frozen=True)
class Gate:
    """Which rows are inside.

    Parameters
    ----------
    x : str
        A column.
    y : str
        Another one; "" for a range of the first.
    corners : tuple
        Of a range its two ends ((low,), (high,)); of an area its corners (x, y) in order, in the columns' own units.
    log_x, log_y : bool
        Whether sides of an area run straight between logarithms, as where it was drawn on a logarithmic axis.
    """

    x: str
    y: str = ""
    corners: tuple[tuple[float, ...], ...] = ()
    log_x: bool = False
    log_y: bool = False

    @classmethod
    def typed(cls, x: str, y: str, within: str, log_x: bool = False, log_y: bool = False) -> Gate:
        """A gate as a person types it: "50..200" for a range, "1,2 3,4 5,6" for an area. Raises Trouble."""
        text = within.replace("−", "-").strip()
        try:
            if not y.strip():
                ends = [float(part) for part in text.split("..")]
                if len(ends) != 2 or any(math.isnan(one) for one in ends):
                    raise ValueError
                return cls(x.strip(), "", tuple((one,) for one in sorted(ends)))
            groups = text.replace(";", " ").split()
            corners = tuple(tuple(float(part) for part in group.split(",")) for group in groups)
            if any(len(one) != 2 or not all(map(math.isfinite, one)) for one in corners):
                raise ValueError
        except ValueError as error:
            raise Trouble(f"“{within[:40]}” is no gate", WANTED) from error
        if len(corners) < 3:
            raise Trouble(f"“{within[:40]}” has too few corners for an area", WANTED)
        return cls(x.strip(), y.strip(), corners, log_x, log_y)

    @property
    def within(self) -> str:
        """As it is typed."""
        if not self.y:
            return "..".join(f"{one[0]:.10g}" for one in self.corners)
        return " ".join(",".join(f"{v:.10g}" for v in one) for one in self.corners)

    def inside(self, table: Table) -> np.ndarray:
        """Which rows are inside, bool (rows); those on its very border are, those without a number are not. Raises
        Trouble when a column is not there."""
        across = figures_of(table, self.x)
        if not self.y:
            (low,), (high,) = self.corners
            with np.errstate(invalid="ignore"):
                return (across >= low) & (across <= high)
        corners = np.array(self.corners, float)
        scaled = [on_scale(one, log) for one, log in zip(corners.T, (self.log_x, self.log_y))]
        if np.isnan(scaled).any():
            raise Trouble("A gate on a logarithmic axis has a corner at 0 or below", "draw it above 0")
        places = on_scale(across, self.log_x), on_scale(figures_of(table, self.y), self.log_y)
        return inside_area(places[0], places[1], np.column_stack(scaled))

    def as_dict(self) -> dict[str, Any]:
        """As the settings of the operation that makes a class of it."""
        return {"x": self.x, "y": self.y, "within": self.within, "log_x": self.log_x, "log_y": self.log_y}


def inside_area(x: np.ndarray, y: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """Whether points lie inside a closed line through corners (n, 2), or on it: an odd number of its sides is crossed
    on the way to one side (M. Shimrat, Comm. ACM 5, 1962). Only points within its box are looked at."""
    low, high = corners.min(0), corners.max(0)
    with np.errstate(invalid="ignore"):
        near = np.flatnonzero((x >= low[0]) & (x <= high[0]) & (y >= low[1]) & (y <= high[1]))
    sides = np.where(high > low, high - low, 1.0)  # columns may be of any size
    px, py = (x[near] - low[0]) / sides[0], (y[near] - low[1]) / sides[1]
    corners = (corners - low) / sides
    odd, edge = np.zeros(len(near), bool), np.zeros(len(near), bool)
    for (ax, ay), (bx, by) in zip(corners, np.roll(corners, -1, 0)):
        turn = (bx - ax) * (py - ay) - (by - ay) * (px - ax)
        if by != ay:
            odd ^= ((ay > py) != (by > py)) & ((turn > 0) == (by > ay))
        on_line = np.abs(turn) <= ROUNDED
        if on_line.any():
            within = (px >= min(ax, bx) - ROUNDED) & (px <= max(ax, bx) + ROUNDED)
            edge |= on_line & within & (py >= min(ay, by) - ROUNDED) & (py <= max(ay, by) + ROUNDED)
    found = np.zeros(len(x), bool)
    found[near] = odd | edge
    return found
