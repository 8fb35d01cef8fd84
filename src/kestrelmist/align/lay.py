"""Lay one image on another by hand: middles, axes, shift, turn and scale as somebody wants them."""

from __future__ import annotations

from itertools import permutations, product
from typing import Annotated, Any, Literal

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.left_out import Found, Leads, LeftOut
from ..core.mapping import Mapping
from ..core.operation import operation
from ..core.parameter import Between, Role, Unit
from ..core.placement import Placement
from ..core.rigid import step_matrix
from ..core.space import Space
from ..core.transform import Transform
from ..formats.grid_facts import placed

Grid = Annotated[Image, Role("grid")]


def middle_of(given: dict[str, Any]) -> Found | None:
    """The middle of what it is laid on, or its own."""
    onto = given.get("onto") or given.get("image")
    return None if onto is None else Found(tuple(float(v) for v in onto.space.centre), "the middle")


@operation(
    "align",
    "Lay by hand",
    name="lay-by-hand",
    keywords=(
        "manual registration move shift drag nudge rotate translate scale position align by hand numbers middle centre "
        "center of mass axes reorient"
    ),
    takes="series colour",
    called={
        "image": "Moves",
        "onto": "Onto",
        "first": "First",
        "about": "Turn and scale about",
        "shift": "Shift",
        "turn": "Turn",
        "way": "Through",
    },
    rare="about way",
    group="Two images",
    methods="Images were laid on one another by hand, without resampling",
)
def lay_by_hand(
    image: Image,
    onto: Grid | None = None,
    *,
    first: Literal["stays", "middle", "axes"] = "stays",
    shift: Annotated[tuple[float, float, float], Unit("mm")] = (0.0, 0.0, 0.0),
    turn: Annotated[tuple[float, float, float], Unit("degrees")] = (0.0, 0.0, 0.0),
    scale: Annotated[float, Between(1e-6, 1e6)] = 1.0,
    about: Annotated[
        tuple[float, float, float] | None, Unit("mm"), Role("place"), LeftOut("the middle", middle_of)
    ] = None,
    way: Annotated[Mapping | None, Leads("image", "onto")] = None,
) -> Placement:
    """Move an image in the world, where it lies over another one: its voxels come to lie elsewhere, no value changes.

    Scale and turn come first, about a place that stays, then the shift. Label maps and marks of the image move along.

    Parameters
    ----------
    onto : image
        What it is laid on, which stays; only the place of its grid counts. The image comes to lie in its space.
    first : text
        Before all else: "stays" where it lies, its "middle" on that of the other one, or its "axes" along the nearest
        ones of the other one's grid as well.
    shift : three mm
        To the right, the front and up.
    turn : three degrees
        An axis, as long as the angle is wide: (0, 0, 5) turns by 5 degrees about the axis that runs up.
    scale : number
        How many times larger it is to be.
    about : three mm
        Place that turn and scale leave where it is.
    way : transform
        From the image's space to the other's, where these are two; the way that the study knows when left out.

    Raises
    ------
    Trouble
        When both lie in two spaces with no way between them and it is to stay there, the way bends space, or their
        scales have nothing in common.
    """
    space, onto_space = image.space, image.space if onto is None else onto.space
    if not np.isfinite([*shift, *turn, scale]).all():
        raise Trouble("Shift, turn and scale are to be numbers", "type others")
    if onto is not None and onto_space.unit != space.unit:
        raise Trouble(f"“{image.name}” is in {space.unit}, “{onto.name}” in {onto_space.unit}", "give both a scale")
    here, there = space.world, onto_space.world
    if onto is not None and here.id and there.id and not here.is_one_with(there):
        if way is not None and not isinstance(way, Transform):
            raise Trouble(
                f"“{way.name}” is a {way.words}, and voxels are moved by affine ones only",
                "bring the image through it first (“Bring through transforms”)",
            )
        if way is None and first == "stays":
            raise Trouble(
                f"“{image.name}” lies in {here}, “{onto.name}” in {there}, and no "
                "transform leads from one to the other",
                "lay its middle or its axes on the other one's first",
            )
        if way is not None:
            space = space.moved(way.matrix)
        space = space.in_world(there)
    if first == "axes":
        space = space.moved(_along_axes(space, onto_space))
    if first != "stays":
        space = space.moved(_shifted(onto_space.centre - space.centre))
    middle = about if about is not None else onto_space.centre if onto is not None else space.centre
    space = space.moved(hand_matrix(shift, turn, scale, middle))
    facts = placed(image, space)
    return Placement(space, facts=None if facts == image.facts else facts)


def hand_matrix(shift, turn, scale: float, about) -> np.ndarray:
    """The matrix (4, 4) of scale, then turn (degrees), about a place that stays (mm), then shift (mm)."""
    middle = np.asarray(about, float)
    matrix = step_matrix((*np.zeros(3), *np.radians(turn)), middle)
    matrix[:3, :3] *= scale
    matrix[:3, 3] = middle - matrix[:3, :3] @ middle + np.asarray(shift, float)
    return matrix


def _shifted(by: np.ndarray) -> np.ndarray:
    matrix = np.eye(4)
    matrix[:3, 3] = by
    return matrix


def _along_axes(space: Space, onto: Space) -> np.ndarray:
    """The smallest turn about the middle after which each axis of a grid runs along one of another grid."""
    here, there = (_directions(s) for s in (space, onto))
    best, most = np.eye(3), -np.inf
    for order, signs in product(permutations(range(3)), product((1.0, -1.0), repeat=3)):
        turn = there[:, order] * signs @ here.T
        if np.linalg.det(turn) > 0 and np.trace(turn) > most:
            best, most = turn, float(np.trace(turn))
    matrix = np.eye(4)
    matrix[:3, :3] = best
    matrix[:3, 3] = space.centre - best @ space.centre
    return matrix


def _directions(space: Space) -> np.ndarray:
    """The axes of a grid as columns of length 1 at right angles; the nearest such ones where they are not."""
    one, _, other = np.linalg.svd(space.affine[:3, :3] / np.linalg.norm(space.affine[:3, :3], axis=0))
    return np.asarray(one @ other)
