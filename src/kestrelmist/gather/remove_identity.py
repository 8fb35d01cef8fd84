"""The operations that remove identity: from a folder into a new one, and from an image of a study into a new image."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Literal, NamedTuple

import numpy as np

from ..core.claim import claimed
from ..core.errors import Trouble
from ..core.image import Image, Origin
from ..core.labels import LabelMap
from ..core.operation import operation
from ..core.parameter import Between, FolderPath, LabelName, Mark, Names, NewPath, Role, Secret, Unit
from ..core.progress import Progress, silent
from ..core.safe_write import write_trouble
from ..core.signature import Settings
from ..core.table import Table
from ..core.values import packed_grey
from ..formats.dicom.header import read_header
from ..formats.dicom.scan import files_below, scan_files
from ..formats.dicom.series import matches_mark, series_image
from ..formats.sidecar import facts_of
from .bare_image import bare_facts
from .clean_header import Cleaner
from .clean_pixels import PixelRule, require_held
from .deidentify import Outcome, bare_name, cleaner_for, deidentify_files, strip_other
from .identity_profile import Rules
from .kept_texts import kept_texts, require_reviewed
from .plan import PlanLine, plan_folder
from .subject_rule import UNNAMED

Area = Annotated[tuple[float, float, float, float], Unit("px"), Role("area"), Between(0, 1e7)]
PIXELS = Literal["leave", "keep the area", "blank the area"]
DATES = Literal["remove", "shift"]
PictureNumber = Annotated[int, Between(1, 1e7)]
WORDS = (
    "de-identify anonymise anonymize confidential patient names burned-in text privacy "
    "blank deidentify deidentification pseudonymise pseudonymize anonymization defacing scrub phi"
)


RARE = "key picture"


class WithoutIdentity(NamedTuple):
    """An image without what tells whose it is, and the report of what was removed, replaced and kept."""

    image: Image
    report: Table


@dataclass(frozen=True)
class Cleaning(Settings):
    """What is removed, replaced and kept, in headers and in pictures.

    Parameters
    ----------
    dates : "remove" or "shift"
        Remove dates, or move all dates of a subject by the same number of days.
    keep_characteristics : bool
        Keep sex, age, weight and size.
    keep_device : bool
        Keep what names the machine.
    keep_descriptions : bool
        Keep descriptions, words of identity taken out.
    keep_safe_private : bool
        Keep private elements known to hold nothing but numbers of the acquisition.
    pixels : text
        Keep only an area of every picture, or blank it.
    area : column, row, columns, rows
        The area, in pixels of the stored pictures, counted from 0.
    picture : number
        Only this picture of each series, counted from 1; all when left out.
    fill : number
        Stored value written over what is blanked.
    take_out : text
        Further words to be taken out of texts that stay, with commas between.
    reviewed : text
        The mark of the list of texts that stay, when somebody has looked through it; asked for when descriptions are
        kept.
    key : text
        Secret word that new identifiers are made from; this person's own when left out.
    """

    dates: DATES = "remove"
    keep_characteristics: bool = False
    keep_device: bool = False
    keep_descriptions: bool = False
    keep_safe_private: bool = True
    pixels: PIXELS = "leave"
    area: Area | None = None
    picture: PictureNumber | None = None
    fill: float = 0.0
    take_out: Names = ""
    reviewed: Mark = ""
    key: Secret = ""

    @property
    def rules(self) -> Rules:
        """What becomes of headers."""
        return Rules(
            self.dates,
            self.keep_characteristics,
            self.keep_device,
            self.keep_descriptions,
            self.keep_safe_private,
        )

    def rule(self, masks: dict[int, np.ndarray] | None = None) -> PixelRule | None:
        """What is blanked, None for nothing; raises Trouble when no area is given."""
        if self.pixels == "leave":
            return None
        if self.area is None and masks is None:
            raise Trouble(
                "There is no area to keep or blank", "frame one on the picture, or give column, row, columns and rows"
            )
        numbers = None
        if self.area is not None:
            column, row, wide, high = (int(round(v)) for v in self.area)
            numbers = column, row, wide, high
        what = "keep" if self.pixels == "keep the area" else "blank"
        return PixelRule(what, numbers, None if self.picture is None else int(self.picture) - 1, self.fill, masks)


@operation(
    "gather",
    "Remove identity from a folder",
    name="deidentify",
    version=3,
    keywords=WORDS,
    group="Identity",
    rare=RARE,
)
def deidentify(
    folder: FolderPath,
    to: NewPath,
    subject: str = "",
    *,
    how: Cleaning = Cleaning(),
    progress: Progress = silent(),
) -> Table:
    """Copy a folder of scans without what tells whose they are: header by the basic profile of DICOM PS3.15, and words
    in pixels.

    Every series gets new identifiers, the same ones each time, and is opened again to check it. The originals stay as
    they are. A report is written beside the new files as identity-report.csv.

    Parameters
    ----------
    folder : path
        Where the scans are, nested and unsorted as they may be, or one file.
    to : path
        The new folder.
    subject : text
        New name of the subject, when there is one only; made from the old one when left out.
    how : Cleaning
        What is removed, replaced and kept.

    Raises
    ------
    Trouble
        When the folder holds nothing to clean, several subjects share one new name, or the new folder exists.
    Asks
        When texts would stay that nobody has looked at.
    """
    lines = plan_folder(folder, progress=progress.part(0.0, 0.1))
    rule = how.rule()
    cleaner = cleaner_for(how.rules, subject, how.key)
    named = sorted({line.series.subject for line in lines if line.series is not None})
    if subject and len(named) > 1:
        raise Trouble(
            f"This folder holds {len(named)} subjects, and all would get the name “{subject}”",
            "leave the name out, so that each gets one of its own, or do one subject at a time",
            folder,
        )
    files = [path for line in lines if line.kind in ("DICOM", "labels", "other") for path in line.files]
    others = [
        path
        for line in lines
        if line.is_image and line.kind != "DICOM"
        for path in (line.files if line.kind == "sequence" else line.files[:1])
    ]
    to = Path(to)
    _require_new(to)
    _look_at_texts(cleaner, how, files, folder, progress.part(0.1, 0.2))
    try:
        with claimed(to) as beside:
            _require_new(to)  # another run may have just ended
            outcome = (
                deidentify_files(files, beside, cleaner, rule, progress.part(0.2, 0.8), all_or_none=False)
                if files
                else Outcome()
            )
            outcome.left_out += _others(folder, lines)
            beside.mkdir(parents=True, exist_ok=True)
            for n, path in enumerate(progress.part(0.8, 1.0).over(others, what="Stripping headers")):
                target = beside / f"image {n + 1:03d}{bare_name(path)}"
                try:
                    kept = strip_other(path, target, cleaner.words)
                    outcome.done[(f"{target.name}: all facts of the header", "", "removed")] += 1
                    if kept:
                        outcome.done[(f"{target.name}: numbers of {', '.join(kept)}", "", "kept")] += 1
                except Trouble as trouble:
                    outcome.left_out.append((path.name, str(trouble)))
            outcome.report("Identity removed", named=False).save_csv(beside / "identity-report.csv")
            beside.rename(to)
    except OSError as error:
        raise write_trouble(error, to) from error
    return outcome.report("Identity removed")


@operation("gather", "Remove identity", version=3, keywords=WORDS, takes="series colour", group="Identity", rare=RARE)
def deidentify_image(
    image: Image,
    labels: LabelMap,
    subject: str = "",
    *,
    how: Cleaning = Cleaning(),
    region: LabelName = "",
    progress: Progress = silent(),
) -> WithoutIdentity:
    """Make a new image without what tells whose it is; the original stays until you take it away.

    See "Remove identity from a folder". A report of what was removed, replaced and kept comes with it.

    Parameters
    ----------
    subject : text
        New name of the subject; made from the old one when left out.
    how : Cleaning
        What is removed, replaced and kept.
    region : label
        A label to be used in place of the framed area.
    """
    if image.origin.format != "DICOM":
        return _bare(image, how, region, labels, subject, progress)
    cleaner = cleaner_for(how.rules, subject, how.key)
    blanks = how.pixels != "leave" and (region or how.area is not None)
    masks = _masks_for(image, labels, region, how.area) if blanks else None
    holder = tempfile.TemporaryDirectory(prefix="kestrelmist-")
    place = Path(holder.name) / "cleaned"
    rule = how.rule(masks)
    files = list(dict.fromkeys(image.origin.files))
    _look_at_texts(cleaner, how, files, None, progress.part(0.0, 0.1))
    outcome = deidentify_files(files, place, cleaner, rule, progress.part(0.1, 0.9))
    mark = image.origin.reading.get("series")
    found = scan_files(list(outcome.files.values()))
    wanted = next(
        (
            s
            for s in found
            if not mark
            or (
                s.uid == cleaner.uid(mark["uid"])
                and any(
                    str(o.get("SOPInstanceUID")) == cleaner.uid(mark["sop"]) and o.frame == mark["frame"]
                    for o in s.slices
                )
            )
        ),
        found[0],
    )
    made = series_image(wanted, image.origin.reading.get("uneven", "refuse"))
    # the old name may hold anything; the new one is of what has stayed in the header
    made.name, made.subject = f"{made.name}, without identity", cleaner.subject or str(made.facts.get("PatientID", ""))
    made.origin.holder = holder
    return WithoutIdentity(made, outcome.report(f"Identity removed: {made.name}"))


def _masks_for(image: Image, labels: LabelMap, region: str, area) -> dict[int, np.ndarray] | None:
    """The region or the area in each picture, in the order in which the files hold them.

    None when an area can be taken as it is: pictures of the files are then those of the image, neither turned over nor
    tiles.
    """
    found = scan_files(image.origin.files)
    mark = image.origin.reading.get("series")
    series = next((s for s in found if not mark or matches_mark(s, mark)), found[0])
    if not region and not any(s.tile or s.header.get("Mirrored") for s in series.slices):
        return None
    inside = np.zeros(image.space.shape, bool)
    if region:
        number = labels.table.named(region).number
        if labels.space.shape != image.space.shape:
            raise Trouble("The labels lie on another grid than the image", "choose a label drawn on this image")
        inside = labels.data == number
    else:
        column, row, columns, rows = (int(round(v)) for v in area)
        inside[column : column + columns, row : row + rows] = True
        if not inside.any():
            raise Trouble(
                f"The area {column}, {row}, {columns}, {rows} lies outside the picture", "frame an area of the picture"
            )
    start, at = {}, 0
    for path in dict.fromkeys(image.origin.files):
        start[path] = at
        at += max([s.frame for s in series.slices if s.path == path], default=0) + 1
    masks: dict[int, np.ndarray] = {}
    for volume in series.grid:
        for k, s in enumerate(volume):
            if s is None:
                continue
            own = inside[:, :, k].T
            own = own[:, ::-1] if s.header.get("Mirrored") else own
            whole = masks.setdefault(
                start[s.path] + s.frame, np.zeros((int(s.number("Rows")), int(s.number("Columns"))), bool)
            )
            top, left = s.tile[:2] if s.tile else (0, 0)
            whole[top : top + own.shape[0], left : left + own.shape[1]] = own
    return masks


def _bare(
    image: Image, how: Cleaning, region: str, labels: LabelMap, subject: str, progress: Progress
) -> WithoutIdentity:
    """An image of another format without its header's facts; areas are blanked in its values."""
    rule = how.rule({} if region and how.pixels != "leave" else None)
    if region and rule is not None:
        mask = labels.data == labels.table.named(region).number
        rule = replace(rule, masks={n: mask[:, :, n % image.space.shape[2]].T for n in range(image.image_planes)})
    indices = list(image.indices())
    ground = packed_grey(how.fill) if image.colour else how.fill

    def fetch(index, part):
        got = image.stored(index, part)
        values = np.array(got.exact() if not image.colour else got.values, order="F")
        if rule is not None and not image.colour:
            require_held(values.dtype, how.fill)
        first = indices.index(tuple(index)) * image.space.shape[2]
        for k in range(image.space.shape[2]):
            place = None if rule is None else rule.mask(first + k, image.space.shape[1], image.space.shape[0])
            for one in place if isinstance(place, list) else [] if place is None else [place]:
                values[:, :, k].T[one] = ground
        return values

    made = image.like(
        fetch,
        name=f"{image.modality or 'Image'}, without identity",
        subject=subject or UNNAMED,
        origin=Origin(),
        **bare_facts(image),
    )
    outcome = Outcome()
    outcome.done[("All facts of the header", "", "removed")] = 1
    if kept := sorted(facts_of(made)):
        outcome.done[(f"Numbers of {', '.join(kept)}", "", "kept")] = 1
    outcome.pictures_changed = 0 if rule is None else image.image_planes
    progress.at(1.0)
    return WithoutIdentity(made, outcome.report(f"Identity removed: {made.name}"))


def _look_at_texts(cleaner: Cleaner, how: Cleaning, files: list[Path], folder: Path | None, progress: Progress) -> None:
    """Raises Asks when descriptions are kept that nobody has looked at; words of the person's own are taken out."""
    for word in how.take_out.split(","):
        cleaner.words.add_name(word.strip())
        cleaner.words.add_phrase(word)
    if cleaner.rules.descriptions:
        require_reviewed(kept_texts(files, cleaner, progress), how.reviewed, folder)


def _others(folder: Path, lines: list[PlanLine]) -> list[tuple[str, str]]:
    """Files below a folder that no line of its plan speaks of, with the reason: they are not copied, and that is
    said."""
    known = {path for line in lines for path in line.files}
    below = files_below(folder) if folder.is_dir() else []
    others = [path for path in below if path not in known and not known.intersection(path.parents)]
    series = {line.series.uid for line in lines if line.series is not None}
    found = []
    for path in others:
        header = read_header(path)
        second = header is not None and str(header.get("SeriesInstanceUID")) in series
        found.append((path.name, "the same picture is there already" if second else "it is no image that can be read"))
    return found


def _require_new(to: Path) -> None:
    if to.exists():
        raise Trouble("There is something of this name already", "name a new folder", to)
