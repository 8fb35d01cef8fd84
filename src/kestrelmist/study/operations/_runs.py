"""What the operations that run recipes share: on whom, to the end, and what is said then."""

from __future__ import annotations

import os
from dataclasses import replace
from typing import Any

from ...core.errors import Cancelled, Partly, Trouble
from ...core.table import Table
from ..recipes import book as states
from ..recipes.book import Order, RunBook
from ..recipes.cohort import Runner, order_of
from ..recipes.plan import LACKING, Plan
from ..recipes.plan_notice import WRONG
from ..recipes.recipe import Recipe
from ..study import Study

GROUP = "Steps"


def at_once(workers: int) -> int:
    """How many processes are begun of those that are asked for."""
    return min(workers, 4 * (os.cpu_count() or 1))


def named_subjects(study: Study, text: str) -> list[str] | None:
    """Subjects out of a text with commas; None for all. Raises Trouble when there is none of a name."""
    wanted = [one.strip() for one in text.split(",") if one.strip()]
    if not wanted:
        return None
    known = {name.casefold(): name for name in study.subjects()}
    if text.strip().casefold() in known:  # a name may hold a comma
        return [known[text.strip().casefold()]]
    for name in wanted:
        if name.casefold() not in known:
            raise Trouble(f"There is no subject “{name}” in this study", "check the name", study.folder)
    return list(dict.fromkeys(known[name.casefold()] for name in wanted))


def run_to_end(runner: Runner) -> None:
    try:
        runner.run()
    except Cancelled:
        return  # the table says who was stopped


def planned(
    study: Study, recipe: Recipe, plan: Plan, waive: str, part: tuple[int, int] = (1, 1), **facts: Any
) -> Order:
    """The order of a run of what was planned, or of a part of it, with what the checks said of those."""
    order = order_of(study, recipe, part=part, units=plan.units, passed=plan.passed, **facts)
    mine = {"", *(unit for unit, _, _ in order.units)}
    noticed = {n.key: (n.unit, n.sentence, waive.strip()) for n in plan.open if n.unit in mine}
    return replace(order, noticed=noticed)


def told_lacking(made: RunBook, plan: Plan) -> list[str]:
    """Write down who lacks something, before anything runs; returns the keys of the others."""
    ready = []
    for unit in plan.units:
        if unit.key not in made.cells:
            continue
        if plan.state(unit) == LACKING:
            said = (n.sentence for n in plan.open if n.level == WRONG and n.unit in ("", unit.key))
            made.write(unit.key, state=states.MISSING, what=" ".join(said))
        else:
            ready.append(unit.key)
    return ready


def ended(made: RunBook, table: Table) -> Table:
    """The table of a run; raises Partly when not everybody is done."""
    counts: dict[str, int] = {}
    for unit, _, _ in made.order.units:
        counts[made.state(unit)] = counts.get(made.state(unit), 0) + 1
    bad = {s: n for s, n in counts.items() if s not in (*states.OVER, states.LEFT_OUT)}
    if bad:
        told = ", ".join(f"{n} {state}" for state, n in bad.items())
        first = next(made.said(u) for u, _, _ in made.order.units if made.state(u) in bad)
        raise Partly(
            f"Of {len(made.order.units)}, {told}" + (f": {first.rstrip('.')}" if first else ""),
            f"see the table, mend it, and resume run {made.number}",
            done={"table": table},
        )
    return table
