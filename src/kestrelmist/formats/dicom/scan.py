"""Which series a folder of DICOM files holds, and what is wrong with each, before anything is loaded."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from ...core.caveat import CUT_SHORT, MIXED, NOTED, SECOND_COPY, Caveat
from ...core.errors import Trouble, let_through
from ...core.progress import Progress, silent
from ...core.waiting import reading
from ..header_reading import headers_of
from ..series import Series, component_of
from .frames import listed_in_directory, slices_of
from .header import Slice
from .order import arrange

STACKS = ("CT", "MR", "PT")
"""Modalities whose single files are slices of a volume; files of others without positions are pictures by
themselves."""


def files_below(folder: Path) -> list[Path]:
    """All ordinary files below a folder, in a steady order; loops of links are walked once. Pipes, sockets and devices
    are passed over: reading one may never end."""
    seen, found, waiting = set(), [], [os.fspath(folder)]
    while waiting:
        place = waiting.pop()
        real = os.path.realpath(place)
        if real in seen:
            continue
        seen.add(real)
        try:
            with reading(place), os.scandir(place) as entries:
                there = sorted((e for e in entries if not e.name.startswith(".")), key=lambda e: e.name)
        except OSError:  # a folder that may not be read holds nothing for us
            continue
        found += [Path(e.path) for e in there if _is(e, os.DirEntry.is_file)]
        waiting += [e.path for e in reversed(there) if _is(e, os.DirEntry.is_dir)]
    return found


def _is(entry: os.DirEntry, kind: Callable[[os.DirEntry], bool]) -> bool:
    try:
        return kind(entry)
    except OSError:  # a link that leads in a circle
        return False


def scan_folder(folder: str | Path, progress: Progress | None = None) -> list[Series]:
    """Find the DICOM series below a folder, nested and unsorted as it may be, in one file, or in those a DICOMDIR
    lists.

    Raises
    ------
    Trouble
        When the folder is missing or holds no DICOM file.
    """
    folder = Path(folder)
    if not folder.exists():
        raise Trouble("This folder does not exist", "check the name or choose another", folder)
    missing: list[str] = []
    if folder.is_file() and folder.name.upper() == "DICOMDIR":
        try:
            files, missing = listed_in_directory(folder)
        except BaseException as error:  # a broken directory breaks in many ways
            let_through(error)
            raise Trouble("This DICOM directory is damaged", "choose the folder it stands in", folder) from error
        if not files:
            raise Trouble("None of the files that this DICOM directory lists is there", "copy the whole disc", folder)
    else:
        files = [folder] if folder.is_file() else files_below(folder)
    result = scan_files(files, progress)
    if not result:
        raise Trouble("There is no DICOM image in this folder", "choose the folder that holds the scan's files", folder)
    if missing:
        result[0].doubt(
            NOTED,
            f"{_count(len(missing), 'file', 'files')} that the DICOM directory lists not there: "
            + ", ".join(missing[:3])
            + (" …" if len(missing) > 3 else ""),
        )
    return result


def scan_files(files: list[Path], progress: Progress | None = None, others: list[Path] | None = None) -> list[Series]:
    """The series among some files; those that are not DICOM are passed over, and put into `others` when it is given.

    Files are put together by series identifier, then by orientation, matrix, echo and component (magnitude, phase), and
    ordered by position along their common normal; names play no part.
    """
    groups: dict[tuple, list[Slice]] = {}
    broken: dict[str, list[Slice]] = {}
    objects: dict[tuple, list[Slice]] = {}
    for path, found in headers_of(files, progress or silent()):
        if found is None:
            if others is not None:
                others.append(path)
            continue
        uid = str(found.get("SeriesInstanceUID"))
        kind = kind_of(found)
        if kind:
            if kind != "media storage directory":
                objects.setdefault((uid, kind), []).append(found)
            continue
        pictures = slices_of(found)
        if pictures[0].cut_short and pictures[0].orientation is None:
            broken.setdefault(uid, []).append(found)
            continue
        for picture in pictures:
            groups.setdefault(_key(uid, picture), []).append(picture)
    parts: dict[str, int] = {}
    for key in groups:
        if key[1]:
            parts[key[0]] = parts.get(key[0], 0) + 1
    result = []
    for key, slices in groups.items():
        series = Series(key[0], slices)
        if parts.get(key[0], 0) > 1:
            kinds = f"The series holds {parts[key[0]]} kinds of slices"
            series.doubt(
                MIXED, f"{kinds} (matrix, pixel size, direction, echo or component differ); each is kept apart"
            )
        arrange(series)
        result.append(series)
    _note_doubled_series(result)
    for uid, slices in broken.items():
        home = next((s for s in result if s.uid == uid), None) or (result[0] if len(result) == 1 and not uid else None)
        names = ", ".join(s.path.name for s in slices[:3]) + (" …" if len(slices) > 3 else "")
        sentence = f"{_count(len(slices), 'file is', 'files are')} cut short or damaged: {names}"
        if home:
            home.caveats.insert(0, Caveat(CUT_SHORT, sentence))
        else:
            result.append(Series(uid, slices, [Caveat(CUT_SHORT, sentence)]))  # of no series we know: shown by itself
    result += [Series(uid, slices, kind=kind) for (uid, kind), slices in objects.items()]
    return sorted(result, key=lambda s: (s.subject, str(s.first.get("SeriesNumber")).zfill(6), s.description))


def kind_of(found: Slice) -> str:
    """What a file is when it is no picture to be looked at; "" for images and for files too damaged to tell."""
    sop = str(found.get("SOPClassUID"))
    if sop in ("1.2.840.10008.5.1.4.1.1.66.4", "1.2.840.10008.5.1.4.1.1.66.7"):
        return "segmentation"
    if sop == "1.2.840.10008.5.1.4.1.1.481.3":
        return "structure set"
    if found.cut_short or "Rows" in found.header or not sop:
        return ""
    from pydicom.uid import UID  # small, but its package is not

    name = UID(sop).name.replace(" Storage", "").replace("Storage", "").strip()
    if sop == name:
        return "unknown object"
    kinds = (
        ("SR", "report"),
        ("Report", "report"),
        ("Presentation State", "presentation state"),
        ("Plan", "treatment plan"),
        ("Encapsulated", "document"),
    )
    return next(
        (
            f"{kind} ({name})"
            for word, kind in kinds
            if word in name.replace("-", " ").split() or (" " in word and word in name)
        ),
        name.lower(),
    )


def _key(uid: str, picture: Slice) -> tuple:
    orientation = (
        () if picture.orientation is None else tuple(round(v, 3) + 0.0 for v in picture.orientation.ravel().tolist())
    )
    spacing = picture.header.get("PixelSpacing")
    pixel = tuple(f"{v:.5g}" for v in spacing) if isinstance(spacing, list) else ()
    apart = ""
    if picture.orientation is None and (picture.get("Modality") not in STACKS or picture.places):
        apart = str(picture.path)  # a picture by itself, or one clip
    return (
        uid,
        apart == "",
        orientation,
        picture.rows,
        picture.columns,
        picture.samples,
        pixel,
        str(picture.get("EchoNumbers")),
        component_of(picture),
        str(picture.get("StackID")),
        apart,
    )


def _note_doubled_series(found: list[Series]) -> None:
    """Say when two series show the very same slices: one is a copy of the other."""
    seen: dict[tuple, Series] = {}
    for series in found:
        own = tuple(sorted((str(s.get("SOPInstanceUID")), s.frame, s.tile or ()) for s in series.slices))
        if not own or not own[0][0]:
            continue
        if own in seen:
            series.doubt(SECOND_COPY, f"The series is a second copy of “{seen[own].description}”")
        seen.setdefault(own, series)


def _count(n: int, one: str, many: str) -> str:
    return f"1 {one}" if n == 1 else f"{n} {many}"
