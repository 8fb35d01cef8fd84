"""Label maps of several images, or of the whole study, as files named by a pattern."""

from __future__ import annotations

from pathlib import Path, PurePosixPath
from typing import Any, Literal

from ...core.errors import Cancelled, DiskFull, Partly, Trouble
from ...core.name_pattern import filled
from ...core.operation import operation
from ...core.parameter import NewPath
from ...core.progress import Progress, silent
from ...core.safe_write import require_new
from ...core.table import Column, Table
from ...outline.export.export_labels import As, export_labels, named_for
from .. import kinds  # noqa: F401  (makes the kinds known)
from ..items import ImageRecord, Record
from ..journal.logbook import Step
from ..kinds import AnyLabels
from ..new_names import names_of_record
from ..study import Study
from ..subjects import visit_of
from ._results import keep_table

PATTERN = "{subject} {image} {name}"


@operation(
    "outline",
    "All label maps into files",
    name="export-study-labels",
    keywords="export study save write masks every subject semantic instance segmentation batch dataset training",
    repeats=False,
    slow=True,
    called={
        "as_": "As",
        "to": "Folder",
        "maps": "Only these",
        "which": "Of each image",
        "pattern": "Names",
        "with_images": "Images beside",
        "instances": "A number each piece",
        "replace_files": "In place of others",
    },
    rare="maps instances replace_files",
    group="Label maps",
)
def export_study_labels(
    study: Study,
    as_: As,
    to: NewPath,
    maps: list[AnyLabels] | None = None,
    *,
    which: Literal["in hand", "all"] = "in hand",
    pattern: str = PATTERN,
    with_images: bool = True,
    instances: bool = False,
    replace_files: bool = False,
    progress: Progress = silent(),
) -> Table:
    """Write the label maps of all images in an open format, named by a pattern.

    Nothing is written before it is known that the names differ and are free. Maps with nothing drawn are left out.

    Parameters
    ----------
    as_ : text
        The format, as for one label map.
    to : path
        The folder; made when it is not there.
    maps : label maps
        These alone; those of all images on the Shelf when left out.
    which : "in hand" or "all"
        Of an image with several label maps, the one in hand or each.
    pattern : text
        With places for {subject}, {visit}, {image}, {name} and {number}; a / makes folders.
    with_images : bool
        Write images beside masks, and refer to them from DICOM objects.
    instances : bool
        Whether each connected piece of a label gets a number of its own.
    replace_files : bool
        Take the place of files of those names.

    Returns
    -------
    Table of what was written where, which is also kept with the study's results.

    Raises
    ------
    Trouble
        When no label map has anything drawn, two would have one name, or there are files of those names.
    Partly
        When some could not be written: names each, and why.
    """
    chosen = [r for r in (maps or _maps(study, which)) if not r.removed]
    if not chosen:
        raise Trouble("There is no label map in this study", "outline something first", study.folder)
    targets: dict[Path, Record] = {}
    for n, record in enumerate(chosen, 1):
        path = named_for(
            _path(study, to, pattern, record, n), as_, record.space.shape[2] if record.space is not None else 1
        )
        other = targets.get(path)
        if other is not None:
            raise Trouble(
                f"“{other.name}” and “{record.name}” would both be called “{path.name}”",
                "add {name}, {image} or {number} to the pattern",
            )
        require_new(path, replace_files)
        targets[path] = record
    table = Table(
        f"Label maps of {study.name} exported",
        [Column("subject"), Column("image"), Column("labels"), Column("count"), Column("file")],
    )
    failed: list[str] = []
    left_out = 0
    for path, record in progress.over(list(targets.items()), len(targets), "Writing label maps"):
        labels = study.label_map(record.id)
        if labels.counts[0] == labels.kji.size:
            left_out += 1
            continue
        image = study.items.get(record.of) if record.of is not None else None
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            beside = study.image(image.id) if with_images and image is not None else None
            if beside is not None and (beside.axes or not beside.space.same_grid(labels.space)):
                beside = None
            written = export_labels(labels.copied(), as_, path, beside, instances=instances, replace_file=replace_files)
        except (Cancelled, DiskFull):
            raise
        except (Trouble, OSError) as trouble:
            failed.append(f"{record.subject} {record.name}: {trouble}".strip())
            continue
        for row in written.rows:
            table.rows.append((record.subject, image.name if image is not None else "", row[0], row[1], row[-1]))
    if not table.rows and not failed:
        raise Trouble("No label map of this study has a label that is drawn", "draw one first", study.folder)
    settings: dict[str, Any] = {"as_": as_, "to": str(to), "which": which, "pattern": pattern}
    settings |= {"with_images": with_images, "instances": instances}
    title = f"Export {len(targets) - left_out - len(failed)} label maps"
    keep_table(study, table, Step("export-study-labels", title, settings))
    if failed:
        raise Partly(f"{len(failed)} of {len(targets)} label maps could not be written. {failed[0]}", "", None, done={})
    return table


def _maps(study: Study, which: str) -> list[Record]:
    """The label maps of the images on the Shelf, in its order."""
    found: list[Record] = []
    for image in study.records():
        several = [r for r in study.maps.of(image.id) if not r.removed]
        in_hand = study.maps.in_hand(image.id)
        found += several if which == "all" else [r for r in several if r.id == in_hand]
    return found


def _path(study: Study, folder: Path, pattern: str, record: Record, n: int) -> Path:
    """Where a label map goes; raises Trouble when the pattern leads out of the folder."""
    image = study.items.get(record.of) if record.of is not None else None
    known = names_of_record(image) if isinstance(image, ImageRecord) else {}
    visit = visit_of(study, image) if isinstance(image, ImageRecord) else None
    known = known | ({"visit": visit.name} if visit is not None else {})
    known = known | {"name": record.name, "subject": record.subject, "number": str(n)}
    parts = [filled(part, known) for part in PurePosixPath(pattern).parts]
    if not parts or any(part in ("..", "/") for part in parts) or not parts[-1].strip():
        raise Trouble(f"“{pattern}” is no name below a folder", "name it as in “{subject}/{name}”")
    return folder.joinpath(*parts)
