"""What the description of a TIFF file says of the picture that is taken: steps, names of channels, our own words."""

from __future__ import annotations

import math
import re
import xml.etree.ElementTree as ElementTree
from dataclasses import dataclass, field
from pathlib import Path

from ..core.caveat import NOTED, VALUES_LOST, Caveat
from ..core.errors import Trouble
from .detached import values_beside
from .lengths import millimetres, seconds
from .own_words import KEY

MOST_PLANES = 100_000
"""Planes that a description may promise whatever the file holds: others may lie in files beside it."""


@dataclass
class Described:
    """Steps along x, y and z in mm and along t in s, where they are said in units that are known."""

    steps: dict[str, float] = field(default_factory=dict)
    channels: list[str] = field(default_factory=list)
    words: str = ""
    caveats: list[Caveat] = field(default_factory=list)

    def step(self, axis: str, size: float, unit: str, known) -> None:
        """Take a step that is said in a unit, or say why not."""
        factor = known(unit)
        if factor is None:
            said = f"The file gives the step along {axis} in “{unit[:40]}”, a unit that is not known; it is left"
            self.caveats.append(Caveat(NOTED, said))
        elif math.isfinite(size) and size > 0:
            self.steps[axis] = size * factor


def require_sensible(file, path: Path) -> None:
    """Look at the description of an OME-TIFF before anybody works by it.

    Raises
    ------
    Trouble
        When it promises far more planes than there are, of which a table would be made before the first is looked for;
        or when it names files that do not lie beside it, which would be opened.
    """
    if not file.is_ome:
        return
    text = str(file.pages.first.description)
    for picture in re.findall(r"<(?:\w+:)?Pixels\b[^>]*", text):
        sizes = {name: int(size) for name, size in re.findall(r'\bSize([ZCT])\s*=\s*"(\d{1,18})"', picture)}
        planes = math.prod(sizes.values())
        if planes > max(MOST_PLANES, 64 * len(file.pages)):
            raise Trouble(
                f"The description of this OME-TIFF promises {planes} planes, which it cannot hold",
                "write it again",
                path,
            )
    for double, single in set(re.findall(r"""\bFileName\s*=\s*(?:"([^"]*)"|'([^']*)')""", text)):
        values_beside(path, double or single)


def described(file, series) -> Described:
    """What OME-XML or a plain description says of one picture of a file."""
    if file.is_ome and file.ome_metadata:
        try:
            found = _ome(file.ome_metadata, series, file.series)
        except (ElementTree.ParseError, ValueError, AttributeError):
            return Described(
                caveats=[Caveat(NOTED, "The description of this OME-TIFF cannot be read; it is passed over")]
            )
        lost = sum(page is None for page in series.pages)
        if lost:
            said = f"{lost} of {len(series.pages)} planes of this picture are in files that are not there; they are 0"
            found.caveats.append(Caveat(VALUES_LOST, said))
        return found
    found = Described()
    shaped = file.shaped_metadata[0] if file.shaped_metadata else {}
    for axis in "XYZ":
        size = shaped.get(f"PhysicalSize{axis}")
        if isinstance(size, (int, float)):
            found.step(axis.lower(), size, str(shaped.get(f"PhysicalSize{axis}Unit", "µm")), millimetres)
    return found


def _ome(text: str, series, all_series) -> Described:
    found = Described()
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        return found
    root = ElementTree.fromstring(text)
    pixels = _pixels_of(root, series, all_series)
    if pixels is None:
        return found
    for axis in "XYZ":
        if size := pixels.get(f"PhysicalSize{axis}"):
            found.step(axis.lower(), float(size), pixels.get(f"PhysicalSize{axis}Unit", "µm"), millimetres)
    if step := pixels.get("TimeIncrement"):
        found.step("t", float(step), pixels.get("TimeIncrementUnit", "s"), seconds)
    found.words = next((e.text or "" for e in root.iter() if e.tag.endswith("}M") and e.get("K") == KEY), "")
    regions = sum(e.tag.split("}")[-1] == "ROI" for e in root)
    if regions:
        several = f"{regions} regions are" if regions > 1 else "A region is"
        found.caveats.append(Caveat(NOTED, f"{several} drawn in this file; “Take marks from a file” brings them in"))
    channels = [e for e in pixels if e.tag.split("}")[-1] == "Channel"]
    found.channels = [c.get("Name") or f"channel {n + 1}" for n, c in enumerate(channels)]
    return found


def _pixels_of(root, series, all_series):
    """The element that describes the picture: pictures stand in it in their order, save those without pixels in the
    file, and those that are told apart by their sizes."""
    elements = [e for e in root.iter() if e.tag.split("}")[-1] == "Pixels"]
    fitting = [e for e in elements if _fits(e, series)]
    alike = [s for s in all_series if any(_fits(e, s) for e in fitting)]
    at = alike.index(series) if series in alike else 0
    return fitting[at] if at < len(fitting) else None


def _fits(pixels, series) -> bool:
    at = dict(zip(series.axes, series.shape))
    return all(int(pixels.get(f"Size{axis}", "0")) == at.get(axis, 1) for axis in "XY") and math.prod(
        int(pixels.get(f"Size{axis}", "1")) for axis in "ZCT"
    ) == math.prod(size for axis, size in at.items() if axis not in "XY")


def others_left(file, series) -> list[Caveat]:
    """What is to be said of further pictures in a file, which are not taken."""
    others = [s for s in file.series if s is not series]
    if not others:
        return []
    sizes = [" × ".join(str(s.shape[s.axes.index(a)]) for a in "XY" if a in s.axes) for s in others]
    listed = ", ".join(sizes[:4])  # no names, which somebody has typed
    many = f"{len(others)} more pictures are" if len(others) > 1 else "Another picture is"
    return [Caveat(NOTED, f"{many} in this file and left: {listed}{', …' if len(others) > 4 else ''}")]
