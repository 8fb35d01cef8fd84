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
    @click.option(
        "--onto",
        metavar="IMAGE",
        help="The image onto whose grid it is brought; of points in a study the one they go to.",
    )
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
        given = {"transform": transform, "onto": onto}
        if _are_marks(what, common["study"]):
            if how is not None:
                raise Trouble("Points are not interpolated, so --how has no use", "leave it out")
            do(find_operation("bring-marks"), {"marks": what, **given, **common})
            return
        if onto is None:
            raise Trouble("Nothing says onto which grid the image is to be brought", "name an image with --onto")
        do(find_operation("apply-transform"), {"image": what, "how": how, **given, **common})

    return apply


def _are_marks(what: str, study: Path | None) -> bool:
    """Whether a file or a name stands for marks, and for no image."""
    path = Path(what)
    if path.is_file():
        from .formats.format import format_of

        return format_of(path, "image") is None and format_of(path, "marks") is not None
    if study is None:
        return False
    from .study.referring import meant
    from .study.study import Study

    def is_one(kind: str) -> bool:
        try:
            return meant(opened, what, kind).record is not None
        except Trouble:
            return False

    with Study(study, read_only=True) as opened:
        return not is_one("image") and is_one("marks")
