"""The made-up study "Overwintering": scans, truth, and a study folder to start from."""

from __future__ import annotations

import json
import os
import shutil
from dataclasses import dataclass
from pathlib import Path

from ..core.home import home
from ..core.labels import LabelMap, LabelTable
from ..core.patch import LabelEdit
from ..core.progress import Progress, silent
from ..formats.label_files import read_label_map
from ..scene.thumbnail import thumbnail
from ..study.catalogue_trouble import remains
from ..study.keeping import run
from ..study.stores.label_maps import difference
from ..study.study import Study

EDITION = 15
"""Raised whenever the animal or its scans change, so that old copies are made anew."""
SUBJECT, SEED = "HM-07", 7
OTHER, OTHER_SEED = "HM-08", 8
SHELF = (
    ("head T2.nii", SUBJECT, "Head T2", "MR", ""),
    ("head PD.nii", SUBJECT, "Head PD", "MR", ""),
    ("brown fat, whole.ome.tif", SUBJECT, "Brown fat, whole section", "", ""),
    ("enamel, etched window.txt", SUBJECT, "Enamel, etched window", "", "nm"),
    ("second head T1.nii", OTHER, "Head T1", "MR", ""),
    ("second head CT.nii", OTHER, "Head CT", "CT", "HU"),
    ("response to the odour.nii", OTHER, "Response map", "MR", "t"),
)
"""What lies on the Shelf beside the labelled head: file, subject, name, modality, unit of the values."""


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
        put_in_place(beside, found.folder, "truth/truth.json")
    return found


def put_in_place(made: Path, folder: Path, mark: str) -> None:
    """Give what was made its name; when another process was quicker (`mark` is there), what that one made stays."""
    try:
        made.rename(folder)
    except OSError:
        if not (folder / mark).exists():
            # a folder with something else in it: what tells that it is whole comes last
            parts = sorted(made.iterdir(), key=lambda part: part.name == Path(mark).parts[0])
            for part in parts:
                part.replace(folder / part.name)
        shutil.rmtree(made, ignore_errors=True)


def make_scenes(folder: Path, progress: Progress) -> None:
    """Make the animal and everything scanned from it."""
    # loaded here: a demo that is there already opens without them
    from .animal import make_animal
    from .scene import SCENES, Station

    (folder / "truth").mkdir(parents=True)
    progress.at(0.0, "Making the animal")
    station = Station(folder, make_animal(SUBJECT, SEED), make_animal(OTHER, OTHER_SEED))
    scenes = SCENES.values()
    for n, one in enumerate(scenes):
        progress.at(0.45 + 0.55 * n / len(scenes), f"Making: {one.name}")
        one.make(station)
    (folder / "truth" / "truth.json").write_text(json.dumps(station.truth | {"edition": EDITION}, indent=1))
    progress.at(1.0)


def demo_study(folder: Path | None = None, progress: Progress | None = None) -> Path:
    """The folder of the demo study, made when there is none: a labelled head T1 on the Shelf, CT files waiting to be
    gathered."""
    folder = folder or home() / "Overwintering"
    if (folder / "study.db").exists() or remains(folder):
        return folder
    found = scenes(progress)
    beside = folder.with_name(f".{folder.name}.{os.getpid()}.part")
    shutil.rmtree(beside, ignore_errors=True)
    _make_study(beside, found)
    put_in_place(beside, folder, "study.db")
    return folder


def _make_study(folder: Path, found: Scenes) -> None:
    with Study(folder, create=True) as study:
        run(study, "gather", {"folder": found.mr, "subject": SUBJECT})
        (record,) = study.records()
        _call(study, record.id, "Head T1", "MR", "")
        for file, subject, name, modality, unit in SHELF:
            copied = not file.endswith(".ome.tif")  # the large picture stays where it is
            run(study, "gather", {"folder": found.folder / file, "subject": subject, "copy": copied})
            _call(study, max(r.id for r in study.records()), name, modality, unit)
        # both animals lay in the same holder
        run(study, "together", {"image": record.id, "others": [study.find(f"{OTHER}/Response map").id]})
        truth = found.true_label_map("t1")
        table = LabelTable()
        for name in ("Hippocampus", "Ventricles"):
            table, _ = table.with_new(name)
        drawn = LabelMap(record.grid, truth.data, table)
        empty = study.labels(record.id)
        edit = difference(empty, drawn, "Outlined at the field station")
        study.maps.keep_edit(empty, LabelEdit(edit.title, edit.patch, empty.table, table))
        _lay_in_labels_of_a_colleague(study, record.id, found)
        study.catalogue.remember("waiting folder", str(found.incoming))
        study.catalogue.remember("view", {"crosshair": [0.9, -2.0, 2.4], "image": record.id})


def _call(study: Study, key: int, name: str, modality: str, unit: str) -> None:
    facts = {"name": name, "body.modality": modality} | ({"body.unit": unit} if unit else {})
    with study.catalogue.change() as db:
        study.items.update(db, key, facts)
    if unit:  # it is shown otherwise now
        image = study.image(key)
        image.unit = unit
        drawn = thumbnail(image)
        with study.catalogue.change() as db:
            db.execute("UPDATE item SET thumbnail = ? WHERE id = ?", (drawn, key))


def _lay_in_labels_of_a_colleague(study: Study, image: int, found: Scenes) -> None:
    own = study.in_hand(image)
    run(study, "new-labels", {"image": image, "name": "By a colleague"})
    drawn = read_label_map(found.folder / "labels by a colleague.nii.gz")
    empty = study.labels(image)
    edit = difference(empty, drawn, "Outlined by a colleague")
    study.maps.keep_edit(empty, LabelEdit(edit.title, edit.patch, empty.table, drawn.table))
    if own is not None:
        study.maps.take_in_hand(own)
