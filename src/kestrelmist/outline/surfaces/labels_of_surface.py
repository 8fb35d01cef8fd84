"""Labels made of closed surfaces: voxels whose middles lie inside."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated, Literal

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import PALETTE, Label, LabelMap, LabelTable
from ...core.left_out import LeftOut
from ...core.operation import operation
from ...core.overlap import apart
from ...core.parameter import FilePath, Role
from ...core.progress import Progress, silent
from ...core.surface.inside import voxels_within
from ...core.surface.surface import Surfaces
from ...formats.format import format_of, words_for
from .surface import GROUP

FileUnit = Annotated[Literal["um", "mm", "cm", "m", "inch"] | None, LeftOut("as the file tells it, else mm")]
Axes = Literal["right front up", "left back up"]
IN_MM = {"um": 1e-3, "mm": 1.0, "cm": 10.0, "m": 1e3, "inch": 25.4}


@operation(
    "outline",
    "Surface into the scene",
    name="lay-surface",
    keywords="open import mesh stl obj ply gltf glb vtp load model surface",
    called={"unit": "Its unit", "axes": "Its axes run", "onto": "With"},
    group=GROUP,
    methods="Surfaces were laid into the world of an image",
)
def lay_surface(
    file: FilePath,
    onto: Annotated[Image, Role("grid")],
    *,
    unit: FileUnit = None,
    axes: Axes = "right front up",
) -> Surfaces:
    """Lay a surface from a file into the world of an image, where the Solid view shows it.

    Parameters
    ----------
    file : path
        STL, OBJ, PLY, binary glTF (.glb) or VTP.
    onto : image
        In whose world it lies.
    unit : text
        Of the file's positions; what the file tells of it goes first, and mm when it tells nothing.
    axes : text
        Where its +x, +y and +z point to.

    Raises
    ------
    Trouble
        When it is no such file, or damaged; it lies nowhere near the image, or tells another unit.
    """
    known = format_of(Path(file), "surfaces")
    if known is None:
        raise Trouble("This kind of file holds no surface", f"{words_for('surfaces')} can be read", file)
    return placed(known.open(Path(file)), onto, unit, axes)


@operation(
    "outline",
    "Labels of a surface",
    name="labels-of-surface",
    keywords="voxelise voxelize fill mesh rasterize stl obj ply to mask import surface model",
    called={"unit": "Its unit", "axes": "Its axes run", "onto": "Onto"},
    group=GROUP,
    methods="Closed surfaces were filled: voxels whose middles lie inside",
)
def labels_of_surface(
    surface: Surfaces,
    onto: Annotated[Image, Role("grid")],
    *,
    unit: FileUnit = None,
    axes: Axes = "right front up",
    progress: Progress = silent(),
) -> LabelMap:
    """Make a label of each part of a closed surface, on the grid of an image. Where parts overlap the last one counts.

    Parameters
    ----------
    onto : image
        On whose grid.
    unit : text
        Of the file's positions; what the file tells of it goes first, and mm when it tells nothing.
    axes : text
        Where its +x, +y and +z point to.

    Raises
    ------
    Trouble
        When a part does not close, or lies nowhere near the image, or holds the middle of no voxel.
    """
    there = placed(surface, onto, unit, axes)
    numbers = np.zeros(onto.space.shape[::-1], np.uint16)
    rows: list[Label] = []
    for n, one in enumerate(progress.over(there.parts, what="Filling surfaces"), 1):
        if one.open_edges:
            gaps = f"{one.open_edges} open edge{'' if one.open_edges == 1 else 's'}"
            raise Trouble(
                f"“{one.name}” does not close: it has {gaps}", "close it where it was made, or choose another"
            )
        inside, box = voxels_within(one, onto.space)
        numbers[box][inside] = n
        rows.append(Label(n, _free(one.name, rows), one.colour or PALETTE[(n - 1) % len(PALETTE)]))
    if not numbers.any():
        raise Trouble(f"“{surface.name}” encloses the middle of no voxel", "choose an image with smaller voxels")
    return LabelMap(onto.space, numbers.T, LabelTable(rows), surface.name, onto.subject)


def placed(surface: Surfaces, onto: Image, unit: str | None, axes: str) -> Surfaces:
    """A surface in the unit and axes of an image's world, where it lies near that.

    Raises
    ------
    Trouble
        When it lies elsewhere, or the file tells another unit than the one that is given.
    """
    here, there = surface.world, onto.space.world
    if here.id and there.id and not here.is_one_with(there):
        raise apart(surface.name, here, onto.name, there)
    if unit and surface.unit and unit != surface.unit:
        raise Trouble(
            f"“{surface.name}” says that it is in {surface.unit}", f"leave the unit out, or write it in {unit}"
        )
    of = unit or surface.unit or "mm"
    if (of == "px") != (onto.space.unit == "px"):
        what = f"“{surface.name}” is in {of}, and “{onto.name}” in {onto.space.unit}"
        raise Trouble(what, "calibrate the image, or choose another one")
    turn = np.diag([-1.0, -1.0, 1.0, 1.0]) if axes == "left back up" else np.eye(4)
    turn[:3, :3] *= IN_MM.get(of, 1.0)
    found = surface if np.array_equal(turn, np.eye(4)) else surface.carried(turn)
    (low, high), corners = found.ends, onto.space.corners()
    if np.any(high < corners.min(0)) or np.any(low > corners.max(0)):
        middle = ", ".join(f"{v:.4g}" for v in (low + high) / 2)
        raise Trouble(
            f"“{surface.name}” lies round {middle} {onto.space.unit}, outside “{onto.name}”",
            "say in which unit it is, or how its axes run",
        )
    return replace(found, unit=onto.space.unit, world=there, subject=onto.subject or surface.subject)


def _free(name: str, rows: list[Label]) -> str:
    known = {row.name.casefold() for row in rows}
    found, n = name, 2
    while found.casefold() in known:
        found, n = f"{name} ({n})", n + 1
    return found
