"""Label maps as files: numbers in a volume format, and a table of their names beside it.

The table is a TSV file of the same name, as the open BIDS standard keeps the names of a segmentation: columns `index`,
`name` and `color`.
"""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path

import numpy as np

from ..core.cells import as_written, harmless
from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LARGEST, PALETTE, Label, LabelMap, LabelTable
from ..core.progress import Progress, silent
from ..core.safe_write import written_whole
from .format import Format, format_of, register, writer_for

VOLUMES = (".nii.gz", ".nii", ".nrrd", ".mha")
"""Endings of files that label maps are written to."""
COLOUR = re.compile(r"#[0-9A-Fa-f]{6}")


def table_path(path: Path) -> Path:
    """Where the names of a label file stand: the same name, ending in .tsv."""
    name = path.name
    for ending in (".gz", ".bz2", ".nii", ".nrrd", ".nhdr", ".mha", ".mhd", ".mgz", ".mgh", ".ome.tif", ".tif", ".mnc"):
        if name.lower().endswith(ending):
            name = name[: -len(ending)]
    return path.with_name(f"{name}.tsv")


def read_label_map(path: str | Path, table: LabelTable | None = None, progress: Progress | None = None) -> LabelMap:
    """A label map from a volume file of whole numbers from 0 to 65535, with the names that stand beside it.

    Parameters
    ----------
    table : LabelTable, optional
        Names, in place of those beside the file.

    Raises
    ------
    Trouble
        When the file holds measured values, or numbers that its table does not name.
    """
    path = Path(path)
    known = format_of(path)
    if known is None:
        raise Trouble("This kind of file holds no labels that can be read", "choose NIfTI, NRRD or MetaImage", path)
    names = table_path(path)
    given = read_label_table(names) if table is None and names.is_file() else None
    labels = label_map_of(known.open_numbers(path), path, progress, table or given)
    if given is not None:
        unnamed = [row.number for row in labels.table if row.number not in given]
        if unnamed:
            listed = ", ".join(map(str, unnamed[:5])) + (" …" if len(unnamed) > 5 else "")
            raise Trouble(
                f"“{names.name}” does not name all numbers of these labels: {listed}",
                "add rows for them, or move the table away to have them numbered",
                path,
            )
    return labels


def label_map_of(
    image: Image, path: str | Path, progress: Progress | None = None, table: LabelTable | None = None
) -> LabelMap:
    """The whole numbers of an image as labels; raises Trouble when it holds measured values."""
    if image.axes or image.colour:
        raise Trouble("This file holds a series or colours, not label numbers", "choose a label map", path)
    data = image.stored((), progress or silent()).exact()
    if data.dtype.kind == "f" and not (np.isfinite(data).all() and np.array_equal(data, np.round(data))):
        raise Trouble("This file holds measured values, not label numbers", "choose a label map", path)
    if data.min() < 0 or data.max() > LARGEST:
        raise Trouble("This file holds measured values, not label numbers", "choose a label map", path)
    return LabelMap(image.space, data.astype(np.uint16, order="F", copy=False), table, name=image.name)


def write_label_map(path: str | Path, labels: LabelMap, progress: Progress | None = None) -> None:
    """Write label numbers in the format of the name's ending, and their names as a TSV file beside it.

    Raises
    ------
    Trouble
        When labels cannot be written under this name, or the place cannot be written.
    """
    path = Path(path)
    image = Image(labels.data, labels.space, labels.name)
    writer = writer_for(path, "image")
    if not path.name.lower().endswith(VOLUMES) or writer.write is None:
        raise Trouble("Labels cannot be written under this name", f"end the name in one of: {', '.join(VOLUMES)}", path)
    writer.write(path, image, progress or silent())
    if len(labels.table):
        write_label_table(table_path(path), labels.table)


def write_label_table(path: Path, table: LabelTable) -> None:
    """Write the names of labels as TSV."""
    out = io.StringIO()
    writer = csv.writer(out, delimiter="\t", lineterminator="\n")
    writer.writerow(["index", "name", "color"])
    writer.writerows([row.number, harmless(row.name), row.colour] for row in table)
    with written_whole(path) as stream:
        stream.write(out.getvalue().encode())


def read_label_table(path: Path) -> LabelTable:
    """Names of labels from a TSV file with the columns `index` and `name`, and perhaps `color`.

    Raises
    ------
    Trouble
        When columns are missing, or a number or a name is not right or stands there twice.
    """
    try:
        rows = list(csv.DictReader(io.StringIO(path.read_text(encoding="utf-8-sig")), delimiter="\t"))
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise Trouble(
            "The table of label names beside the file cannot be read", "save it as UTF-8 text", path
        ) from error
    found: dict[int, Label] = {}
    names: set[str] = set()
    for n, row in enumerate(rows, 2):
        text, name = (row.get("index") or "").strip(), as_written((row.get("name") or "").strip())
        if not re.fullmatch(r"\d{1,9}", text) or int(text) > LARGEST or not name:
            wanted = f"give an index from 1 to {LARGEST} and a name in each row"
            raise Trouble(f"Line {n} of this table of label names is not right", wanted, path)
        number = int(text)
        if number == 0:
            continue  # the background, which some tables name
        if number in found or name.casefold() in names:
            raise Trouble(f"Line {n} of this table repeats a number or a name", "name each label once", path)
        colour = (row.get("color") or "").strip()
        colour = colour.upper() if COLOUR.fullmatch(colour) else PALETTE[(number - 1) % len(PALETTE)]
        found[number] = Label(number, name, colour)
        names |= {name.casefold(), found[number].name.casefold()}  # as it stands, and as it is kept
    return LabelTable(found.values())


register(
    Format(
        "labels in a volume",
        (*VOLUMES, ".nii.bz2", ".hdr", ".nhdr", ".mhd", ".mgz", ".mgh", ".tif", ".tiff", ".png", ".mnc"),
        read_label_map,
        write_label_map,
        VOLUMES,
        holds=("label map",),
    )
)
