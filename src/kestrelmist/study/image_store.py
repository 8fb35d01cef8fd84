"""The files of a study's images: copied in, left in place, or written by an operation."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
from pathlib import Path

from ..core.errors import Trouble
from ..core.image import Image, Origin
from ..core.progress import Progress, silent
from ..core.safe_write import write_trouble
from ..formats.nifti import read_nifti, save_nifti
from ..formats.opening import reopened_image


def keep_files(folder: Path, key: int, image: Image, progress: Progress) -> tuple[str, list[str], dict]:
    """Bring an image's files into the study's `images` folder.

    Returns
    -------
    format, files (relative to the study when copied, absolute when left in place), how to read them again
    """
    origin = image.origin
    reading = dict(origin.reading)
    if image.levels:
        reading["levels"] = True
    if origin.files and not origin.copy:
        return origin.format, [str(f.resolve()) for f in origin.files], reading
    home, beside = folder / "images" / str(key), folder / "images" / f".{key}.part"
    try:
        shutil.rmtree(beside, ignore_errors=True)
        beside.mkdir(parents=True)
        if origin.files:
            names = _copy_all(origin, beside, progress)
        else:
            save_nifti(beside / "values.nii", image, progress)
            names = ["values.nii"]
        shutil.rmtree(home, ignore_errors=True)
        beside.rename(home)
    except OSError as error:
        raise write_trouble(error, folder) from error
    finally:
        shutil.rmtree(beside, ignore_errors=True)
    return origin.format or "NIfTI", [f"images/{key}/{name}" for name in names], reading


def written_series(folder: Path, image: Image, progress: Progress) -> Image:
    """A computed series, worked out once and written; the image that is given back reads it from there.

    Without this each volume would be computed anew for its hash, its thumbnail and its file.
    """
    holder = tempfile.TemporaryDirectory(prefix=".new-", dir=folder / "images")
    path = Path(holder.name) / "values.nii"
    save_nifti(path, image, progress)
    made = image.like(read_nifti(path)._fetch)
    made.origin = Origin("NIfTI", [path], notes=list(image.origin.notes), holder=holder, report=image.origin.report)
    return made


def _copy_all(origin: Origin, place: Path, progress: Progress) -> list[str]:
    """Copy the files in their order; those that name each other keep their places to each other."""
    common = Path(os.path.commonpath([f.parent.resolve() for f in origin.files]))
    names = []
    for n, source in enumerate(progress.over(origin.files, what="Copying")):
        name = f"{n + 1:05d}.dcm" if origin.format == "DICOM" else str(source.resolve().relative_to(common))
        target = place / name
        target.parent.mkdir(parents=True, exist_ok=True)
        if source.is_dir():
            shutil.copytree(source, target)
        else:
            shutil.copyfile(source, target)
        names.append(name)
    return names


class StoredImage:
    """Fetches the volumes of a record; its files are opened when the first one is asked for, and once."""

    def __init__(self, catalogue, record):
        self.record = record
        row = catalogue.rows("SELECT files, reading FROM image WHERE id = ?", record.id)[0]
        self.files = [catalogue.folder / f for f in json.loads(row["files"])]  # an absolute path stays itself
        self.reading = json.loads(row["reading"])
        self._opened: Image | None = None

    def opened(self, progress: Progress) -> Image:
        """The image as its files give it.

        Raises Trouble when files are gone or no longer what was taken in.
        """
        if self._opened is None:
            missing = [f for f in self.files if not f.exists()]
            if missing:
                raise Trouble(f"{len(missing)} of the {len(self.files)} files of “{self.record.name}” are no longer there, {missing[0].name} first",
                              "bring them back to where they were", missing[0].parent)
            image = reopened_image(self.record.format, self.files, self.reading, progress)
            if image.space.shape != self.record.space.shape or [a.size for a in image.axes] != [a.size for a in self.record.axes]:
                raise Trouble(f"The files of “{self.record.name}” have changed since they were taken in", "gather them again", self.files[0].parent)
            self._opened = image
        return self._opened

    def __call__(self, index: tuple[int, ...], progress: Progress):
        return self.opened(progress.part(0.0, 0.4))._fetch(index, progress.part(0.4, 1.0))


def reopened(catalogue, record) -> Image:
    """The image of a record. Place and names come from the catalogue, values from its files when asked for."""
    stored = StoredImage(catalogue, record)
    levels = stored.opened(silent()).levels if stored.reading.get("levels") else ()
    return Image(stored, record.space, record.name, record.subject, record.modality, record.unit, record.facts,
                 Origin(record.format, stored.files, notes=record.notes, reading=stored.reading), record.axes, record.colour, levels)
