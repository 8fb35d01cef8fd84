"""A DICOM series as it was found: its slices, their order, and what is doubtful about it."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ..core.axis import Axis
from ..core.caveat import MIXED, SLICES_SIDEWAYS, Caveat, has_caveat
from .dicom.header import Slice


def component_of(s: Slice) -> str:
    """ "magnitude", "phase", "real" or "imaginary" when the header says so, else ""."""
    words = [str(s.get("ComplexImageComponent")).upper(), *str(s.get("ImageType")).upper().split("\\")[2:]]
    if str(s.get("Modality")) != "MR":
        return ""
    for long, short, name in (
        ("PHASE", "P", "phase"),
        ("REAL", "R", "real"),
        ("IMAGINARY", "I", "imaginary"),
        ("MAGNITUDE", "M", "magnitude"),
    ):
        if long in words or short in words:
            return name
    return ""


@dataclass
class Series:
    """A series found in a folder: its slices in order along the stack, and what is wrong with them."""

    uid: str
    slices: list[Slice]
    """Every picture that is there, volume by volume, each volume in order along the stack."""
    caveats: list[Caveat] = field(default_factory=list)
    doubled: list[Slice] = field(default_factory=list)
    """Slices left out because another one stands at the same place."""
    missing: list[int] = field(default_factory=list)
    """Places along the complete stack at which a slice is missing, in one volume or all."""
    step: float = 0.0
    """Distance between neighbouring slices, mm."""
    axes: list[Axis] = field(default_factory=list)
    """Axes beyond space: time, detector, …"""
    grid: list[list[Slice | None]] = field(default_factory=list)
    """Slices of each volume by place along the stack; None where one is missing."""
    line: tuple[np.ndarray, np.ndarray] | None = None
    """Where the first slice should lie and the step from slice to slice, when some lie sideways."""
    kind: str = ""
    """What the files are when they are no image: "segmentation", "structure set", or the name of the object; "" for
    images."""

    def doubt(self, code: str, sentence: str) -> None:
        """Note what is doubtful about the series."""
        self.caveats.append(Caveat(code, sentence))

    def has(self, *codes: str) -> bool:
        return has_caveat(self.caveats, *codes)

    @property
    def mendable(self) -> bool:
        """Whether it is no whole stack, and could become one."""
        return bool(self.missing or self.doubled or self.has(SLICES_SIDEWAYS)) and not self.broken

    @property
    def problems(self) -> list[str]:
        """What is doubtful, a sentence each."""
        return [c.sentence for c in self.caveats]

    @property
    def first(self) -> Slice:
        return self.slices[0]

    @property
    def description(self) -> str:
        if not self.first.header:
            return "Damaged files"
        text = str(self.first.get("SeriesDescription") or self.first.get("ProtocolName")).strip()
        text = text or f"Series {self.first.get('SeriesNumber', '')}".strip()
        echo, component = self.first.get("EchoNumbers", None), component_of(self.first)
        if self.has(MIXED):
            parts = ([f"echo {echo}"] if echo else []) + ([component] if component else [])
            text += f", {', '.join(parts)}" if parts else ""
        return text

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
        return self.first.columns, self.first.rows

    @property
    def spacing(self) -> tuple[float, float, float] | None:
        """Along a row, along a column, between slices, mm; None when the files do not say."""
        pixel = self.first.get("PixelSpacing", None) or self.first.get("ImagerPixelSpacing", None)
        if not isinstance(pixel, list) or len(pixel) != 2 or not all(np.isfinite(p) and p > 0 for p in pixel):
            return None
        return float(pixel[1]), float(pixel[0]), self.step

    @property
    def depth(self) -> int:
        """Slices of the complete stack, missing ones counted."""
        return len(self.grid[0]) if self.grid else len(self.slices) + len(self.missing)

    @property
    def volumes(self) -> int:
        return max(1, len(self.grid))

    @property
    def broken(self) -> list[Slice]:
        return [s for s in self.slices if s.cut_short]

    @property
    def files(self) -> list[Path]:
        """The files of the series, each once, in the order of their first slice."""
        return list(dict.fromkeys(s.path for s in self.slices))
