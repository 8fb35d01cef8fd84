"""Commands that make up more animals than the demo's own."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import click


def add_demo_commands(program: click.Group, bar: Callable) -> None:
    """Put them into the program; `bar(False)` shows how far they are."""

    @program.command("animals")
    @click.argument("folder", type=click.Path(path_type=Path))
    @click.option("--count", type=click.IntRange(1, 1000), default=5, show_default=True, help="How many animals.")
    @click.option("--seed", type=click.IntRange(0, 10**6), default=21, show_default=True, help="Seed of the first one.")
    @click.option("--volumes", type=click.IntRange(1, 10_000), default=40, show_default=True, help="Length of the run.")
    def _animals(folder: Path, count: int, seed: int, volumes: int) -> None:
        """Make up animals: heads, a functional run with its field map, and what is true of them."""
        from .functional_files import write_animals

        with bar(False) as progress:
            made = write_animals(folder, range(seed, seed + count), volumes, progress)
        print("\n".join(f"Made {place}" for place in made))

    @program.command("alignments")
    @click.argument("folder", type=click.Path(path_type=Path))
    @click.option("--count", type=click.IntRange(1, 1000), default=5, show_default=True, help="How many animals.")
    @click.option("--seed", type=click.IntRange(0, 10**6), default=21, show_default=True, help="Seed of the first one.")
    def _alignments(folder: Path, count: int, seed: int) -> None:
        """Make up scans to be aligned: functional views of part of the head and of all of it, a CT that lies elsewhere,
        sections of a block; and the true mappings."""
        from .alignment_files import write_alignments

        with bar(False) as progress:
            made = write_alignments(folder, range(seed, seed + count), progress)
        print("\n".join(f"Made {place}" for place in made))

    @program.command("radiographs")
    @click.argument("folder", type=click.Path(path_type=Path))
    @click.option("--count", type=click.IntRange(1, 100_000), default=500, show_default=True, help="How many animals.")
    @click.option("--seed", type=click.IntRange(0, 10**6), default=0, show_default=True, help="Other animals.")
    def _radiographs(folder: Path, count: int, seed: int) -> None:
        """Make up radiographs of many animals, with a table of boxes round what is on them."""
        from .many_radiographs import write_radiographs

        with bar(False) as progress:
            table = write_radiographs(folder, count, seed, progress=progress)
        print(f"Made {table} and {table.parent / 'pictures'}")
