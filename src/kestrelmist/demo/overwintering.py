"""The made-up study "Overwintering": scans, truth, and a study folder to start from."""

from __future__ import annotations

import json
import os
import shutil
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..core.home import home
from ..core.labels import LabelMap, LabelTable
from ..core.patch import LabelEdit
from ..core.progress import Progress, silent
from ..core.space import Space
from ..formats.nifti import read_label_map, write_label_map, write_nifti
from ..study.label_store import difference
from ..study.run import run
from ..study.study import Study

EDITION = 7
"""Raised whenever the animal or its scans change, so that old copies are made anew."""
SUBJECT, SEED = "HM-07", 7


@dataclass(frozen=True)
class Scenes:
    """Where the made-up files are."""

    folder: Path

    @property
    def incoming(self) -> Path:
        """The folder a person gathers from: DICOM of seven kinds, nested and shuffled, and a section."""
        return self.folder / "scans from the field station"

    @property
    def mr(self) -> Path:
        return self.folder / "head T1.nii"

    @property
    def truth(self) -> dict:
        """True volumes in mm³ by tissue, and the joints between skull and lower jaw."""
        return json.loads((self.folder / "truth" / "truth.json").read_text())

    def true_label_map(self, scan: str) -> LabelMap:
        """True labels on the grid of "ct" or "t1"."""
        return read_label_map(self.folder / "truth" / f"{scan} labels.nii.gz")


def scenes(progress: Progress | None = None) -> Scenes:
    """The made-up files, made on the first call and kept."""
    progress = progress or silent()
    found = Scenes(home() / f"scenes-{EDITION}")
    if not (found.folder / "truth" / "truth.json").exists():
        beside = found.folder.with_name(f".{found.folder.name}.{os.getpid()}.part")
        shutil.rmtree(beside, ignore_errors=True)
        make_scenes(beside, progress)
        shutil.rmtree(found.folder, ignore_errors=True)
        beside.rename(found.folder)
    return found


def make_scenes(folder: Path, progress: Progress) -> None:
    """Make the animal and everything scanned from it."""
    # loaded here: a demo that is there already opens without them
    from .animal import make_animal
    from .dicom_files import write_series
    from .more_scans import write_clip, write_odour_run, write_planar_pair, write_radiographs, write_section
    from .scans import head_ct_space, head_mr_space, scan_ct, scan_mr
    from .truth import true_labels, true_volume

    made = Scenes(folder)
    (folder / "truth").mkdir(parents=True)
    progress.at(0.0, "Making the animal")
    animal = make_animal(SUBJECT, SEED)
    progress.at(0.45, "Scanning CT")
    ct_space, mr_space = head_ct_space(), head_mr_space()
    ct = scan_ct(animal, ct_space)
    write_series(made.incoming, ct, ct_space, SUBJECT, "Head CT", 2)
    write_radiographs(made.incoming, ct, ct_space, SUBJECT)
    del ct
    plan_space = positioning_space()
    write_series(made.incoming, scan_ct(animal, plan_space, 60.0), plan_space, SUBJECT, "Positioning scan", 1)
    (made.incoming / "scan notes.txt").write_text("Animal HM-07, asleep, 4 degrees Celsius. Prone in the cradle.\n")
    progress.at(0.75, "Scanning MR")
    write_nifti(made.mr, scan_mr(animal, mr_space), mr_space, "Head T1, made up")
    write_odour_run(made.incoming, animal, SUBJECT)
    progress.at(0.78, "Taking pictures")
    write_clip(made.incoming, SUBJECT)
    write_planar_pair(made.incoming, "HM-08")
    nuclei = write_section(made.incoming / "brown fat, section 3.ome.tif")
    progress.at(0.8, "Measuring the truth")
    volumes = {t: true_volume(animal, t, ct_space) for t in ("Skull", "Lower jaw")}
    volumes |= {t: true_volume(animal, t, mr_space) for t in ("Brain", "Hippocampus", "Ventricles")}
    for scan, tissues, space in (("ct", ["Lower jaw", "Skull"], ct_space), ("t1", ["Hippocampus", "Ventricles"], mr_space)):
        numbers = true_labels(animal, tissues, space)
        table = LabelTable()
        for tissue in tissues:
            table, _ = table.with_new(tissue)
        write_label_map(folder / "truth" / f"{scan} labels.nii.gz", LabelMap(space, numbers, table))
    (folder / "truth" / "truth.json").write_text(json.dumps({"volumes_mm3": volumes, "nuclei": nuclei, "edition": EDITION}, indent=1))
    progress.at(1.0)


def positioning_space() -> Space:
    """Grid of the positioning scan: 24 thick sagittal slices, from right to left."""
    affine = np.array([[0, 0, -1.2, 13.8], [0.225, 0, 0, -14.3], [0, -0.225, 0, 12.8], [0, 0, 0, 1.0]])
    return Space((128, 128, 24), affine)


def demo_study(folder: Path | None = None, progress: Progress | None = None) -> Path:
    """The folder of the demo study, made when there is none: a labelled head T1 on the Shelf, CT files waiting to be gathered."""
    folder = folder or home() / "Overwintering"
    if (folder / "study.db").exists():
        return folder
    found = scenes(progress)
    with Study(folder, create=True) as study:
        run(study, "gather", {"folder": found.mr, "subject": SUBJECT})
        record = study.records()[0]
        study.rename_image(record.id, "Head T1", "MR")
        truth = found.true_label_map("t1")
        table = LabelTable()
        for name in ("Hippocampus", "Ventricles"):
            table, _ = table.with_new(name)
        drawn = LabelMap(record.space, truth.data, table)
        empty = study.labels(record.id)
        edit = difference(empty, drawn, "Outlined at the field station")
        study.keep_edit(record.id, LabelEdit(edit.title, edit.patch, empty.table, table))
        study.catalogue.remember("waiting folder", str(found.incoming))
        study.catalogue.remember("crosshair", [0.9, -2.0, 2.4])
        study.catalogue.remember("image", record.id)
    return folder
