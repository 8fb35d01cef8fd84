"""The command `apply`: transforms on whatever is given, by the operation for its kind."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from .core.errors import Trouble
from .core.operation import Operation, find_operation


def apply_command(do: Callable[[Operation, dict[str, Any]], None]) -> click.Command:
    """`apply T [T …] --to MOVING --onto FIXED`, or `--to POINTS.csv`; `do(operation, given)` runs one."""

    @click.command("apply", short_help="Bring an image, or points, through transforms.")
    @click.argument("transform", nargs=-1, required=True, metavar="TRANSFORM…")
    @click.option("--to", "what", required=True, metavar="IMAGE|MARKS", help="What is brought: an image, or points.")
    @click.option("--onto", metavar="IMAGE", help="Of an image: the grid it is brought onto.")
    @click.option("--how", metavar="nearest|linear|cubic|sinc", help="Of an image: interpolation.  [cubic]")
    @click.option("--study", type=click.Path(path_type=Path), metavar="FOLDER", help="Study to work in.")
    @click.option("--out", type=click.Path(path_type=Path), metavar="NEW FILE", help="File to write the result to.")
    @click.option("--dry-run", is_flag=True, help="Only tell what would be used, and from where.")
    @click.option("--json", is_flag=True, help="Print the result as JSON.")
    def apply(transform, what, onto, how, **common) -> None:
        """Bring an image onto the grid of another one through transforms, with one interpolation; or points to where
        they lead.

        Of several transforms the first one starts at the grid, or where the points lie. As ITK has it, a transform
        takes places of the fixed image to places of the moving one.
        """
        if _are_marks(what, common["study"]):
            for flag, value in (("--onto", onto), ("--how", how)):
                if value is not None:
                    raise Trouble(
                        f"Points are brought to where the transforms lead, so {flag} has no use", "leave it out"
                    )
            do(find_operation("apply-to-marks"), {"marks": what, "transform": transform, **common})
            return
        if onto is None:
            raise Trouble("Nothing says onto which grid the image is to be brought", "name an image with --onto")
        given = {"image": what, "transform": transform, "onto": onto, "how": how}
        do(find_operation("apply-transform"), {**given, **common})

    return apply


def _are_marks(what: str, study: Path | None) -> bool:
    """Whether a file or a name stands for marks."""
    path = Path(what)
    if path.is_file():
        from .formats.format import format_of

        return format_of(path, "image") is None and format_of(path, "marks") is not None
    if study is None:
        return False
    from .study.stores.marks import MARKS
    from .study.study import Study

    with Study(study, read_only=True) as opened:
        return any(str(r.reference) == what or r.name == what for r in opened.items.of_kind(MARKS.kind))
