"""Export labels: masks for machine learning, objects of DICOM, contours, surfaces."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated, Literal

import numpy as np

from ...core.claim import claimed
from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import PALETTE, Label, LabelMap, LabelTable
from ...core.names import file_name
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Between, NewPath, Only
from ...core.progress import Progress, silent
from ...core.safe_write import require_new, write_trouble
from ...core.surface.of_label import surfaces_of
from ...core.surface.simplify import simplified
from ...core.table import Column, Table
from ..contours.marks_of import marks_of
from ..pieces import pieces_of
from .coco import write_coco
from .masks import write_masks

SURFACES = ("stl", "obj", "ply", "gltf", "vtp")
As = Literal[
    "nifti", "nrrd", "ome-tiff", "png", "seg", "rtstruct", "coco", "geojson", "stl", "obj", "ply", "gltf", "vtp"
]
ENDINGS = {
    "nifti": ".nii.gz",
    "nrrd": ".nrrd",
    "ome-tiff": ".ome.tif",
    "png": ".png",
    "seg": ".dcm",
    "rtstruct": ".dcm",
    "coco": ".json",
    "geojson": ".geojson",
    "stl": ".stl",
    "obj": ".obj",
    "ply": ".ply",
    "gltf": ".glb",
    "vtp": ".vtp",
}


@operation(
    "outline",
    "Export labels",
    name="export-labels",
    keywords="save write masks semantic instance segmentation dicom seg rtstruct coco geojson stl obj ply mesh png",
    called={
        "as_": "As",
        "to": "File",
        "instances": "A number each piece",
        "each": "A file each label",
        "share": "Share of the triangles",
        "replace_file": "In place of another",
    },
    rare="instances each share replace_file",
    group="Label maps",
)
def export_labels(
    labels: LabelMap,
    as_: As,
    to: NewPath,
    image: Image | None = None,
    *,
    instances: bool = False,
    each: Annotated[bool, Only("as_", *SURFACES)] = False,
    share: Annotated[float, Between(0.001, 1), Only("as_", *SURFACES)] = 1.0,
    replace_file: bool = False,
    progress: Progress = silent(),
) -> Table:
    """Write a label map in an open format.

    Numbers as NIfTI, NRRD or OME-TIFF with their names as .tsv beside, or as PNG with the image beside; a segmentation
    object or a structure set of DICOM; objects as COCO; contours as GeoJSON; surfaces as STL, OBJ, PLY or binary glTF.

    Parameters
    ----------
    as_ : text
        The format.
    to : path
        The new file; its ending is added when it is missing. PNG of a volume is a folder of slices.
    image : image
        That the labels are of: written beside masks, and referred to by DICOM objects.
    instances : bool
        Whether each connected piece of a label gets a number of its own.
    each : bool
        A file for each label, named after it, in a folder of the name that is given.
    share : number
        Of the triangles of surfaces that stay, 0.001 to 1.
    replace_file : bool
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When nothing is drawn, there is a file of that name, the format has no room for these labels, or the place
        cannot be written.
    """
    if labels.counts[0] == labels.kji.size:
        raise Trouble(f"“{labels.name}” has no label that is drawn", "draw one first")
    if image is not None:
        require_same_grid(image, labels)
    to = named_for(to, as_, labels.space.shape[2]) if not each else to
    require_new(to, replace_file)
    if not to.parent.is_dir():
        raise Trouble("The folder to write into does not exist", "make it or choose another", to)
    known = apart(labels, progress.part(0.0, 0.2)) if instances else labels
    if as_ in SURFACES:
        written = write_surfaces(to, known, ENDINGS[as_], each, share, progress.part(0.2, 1.0))
    else:
        written = write_as(as_, to, known, image, progress.part(0.2, 1.0))
    drawn = [row for row in known.table if known.counts[row.number]]
    columns = [Column("labels"), Column("count"), Column("format"), Column("file")]
    table = Table(f"{labels.name} exported", columns)
    table.rows += [(labels.name, len(drawn), as_, str(path)) for path in written[:2]]
    return table


def named_for(to: Path, as_: str, slices: int) -> Path:
    """The file's name with the ending of the format; a folder for slices of PNG."""
    ending = ENDINGS[as_]
    if as_ == "png" and slices > 1:
        return to.with_suffix("") if to.suffix.lower() == ending else to
    if to.name.lower().endswith(ending) or (as_ == "coco" and to.suffix.lower() == ".json"):
        return to
    if as_ == "nifti" and to.suffix.lower() == ".nii":
        return to
    return to.with_name(to.name + ending)


def apart(labels: LabelMap, progress: Progress) -> LabelMap:
    """The map with a number for each connected piece.

    Raises
    ------
    Trouble
        When there are more pieces than numbers.
    """
    data = np.zeros(labels.kji.shape, np.uint16)
    rows: list[Label] = []
    drawn = [row for row in labels.table if labels.counts[row.number]]
    for row in progress.over(drawn, what="Telling pieces apart"):
        pieces, runs = pieces_of(labels, row.number, stop=progress.stop)
        assert runs is not None
        if len(rows) + len(pieces) > 65535:
            raise Trouble("There are more than 65,535 pieces, and no more numbers", "take loose pieces away first")
        mask = np.zeros(labels.kji.shape, np.uint8)
        for n, piece in enumerate(pieces, 1):
            number = len(rows) + 1
            _, box = runs.fill(piece.root, mask)
            part = tuple(slice(int(a), int(b) + 1) for a, b in zip(box[:3], box[3:]))
            data[part][(mask[part] != 0) & (labels.kji[part] == row.number) & (data[part] == 0)] = number
            mask[part] = 0
            name = row.name if len(pieces) == 1 else f"{row.name} {n}"
            rows.append(Label(number, name, row.colour or PALETTE[0]))
    return LabelMap(labels.space, data.T, LabelTable(_unique(rows)), labels.name, labels.subject)


def _unique(rows: list[Label]) -> list[Label]:
    known: set[str] = set()
    found = []
    for row in rows:
        name, n = row.name, 2
        while name.casefold() in known:
            name, n = f"{row.name} ({n})", n + 1
        known.add(name.casefold())
        found.append(replace(row, name=name))
    return found


def write_as(as_: str, to: Path, labels: LabelMap, image: Image | None, progress: Progress) -> list[Path]:
    """Write labels in a format; returns what was written."""
    from ...formats.dicom.write_labels import write_segmentation, write_structures
    from ...formats.label_files import table_path, write_label_table
    from ...formats.saving import save_thing

    if as_ == "png":
        return write_masks(to, labels, labels.kji, image, progress)
    if as_ == "seg":
        write_segmentation(to, labels, image, progress)
    elif as_ == "rtstruct":
        marks = marks_of(labels, None, _across_k(labels), progress=progress)
        write_structures(to, labels, list(marks), image, progress)
    elif as_ == "coco":
        write_coco(to, labels, f"{(image.name if image is not None else labels.name)}.png", progress)
    elif as_ == "geojson":
        save_thing(to, marks_of(labels, progress=progress), progress)
    else:
        numbers = Image(labels.data, labels.space, labels.name, labels.subject) if as_ == "ome-tiff" else labels
        save_thing(to, numbers, progress)
        if as_ == "ome-tiff":
            write_label_table(table_path(to), labels.table)
        return [to, table_path(to)]
    return [to]


def write_surfaces(to: Path, labels: LabelMap, ending: str, each: bool, share: float, progress: Progress) -> list[Path]:
    """Write surfaces of labels: one file, or one for each label in a new folder; returns what was written."""
    from ...formats.saving import save_thing

    whole = surfaces_of(labels, None, False, progress.part(0.0, 0.6))
    whole = simplified(whole, share, progress.part(0.6, 0.8)) if share < 1 else whole
    if not each:
        save_thing(to, whole, progress.part(0.8, 1.0))
        return [to]
    with claimed(to) as beside:
        beside.mkdir()
        names: dict[str, int] = {}
        for one in whole.parts:
            name = file_name(one.name) or "label"
            names[name.casefold()] = names.get(name.casefold(), 0) + 1
            again = names[name.casefold()]
            part = replace(whole, parts=(one,), name=one.name)
            save_thing(beside / f"{name}{f' {again}' if again > 1 else ''}{ending}", part)
        try:
            beside.rename(to)
        except OSError as error:
            raise write_trouble(error, to) from error
    return sorted(to.iterdir())


def _across_k(labels: LabelMap) -> Literal["axial", "coronal", "sagittal"]:
    """The plane of the slices that are stacked along k."""
    return ("sagittal", "coronal", "axial")[labels.space.world_axis_of[2]]
