"""What the operations that run recipes share: on whom, to the end, and what is said then."""

from __future__ import annotations

import os

from ...core.errors import Cancelled, Partly, Trouble
from ...core.table import Table
from ..recipes import book as states
from ..recipes.book import RunBook
from ..recipes.cohort import Runner
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
