"""Marks from files and to files, and brought to other images."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

import numpy as np

from ..core.errors import Trouble
from ..core.geometry.brought import brought
from ..core.geometry.marks import Marks
from ..core.geometry.on_image import require_on
from ..core.image import Image
from ..core.left_out import Found, Leads, LeftOut, OwnerOf
from ..core.mapping import Mapping
from ..core.operation import operation
from ..core.parameter import FilePath, NewPath, Only, Role
from ..core.safe_write import require_new
from ..core.table import Column, Table
from ..core.transform import Transform
from ..formats.lengths import millimetres
from ..formats.mark_files import read_marks
from ..formats.saving import save_thing

Grid = Annotated[Image, Role("grid")]
PIXELS = ("px", "pixel", "pixels", "voxel", "voxels")


def _unit_said(given: dict) -> Found | None:
    file = given.get("file")
    unit = read_marks(file).unit if file is not None else ""
    return Found(unit, "as the file says") if unit else None


@operation(
    "measure",
    "Take marks from a file",
    name="take-marks",
    keywords="import open load geojson csv landmarks points annotations contours regions of interest rois",
    called={"unit": "Unit of positions"},
    group="Marks",
)
def take_marks(
    image: Grid,
    file: FilePath,
    unit: Annotated[str | None, LeftOut("as the file says", find=_unit_said)] = None,
    *,
    name: str = "",
) -> Marks:
    """Take the marks of a file into the study, on an image.

    Positions count in the world of the image: +x right, +y front, +z up, or in the plane of a picture. In pixels they
    count from the outer corner of the first pixel, as sections on screens do: 0.5, 0.5 is the middle of that pixel.

    Parameters
    ----------
    file : path
        GeoJSON, CSV with columns x and y, or an OME-TIFF with regions.
    unit : text
        mm, µm or another length, or pixels; needed where the file does not say it.
    name : text
        What they are called; as in the file when left out.

    Raises
    ------
    Trouble
        When the file holds no marks, does not say its unit and nobody does, or is of another world.
    """
    marks = read_marks(file)
    said = (unit or marks.unit).strip()
    if not said:
        what = "This file does not say in which unit its positions are"
        raise Trouble(what, "say so (unit): mm, µm, or pixels", file)
    space = image.space
    there = marks.world
    if there.id and space.world.id and not there.is_one_with(space.world):
        what = f"“{file.name}” lies in another space ({there}) than “{image.name}” ({space.world})"
        raise Trouble(
            what, "take it onto an image of its own space, and bring the marks from there (Bring marks)", file
        )
    marks = replace(marks, name=name or marks.name, subject=image.subject, of=image.name, unit=space.unit)
    marks = replace(marks, world=space.world)
    if said in PIXELS and space.unit != "px":
        return marks.moved(Transform(_corner(space.affine), space.world, space.world))
    factor = 1.0 if said == space.unit or (said in PIXELS and space.unit == "px") else None
    if factor is None:
        length, own = millimetres(said), millimetres(space.unit)
        if length is None:
            raise Trouble(f"“{said[:40]}” is no unit of length that is known here", "give mm, µm or pixels", file)
        if own is None:
            raise Trouble(f"“{image.name}” has no scale, so {said} mean nothing on it", "give pixels, or a scale", file)
        factor = length / own
    return marks if factor == 1.0 else marks.moved(Transform(_scale(factor), space.world, space.world))


def _corner(affine):
    """From pixels that count from a corner to the world."""
    shift = np.eye(4)
    shift[:3, 3] = (-0.5, -0.5, 0.0)
    return affine @ shift


def _scale(factor: float):
    return np.diag([factor, factor, factor, 1.0])


@operation(
    "measure",
    "Save marks",
    name="save-marks",
    keywords="export geojson csv landmarks points annotations contours regions of interest rois",
    group="Marks",
)
def save_marks(marks: Marks, to: NewPath, *, replace_file: bool = False) -> Table:
    """Write marks as GeoJSON or CSV, with unit, axes and world.

    Parameters
    ----------
    to : path
        The new file: .geojson or .csv.
    replace_file : bool
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When there is a file of that name, or the place cannot be written.
    """
    require_new(to, replace_file)
    save_thing(to, marks)
    columns = [Column("marks"), Column("count"), Column("unit"), Column("file")]
    return Table(f"{marks.name} saved", columns, [(marks.name, len(marks), marks.unit, str(to))])


@operation(
    "measure",
    "Bring marks to another image",
    name="bring-marks",
    keywords="copy transfer propagate transform map landmarks contours regions of interest rois apply transform",
    called={"transform": "Through", "onto": "Onto", "by": "They go along by", "drawn_on": "Drawn on"},
    rare="by drawn_on",
    version=2,
    group="Marks",
    methods="Marks were brought along by world position",
)
def bring_marks(
    marks: Marks,
    onto: Grid | None = None,
    transform: Annotated[list[Mapping] | None, Leads("marks", "onto")] = None,
    *,
    name: str = "",
    by: Literal["world", "voxel"] = "world",
    drawn_on: Annotated[Image | None, Role("grid"), OwnerOf("marks"), Only("by", "voxel")] = None,
) -> Marks:
    """Bring marks to another image, to the same places of the body: through transforms where the two lie in two worlds.
    Or to the same voxels, as of two pictures of one camera that say nothing of where they lie.

    Parameters
    ----------
    onto : image
        Where they go. Of files it may be left out: positions are then given as the transforms lead.
    transform : transforms
        From the world of the marks to that of the image, one after the other; the way that the study knows when left
        out. As ITK has it, a transform takes places of the fixed image to places of the moving one.
    name : text
        What they are called there.
    by : choice
        By places of the world, or voxel by voxel: both images need the same number of voxels then.
    drawn_on : image
        The image that the marks are of.

    Raises
    ------
    Trouble
        When nothing says where they go, no way is known between the two worlds, the transforms do not meet or start
        elsewhere, a mark lies where one says nothing, or the images have not the same number of voxels.
    """
    if by == "world":
        return brought(marks, onto, transform, name)
    if onto is None or drawn_on is None:
        what = f"Nothing says from which voxels to which “{marks.name}” is to be brought"
        raise Trouble(what, "name the image that the marks are of, and the one they go to")
    if onto.space.shape != drawn_on.space.shape:
        sizes = [" × ".join(map(str, one.space.shape)) for one in (onto, drawn_on)]
        what = f"“{onto.name}” has {sizes[0]} voxels, and “{drawn_on.name}” {sizes[1]}"
        raise Trouble(what, "bring the marks by the world, or through a transform")
    require_on(marks, drawn_on)
    matrix = onto.space.affine @ np.linalg.inv(drawn_on.space.affine)
    same = Transform(matrix, marks.world, onto.space.world, "same voxels")
    return brought(replace(marks, unit=onto.space.unit), onto, [same], name)
