"""What a folder holds, line by line, before anything is loaded: the plan that a person looks over and changes."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ..core.caveat import SECOND_COPY
from ..core.errors import Trouble, let_through
from ..core.image import Image
from ..core.progress import Progress, silent
from ..core.regular import require_regular
from ..core.waiting import reading
from ..formats.bids_names import FACT, parsed, participant_of
from ..formats.dicom.frames import listed_in_directory
from ..formats.dicom.scan import files_below, scan_files
from ..formats.dicom.series import require_sound, series_image, thumbnail_values
from ..formats.format import format_of, image_name, words_for
from ..formats.sequence import read_sequence, sequences
from ..formats.series import Series
from ..scene.showing import for_showing
from ..scene.thumbnail import SIDE, thumbnail
from .subject_rule import UNNAMED, SubjectRule, name_finder

KINDS = {
    "CT": "CT",
    "MR": "MR",
    "PT": "PET",
    "NM": "Nuclear medicine",
    "US": "Ultrasound",
    "DX": "Radiograph",
    "CR": "Radiograph",
    "RF": "Fluoroscopy",
    "XA": "Angiography",
    "MG": "Mammogram",
    "OT": "Image",
    "SM": "Section",
    "SC": "Capture",
}


PACKED, QUICK = ("NIfTI", "NRRD", "MGH"), 32 << 20
"""Formats that may have to be unpacked for a small picture, and the size up to which that is quick."""


ZARR = re.compile(r"\.zarr/", re.I)
"""Marks the end of a folder that is one image."""


@dataclass
class PlanLine:
    """One image (or other object) found, and what is to be done with it. `take`, `copy`, `mend`, `subject` and `name`
    may be changed.

    Parameters
    ----------
    kind : str
        "DICOM", the name of another format, "sequence", "labels" (on an image), or "other" for what is no image.
    seems : str
        What it seems to be, for a person.
    size, spacing, date : str
        Matrix, volumes and voxel size, as words.
    problems : list of str
        What is wrong, a sentence each without full stop.
    """

    kind: str
    name: str
    subject: str
    seems: str
    files: list[Path]
    size: str = ""
    spacing: str = ""
    date: str = ""
    modality: str = ""
    problems: list[str] = field(default_factory=list)
    take: bool = True
    copy: bool = True
    mend: bool = False
    series: Series | None = None
    picture: np.ndarray | None = field(default=None, repr=False)
    opened: Callable[[], Image] | None = field(default=None, repr=False)
    sources: dict[str, str] = field(default_factory=dict, repr=False)
    """What a subject's name can be found in, by the names of the sources."""
    along: str = "time"
    """What the files of a sequence are: times, or slices of a stack."""
    participant: dict[str, str] = field(default_factory=dict, repr=False)
    """Facts of the subject, from a table that lies above the file."""
    broken: str = ""
    """Why its file cannot be read, "" when it can."""

    @property
    def is_image(self) -> bool:
        return self.kind not in ("labels", "other")

    @property
    def mendable(self) -> bool:
        return self.series is not None and self.series.mendable

    @property
    def refused(self) -> str:
        """Why it cannot be taken, "" when it can."""
        if self.kind == "other":
            return self.seems
        if self.broken:
            return self.broken
        if self.series is not None and self.kind == "DICOM":
            try:
                require_sound(self.series, "mend")
            except Trouble as trouble:
                return str(trouble)
        return ""

    def open(self, progress: Progress | None = None) -> Image:
        """The image, under the line's name and subject; raises Trouble when it cannot be had."""
        if self.series is not None:
            image = series_image(self.series, "mend" if self.mend else "refuse")
        elif self.opened is not None:
            image = self.opened()
        else:
            raise Trouble(
                f"“{self.name}” is no image but {self.seems[:1].lower()}{self.seems[1:]}",
                "choose an image",
                self.files[0],
            )
        image.name, image.subject, image.origin.copy = self.name, self.subject, self.copy
        image.modality = image.modality or self.modality
        image.facts |= self.participant
        return image


def plan_folder(
    place: str | Path | list,
    rule: SubjectRule = SubjectRule(),
    known=(),
    spacing=None,
    progress: Progress | None = None,
) -> list[PlanLine]:
    """Everything below a folder (or in a file, or in several places), a line each.

    Parameters
    ----------
    place : path or list of paths
    rule : SubjectRule
    known : names
        Subjects there are already; a file without a subject of its own is given to one whose name stands in its path.
    spacing : three mm, optional
        Voxel size for NIfTI files whose own position matrix is of no use.

    Raises
    ------
    Trouble
        When a place does not exist, nothing in it can be read, or the rule's pattern is none.
    """
    rule.checked()
    progress = progress or silent()
    places = [Path(p) for p in (place if isinstance(place, list) else [place])]
    files: list[Path] = []
    problems: list[str] = []
    for one in places:
        with reading(one):
            there = one.exists()
        if not there:
            raise Trouble(
                "This folder does not exist" if len(places) == 1 else "One of these places does not exist",
                "check the name",
                one,
            )
        require_regular(one)
        if one.is_file() and one.name.upper() == "DICOMDIR":
            listed, missing = _listed(one)
            files += listed
            problems += (
                [f"{len(missing)} files that the DICOM directory lists are not there: {', '.join(missing[:3])}"]
                if missing
                else []
            )
        else:
            files += [one] if one.is_file() or format_of(one) else files_and_images(one)
    others: list[Path] = []
    found = scan_files(files, progress.part(0.0, 0.8), others)
    lines = [_series_line(s) for s in found]
    if problems and lines:
        lines[0].problems += problems
    formats = {path: fits for path in others if (fits := format_of(path)) is not None}
    others = list(formats)
    groups, single = sequences([p for p in others if formats[p].sequenced])
    lines += [_sequence_line(group) for group in groups]
    single += [p for p in others if not formats[p].sequenced]
    for n, path in enumerate(sorted(single)):
        progress.at(0.8 + 0.15 * n / max(len(single), 1), "Reading headers")
        line = _file_line(path, formats[path], spacing)
        if line is not None:
            lines.append(line)
    if not lines:
        raise Trouble(
            "There is nothing in this folder that can be read"
            if places[0].is_dir()
            else "This kind of file cannot be opened",
            f"{words_for('image')} can be read",
            places[0],
        )
    name_subjects(lines, rule, known)
    progress.at(1.0)
    return lines


def files_and_images(folder: Path) -> list[Path]:
    """All files below a folder; folders that are one image each stand for what they hold."""
    found: list[Path] = []
    whole: list[Path] = []
    start = len(str(folder))
    for path in files_below(folder):
        inside = ZARR.search(str(path), start)
        if inside is None:
            found.append(path)
        elif not whole or str(whole[-1]) != str(path)[: inside.end() - 1]:
            whole.append(Path(str(path)[: inside.end() - 1]))
    return found + whole


def _listed(path: Path) -> tuple[list[Path], list[str]]:
    try:
        return listed_in_directory(path)
    except BaseException as error:  # a broken directory breaks in many ways
        let_through(error)
        raise Trouble("This DICOM directory is damaged", "choose the folder it stands in", path) from error


def _series_line(series: Series) -> PlanLine:
    first = series.first
    sources = {
        "patient id": series.subject,
        "patient name": str(first.get("PatientName")),
        "folder": str(first.path.parent),
        "file name": first.path.name,
    }
    problems = list(series.problems)
    if series.kind:
        labels = series.kind in ("segmentation", "structure set")
        seems = f"Labels ({series.kind})" if labels else series.kind[:1].upper() + series.kind[1:]
        return PlanLine(
            "labels" if labels else "other",
            series.description,
            "",
            seems,
            series.files,
            date=series.date,
            modality=series.modality,
            problems=problems,
            take=labels,
            series=series,
            sources=sources,
        )
    columns, rows = series.matrix
    depth = f"×{series.depth}" if series.depth > 1 else ""
    volumes = "".join(f" · {a.size} {a.plural}" for a in series.axes)
    spacing = series.spacing
    words = (
        "no scale given"
        if spacing is None
        else "×".join(f"{s:.3g}" for s in (spacing if series.depth > 1 else spacing[:2])) + " mm"
    )
    line = PlanLine(
        "DICOM",
        series.description,
        "",
        _seems(series),
        series.files,
        f"{columns}×{rows}{depth}{volumes}",
        words,
        series.date,
        series.modality,
        problems,
        series=series,
        picture=_small(thumbnail_values(series)),
        sources=sources,
    )
    line.take = not line.refused and not line.mendable and not series.has(SECOND_COPY)
    return line


def _small(picture: np.ndarray | None) -> np.ndarray | None:
    """A picture thinned to what a small one needs, so that the window has little to do with it."""
    if picture is None:
        return None
    step = max(1, max(picture.shape[:2]) // SIDE)
    return np.ascontiguousarray(picture[::step, ::step])


def _seems(series: Series) -> str:
    kind = KINDS.get(series.modality, series.modality or "Image")
    along = {a.name for a in series.axes}
    what = (
        "clip"
        if series.modality in ("US", "XA", "RF") and along
        else "series"
        if along
        else "volume"
        if series.depth > 1
        else ""
        if kind in ("Radiograph", "Mammogram")
        else "picture"
    )
    return f"{'Colour u' + kind[1:] if series.first.colour and kind == 'Ultrasound' else kind} {what}".strip()


def _sequence_line(paths: list[Path]) -> PlanLine:
    name = re.sub(r"[\s_\-.]*\d+\D*$", "", paths[0].name) or paths[0].parent.name
    line = PlanLine("sequence", name, "", f"Sequence of {len(paths)} pictures", paths, sources=_sources_of(paths[0]))
    line.opened = lambda: read_sequence(paths, line.along)
    try:
        _describe(line, line.opened())
    except Trouble as trouble:
        line.broken, line.take = str(trouble), False
    return line


def _file_line(path: Path, known, spacing) -> PlanLine | None:
    named = parsed(image_name(path))
    name = named.rest if named is not None else image_name(path)
    line = PlanLine(known.name, name, "", known.name[:1].upper() + known.name[1:], [path], sources=_sources_of(path))
    line.opened = lambda: known.open(path, spacing)
    try:
        image = line.opened()
        line.files = image.origin.files or [path]
        _describe(line, image)
    except Trouble as trouble:
        if not known.listed:
            return None
        line.broken, line.take = str(trouble), False
    return line


def _describe(line: PlanLine, image: Image) -> None:
    shape = image.space.shape if image.space.shape[2] > 1 else image.space.shape[:2]
    line.size = "×".join(map(str, shape)) + "".join(f" · {a.size} {a.plural}" for a in image.axes)
    step = image.space.spacing if image.space.shape[2] > 1 else image.space.spacing[:2]
    fine = max(step) < 0.1
    line.spacing = (
        "no scale given"
        if image.space.unit == "px"
        else "×".join(f"{s * (1000 if fine else 1):.3g}" for s in step) + (" µm" if fine else " mm")
    )
    kind = {
        "picture": "Picture",
        "TIFF": "Section or picture",
        "X3P": "Height map",
        "height matrix": "Height map",
        "OME-Zarr": "Section or volume",
    }
    line.seems = (
        line.seems
        if line.kind == "sequence"
        else kind.get(line.kind, f"{line.kind} {'series' if image.axes else 'volume'}")
    )
    line.problems += [c.sentence for c in image.caveats]
    size = sum(f.stat().st_size for f in line.files if f.is_file())
    shown = for_showing(image, QUICK).space.shape
    if (line.kind not in PACKED or size < QUICK) and 4 * int(np.prod(shown, dtype=object)) <= 2 * QUICK:
        line.picture = small_picture(image)


def small_picture(image: Image) -> np.ndarray | None:
    """What the Shelf will show of an image, [row, column] or with colours; None when it cannot be read."""
    try:
        pixels = np.frombuffer(thumbnail(image), np.uint8)
    except Trouble:
        return None
    coloured = pixels.size > SIDE * SIDE
    return pixels.reshape(SIDE, SIDE, 4)[..., 2::-1] if coloured else pixels.reshape(SIDE, SIDE)


def _sources_of(path: Path) -> dict[str, str]:
    named = parsed(image_name(path))
    return {"folder": str(path.parent), "file name": path.name} | ({"bids": named.subject} if named else {})


def name_subjects(lines: list[PlanLine], rule: SubjectRule, known=()) -> None:
    """Find the subject of every line by a rule. A file without one whose path names a subject we know is that
    subject's; what is left has no name yet.

    Raises Trouble when the rule's pattern is none.
    """
    for line in lines:
        line.subject = rule.subject(line.sources)
        if "bids" in line.sources:
            said = participant_of(line.files[0], line.sources["bids"])
            line.subject = line.subject or said.get("subject", "") or line.sources["bids"]
            line.participant = {f"{FACT}{name}": value for name, value in said.items() if name != "subject"}
    longest = name_finder({line.subject for line in lines} | set(known))
    for line in lines:
        if not line.subject:
            line.subject = longest(str(line.files[0])) or UNNAMED
