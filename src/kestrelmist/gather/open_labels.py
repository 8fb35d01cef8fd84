"""Bring labels from a file onto an image."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.label_grid import on_grid
from ..core.labels import LARGEST, PALETTE, Label, LabelMap, LabelTable, unnamed
from ..core.operation import operation
from ..core.parameter import FilePath
from ..core.patch import LabelEdit, whole_difference
from ..core.progress import Progress, silent
from ..formats.dicom.header import is_dicom
from ..formats.dicom.labels import read_dicom_labels
from ..formats.label_files import read_label_map, table_path


@operation(
    "gather",
    "Open labels",
    name="open-labels",
    keywords="structure set mask dicom seg rtstruct nifti import segmentation file",
    takes="series colour",
    group="Labels of files",
)
def open_labels(image: Image, labels: LabelMap, file: FilePath, progress: Progress = silent()) -> LabelEdit:
    """Bring the labels of a file onto an image by world position: a DICOM segmentation or structure set, or a label
    map.

    Voxels that carry a locked label stay. Labels get new numbers where theirs are taken by another name. Labels that
    their file does not name are told apart from those of another file: they get a number and a name of their own, save
    where they are the very voxels that a label without a name has already.

    Parameters
    ----------
    file : path
        DICOM SEG or RT structure set, or a label map in any volume format, with the names that stand beside it.

    Raises
    ------
    Trouble
        When the file is not there, holds no labels, or none of them lies on the image.
    """
    if not file.exists():
        raise Trouble("This file does not exist", "check the name", file)
    of_dicom = file.is_file() and is_dicom(file)
    found = (
        read_dicom_labels(file, image.space, progress)
        if of_dicom
        else on_grid(read_label_map(file, progress=progress), image.space)
    )
    if not of_dicom and not table_path(file).is_file():
        found = _numbered_apart(labels, found)
    return merged(labels, found, f"Open labels of “{file.name}”")


def _numbered_apart(labels: LabelMap, found: LabelMap) -> LabelMap:
    """Labels without names under numbers that are free on a map, so that they are nobody else's; under the number of a
    label without a name that has the very same voxels, where there is one."""
    coming = [row.number for row in found.table]
    names = {row.name.casefold() for row in labels.table}
    taken = {row.number for row in labels.table}
    taken |= {n for n in range(1, LARGEST + 1) if unnamed(n).casefold() in names} if names else set()
    if taken.isdisjoint(coming):
        return found
    there = np.zeros(LARGEST + 1, np.int64)
    drawn = found.kji > 0
    np.maximum.at(there, found.kji[drawn], labels.kji[drawn])
    alike = np.bincount(found.kji[drawn & (there[found.kji] == labels.kji)], minlength=LARGEST + 1)
    free = (n for n in range(1, LARGEST + 1) if n not in taken)
    becomes = np.zeros(LARGEST + 1, np.uint16)
    for number in coming:
        same = int(there[number])
        if same in labels.table and labels.table[same].name == unnamed(same):
            if alike[number] == found.counts[number] == labels.counts[same]:
                becomes[number] = same
                continue
        wanted = number if number not in taken else next(free, 0)
        if not wanted:
            raise Trouble("All label numbers are used", "remove labels that are not needed")
        becomes[number] = wanted
        taken.add(wanted)
    return LabelMap(found.space, becomes[found.kji].T, subject=found.subject)


def merged(labels: LabelMap, found: LabelMap, title: str) -> LabelEdit:
    """The edit that draws the labels of another map on the same grid over this one."""
    rows = {row.number: row for row in labels.table}
    by_name = {row.name.casefold(): row.number for row in reversed(labels.table.labels)}
    free = (n for n in range(1, LARGEST + 1) if n not in rows)
    becomes = np.zeros(LARGEST + 1, np.uint16)
    for row in found.table:
        number = by_name.get(row.name.casefold())
        if number is None:
            number = row.number if row.number not in rows else next(free, 0)
            if not number:
                raise Trouble("All label numbers are used", "remove labels that are not needed")
            colour = row.colour or PALETTE[(number - 1) % len(PALETTE)]
            rows[number] = Label(number, row.name, colour, subject=row.subject)
            by_name[row.name.casefold()] = number
        if not (number in labels.table and labels.table[number].locked):
            becomes[row.number] = number
    table = LabelTable(rows.values())
    drawn = becomes[found.kji]
    may = (drawn > 0) & labels.writable().view(bool)[labels.kji]
    work = LabelMap(labels.space, np.where(may, drawn, labels.kji).T, table)
    changed = (work.kji != labels.kji).view("uint8")
    if not changed.any():
        raise Trouble(
            "Nothing of these labels lies on this image outside locked ones", "choose the image they were drawn on"
        )
    return LabelEdit(title, whole_difference(labels, work, changed), labels.table, table)


@operation(
    "gather",
    "Labels are this subject's",
    name="claim-labels",
    keywords="identity owner subject mend",
    group="Labels of files",
)
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
