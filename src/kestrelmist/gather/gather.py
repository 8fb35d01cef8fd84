"""Find the series in a folder and take them in."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import FolderPath, Spacing, operation
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from ..formats.dicom_scan import Series, files_below, scan_folder
from ..formats.dicom_series import series_image
from ..formats.nifti import read_nifti
from ..formats.nifti import is_nifti


@operation("gather", "List series", name="scan", keywords="dicom folder series what is in")
def list_series(folder: FolderPath, progress: Progress = silent()) -> Table:
    """List the DICOM series below a folder, with what is wrong with each, loading none.

    Parameters
    ----------
    folder : path
        May be nested and unsorted.
    """
    table = Table("Series", [Column("series"), Column("subject"), Column("modality"), Column("date"), Column("columns"),
                             Column("rows"), Column("slices"), Column("spacing_x", "mm", 4), Column("spacing_y", "mm", 4),
                             Column("spacing_z", "mm", 4), Column("problems"), Column("uid", hidden=True)])
    for s in scan_folder(folder, progress):
        spacing = s.spacing or (None, None, None)
        table.rows.append((s.description, s.subject, s.modality, s.date, *s.matrix, s.depth, *spacing,
                           ". ".join(s.problems), s.uid))
    return table


@operation("gather", "Gather a folder", name="gather", keywords="import open load add dicom nifti drop")
def gather(folder: FolderPath, series: str | None = None, subject: str | None = None, copy: bool = True,
           uneven: Literal["refuse", "mend"] = "refuse", spacing: Spacing | None = None,
           progress: Progress = silent()) -> list[Image]:
    """Take images into the study: DICOM series from a folder, or NIfTI files.

    Parameters
    ----------
    folder : path
        A folder with DICOM or NIfTI files, nested and unsorted as they may be, or one file.
    series : str
        Only the series of this description or identifier; all when left out.
    subject : str
        Subject to put the images under; the one named in the files when left out.
    copy : bool
        Copy the files into the study; otherwise they stay where they are and must stay there.
    uneven : "refuse" or "mend"
        What to do with missing or doubled slices: "mend" leaves missing ones blank and takes the first of
        doubled ones.
    spacing : three mm
        Voxel size for NIfTI files whose own position matrix is of no use.
    """
    folder = Path(folder)
    if not folder.exists():
        raise Trouble("This folder does not exist", "check the name or choose another", folder)
    nifti = [p for p in ([folder] if folder.is_file() else files_below(folder)) if is_nifti(p)]
    images = [read_nifti(p, spacing) for p in nifti if series is None or _matches(series, p.name, p.stem)]
    try:
        found = [] if folder.is_file() and nifti else scan_folder(folder, progress)
    except Trouble:
        if not images:
            raise
        found = []
    images += [series_image(s, uneven) for s in found if series is None or _matches(series, s.description, s.uid)]
    if not images:
        have = ", ".join(f"“{s.description}”" for s in found)
        raise Trouble(f"There is no series “{series}” in this folder", f"it holds {have}" if have else "choose another", folder)
    for image in images:
        image.subject = subject or image.subject or "Unnamed subject"
        image.origin.copy = copy
    return images


def gather_series(found: Series, uneven: str = "refuse", subject: str = "", copy: bool = True) -> Image:
    """One series that a scan found, as an image ready for the study."""
    image = series_image(found, uneven)
    image.subject = subject or image.subject or "Unnamed subject"
    image.origin.copy = copy
    return image


def _matches(wanted: str, *names: str) -> bool:
    return any(wanted.casefold() == name.casefold() for name in names)
