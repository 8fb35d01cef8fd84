"""Volumes at which a curve, such as that of the motion, is over a limit."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, NamedTuple

import numpy as np

from ...core.curve import COLOURS, Curve
from ...core.errors import Trouble
from ...core.operation import operation
from ...core.parameter import Between
from ...core.table import Column, Table


class Over(NamedTuple):
    """Which volumes, and a curve that is 1 there and 0 elsewhere."""

    volumes: Table
    marked: Curve


@operation(
    "prepare",
    "Volumes over a limit",
    name="volumes-over",
    keywords=(
        "framewise displacement dvars threshold outlier mark censor motion scrubbing censoring fd spikes bad volumes"
    ),
    group="Series",
    called={"before": "And before", "after": "And after", "below": "Under it"},
    methods="Volumes over {limit} were listed",
    cites=("Power 2012",),
)
def volumes_over(
    curve: Curve,
    limit: float,
    *,
    before: Annotated[int, Between(0, 100)] = 0,
    after: Annotated[int, Between(0, 100)] = 0,
    below: bool = False,
) -> Over:
    """List the volumes at which a curve is over a limit (J. D. Power et al., NeuroImage 59, 2012).

    Parameters
    ----------
    curve : curve
        Such as the framewise displacement that “Correct motion” gives.
    limit : number
        In the curve's unit.
    before, after : number
        So many volumes before and after each count too.
    below : bool
        Those under the limit are meant.

    Returns
    -------
    volumes : Table
        Number, place along the axis and value of each; a volume that counts because of its neighbour is said to.
    marked : Curve
        1 at these volumes and 0 at others.

    Raises
    ------
    Trouble
        When the limit is no number.
    """
    if not np.isfinite(limit):
        raise Trouble("The limit is no number", "give one in the unit of the curve")
    values = curve.values
    with np.errstate(invalid="ignore"):
        over = values < limit if below else values > limit
    marked = over.copy()
    for n in np.flatnonzero(over):
        marked[max(n - before, 0) : n + after + 1] = True
    columns = [Column("volume"), Column(curve.name or "value", curve.unit, 4), Column("why")]
    if curve.along is not None:
        columns.insert(1, Column("time" if curve.along_unit == "s" else "place", curve.along_unit, 2))
    name = f"{curve.name or 'curve'} {'under' if below else 'over'} {limit:g} {curve.unit}".strip()
    table = Table(name, columns)
    for n in np.flatnonzero(marked):
        place = () if curve.along is None else (float(curve.along[n]),)
        value = float(values[n]) if np.isfinite(values[n]) else None
        why = ("under" if below else "over") if over[n] else "beside"
        table.rows.append((int(n) + 1, *place, value, why))
    return Over(table, replace(curve, values=marked.astype(float), unit="", colour=COLOURS[6], name=name))
