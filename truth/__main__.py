"""Hold results against the truth of many made-up cases.

`./kestrel truth [NAME …] [--seed N] [--json FILE] [--page FILE]`; with `--page docs/truth.md` the page is made anew.
"""

from __future__ import annotations

import argparse
import json
import sys
from dataclasses import asdict
from pathlib import Path

from rich.console import Console
from rich.table import Table

from . import aligning, boundary, brain, cohorts, coverage, mappings, measuring, outlining, scans, solids, tissues
from .row import Row

MODULES = {
    module.__name__.rpartition(".")[2]: module
    for module in (brain, tissues, coverage, scans, mappings, aligning, boundary, outlining, measuring, solids, cohorts)
}
SEED = 31
"""Of the cases, where none is given: none of them is one of the tests'."""
HEAD = """# How right the results are

Made by `./kestrel truth`, of made-up cases of seed {seed} and those after it, which the tests do not use. What is known
of them is how they were made.

| what | found | may be | held against | |
|---|---|---|---|---|
"""


def page(rows: list[Row], seed: int) -> str:
    """The rows as a page of the documents."""
    lines = [
        f"| {r.what} | {r.found:.4g} {r.unit} | {r.limit} | {r.against} | {'' if r.met else '**missed**'} |"
        for r in rows
    ]
    return HEAD.format(seed=seed) + "\n".join(lines) + "\n"


def main() -> None:
    arguments = argparse.ArgumentParser(prog="kestrel truth", description=__doc__)
    arguments.add_argument("--seed", type=int, default=SEED, help="of the first made-up case")
    arguments.add_argument("--json", type=Path, help="also write the rows to this file")
    arguments.add_argument("--page", type=Path, help="also write them as a page of the documents")
    arguments.add_argument("names", nargs="*", choices=[*MODULES, []], help="only these", metavar="NAME")
    given = arguments.parse_args()
    rows: list[Row] = []
    for name in given.names or MODULES:
        print(f"{name} …", file=sys.stderr, flush=True)
        rows += MODULES[name].rows(given.seed)
    table = Table("what", "found", "may be", "held against", "", title="Results against the truth")
    for r in rows:
        table.add_row(r.what, f"{r.found:.4g} {r.unit}", r.limit, r.against, "met" if r.met else "MISSED")
    Console(width=170).print(table)
    if given.json:
        given.json.write_text(json.dumps([asdict(r) | {"met": r.met} for r in rows], indent=1))
    if given.page:
        given.page.write_text(page(rows, given.seed), encoding="utf-8")
    missed = [r for r in rows if not r.met]
    print(f"{len(rows) - len(missed)} of {len(rows)} met" + "".join(f"\nmissed: {r.what}" for r in missed))
    if missed:
        raise SystemExit(1)


if __name__ == "__main__":
    main()
