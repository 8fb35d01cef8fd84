"""Transforms: opened from files, joined, turned round, and used to place images and to bring them elsewhere."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, NamedTuple

import numpy as np

from ..core.chain import joined
from ..core.errors import Trouble
from ..core.field_from import field_over
from ..core.image import Image
from ..core.left_out import LeftOut
from ..core.mapping import Mapping
from ..core.operation import operation
from ..core.parameter import FilePath, NewPath, Role
from ..core.placement import Placement
from ..core.progress import Progress, silent
from ..core.safe_write import require_new
from ..core.table import Column, Table
from ..core.transform import Transform
from ..core.world import World
from ..formats.format import format_of, words_for
from ..formats.grid_facts import placed
from ..formats.saving import save_thing

Grid = Annotated[Image, Role("grid")]
World_ = Annotated[str | None, LeftOut("not said", was="")]


@operation(
    "align",
    "Open a transform",
    name="open-transform",
    keywords="affine matrix itk import registration registration matrix load transform warp displacement field",
    called={"source": "From world", "target": "To world", "from_image": "Or from that of", "to_image": "Or to that of"},
    rare="source target",
    group="Transforms",
)
def open_transform(
    file: FilePath,
    subject: str = "",
    *,
    from_image: Grid | None = None,
    to_image: Grid | None = None,
    source: World_ = None,
    target: World_ = None,
) -> Mapping:
    """Take a transform into the study: an affine one, a displacement field, or a chain of several.

    Parameters
    ----------
    file : path
        ITK transform text, HDF5 or packed numbers (.mat), a displacement field as NIfTI, or four rows of four numbers.
    subject : text
        Whose it is.
    from_image, to_image : images
        Their spaces are those that it leads from and to. An ITK file leads from the fixed image to the moving one.
    source, target : text
        Names of these spaces, in place of images.

    Raises
    ------
    Trouble
        When the file is not there, is damaged, or holds no transform of three dimensions.
    """
    if not file.is_file():
        raise Trouble("This file does not exist", "check the name", file)
    known = format_of(file, "transform")
    if known is None:
        raise Trouble("This kind of file holds no transform", f"{words_for('transform')} can be read", file)
    found: Mapping = known.open(file)
    ends = _world("source", source, from_image), _world("target", target, to_image)
    whose = next((image.subject for image in (from_image, to_image) if image is not None), "")
    return found.between(*ends).named(found.name, subject or whose)


def _world(which: str, name: str | None, image: Image | None) -> World:
    if name and image is not None:
        raise Trouble(f"The {which} is given twice, as “{name}” and as that of “{image.name}”", "give one of them")
    return image.space.world if image is not None else World(name or "", name or "scanner")


@operation("align", "Save a transform", name="save-transform", keywords="affine matrix itk export", group="Transforms")
def save_transform(transform: Mapping, to: NewPath, *, replace_file: bool = False) -> Table:
    """Write a transform: as ITK text (.tfm) or HDF5 (.h5), a displacement field also as NIfTI (.nii.gz), an affine one
    also as four rows of four numbers (.txt) or packed (.mat).

    Parameters
    ----------
    to : path
        The new file.
    replace_file : bool
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When there is a file of that name, or the place cannot be written.
    """
    require_new(to, replace_file)
    save_thing(to, transform)
    return Table(f"{transform.name} saved", [Column("transform"), Column("file")], [(transform.name, str(to))])


@operation(
    "align",
    "Join transforms",
    name="join-transforms",
    keywords="concatenate compose chain affine concatenate transforms multiply matrices",
    called={"then": "And then"},
    group="Transforms",
)
def join_transforms(transform: Mapping, then: Mapping) -> Mapping:
    """One transform that does the work of two, one after the other.

    Parameters
    ----------
    then : transform
        Applied to what the first one gives.

    Raises
    ------
    Trouble
        When the first leads to another space than the second starts from.
    """
    return joined(transform, then).named(f"{transform.name}, then {then.name}")


@operation(
    "align",
    "Turn a transform round",
    name="invert-transform",
    keywords="inverse reverse affine back inverse transform",
    group="Transforms",
)
def invert_transform(transform: Mapping) -> Mapping:
    """The way back: from where a transform leads to where it starts."""
    return transform.inverse().named(f"{transform.name}, turned round", transform.subject)


@operation(
    "align",
    "Place by a transform",
    name="place-by",
    keywords="apply affine move apply transform move image",
    takes="series colour",
    called={"back": "The way back"},
    group="This image",
    methods="Images were placed by affine transforms, without resampling",
)
def place_by(image: Image, transform: Mapping, *, back: bool = False) -> Placement:
    """Move an image by an affine transform, without resampling: its voxels come to lie elsewhere, no value changes.

    Parameters
    ----------
    back : bool
        Go the way back. An alignment leads from the image that stays to the one that moves, so that this one comes to
        lie on the other by going back; where both lie in two spaces, that is seen by itself.

    Raises
    ------
    Trouble
        When both worlds are known and the transform starts from another one than the image lies in, or it bends space.
    """
    if not isinstance(transform, Transform):
        raise Trouble(
            f"“{transform.name}” is a {transform.words}, and only an affine one moves voxels without resampling",
            "bring the image through it instead (“Bring through transforms”)",
        )
    world = image.space.world
    ends_here = transform.target.is_one_with(world) and transform.source.id and not transform.source.is_one_with(world)
    if back or ends_here:
        transform = transform.inverse()
    if world.id and transform.source.id and not world.is_one_with(transform.source):
        raise Trouble(
            f"“{image.name}” lies in {world}, and “{transform.name}” starts from {transform.source}",
            "choose a transform that starts where the image lies",
        )
    target = transform.target if transform.target.id else world
    space = replace(image.space.moved(transform.matrix), world=target)
    facts = placed(image, space)
    return Placement(space, facts=None if facts == image.facts else facts)


class FieldOf(NamedTuple):
    """A displacement field, and how much of it had to be filled in."""

    transform: Mapping
    report: Table


@operation(
    "align",
    "Field of a transform",
    name="field-of-transform",
    keywords="displacement field warp deformation jacobian export vectors",
    called={"grid": "On grid of"},
    group="Transforms",
    methods="Transforms were worked out as displacement fields",
)
def field_of_transform(transform: Mapping, grid: Grid, *, progress: Progress = silent()) -> FieldOf:
    """A displacement field that does what a transform does, worked out at every voxel of a grid: to be written for
    programs that read no others, or to look at the way back of one.

    Parameters
    ----------
    grid : image
        In the space that the transform leads from.

    Returns
    -------
    transform : Mapping
        Where the transform says nothing of a voxel, such as at the edge of a field that is turned round, the shift of
        the nearest other voxel stands.
    report : Table
        How many voxels these are, and the smallest, mean and largest shift.

    Raises
    ------
    Trouble
        When the image lies in another space, or the transform says nothing of half of the grid.
    """
    world = grid.space.world
    if world.id and transform.source.id and not world.is_one_with(transform.source):
        raise Trouble(
            f"“{transform.name}” starts from {transform.source}, and “{grid.name}” lies in {world}",
            "choose an image of the space that it starts from",
        )
    found, filled = field_over(transform, grid.space, progress)
    shifts = found.shifts
    name = f"Field of {transform.name}"
    lengths = np.linalg.norm(shifts, axis=-1)
    columns = [Column("voxels"), Column("filled in"), *(Column(n, "mm", 4) for n in ("smallest", "mean", "largest"))]
    row = (lengths.size, filled, float(lengths.min()), float(lengths.mean()), float(lengths.max()))
    return FieldOf(found.named(name), Table(name, columns, [row]))


@operation(
    "align",
    "Lie together",
    name="together",
    keywords="two subjects meant same space world identity",
    takes="series colour",
    called={"others": "Lies with it"},
    group="This image",
)
def together(image: Grid, others: list[Grid]) -> list[Mapping]:
    """Say that images of other spaces lie where an image does, as they are: positions mean the same in both. Transforms
    that change nothing say so, one for each space; taken off the Shelf, they hold no more.

    Parameters
    ----------
    others : images
        Of other spaces.

    Raises
    ------
    Trouble
        When they lie in one space already.
    """
    here = image.space.world
    apart = {one.space.world.id: one for one in others if not one.space.world.is_one_with(here)}
    if not here.id or not apart:
        raise Trouble(f"{' and '.join(f'“{one.name}”' for one in others)} and “{image.name}” lie in one space already",
                      "lay one over the other")  # fmt: skip
    return [
        Transform(np.eye(4), one.space.world, here, f"{one.name} lies with {image.name}", one.subject)
        for one in apart.values()
    ]
