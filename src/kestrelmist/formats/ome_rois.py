"""Marks in OME-TIFF: as regions of the standard (OME schema 2016-06, ROI), which other programs show, and in words of
our own, which keep what the standard has no field for.

Positions of regions are in pixels from the outer corner of the first one: 0.5, 0.5 is its middle.
"""

from __future__ import annotations

import json
import math
import xml.etree.ElementTree as ElementTree
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any
from xml.sax.saxutils import quoteattr

import numpy as np

from ..core.errors import Trouble
from ..core.geometry.mark import Mark
from ..core.geometry.marks import Marks
from ..core.geometry.on_image import require_on
from ..core.geometry.shape import shape_named
from ..core.image import Image
from ..core.names import printable
from .format import Format, register

KEY = "kestrelmist marks"
"""Under which our own words stand among the annotations."""
SAME = 1e-3
"""Pixels by which a region may lie off the mark it was made of and still be that."""
OFF = 0.02
"""Slices by which a mark may lie off one and be in it."""
MOST = 200_000
Xml = dict[str, str]
PLACES = ("X", "Y", "X1", "X2", "Y1", "Y2", "Width", "Height", "RadiusX", "RadiusY", "Points", "TheZ", "TheT")


def rois_of(marks: Marks, image: Image) -> tuple[str, str, str, int]:
    """Marks as text for the description of a file: references to regions, the regions, our own words; and how many
    marks lie in no slice of the image, and are in our own words alone.

    Raises
    ------
    Trouble
        When the marks lie in another world than the image, or count in another unit.
    """
    require_on(marks, image)
    refs, rois, outside = [], [], 0
    for mark in marks:
        shapes = list(_shapes(mark, image))
        if not shapes:
            outside += 1
            continue
        refs.append(f'<ROIRef ID="ROI:{mark.id}"/>')
        inside = "".join(_element(tag, facts, f"{mark.id}:{n}") for n, (tag, facts) in enumerate(shapes))
        rois.append(f'<ROI ID="ROI:{mark.id}" Name={quoteattr(printable(mark.name))}><Union>{inside}</Union></ROI>')
    return "".join(refs), "".join(rois), json.dumps(marks.as_dict() | {"name": marks.name}), outside


def with_rois(description: str, refs: str, rois: str) -> str:
    """The description of a file of one picture with regions."""
    at = description.index("</Pixels>") + len("</Pixels>")
    end = description.rindex("</OME>")
    return f"{description[:at]}{refs}{description[at:end]}{rois}{description[end:]}"


def _element(tag: str, facts: Xml, number: str) -> str:
    told = " ".join(f"{name}={quoteattr(printable(value))}" for name, value in facts.items())
    return f'<{tag} ID="Shape:{number}" {told}/>'


def _shapes(mark: Mark, image: Image) -> Iterator[tuple[str, Xml]]:
    """A mark as shapes of the standard; none when it lies in no slice."""
    space = image.space
    outline = space.to_voxel(mark.outline if mark.shape != "point" else mark.array)
    slices = outline[:, 2]
    k = round(float(slices.mean()))
    if np.ptp(slices) > OFF or not 0 <= k < space.shape[2] or abs(float(slices.mean()) - k) > OFF + 0.5:
        return
    pixels = outline[:, :2] + 0.5
    facts: Xml = {"TheZ": str(k)} if space.shape[2] > 1 else {}
    times = [n for n, axis in enumerate(image.axes) if axis.name == "time"]
    if mark.place is not None and times and times[0] < len(mark.place):
        facts["TheT"] = str(mark.place[times[0]])
    if mark.colour:
        facts["StrokeColor"] = str(_signed(int(mark.colour[1:7] + "FF", 16)))
    facts |= {"StrokeWidth": f"{mark.width:g}", "StrokeWidthUnit": "pixel"}
    said = mark.text or mark.name
    if said:
        facts |= {"Text": said, "FontSize": f"{max(1, round(mark.letters))}", "FontSizeUnit": "pixel"}
    yield from _by_shape(mark, pixels, facts)


def _by_shape(mark: Mark, pixels: np.ndarray, facts: Xml) -> Iterator[tuple[str, Xml]]:
    shape = shape_named(mark.shape)
    (x, y), (low, high) = pixels[0], (pixels.min(0), pixels.max(0))
    if mark.shape == "text":
        yield "Label", {"X": _n(x), "Y": _n(y)} | facts
    elif len(pixels) == 1:
        yield "Point", {"X": _n(x), "Y": _n(y)} | facts
    elif mark.shape in ("ellipse", "circle") and _upright(pixels):
        middle, radii = (low + high) / 2, (high - low) / 2
        sizes = {"X": _n(middle[0]), "Y": _n(middle[1]), "RadiusX": _n(radii[0]), "RadiusY": _n(radii[1])}
        yield "Ellipse", sizes | facts
    elif mark.shape in ("rectangle", "highlight") and _square_on(pixels):
        wide, tall = high - low
        yield "Rectangle", {"X": _n(low[0]), "Y": _n(low[1]), "Width": _n(wide), "Height": _n(tall)} | facts
    elif shape.closed:
        yield "Polygon", {"Points": _points(pixels)} | facts
    else:
        ends = [0, *shape.apart, len(pixels)]
        for a, b in zip(ends, ends[1:]):
            part = pixels[a:b]
            if len(part) == 2:
                line = dict(zip(("X1", "Y1", "X2", "Y2"), map(_n, part.ravel()))) | facts
                yield "Line", line | ({"MarkerEnd": "Arrow"} if shape.ends == "arrow" else {})
            else:
                yield "Polyline", {"Points": _points(part)} | facts


def _upright(pixels: np.ndarray) -> bool:
    """Whether an ellipse has its diameters along the sides of pixels: its outline is then that of its box."""
    low, high = pixels.min(0), pixels.max(0)
    radii = (high - low) / 2
    if not (radii > 0).all():
        return False
    away = np.hypot(*((pixels - (low + high) / 2) / radii).T)
    return bool(np.abs(away - 1).max() < 5e-3)


def _square_on(pixels: np.ndarray) -> bool:
    low, high = pixels.min(0), pixels.max(0)
    return bool((np.minimum(np.abs(pixels - low), np.abs(pixels - high)) < SAME).all())


def _n(value: float) -> str:
    return f"{value:.6f}".rstrip("0").rstrip(".")


def _points(pixels: np.ndarray) -> str:
    return " ".join(f"{_n(x)},{_n(y)}" for x, y in pixels)


def _signed(colour: int) -> int:
    return colour - (1 << 32) if colour >= 1 << 31 else colour


def read_ome_rois(path: Path) -> Marks:
    """The marks of an OME-TIFF, in the world of its picture.

    Raises
    ------
    Trouble
        When the file is no OME-TIFF, has no regions, or too many.
    """
    import tifffile

    from .opening import open_image

    image = open_image(path)
    with tifffile.TiffFile(path) as file:
        text = file.ome_metadata or ""
    if not text or "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise Trouble("There are no marks in this file", "choose an OME-TIFF with regions", path)
    root = ElementTree.fromstring(text)
    rois = [one for one in root.iter() if _tag(one) == "ROI"]
    own = _own_words(root)
    if not rois and own is None:
        raise Trouble("There are no marks in this file", "choose an OME-TIFF with regions", path)
    if len(rois) > MOST:
        raise Trouble(f"This file has {len(rois)} regions", f"{MOST} can be read at most", path)
    known = {} if own is None else {mark.id: mark for mark in own}
    found: list[Mark] = []
    there = set()
    for roi in rois:
        number = _number(roi.get("ID", ""))
        there.add(number)
        mark = known.get(number)
        shapes = [one for union in roi if _tag(union) == "Union" for one in union]
        if mark is not None and _is_drawn_so(mark, image, shapes):
            found.append(mark)
        else:
            found += filter(None, (_mark(shape, image, roi.get("Name", "")) for shape in shapes))
    # what lies in no slice has no region, and is known by our own words alone
    found += [mark for number, mark in known.items() if number not in there and not list(_shapes(mark, image))]
    if not found:
        raise Trouble("The regions of this file are of kinds that marks have no shape for", "choose another file", path)
    name = own.name if own is not None else path.name.partition(".")[0]
    numbers = [mark.id for mark in found]
    whole: dict[str, Any] = {"world": image.space.world, "unit": image.space.unit, "name": name}
    if min(numbers) < 1 or len(set(numbers)) < len(numbers):
        return Marks.numbered(found, **whole)
    return Marks({mark.id: mark for mark in found}, **whole)


def _own_words(root: ElementTree.Element) -> Marks | None:
    for one in root.iter():
        if _tag(one) == "M" and one.get("K") == KEY and one.text:
            with suppress(ValueError, Trouble, TypeError):
                facts = json.loads(one.text)
                return Marks.from_dict(facts, str(facts.get("name") or ""))
    return None


def _tag(one: ElementTree.Element) -> str:
    return one.tag.rpartition("}")[2]


def _number(text: str) -> int:
    last = text.rpartition(":")[2]
    return int(last) if last.isdecimal() and len(last) < 16 else 0


def _is_drawn_so(mark: Mark, image: Image, shapes: list[ElementTree.Element]) -> bool:
    """Whether the regions are still where the mark was."""
    wanted = list(_shapes(mark, image))
    if len(wanted) != len(shapes) or not wanted:
        return False
    return all(tag == _tag(shape) and _alike(facts, shape) for (tag, facts), shape in zip(wanted, shapes))


def _alike(facts: Xml, shape: ElementTree.Element) -> bool:
    for name, value in facts.items():
        if name in PLACES:
            one, other = (_numbers(text) for text in (value, shape.get(name, "")))
            if len(one) != len(other) or any(abs(a - b) > SAME for a, b in zip(one, other)):
                return False
    return not any(_tag(one) == "Transform" for one in shape)


def _numbers(text: str) -> list[float]:
    try:
        return [float(v) for v in text.replace(",", " ").split()]
    except ValueError:
        return []


def _mark(shape: ElementTree.Element, image: Image, name: str) -> Mark | None:
    """A region as a mark; None where no shape of mark is like it, or its numbers are none."""
    tag, said = _tag(shape), shape.get("Text", "")
    found = _drawn(tag, shape)
    if found is None or not np.isfinite(found[1]).all():
        return None
    kind, pixels = found
    for one in shape:
        if _tag(one) == "Transform":
            turn = np.array([[float(one.get(f"A{r}{c}", r == c)) for c in range(3)] for r in range(2)])
            pixels = pixels @ turn[:, :2].T + turn[:, 2]
    k = _numbers(shape.get("TheZ", "0")) or [0.0]
    world = image.space.to_world(np.column_stack((pixels - 0.5, np.full(len(pixels), k[0]))))
    facts: dict[str, Any] = {"name": name or (said if tag != "Label" else "")}
    if tag == "Label":
        facts["text"] = said or "text"
    across = image.space.affine[:3, 2]
    if kind not in ("point", "text"):
        facts["normal"] = tuple((across / np.linalg.norm(across)).tolist())
    with suppress(ValueError):
        facts["colour"] = f"#{(int(shape.get('StrokeColor', '')) & 0xFFFFFFFF) >> 8:06X}"
    wide = _numbers(shape.get("StrokeWidth", ""))
    if wide and 0 < wide[0] <= 100 and math.isfinite(wide[0]):
        facts["width"] = wide[0]
    when = shape.get("TheT", "")
    if when.isdecimal() and len(image.axes) == 1 and image.axes[0].name == "time":
        facts["place"] = (int(when),)
    try:
        return Mark(kind, tuple(map(tuple, world.tolist())), **facts)
    except Trouble:
        return None


def _drawn(tag: str, shape: ElementTree.Element) -> tuple[str, np.ndarray] | None:
    """The shape of mark that a region is, and its points in pixels from the corner."""

    def at(*names: str) -> list[float]:
        return [float(shape.get(name, "nan")) for name in names]

    try:
        if tag in ("Point", "Label"):
            return "text" if tag == "Label" else "point", np.array([at("X", "Y")])
        if tag == "Line":
            arrow = "Arrow" in (shape.get("MarkerEnd"), shape.get("MarkerStart"))
            ends = np.array(at("X1", "Y1", "X2", "Y2")).reshape(2, 2)
            return "arrow" if arrow else "line", ends[::-1] if shape.get("MarkerStart") == "Arrow" else ends
        if tag in ("Polyline", "Polygon"):
            numbers = _numbers(shape.get("Points", ""))
            return tag.lower(), np.array(numbers[: len(numbers) // 2 * 2]).reshape(-1, 2)
        if tag == "Rectangle":
            x, y, wide, tall = at("X", "Y", "Width", "Height")
            return "rectangle", np.array([(x, y), (x + wide, y), (x + wide, y + tall), (x, y + tall)])
        if tag == "Ellipse":
            x, y, a, b = at("X", "Y", "RadiusX", "RadiusY")
            return "ellipse", np.array([(x + a, y), (x, y + b), (x - a, y), (x, y - b)])
    except ValueError:
        return None
    return None


def _has_rois(path: Path, start: bytes) -> bool:
    """Whether the description of a file tells of regions: others are images alone."""
    import tifffile

    if not start.startswith((b"II", b"MM")):
        return False
    try:
        with tifffile.TiffFile(path) as file:
            return "<ROI " in (text := file.ome_metadata or "") or f'K="{KEY}"' in text
    except Exception:  # what is damaged is told where the image is read
        return False


register(
    Format(
        "Regions of OME-TIFF", (".ome.tif", ".ome.tiff"), read_ome_rois, fits=_has_rois, holds=("marks",), listed=False
    )
)
