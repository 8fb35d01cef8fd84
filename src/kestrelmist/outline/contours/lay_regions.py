"""Regions of a template, drawn on one image, laid onto another: no alignment is needed."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.marks import Marks
from ...core.image import Image
from ...core.left_out import OwnerOf
from ...core.operation import operation
from ...core.parameter import Role
from ...core.space import Space
from ...core.transform import Transform
from .draw import GROUP

By = Literal["middle", "share", "voxels"]


@operation(
    "outline",
    "Lay regions of a template",
    name="lay-regions",
    keywords="rois standard set every subject copy place atlas grid plate wells predefined",
    called={"drawn_on": "Drawn on", "template": "Template", "onto": "Onto", "by": "Placed by"},
    rare="drawn_on name",
    group=GROUP,
    methods="Regions of a template were laid onto each image by its {by}",
)
def lay_regions(
    template: Marks,
    onto: Annotated[Image | None, Role("grid")] = None,
    by: By = "middle",
    *,
    drawn_on: Annotated[Image | None, Role("grid"), OwnerOf("template")] = None,
    name: str = "",
) -> Marks:
    """Lay a set of marks, drawn once as a template, onto another image, to be moved there to where they belong. Names,
    classes’ numbers, colours and notes go along; the template stays as it is.

    Where two images lie in one world, or are aligned, *Bring marks to another image* finds the same places instead.

    Parameters
    ----------
    template : marks
    onto : image
        Where they go.
    by : "middle", "share" or "voxels"
        With sizes as they are, from the middle of one image to that of the other; stretched, so that each lies at the
        same share of the image’s width, depth and height; or in the same voxels.
    drawn_on : image
        That the template was drawn on; a study knows it.
    name : text
        What they are called there; as the template when left out.

    Raises
    ------
    Trouble
        When the template is empty, nothing says what it was drawn on or where it goes, it lies in another world than
        its image, or sizes cannot be kept as one of the images has no scale.
    """
    if not len(template):
        raise Trouble(f"“{template.name}” has no mark", "draw the regions first")
    if onto is None:
        raise Trouble(f"Nothing says where “{template.name}” is to be laid", "name an image (onto)")
    if drawn_on is None:
        raise Trouble(f"Nothing says which image “{template.name}” was drawn on", "name it (drawn-on)")
    here, there = drawn_on.space, onto.space
    if template.world.id and here.world.id and not template.world.is_one_with(here.world):
        raise Trouble(f"“{template.name}” was not drawn on “{drawn_on.name}”", "name the image that it was drawn on")
    if by == "middle" and here.unit != there.unit:
        raise Trouble(
            f"“{drawn_on.name}” is in {here.unit}, “{onto.name}” in {there.unit}", "give both a scale, or lay by share"
        )
    way = Transform(_matrix(here, there, by), template.world, there.world, name=f"by {by}")
    laid = template.moved(way)
    return replace(
        laid,
        name=name or template.name,
        subject=onto.subject,
        of=onto.name,
        unit=there.unit,
        world=there.world,
        classes=None,
    )


def _matrix(here: Space, there: Space, by: By) -> np.ndarray:
    """From the world of one grid to that of another."""
    if by == "middle":
        matrix = np.eye(4)
        matrix[:3, 3] = np.asarray(there.centre) - np.asarray(here.centre)
        return matrix
    between = np.eye(4)
    if by == "share":
        factor = np.array(there.shape) / np.array(here.shape)
        between[:3, :3] = np.diag(factor)
        between[:3, 3] = 0.5 * factor - 0.5
    return there.affine @ between @ np.linalg.inv(here.affine)
