"""Find what a folder holds, and take it in."""

from __future__ import annotations

from typing import Literal

from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import operation
from ..core.parameter import FolderPath, Spacing
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from ..formats.dicom_labels import read_dicom_labels, referenced_series
from .open_labels import merged
from .plan import PlanLine, plan_folder
from .subject_rule import SubjectRule

SOURCES = Literal["patient id", "patient name", "folder", "file name"]


@operation("gather", "List series", name="scan", keywords="dicom folder series plan what is in")
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


@operation("gather", "Gather a folder", name="gather", keywords="import open load add dicom nifti tiff drop")
def gather(
    folder: FolderPath,
    series: str | None = None,
    subject: str | None = None,
    *,
    copy: bool = True,
    uneven: Literal["refuse", "mend"] = "refuse",
    subject_from: SOURCES = "patient id",
    subject_pattern: str = "(.+)",
    spacing: Spacing | None = None,
    sequences: Literal["time", "slice"] = "time",
    progress: Progress = silent(),
) -> list[Image]:
    """Take images into the study: DICOM series, and files of every other kind that can be read.

    A segmentation or structure set in the folder comes in as the labels of the image it was drawn on.

    Parameters
    ----------
    folder : path
        A folder, nested and unsorted as it may be, or one file.
    series : text
        Only the image of this name or series identifier; all when left out.
    subject : text
        Subject to put the images under; found by the pattern when left out.
    copy : bool
        Copy the files into the study; otherwise they stay where they are and must stay there.
    uneven : "refuse" or "mend"
        What to do with missing or doubled slices: "mend" leaves missing ones blank and takes the first of
        doubled ones.
    subject_from : text
        Where subjects' names are taken from.
    subject_pattern : text
        Regular expression; its first group is the subject.
    spacing : three mm
        Voxel size for NIfTI files whose own position matrix is of no use.
    sequences : "time" or "slice"
        What pictures that differ in a number are: times, or slices of a stack.

    Raises
    ------
    Trouble
        When the folder holds no image, or none of that name; naming each that is refused, and why.
    """
    lines = plan_folder(folder, SubjectRule(subject_from, subject_pattern), spacing=spacing, progress=progress)
    wanted = [line for line in lines if line.is_image and (series is None or _matches(series, line))]
    if not wanted:
        have = ", ".join(f"“{line.name}”" for line in lines if line.is_image)
        if have:
            raise Trouble(f"There is no image “{series}” in this folder", f"it holds {have}", folder)
        others = "; ".join(f"“{line.name}” is a {line.seems[:1].lower()}{line.seems[1:]}" for line in lines)
        raise Trouble("There is no image in this folder", others, folder)
    for line in wanted:
        line.along = sequences
        line.subject, line.copy, line.mend = subject or line.subject, copy, uneven == "mend" and line.mendable
    images = [line.open(progress) for line in wanted]
    for line in lines:
        if line.kind == "labels" and series is None:
            attach_labels(line, images)
    return images


def attach_labels(line: PlanLine, images: list[Image]) -> Image | None:
    """Give a segmentation or structure set to the image among `images` that it was drawn on; None when that is not
    there."""
    wanted = set().union(*(referenced_series(path) for path in line.files))
    for fact in ("SeriesInstanceUID", "FrameOfReferenceUID"):
        for image in images:
            if image.facts.get(fact) in wanted and not image.axes:
                for path in line.files:
                    found = read_dicom_labels(path, image.space)
                    if image.labels is None:
                        image.labels = found
                    else:
                        merged(image.labels, found, "").apply(image.labels)
                return image
    return None


def _matches(wanted: str, line: PlanLine) -> bool:
    names = [line.name, line.series.uid if line.series else "", *(p.name for p in line.files[:1])]
    return any(wanted.casefold() == name.casefold() for name in names)
