"""Surfaces read from OBJ: corners, faces of any number of corners, objects and groups. All else is passed over."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ...core.errors import Trouble
from ...core.surface.surface import COLOUR, Surface, Surfaces
from .told import hexed, told_unit
from .vtp import fanned


def read_obj(path: Path) -> Surfaces:
    """The surfaces of an OBJ file, one an object or group that has faces; the unit as a comment tells it, or "".

    Raises
    ------
    Trouble
        When it holds no face, or a face names a corner that is not there.
    """
    corners: list[tuple[float, ...]] = []
    colours: list[tuple[float, ...]] = []
    groups: dict[str, list[list[int]]] = {}
    unit, here = "", groups.setdefault("", [])
    with open(path, encoding="utf-8", errors="replace") as stream:
        for line in stream:
            word, _, rest = line.partition(" ")
            if word == "v":
                numbers = tuple(map(float, rest.split()))
                corners.append(numbers[:3])
                colours.append(numbers[3:6] if len(numbers) >= 6 else ())
            elif word == "f":
                count = len(corners)
                face = [int(part.partition("/")[0]) for part in rest.split()]
                here.append([n - 1 if n > 0 else count + n for n in face])
            elif word in ("o", "g"):
                here = groups.setdefault(rest.strip(), [])
            elif word == "#" and not unit:
                unit = told_unit(rest)
    places = np.array(corners, float).reshape(-1, 3)
    parts = []
    for name, faces in groups.items():
        sizes = np.array([len(face) for face in faces], np.int64)
        chain = np.array([n for face in faces for n in face], np.int64)
        if not len(chain):
            continue
        if chain.min() < 0 or chain.max() >= len(places):
            raise Trouble("A face of this file names a corner that is not there", "write the file anew", path)
        triangles, _ = fanned(chain, sizes)
        used, where = np.unique(triangles, return_inverse=True)
        told = colours[int(used[0])]
        colour = hexed(255 * np.clip(np.nan_to_num(told), 0, 1) + 0.5) if told else COLOUR
        parts.append(Surface(places[used], where.reshape(-1, 3), name or path.stem, colour))
    if not parts:
        raise Trouble("This file holds no triangles", "choose a file of a surface", path)
    return Surfaces(tuple(parts), path.stem, unit=unit)
