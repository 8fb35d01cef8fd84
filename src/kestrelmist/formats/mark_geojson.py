"""Marks as GeoJSON (RFC 7946): a feature a mark, with its shape and whatever is known of it among the properties. Unit,
axes and world, for which the standard has no field, stand in a member of our own."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np

from ..core.errors import Trouble
from ..core.geometry.mark import Mark
from ..core.geometry.marks import Marks
from ..core.geometry.shape import SHAPES, shape_named
from ..core.progress import Progress
from ..core.safe_write import written_whole
from ..core.world import World
from .format import Format, register

OWN = "kestrelmist"
AXES = "+x right, +y front, +z up"
PLANE = "x and y of the picture"
PLAIN = {"Point": "point", "LineString": "polyline", "Polygon": "polygon"}
SEVERAL = {"MultiPoint": "Point", "MultiLineString": "LineString", "MultiPolygon": "Polygon"}


def write_geojson(path: Path, marks: Marks, progress: Progress | None = None) -> None:
    """Write marks; polygons are closed as the standard wants, and run anticlockwise as seen with x right and y up."""
    said: dict[str, Any] = {"unit": marks.unit, "axes": AXES if marks.world.sides_known else PLANE}
    said |= {"world": marks.world.as_dict(), "name": marks.name, "of": marks.of}
    whole = {"type": "FeatureCollection", OWN: said, "features": [_feature(mark) for mark in marks]}
    with written_whole(path) as stream:
        stream.write(json.dumps(whole, ensure_ascii=False, allow_nan=False, indent=1).encode())


def _feature(mark: Mark) -> dict[str, Any]:
    geometry, facts = _geometry(mark), mark.as_dict()
    facts.pop("id")
    return {"type": "Feature", "id": mark.id, "geometry": geometry, "properties": facts}


def _geometry(mark: Mark) -> dict[str, Any]:
    outline = mark.outline.tolist()
    if len(outline) == 1:
        return {"type": "Point", "coordinates": outline[0]}
    if shape_named(mark.shape).closed:
        return {"type": "Polygon", "coordinates": [_anticlockwise([*outline, outline[0]])]}
    return {"type": "LineString", "coordinates": outline}


def _anticlockwise(ring: list[list[float]]) -> list[list[float]]:
    x, y = np.array(ring)[:, :2].T
    return ring[::-1] if float((x[:-1] * y[1:] - x[1:] * y[:-1]).sum()) < 0 else ring


def read_geojson(path: Path) -> Marks:
    """Marks from GeoJSON of any program; `unit` is "" when the file does not say in which it is.

    Raises
    ------
    Trouble
        When it is no GeoJSON, counts in degrees on the earth or another system of its own, or a position is none.
    """
    try:
        whole = json.loads(path.read_bytes())
    except ValueError as error:
        raise Trouble("This is no GeoJSON: it cannot be read as JSON", "write it again", path) from error
    if not isinstance(whole, dict) or whole.get("type") not in ("FeatureCollection", "Feature", *PLAIN, *SEVERAL):
        raise Trouble("This JSON file is no GeoJSON", "choose one of features or geometries", path)
    if whole.get("crs") is not None:
        what = "This GeoJSON counts in a coordinate system of the earth (crs)"
        raise Trouble(what, "write it in mm, µm or pixels of the image, without crs", path)
    features = whole.get("features", []) if whole["type"] == "FeatureCollection" else [whole]
    own = whole.get(OWN)
    said: dict[str, Any] = own if isinstance(own, dict) else {}
    marks: list[Mark] = []
    for n, feature in enumerate(features if isinstance(features, list) else [], 1):
        try:
            marks += _marks_of(feature)
        except Trouble as trouble:
            raise Trouble(f"Feature {n} of this GeoJSON: {trouble.what}", trouble.do, path) from trouble
        except (TypeError, ValueError, KeyError, IndexError, AttributeError) as error:
            raise Trouble(
                f"Feature {n} of this GeoJSON cannot be understood", "mend it or leave it out", path
            ) from error
    if not marks and not said:  # of our own there may be none: all have been deleted
        raise Trouble("There is no mark in this GeoJSON", "choose another file", path)
    world = World.from_dict(said["world"]) if isinstance(said.get("world"), dict) else World()
    name = str(said.get("name") or path.name.partition(".")[0])
    return Marks(_numbered(marks), world, str(said.get("unit") or ""), name, of=str(said.get("of") or ""))


def _numbered(marks: list[Mark]) -> dict[int, Mark]:
    """Marks under their own numbers where these are whole and used once; from 1 on otherwise."""
    from dataclasses import replace

    numbers = [mark.id for mark in marks]
    if min(numbers, default=1) >= 1 and len(set(numbers)) == len(numbers):
        return {mark.id: mark for mark in marks}
    return {n: replace(mark, id=n) for n, mark in enumerate(marks, 1)}


def _marks_of(feature: dict[str, Any]) -> list[Mark]:
    geometry: Any = feature.get("geometry") if feature.get("type") == "Feature" else feature
    facts: dict[str, Any] = dict(feature.get("properties") or {}) if feature.get("type") == "Feature" else {}
    if not isinstance(geometry, dict):
        raise Trouble("it has no geometry", "give it one, or leave it out")
    kind: str = geometry["type"]
    found: Any = geometry.get("coordinates")
    if kind == "GeometryCollection" or kind not in (*PLAIN, *SEVERAL):
        raise Trouble(f"a {str(kind)[:40]} is no mark", "give points, lines or polygons")
    number = feature.get("id")
    own = {"id": number if isinstance(number, int) and not isinstance(number, bool) and number > 0 else 0}
    if isinstance(facts.get("points"), list) and str(facts.get("shape")) in SHAPES:  # one of ours, as it is
        mark = Mark.from_dict(facts | own)
        if _is_drawn_so(mark, geometry):  # else another program has moved it, and its points are those of before
            return [mark]
    several = found if kind in SEVERAL else [found]
    marks = []
    for one in several:
        plain = SEVERAL.get(kind, kind)
        rings: Any = {"Point": [[one]], "LineString": [one], "Polygon": one}[plain]
        for n, ring in enumerate(rings):
            points = [_position(p) for p in ring]
            if plain == "Polygon" and len(points) > 1 and points[0] == points[-1]:
                points.pop()
            marks.append(Mark.from_dict(_known(facts, plain, n > 0) | own | {"points": points}))
    return marks


def _is_drawn_so(mark: Mark, geometry: dict[str, Any]) -> bool:
    wanted = _geometry(mark)
    if wanted["type"] != geometry.get("type"):
        return False
    ours, theirs = np.array(wanted["coordinates"], float), np.array(geometry["coordinates"], float)
    if ours.shape[:-1] != theirs.shape[:-1]:
        return False
    size = max(float(np.ptp(ours)), 1e-9)
    return bool(np.allclose(ours[..., :2], theirs[..., :2], rtol=0, atol=1e-4 * size))


def _known(facts: dict[str, Any], plain: str, hole: bool) -> dict[str, Any]:
    """What a mark takes over of the properties of a feature: what it knows by name, the rest as notes."""
    shape = facts.get("shape")
    fits = isinstance(shape, str) and shape in SHAPES and PLAIN[plain] == shape
    known: dict[str, Any] = {"shape": shape if fits else PLAIN[plain]}
    names = {"normal", "depth", "place", "across", "cls", "text", "colour", "width", "letters", "spread"}
    known |= {name: value for name, value in facts.items() if name in names}
    said = facts.get("name") or facts.get("Name") or facts.get("label")
    known["name"] = str(said) if isinstance(said, (str, int, float)) else ""
    notes = dict(facts.get("notes") or {}) if isinstance(facts.get("notes"), dict) else {}
    taken = names | {"name", "Name", "label", "shape", "notes", "points", "id"}
    notes |= {name: value for name, value in facts.items() if name not in taken}
    if hole:
        notes["hole"] = True
    return known | ({"notes": notes} if notes else {})


def _position(given: Any) -> list[float]:
    numbers = [float(v) for v in given[:3]]
    if len(numbers) < 2 or not all(map(math.isfinite, numbers)):
        raise Trouble("a position is none", "give two or three numbers")
    return [*numbers, 0.0][:3]


register(
    Format("GeoJSON", (".geojson", ".json"), read_geojson, write_geojson, (".geojson",), holds=("marks",), listed=False)
)
