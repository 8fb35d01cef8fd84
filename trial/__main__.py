"""Try all cases in turn for some minutes; a table says what was tried, what came of it and what failed."""

from __future__ import annotations

import argparse
import random
import sys
import tempfile
import time
import warnings
from pathlib import Path

from rich.console import Console
from rich.table import Table

# they register cases
from . import disks, files, kills, mark_files, mark_walks, outline_kills, studies, walks, words  # noqa: F401
from . import recipe_runs as recipe_runs
from .case import CASES, Case


def run(seconds: float, seed: int, cases: list[Case] = CASES) -> bool:
    """Try until the time is up, each case at least once; returns whether nothing failed."""
    warnings.simplefilter("ignore")
    ends, number = time.monotonic() + seconds, 0
    while number < len(cases) or time.monotonic() < ends:
        one = cases[number % len(cases)]
        rng = random.Random(f"{seed}-{number}")
        with tempfile.TemporaryDirectory(prefix="kestrelmist-trial-") as place:
            try:
                came = one.once(rng, Path(place))
            except Exception as error:
                came = "FAILED"
                one.failures.append(f"number {number}: {type(error).__name__}: {str(error)[:300]}")
        one.counts[came] = one.counts.get(came, 0) + 1
        number += 1
    table = Table("case", "times", "what came of it", "failed", title=f"Trial {seed}")
    for one in cases:
        told = ", ".join(f"{n} {came}" for came, n in sorted(one.counts.items()))
        table.add_row(one.name, str(sum(one.counts.values())), told, str(len(one.failures)))
    Console(width=150).print(table)
    for one in cases:
        for failure in one.failures:
            print(f"{one.name}, {failure}")
    return not any(one.failures for one in cases)


def main() -> None:
    arguments = argparse.ArgumentParser(prog="kestrel trial", description=__doc__)
    arguments.add_argument("--minutes", type=float, default=2.0, help="how long (2)")
    arguments.add_argument("--seed", type=int, default=1, help="another trial (1)")
    given = arguments.parse_args()
    sys.exit(0 if run(60 * given.minutes, given.seed) else 1)


if __name__ == "__main__":
    main()
