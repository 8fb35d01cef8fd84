"""Which series a folder of DICOM files holds, and what is wrong with each, before anything is loaded."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ..core.errors import Trouble
from ..core.progress import Progress, silent
from .dicom_header import Slice, read_slice


@dataclass
class Series:
    """A series found in a folder: its slices in order along the stack, and what is wrong with them."""

    uid: str
    slices: list[Slice]
    problems: list[str] = field(default_factory=list)
    doubled: list[Slice] = field(default_factory=list)
    """Slices left out because another one stands at the same place."""
    missing: list[int] = field(default_factory=list)
    """Indices along the complete stack at which no slice was found."""
    step: float = 0.0
    """Distance between neighbouring slices, mm."""

    @property
    def first(self) -> Slice:
        return self.slices[0]

    @property
    def description(self) -> str:
        if not self.first.header:
            return "Damaged files"
        text = str(self.first.get("SeriesDescription") or self.first.get("ProtocolName")).strip()
        return text or f"Series {self.first.get('SeriesNumber', '')}".strip()

    @property
    def modality(self) -> str:
        return str(self.first.get("Modality"))

    @property
    def subject(self) -> str:
        return str(self.first.get("PatientID")).strip()

    @property
    def date(self) -> str:
        raw = str(self.first.get("SeriesDate") or self.first.get("StudyDate"))
        return f"{raw[:4]}-{raw[4:6]}-{raw[6:8]}" if len(raw) == 8 and raw.isdigit() else raw

    @property
    def matrix(self) -> tuple[int, int]:
        return int(self.first.get("Columns", 0)), int(self.first.get("Rows", 0))

    @property
    def spacing(self) -> tuple[float, float, float] | None:
        """Along a row, along a column, between slices, mm; None when the files do not say."""
        pixel = self.first.get("PixelSpacing", None)
        return None if pixel is None else (float(pixel[1]), float(pixel[0]), self.step)

    @property
    def depth(self) -> int:
        """Slices of the complete stack, missing ones counted."""
        return len(self.slices) + len(self.missing)

    @property
    def broken(self) -> list[Slice]:
        return [s for s in self.slices if s.cut_short]


def files_below(folder: Path) -> list[Path]:
    """All files below a folder, in a steady order; loops of links are walked once."""
    seen, found = set(), []
    for place, folders, names in os.walk(folder, followlinks=True):
        real = os.path.realpath(place)
        if real in seen:
            folders.clear()
            continue
        seen.add(real)
        folders.sort()
        found += [Path(place, name) for name in sorted(names) if not name.startswith(".")]
    return found


def scan_folder(folder: str | Path, progress: Progress | None = None) -> list[Series]:
    """Find the DICOM series below a folder, nested and unsorted as it may be.

    Files are put together by series identifier, then by orientation and matrix, and ordered by position
    along their common normal; names and instance numbers play no part.

    Raises
    ------
    Trouble
        When the folder is missing or holds no DICOM image.
    """
    folder = Path(folder)
    if not folder.exists():
        raise Trouble("This folder does not exist", "check the name or choose another", folder)
    progress = progress or silent()
    files = [folder] if folder.is_file() else files_below(folder)
    groups: dict[tuple, list[Slice]] = {}
    broken: dict[str, list[Slice]] = {}
    for path in progress.over(files, what="Reading headers"):
        found = read_slice(path)
        if found is None:
            continue
        uid = str(found.get("SeriesInstanceUID"))
        if found.orientation is None and found.cut_short:
            broken.setdefault(uid, []).append(found)
            continue
        orientation = () if found.orientation is None else tuple(np.round(found.orientation.ravel(), 3))
        key = (uid, orientation, str(found.get("Rows")), str(found.get("Columns")), str(found.get("EchoNumbers")))
        groups.setdefault(key, []).append(found)
    if not groups and not broken:
        raise Trouble("There is no DICOM image in this folder", "choose the folder that holds the scan's files", folder)
    parts = {}
    for key in groups:
        parts[key[0]] = parts.get(key[0], 0) + 1
    result = [_ordered(key[0], slices, parts[key[0]]) for key, slices in groups.items()]
    for uid, slices in broken.items():
        home = next((s for s in result if s.uid == uid), None) or (result[0] if len(result) == 1 and not uid else None)
        names = ", ".join(s.path.name for s in slices[:3]) + (" …" if len(slices) > 3 else "")
        sentence = f"{_count(len(slices), 'file is', 'files are')} cut short or damaged: {names}"
        if home:
            home.problems.insert(0, sentence)
        else:
            result.append(Series(uid, slices, [sentence]))  # of no series we know: shown by itself
    return sorted(result, key=lambda s: (s.subject, str(s.first.get("SeriesNumber")).zfill(6), s.description))


def _count(n: int, one: str, many: str) -> str:
    return f"1 {one}" if n == 1 else f"{n} {many}"


def _ordered(uid: str, slices: list[Slice], parts: int) -> Series:
    series = Series(uid, slices)
    if parts > 1:
        series.problems.append(f"The series holds {parts} kinds of slices (matrix, direction or echo differ); each is kept apart")
    if cut := [s for s in slices if s.cut_short]:
        series.problems.append(f"{_count(len(cut), 'file is', 'files are')} cut short: {', '.join(s.path.name for s in cut[:3])}")
    if slices[0].orientation is None:
        series.slices.sort(key=lambda s: str(s.path))
        series.problems.append("The files do not say where their slices lie, so position and sides are unknown")
        return series
    normal = np.cross(*slices[0].orientation)
    along = {id(s): float(s.position @ normal) for s in slices}
    slices.sort(key=lambda s: (along[id(s)], str(s.path)))
    kept, doubled = [slices[0]], []
    for s in slices[1:]:
        (doubled if abs(along[id(s)] - along[id(kept[-1])]) < 1e-3 * _pixel(s) else kept).append(s)
    series.slices, series.doubled = kept, doubled
    places = np.array([along[id(s)] for s in kept])
    gaps = np.diff(places)
    series.step = float(np.median(gaps)) if gaps.size else float(kept[0].get("SliceThickness", 0) or 1.0)
    if doubled:
        series.problems.append(f"{_count(len(doubled), 'slice stands', 'slices stand')} at the same place as another: "
                               + ", ".join(s.path.name for s in doubled[:3]))
    steps = gaps / series.step
    if np.any(np.abs(steps - np.round(steps)) > 0.02):
        series.problems.append(f"The slices are unevenly spaced, from {gaps.min():.4g} to {gaps.max():.4g} mm apart")
    else:
        index = np.concatenate(([0], np.cumsum(np.round(steps)))).astype(int)
        series.missing = sorted(set(range(int(index[-1]) + 1)) - set(index.tolist()))
        if series.missing:
            at = ", ".join(str(n + 1) for n in series.missing[:5]) + (" …" if len(series.missing) > 5 else "")
            series.problems.append(f"{_count(len(series.missing), 'slice is', 'slices are')} missing in the stack, at place {at}"
                                   f" of {int(index[-1]) + 1}")
    shift = kept[-1].position - kept[0].position
    if len(kept) > 1 and np.linalg.norm(shift - (shift @ normal) * normal) > 0.02 * np.linalg.norm(shift):
        series.problems.append("The stack leans (tilted gantry); the volume keeps the lean in its position matrix")
    return series


def _pixel(s: Slice) -> float:
    spacing = s.get("PixelSpacing", None)
    return min(float(v) for v in spacing) if spacing else 1.0
