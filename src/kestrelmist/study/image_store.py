"""The files of a study's images: copied in, left in place, or written by an operation."""

from __future__ import annotations

import json
import shutil
from functools import partial
from pathlib import Path

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image, Origin
from ..core.progress import Progress
from ..core.safe_write import write_trouble
from ..formats.dicom_scan import scan_folder
from ..formats.dicom_series import series_image
from ..formats.nifti import read_nifti, write_nifti


def keep_files(folder: Path, key: int, image: Image, progress: Progress) -> tuple[str, list[str], dict]:
    """Bring an image's files into the study's `images` folder.

    Returns
    -------
    format, files (relative to the study when copied, absolute when left in place), how to read them again
    """
    origin = image.origin
    reading = {"mended": bool(origin.notes), "spacing": None}
    if origin.format == "NIfTI" and any("by hand" in note for note in origin.notes):
        reading["spacing"] = list(image.space.spacing)
    if origin.files and not origin.copy:
        return origin.format, [str(f.resolve()) for f in origin.files], reading
    home, beside = folder / "images" / str(key), folder / "images" / f".{key}.part"
    try:
        shutil.rmtree(beside, ignore_errors=True)
        beside.mkdir(parents=True)
        if origin.files:
            for n, source in enumerate(progress.over(origin.files, what="Copying")):
                shutil.copyfile(source, beside / (f"{n + 1:05d}.dcm" if origin.format == "DICOM" else source.name))
        else:
            write_nifti(beside / "values.nii", image.data, image.space, image.name)
        shutil.rmtree(home, ignore_errors=True)
        beside.rename(home)
    except OSError as error:
        raise write_trouble(error, folder) from error
    finally:
        shutil.rmtree(beside, ignore_errors=True)
    files = [str(p.relative_to(folder)) for p in sorted(home.iterdir())]
    return origin.format or "NIfTI", files, reading


def reopened(catalogue, record) -> Image:
    """The image of a record. Place and names come from the catalogue, values from its files when asked for."""
    row = catalogue.rows("SELECT files, reading FROM image WHERE id = ?", record.id)[0]
    files = [catalogue.folder / f for f in json.loads(row["files"])]  # an absolute path stays itself
    fetch = partial(_values, record, files, json.loads(row["reading"]))
    return Image(fetch, record.space, record.name, record.subject, record.modality, record.unit, record.facts,
                 Origin(record.format, files, notes=record.notes))


def _values(record, files: list[Path], reading: dict, progress: Progress) -> np.ndarray:
    missing = [f for f in files if not f.exists()]
    if missing:
        raise Trouble(f"{len(missing)} of the {len(files)} files of “{record.name}” are no longer there, {missing[0].name} first",
                      "bring them back to where they were", missing[0].parent)
    if record.format == "DICOM":
        series = scan_folder(files[0].parent, progress.part(0.0, 0.4))
        wanted = {f.resolve() for f in files}
        found = next(s for s in series if s.first.path.resolve() in wanted)
        image = series_image(found, "mend" if reading["mended"] else "refuse", facts=False)
    else:
        image = read_nifti(files[0], reading["spacing"])
    if image.space.shape != record.space.shape:
        raise Trouble(f"The files of “{record.name}” have changed since they were taken in", "gather them again", files[0].parent)
    return image.fetch(progress.part(0.4, 1.0))
