"""Open any readable file or folder, whatever its format."""

from __future__ import annotations

from pathlib import Path

from ..core.errors import Trouble
from ..core.image import Image
from ..core.progress import Progress
from .dicom_scan import scan_folder
from .dicom_series import series_image
from .nifti import read_nifti


def is_nifti(path: Path) -> bool:
    return path.name.lower().endswith((".nii", ".nii.gz"))


def open_image(path: str | Path, progress: Progress | None = None, spacing=None) -> Image:
    """The single image that a file or folder holds.

    Raises Trouble when there is none, or more than one series to choose from.
    """
    path = Path(path)
    if not path.exists():
        raise Trouble("There is no file or folder of this name", "check the name", path)
    if path.is_file() and is_nifti(path):
        return read_nifti(path, spacing)
    if path.is_file() and not _starts_as_dicom(path):
        raise Trouble("This kind of file cannot be opened", "NIfTI (.nii, .nii.gz) and DICOM are read so far", path)
    found = scan_folder(path, progress)
    if len(found) > 1:
        names = "; ".join(f"“{s.description}” ({s.depth} slices)" for s in found)
        raise Trouble(f"This folder holds {len(found)} series: {names}", "gather it into a study, or choose one", path)
    return series_image(found[0])


def _starts_as_dicom(path: Path) -> bool:
    with open(path, "rb") as stream:
        return stream.read(132)[128:] == b"DICM"
