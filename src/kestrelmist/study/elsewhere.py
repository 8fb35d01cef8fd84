"""An open study saved in another place, when its own has gone."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import suppress
from pathlib import Path

from ..core.errors import Trouble
from ..core.image import Image
from ..core.progress import Progress, silent
from ..core.safe_write import write_trouble
from ..formats.nifti_write import save_nifti
from .stores.label_maps import LABELS
from .study import Study


def save_elsewhere(study: Study, folder: str | Path, progress: Progress | None = None) -> list[str]:
    """Write everything that an open study still knows into a new folder.

    The catalogue is read through the open file, which the system keeps as long as it is open; label maps and images
    that are in memory are written from there, the others are copied when their files are still there.

    Parameters
    ----------
    folder : path
        A new or an empty folder.

    Returns
    -------
    Names of the things whose files are gone and that were not in memory.

    Raises
    ------
    Trouble
        When the folder is not free, or the catalogue itself can no longer be read.
    """
    folder, progress = Path(folder), progress or silent()
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise Trouble("This place is taken", "choose a new or an empty folder", folder)
    beside = folder.with_name(f".{folder.name}.part")
    shutil.rmtree(beside, ignore_errors=True)
    try:
        beside.mkdir(parents=True)
        _copy_catalogue(study, beside / "study.db")
        for name in ("images", "labels"):
            (beside / name).mkdir()
            if (study.folder / name).is_dir():
                shutil.copytree(study.folder / name, beside / name, dirs_exist_ok=True)
        lost = _from_memory(study, beside, progress)
        with suppress(OSError):
            folder.rmdir()
        beside.rename(folder)
    except OSError as error:
        raise write_trouble(error, folder) from error
    finally:
        shutil.rmtree(beside, ignore_errors=True)
    return lost


def _copy_catalogue(study: Study, path: Path) -> None:
    copy = sqlite3.connect(path)
    try:
        with study.catalogue.guard:
            study.catalogue.db.backup(copy)
    except sqlite3.Error as error:
        raise Trouble(
            "The catalogue of this study can no longer be read", "bring its disk back", study.catalogue.path
        ) from error
    finally:
        copy.close()


def _from_memory(study: Study, folder: Path, progress: Progress) -> list[str]:
    lost = []
    with Study(folder) as fresh:
        for record in fresh.items.everything().values():
            labels = study.maps.in_memory(record.id)
            if labels is not None:
                LABELS.keep_file(fresh, record, labels)
                continue
            files = record.body.get("files") or ([record.body["file"]] if record.body.get("file") else [])
            if all((folder / f).exists() for f in files):
                continue
            image = study.image_in_memory(record.id)
            if image is None:
                lost.append(record.name)
                continue
            home = folder / "images" / str(record.id)
            shutil.rmtree(home, ignore_errors=True)
            home.mkdir(parents=True)
            # a writer would go back to the file for the numbers as they are stored there
            values = Image(image.data, image.space, image.name, unit=image.unit, colour=image.colour)
            save_nifti(home / "values.nii", values, progress)
            facts = {"body.files": [f"images/{record.id}/values.nii"], "body.format": "NIfTI", "body.reading": {}}
            with fresh.catalogue.change() as db:
                fresh.items.update(db, record.id, facts)
    return lost
