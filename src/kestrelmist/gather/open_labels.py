"""Bring labels from a file onto an image."""

from __future__ import annotations

from dataclasses import replace

from ..core.errors import Trouble
from ..core.image import Image
from ..core.label_grid import on_grid
from ..core.labels import PALETTE, Label, LabelMap, LabelTable
from ..core.operation import operation
from ..core.parameter import FilePath
from ..core.patch import LabelEdit, patch_from_mask, whole_difference
from ..core.progress import Progress, silent
from ..formats.dicom_header import starts_as_dicom
from ..formats.dicom_labels import read_dicom_labels
from ..formats.label_files import read_label_map


@operation(
    "gather",
    "Open labels",
    name="open-labels",
    keywords="segmentation structure set mask dicom seg rtstruct nifti import",
    takes="series colour",
)
def open_labels(image: Image, labels: LabelMap, file: FilePath, progress: Progress = silent()) -> LabelEdit:
    """Bring the labels of a file onto an image by world position: a DICOM segmentation or structure set, or a label
    map.

    Voxels that carry a locked label stay. Labels get new numbers where theirs are taken by another name.

    Parameters
    ----------
    file : path
        DICOM SEG or RT structure set, or a label map in any volume format, with the names that stand beside it.

    Raises
    ------
    Trouble
        When the file is not there, holds no labels, or none of them lies on the image.
    """
    if not file.is_file():
        raise Trouble("This file does not exist", "check the name", file)
    with open(file, "rb") as stream:
        is_dicom = starts_as_dicom(stream.read(160))
    found = (
        read_dicom_labels(file, image.space, progress)
        if is_dicom
        else on_grid(read_label_map(file, progress=progress), image.space)
    )
    return merged(labels, found, f"Open labels of “{file.name}”")


def merged(labels: LabelMap, found: LabelMap, title: str) -> LabelEdit:
    """The edit that draws the labels of another map on the same grid over this one."""
    table, numbers = labels.table, {}
    for row in found.table:
        known = next((r for r in table if r.name.casefold() == row.name.casefold()), None)
        number = known.number if known else row.number if row.number not in table else table.free_number()
        if known is None:
            table = LabelTable(
                (
                    *table,
                    Label(number, row.name, row.colour or PALETTE[(number - 1) % len(PALETTE)], subject=row.subject),
                )
            )
        numbers[row.number] = number
    work = LabelMap(labels.space, labels.data.copy(order="F"), table)
    for old, new in numbers.items():
        if found.counts[old] and not (new in labels.table and labels.table[new].locked):
            patch_from_mask(work, (found.kji == old).view("uint8"), new).apply(work)
    changed = (work.kji != labels.kji).view("uint8")
    if not changed.any():
        raise Trouble(
            "Nothing of these labels lies on this image outside locked ones", "choose the image they were drawn on"
        )
    return LabelEdit(title, whole_difference(labels, work, changed), labels.table, table)


@operation("gather", "Labels are this subject's", name="claim-labels", keywords="identity owner subject mend")
def claim_labels(image: Image, labels: LabelMap) -> LabelEdit:
    """Say that labels which came with another subject's name belong to this image all the same.

    Raises
    ------
    Trouble
        When no label carries another subject's name.
    """
    table = LabelTable(replace(row, subject=image.subject if row.subject else "") for row in labels.table)
    if table == labels.table:
        raise Trouble("No label here carries another subject's name", "nothing is to be done")
    return LabelEdit(f"Labels are {image.subject}'s", None, labels.table, table)
