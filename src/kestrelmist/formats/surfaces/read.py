"""Surfaces read from STL, PLY and binary glTF."""

from __future__ import annotations

import logging
import re
from pathlib import Path

import numpy as np

from ...core.errors import Trouble
from ...core.surface.surface import COLOUR, Surface, Surfaces
from .told import hexed, told_unit
from .write import Y_UP

HEAD = 4096
"""Bytes in which a file tells its unit."""


@np.errstate(all="ignore")
def read_surfaces(path: Path) -> Surfaces:
    """The surfaces of a file, by its ending. The unit is "" when the file does not tell it; glTF is brought to mm, x
    right, y front, z up.

    Raises
    ------
    Trouble
        When it holds no triangles.
    """
    import trimesh

    logging.getLogger("trimesh").setLevel(logging.CRITICAL)  # what matters of it is said in our own words
    kind = path.suffix.lower().lstrip(".")
    with open(path, "rb") as stream:
        start = stream.read(HEAD)
        stream.seek(0)
        scene = trimesh.load_scene(stream, file_type=kind, process=False, resolver=None)
    told = start.decode("latin-1")
    unit = "mm" if kind == "glb" else told_unit(told if kind != "stl" else told[:80])
    parts: list[Surface] = []
    order = list(scene.geometry)
    nodes = [(order.index(name), node, name) for node in scene.graph.nodes_geometry for name in (scene.graph[node][1],)]
    for _, node, name in sorted(nodes):
        matrix, mesh = scene.graph[node][0], scene.geometry[name]
        if not isinstance(mesh, trimesh.Trimesh) or not len(mesh.faces):
            continue
        corners = np.asarray(mesh.vertices, float) @ matrix[:3, :3].T + matrix[:3, 3]
        if kind == "glb":
            corners = corners @ np.array(Y_UP, float) * (1e3 if "unit px" not in told else 1.0)
        parts.append(_whole(corners, np.asarray(mesh.faces), str(name), _colour(mesh)))
    if not parts:
        raise Trouble("This file holds no triangles", "choose a file of a surface", path)
    if kind == "glb" and "unit px" in told:
        unit = "px"
    if kind == "ply":
        parts = _parted(parts, told, next(iter(scene.geometry.values())))
    if len(parts) == 1 and kind in ("stl", "ply") and parts[0].name in ("geometry_0", path.name):
        parts = [Surface(parts[0].corners, parts[0].triangles, path.stem, parts[0].colour)]
    return Surfaces(tuple(parts), path.stem, unit=unit)


def _whole(corners: np.ndarray, triangles: np.ndarray, name: str, colour: str) -> Surface:
    """Triangles whose corners are told for each of them, joined where these are the same; what has no area is left
    out."""
    known, where = np.unique(corners, axis=0, return_inverse=True)
    if len(known) < len(corners):
        corners, triangles = known, where[triangles].reshape(-1, 3)
    a, b, c = triangles.T
    return Surface(corners, triangles[(a != b) & (b != c) & (c != a)], name, colour)


def _colour(mesh) -> str:
    """The one colour of a mesh, where it has one."""
    visual = mesh.visual
    try:
        if visual.kind in ("vertex", "face"):
            return hexed(np.asarray(visual.vertex_colors if visual.kind == "vertex" else visual.face_colors)[0])
        return hexed(visual.material.main_color)
    except (AttributeError, IndexError, TypeError, ValueError):
        return COLOUR


def _parted(parts: list[Surface], told: str, mesh) -> list[Surface]:
    """The parts that comments of a PLY file name, where their corners are all there still."""
    rows = re.findall(r"^comment part (\d+) (\d+) (.*)$", told.partition("end_header")[0], re.MULTILINE)
    whole = parts[0]
    if len(parts) != 1 or not rows or sum(int(count) for _, count, _ in rows) != len(whole.corners):
        return parts
    found = []
    for first, count, name in ((int(a), int(b), c.strip()) for a, b, c in rows):
        inside = (whole.triangles >= first) & (whole.triangles < first + count)
        mine = whole.triangles[inside.all(axis=1)] - first
        colours = getattr(mesh.visual, "vertex_colors", None)
        own = whole.colour if colours is None or len(colours) <= first else hexed(np.asarray(colours)[first])
        found.append(Surface(whole.corners[first : first + count], mine, name, own))
    return found
