"""Take what a folder holds into the study."""

from __future__ import annotations

from typing import Literal

from ...core.errors import Cancelled, Partly
from ...core.image import Image
from ...core.operation import operation
from ...core.parameter import FolderPath, Spacing
from ...core.progress import Progress, silent
from ...gather.gather import SOURCES, chosen_lines
from ...gather.subject_rule import SubjectRule
from .. import kinds  # noqa: F401  (makes the kinds known)
from ..gathering import take_lines
from ..study import Study


@operation(
    "gather",
    "Gather a folder",
    name="gather",
    keywords="open file open files dicom import load open load add dicom nifti tiff drop load files images study",
    slow=True,
    called={"uneven": "Odd slices", "sequences": "Numbers mean", "spacing": "Voxel size"},
    rare="spacing sequences",
    group="Folders",
)
def gather(
    study: Study,
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
    """Take images into the study: DICOM series, and files of every other kind that can be read. What cannot be taken is
    named, and the rest is in.

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
        What to do with slices that are missing, doubled or lie sideways: "mend" leaves missing ones blank, takes the
        first of doubled ones, and resamples those that lie sideways into place.
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
        When the folder holds no image, or none of that name.
    Partly
        When some could not be taken in: names each, and why; the others are in the study.
    """
    rule = SubjectRule(subject_from, subject_pattern)
    lines = chosen_lines(folder, series, subject, rule, spacing=spacing, progress=progress.part(0.0, 0.1))
    for line in lines:
        line.along, line.copy, line.mend = sequences, copy, uneven == "mend" and line.mendable
    taken = take_lines(study, lines, progress.part(0.1, 1.0), folder=folder, rule=rule, spacing=spacing)
    if taken.stopped and not taken.keys:
        raise Cancelled()
    if not taken.whole:
        raise Partly(taken.ending, "", folder if taken.ended else None, done={"image": taken.keys})
    if not taken.keys and not taken.labels and taken.known:
        raise taken.known[0][1]
    return taken.keys  # type: ignore[return-value]  # what acts on a study tells what it has kept by ids
