"""Run all benchmarks: `./kestrel bench [NAME …] [--json FILE]`."""

from __future__ import annotations

import argparse
import json
import sys
from dataclasses import asdict
from pathlib import Path

from rich.console import Console
from rich.table import Table

from . import (
    aligning,
    answering,
    cohorts,
    courses,
    crowded,
    dicom,
    gathering,
    growing,
    heights,
    journal,
    layered,
    laying,
    many,
    measuring,
    outlining,
    panes,
    panning,
    preparing,
    sets,
    solids,
    staining,
    starting,
    tables,
    taking_out,
)

MODULES = {
    module.__name__.rpartition(".")[2]: module
    for module in (
        aligning,
        starting,
        answering,
        cohorts,
        crowded,
        dicom,
        gathering,
        many,
        measuring,
        panes,
        layered,
        laying,
        panning,
        growing,
        outlining,
        tables,
        journal,
        courses,
        preparing,
        taking_out,
        heights,
        staining,
        sets,
        solids,
    )
}


def main() -> None:
    arguments = argparse.ArgumentParser(description=__doc__)
    arguments.add_argument("--json", type=Path, help="also write the rows to this file")
    arguments.add_argument("names", nargs="*", choices=[*MODULES, []], help="only these", metavar="NAME")
    given = arguments.parse_args()
    rows = []
    for name in given.names or MODULES:
        print(f"{name} …", file=sys.stderr, flush=True)
        rows += MODULES[name].rows()
    table = Table("name", "ours", "baseline", "ratio", "goal", "", title="Benchmarks (lower is better)")
    for r in rows:
        said = "" if r.met is None else "met" if r.met else "MISSED"
        shown = f"{1 / r.ours:.0f}/s" if "frames" in r.goal else ""
        table.add_row(
            r.name,
            f"{r.ours:.4g} {r.unit} {shown}",
            "" if r.baseline is None else f"{r.baseline:.4g} {r.unit} ({r.baseline_name})",
            "" if r.ratio is None else f"{r.ratio:.3f}",
            r.goal,
            said,
        )
    Console(width=170).print(table)
    if given.json:
        given.json.write_text(json.dumps([asdict(r) | {"ratio": r.ratio} for r in rows], indent=1))
    judged = [r for r in rows if r.met is not None]
    missed = [r for r in judged if not r.met]
    print(f"{len(judged) - len(missed)} of {len(judged)} met" + "".join(f"\nmissed: {r.name}" for r in missed))
    if missed:
        raise SystemExit(1)


if __name__ == "__main__":
    main()
