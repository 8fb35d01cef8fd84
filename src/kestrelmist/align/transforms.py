"""Transforms: opened from files, joined, turned round, and used to place images."""

from __future__ import annotations

from dataclasses import replace

from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import operation
from ..core.parameter import FilePath, NewPath
from ..core.placement import Placement
from ..core.table import Column, Table
from ..core.transform import Transform
from ..core.world import World
from ..formats.format import format_of, words_for
from ..formats.grid_facts import placed
from ..formats.saving import save_thing


@operation(
    "align",
    "Open a transform",
    name="open-transform",
    keywords="affine matrix itk import registration registration matrix load transform",
    called={"source": "From world", "target": "To world"},
)
def open_transform(file: FilePath, subject: str = "", *, source: str = "", target: str = "") -> Transform:
    """Take an affine transform into the study, from ITK text or four rows of four numbers.

    Parameters
    ----------
    file : path
        ITK transform text, or four rows of four numbers.
    subject : text
        Whose it is.
    source : text
        Name of the world it leads from.
    target : text
        Name of the world it leads to.

    Raises
    ------
    Trouble
        When the file is not there, is damaged, or holds no affine transform of three dimensions.
    """
    if not file.is_file():
        raise Trouble("This file does not exist", "check the name", file)
    known = format_of(file, "transform")
    if known is None:
        raise Trouble("This kind of file holds no transform", f"{words_for('transform')} can be read", file)
    found = known.open(file)
    worlds = {"source": World(source, source or "scanner"), "target": World(target, target or "scanner")}
    return replace(found, subject=subject, **worlds)


@operation("align", "Save a transform", name="save-transform", keywords="affine matrix itk export")
def save_transform(transform: Transform, to: NewPath, *, replace_file: bool = False) -> Table:
    """Write a transform as ITK text (.tfm) or as four rows of four numbers (.txt).

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
    if to.exists() and not replace_file:
        raise Trouble("There is a file of this name already", "name another, or say that it may be replaced", to)
    save_thing(to, transform)
    return Table(f"{transform.name} saved", [Column("transform"), Column("file")], [(transform.name, str(to))])


@operation(
    "align",
    "Join transforms",
    name="join-transforms",
    keywords="concatenate compose chain affine concatenate transforms multiply matrices",
    called={"then": "And then"},
)
def join_transforms(transform: Transform, then: Transform) -> Transform:
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
    joined = transform.then(then)
    return replace(joined, name=f"{transform.name}, then {then.name}")


@operation(
    "align", "Turn a transform round", name="invert-transform", keywords="inverse reverse affine back inverse transform"
)
def invert_transform(transform: Transform) -> Transform:
    """The way back: from where a transform leads to where it starts."""
    return replace(transform.inverse(), name=f"{transform.name}, turned round")


@operation(
    "align",
    "Place by a transform",
    name="place-by",
    keywords="apply affine move apply transform move image",
    takes="series colour",
)
def place_by(image: Image, transform: Transform) -> Placement:
    """Move an image by an affine transform, without resampling: its voxels come to lie elsewhere, no value changes.

    Raises
    ------
    Trouble
        When both worlds are known and the transform starts from another one than the image lies in.
    """
    world = image.space.world
    if world.id and transform.source.id and not world.is_one_with(transform.source):
        raise Trouble(
            f"“{image.name}” lies in {world}, and “{transform.name}” starts from {transform.source}",
            "choose a transform that starts where the image lies",
        )
    target = transform.target if transform.target.id else world
    space = replace(image.space.moved(transform.matrix), world=target)
    facts = placed(image, space)
    return Placement(space, facts=None if facts == image.facts else facts)
