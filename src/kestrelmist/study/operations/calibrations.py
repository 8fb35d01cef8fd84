"""Calibrations of a study and of a person: listed, saved, taken in, given to several images at once."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

from ...core.calibration import Calibration
from ...core.errors import Trouble
from ...core.kinds.calibration import CALIBRATION
from ...core.kinds.things import IMAGE
from ...core.operation import operation
from ...core.parameter import FilePath, NewPath, Role
from ...core.quantity import suited_unit
from ...core.safe_write import require_new
from ...core.scale import scale_of
from ...core.table import Column, Table
from ...formats.calibration_files import read_calibration
from ...formats.saving import save_thing
from ...measure.calibrating.library import in_library, keep_in_library, named_in_library
from ...measure.calibrating.taken_with import GROUP, WORDS
from ...measure.calibrating.use_calibration import use_calibration
from ..items import ImageRecord, Record
from ..journal.changes import Change
from ..journal.logbook import Step
from ..kinds import AnyImage
from ..study import Study

AnyCalibration = Annotated[Record, Role("calibration")]
Order = Literal["name", "objective", "camera", "pixel size", "date"]
NAMED = 12
"""Images that a title names."""


@operation(
    "measure", "Take a calibration from a file", name="take-calibration", keywords=f"{WORDS} import", group=GROUP
)
def take_calibration(file: FilePath, name: str = "") -> Calibration:
    """Take a calibration into the study that was saved as JSON.

    Parameters
    ----------
    file : path
        A calibration as JSON.
    name : text
        What it is called; as the file says when left out.

    Raises
    ------
    Trouble
        When the file is not there, or holds no calibration.
    """
    if not file.is_file():
        raise Trouble("This file does not exist", "check the name", file)
    found = read_calibration(file)
    return replace(found, name=name) if name else found


@operation("measure", "Save a calibration", name="save-calibration", keywords=f"{WORDS} export", group=GROUP)
def save_calibration(calibration: Calibration, to: NewPath, *, replace_file: bool = False) -> Table:
    """Write a calibration as JSON.

    Parameters
    ----------
    to : path
        The new file.
    replace_file : bool
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When there is a file of that name, or the place cannot be written.
    """
    require_new(to, replace_file)
    save_thing(to, calibration)
    row = (calibration.name, f"{calibration.words}", str(to))
    return Table(f"{calibration.name} saved", [Column(n) for n in ("calibration", "pixel", "file")], [row])


@operation(
    "measure", "Keep a calibration for all studies", name="keep-calibration", keywords=f"{WORDS} library", group=GROUP
)
def keep_calibration(calibration: Calibration) -> Table:
    """Put a calibration into your own library, from which every study can take it. One of the same name that is there
    already stays, and this one stands beside it as the next version.

    Raises
    ------
    Trouble
        When the same one is there already, or the library cannot be written.
    """
    kept = keep_in_library(calibration)
    columns = [Column("calibration"), Column("version"), Column("pixel")]
    return Table("Kept in the library", columns, [(kept.name, kept.version, kept.words)])


@operation(
    "measure",
    "Take a calibration from the library",
    name="calibration-from-library",
    keywords=WORDS,
    called={"version": "Version"},
    group=GROUP,
)
def calibration_from_library(name: str, version: int = 0) -> Calibration:
    """Take a calibration from your own library into the study.

    Parameters
    ----------
    name : text
        As `list-calibrations` tells it.
    version : number
        Which one of that name; 0 for the last.

    Raises
    ------
    Trouble
        When there is none of that name or version.
    """
    return named_in_library(name, version)


@operation(
    "measure",
    "List calibrations",
    name="list-calibrations",
    keywords=f"{WORDS} library search find",
    repeats=False,
    called={"order": "In order of"},
    group=GROUP,
)
def list_calibrations(study: Study, search: str = "", order: Order = "name") -> Table:
    """List the calibrations of the study and of your own library, with how many images use each.

    Parameters
    ----------
    search : text
        Words that all have to stand in name, set-up or how it was found.
    order : text
        What they are listed by.
    """
    used: dict[str, int] = {}
    for record in study.items.of_kind(IMAGE.name):
        if isinstance(record, ImageRecord) and not record.removed:
            scale = scale_of(record)
            used[scale.hash] = used.get(scale.hash, 0) + 1
    found = [(one, "study") for one in _of_study(study)]
    found += [(one, "library") for one in in_library()]
    words = search.casefold().split()
    found = [row for row in found if all(word in _searched(row[0]) for word in words)]
    keys = {
        "name": lambda c: (c.name.casefold(), c.version),
        "objective": lambda c: (c.setup.objective.casefold(), c.name.casefold(), c.version),
        "camera": lambda c: (c.setup.camera.casefold(), c.name.casefold(), c.version),
        "pixel size": lambda c: (c.right, c.version),
        "date": lambda c: (c.made, c.version),
    }
    found.sort(key=lambda row: keys[order](row[0]))
    columns = [Column("calibration"), Column("version"), Column("where"), Column("pixel", "um", figures=6)]
    columns += [Column("uncertainty", "um", shown_as="± (95 %)", figures=2), Column("pixel_down", "um", figures=6)]
    columns += [Column("setup", shown_as="set-up"), Column("how"), Column("known", shown_as="known length")]
    columns += [Column("measured", shown_as="magnified", figures=4), Column("date"), Column("by")]
    columns += [Column("images")]
    table = Table("Calibrations", columns)
    for one, where in found:
        spread = one.cover * one.sure_right * one.right * 1e3
        down = one.down * 1e3 if one.apart or abs(one.down / one.right - 1) > 1e-9 else None
        images = used.get(one.content_hash(), 0) if where == "study" else None
        magnified = one.measured_magnification or one.magnification or None
        table.rows.append(
            (one.name, one.version, where, one.right * 1e3, spread, down, one.setup.words, one.how, one.known,
             magnified, one.made, one.by, images)
        )  # fmt: skip
    return table


def _of_study(study: Study) -> list[Calibration]:
    return [study.thing(record.id) for record in study.items.of_kind(CALIBRATION.name) if not record.removed]


def _searched(one: Calibration) -> str:
    return " ".join((one.name, one.setup.words, one.how, one.known, one.by, one.made, one.on)).casefold()


@operation(
    "measure",
    "Use a calibration for several images",
    name="calibrate-images",
    keywords=f"{WORDS} assign all batch",
    repeats=False,
    group=GROUP,
    methods="Pictures were given the pixel sizes that were calibrated for their optical set-up",
)
def calibrate_images(study: Study, calibration: AnyCalibration, images: list[AnyImage] | None = None) -> Table:
    """Give several images the pixel size of a calibration, in one step that can be undone.

    Parameters
    ----------
    images : images
        Which ones; when left out, all without a scale that have as many pixels as the calibrated picture.

    Raises
    ------
    Trouble
        When there is no such image.
    """
    given = study.thing(calibration.id)
    chosen = list(images or ()) or [
        record
        for record in study.items.of_kind(IMAGE.name)
        if isinstance(record, ImageRecord) and not record.removed and record.grid.unit == "px"
        and record.grid.shape[:2] == given.pixels
    ]  # fmt: skip
    if not chosen:
        size = " × ".join(map(str, given.pixels))
        raise Trouble(f"No image without a scale has {size} pixels", "name the images that were taken so")
    title = f"Use calibration {given.called} for {len(chosen)} image{'s' if len(chosen) > 1 else ''}"
    changes: list[Change] = []
    table = Table(title, [Column("subject"), Column("image"), Column("note")])
    for record in chosen:
        placement = use_calibration(given, study.thing(record.id))
        changes += study.placing(record.id, placement, title)
        table.rows.append((record.subject, record.name, "; ".join(c.sentence for c in placement.caveats)))
    inputs = {"calibration": (study.as_thing(calibration),), "images": tuple(map(study.as_thing, chosen))}
    study.history.do(changes, Step("calibrate-images", title, {}, inputs), title)
    return table


def pixel_words(calibration: Calibration) -> str:
    """The size of a pixel, short enough for a row."""
    unit, factor = suited_unit(calibration.right, "mm")
    return f"{calibration.right * factor:.4g} {unit}"
