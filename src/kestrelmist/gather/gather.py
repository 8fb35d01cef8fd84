"""Find what a folder holds."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

from ..core.errors import Trouble
from ..core.operation import operation
from ..core.parameter import FolderPath
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from .plan import PlanLine, plan_folder
from .subject_rule import SubjectRule

SOURCES = Literal["patient id", "patient name", "folder", "file name"]


@operation("gather", "List series", name="scan", keywords="dicom folder series plan what is in", group="Folders")
def list_series(
    folder: FolderPath,
    subject_from: SOURCES = "patient id",
    subject_pattern: str = "(.+)",
    progress: Progress = silent(),
) -> Table:
    """List what a folder holds, with what is wrong with each image, loading none.

    Parameters
    ----------
    folder : path
        May be nested and unsorted.
    subject_from : text
        Where subjects' names are taken from.
    subject_pattern : text
        Regular expression; its first group is the subject.
    """
    # sizes as numbers are for files and scripts; a person reads them in one column
    table = Table(
        "Series",
        [
            Column("series"),
            Column("subject"),
            Column("modality", hidden=True),
            Column("seems"),
            Column("date"),
            *(Column(n, hidden=True) for n in ("columns", "rows", "slices", "volumes")),
            *(Column(f"spacing_{axis}", "mm", 4, hidden=True) for axis in "xyz"),
            Column("matrix"),
            Column("voxel"),
            Column("problems"),
            Column("files", hidden=True),
            Column("uid", hidden=True),
        ],
    )
    for line in plan_folder(folder, SubjectRule(subject_from, subject_pattern), progress=progress):
        s = line.series
        if s is not None:
            sizes = (*s.matrix, s.depth, s.volumes, *(s.spacing or (None, None, None)))
        else:
            try:
                space, count = (image := line.open()).space, image.count
                sizes = (*space.shape, count, *(space.spacing if space.unit == "mm" else (None, None, None)))
            except Trouble:
                sizes = (None,) * 7
        table.rows.append(
            (
                line.name,
                line.subject,
                line.modality,
                line.seems,
                line.date,
                *sizes,
                line.size,
                line.spacing,
                ". ".join(line.problems),
                len(line.files),
                s.uid if s else "",
            )
        )
    return table


def chosen_lines(
    folder: Path,
    series: str | None = None,
    subject: str | None = None,
    rule: SubjectRule = SubjectRule(),
    *,
    spacing: tuple[float, float, float] | None = None,
    progress: Progress = silent(),
) -> list[PlanLine]:
    """The images of a folder that are asked for by name, and the labels in it when all are; the parameters are those of
    the operation *Gather*.

    Raises Trouble when the folder holds no image, or none of that name.
    """
    lines = plan_folder(folder, rule, spacing=spacing, progress=progress)
    images = [line for line in lines if line.is_image]
    wanted = images if series is None else _of_name(series, images, folder)
    if not wanted:
        have = ", ".join(f"“{line.name}”" for line in images)
        if have:
            raise Trouble(f"There is no image “{series}” in this folder", f"it holds {have}", folder)
        others = "; ".join(f"“{line.name}” is a {line.seems[:1].lower()}{line.seems[1:]}" for line in lines)
        raise Trouble("There is no image in this folder", others, folder)
    for line in wanted:
        line.take, line.subject = True, subject or line.subject
    labels = [line for line in lines if line.kind == "labels"] if series is None else []
    return wanted + labels


def _of_name(wanted: str, lines: list[PlanLine], folder: Path) -> list[PlanLine]:
    """Those that are called so: by their place below the folder, else by name, identifier or file name."""
    text = wanted.casefold()
    exact = [line for line in lines if text == place_in(folder, line).casefold()]
    return exact or [line for line in lines if text in (line.name.casefold(), line.files[0].name.casefold())]


def place_in(folder: Path, line: PlanLine) -> str:
    """What tells a line of a plan from all others of its folder: the identifier of its series, or where its file lies
    in it."""
    if line.series is not None:
        return line.series.uid
    path = line.files[0]
    return str(path.relative_to(folder)) if path.is_relative_to(folder) and path != folder else path.name
