"""The mean of a group of images, built by turns: all are aligned with the mean so far, and a new mean is made."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, NamedTuple

import numpy as np

from ..core.errors import Trouble
from ..core.flows import exponential
from ..core.image import Image
from ..core.left_out import LeftOut
from ..core.mapping import Mapping
from ..core.operation import operation
from ..core.parameter import Between, Unit
from ..core.progress import Progress, silent
from ..core.space import Space
from ..core.table import Column, Table
from ..core.through import resampled_through
from ..core.transform import Transform
from ..core.warp import Warp
from ..core.world import World
from .affine_fit import fitted
from .align_report import score_through
from .choices import UNLIKE, alike
from .freedom import freedom
from .levels import Sides, levels_of
from .sides import require_comparable, side_of
from .similar import Similarity, similarity_named
from .warp_fit import bent

FEWEST = 2
AFFINE = 2
"""Turns by affine transforms, the first of them by shift and turn alone; those after it warp."""
MAPPED = "mean of a group"


class Template(NamedTuple):
    """The mean, where each image of the group lies to it, and how alike they are."""

    template: Image
    transforms: list[Mapping]
    report: Table


@dataclass
class _Member:
    """An image of the group, and the way from the mean to it."""

    image: Image
    side: Sides
    affine: np.ndarray
    warp: Warp | None = None
    likeness: float = float("nan")

    @property
    def way(self) -> Mapping:
        return self.warp if self.warp is not None else Transform(self.affine)


@operation(
    "align",
    "Mean of a group",
    name="build-template",
    keywords=(
        "template average atlas group population unbiased groupwise registration study template mean brain standard"
    ),
    called={"image": "First", "others": "Others", "warps": "Warp turns"},
    group="Several images",
    methods="A mean of the group was built by turns of alignment and averaging, unbiased towards any member",
    cites=("Avants 2010", "Arsigny 2006", "Vercauteren 2008"),
)
def build_template(
    image: Image,
    others: list[Image],
    *,
    warps: Annotated[int, Between(0, 12)] = 2,
    warp_spacing: Annotated[float | None, Unit("mm"), Between(1e-9, 1e6), LeftOut("four voxels")] = None,
    name: str = "",
    progress: Progress = silent(),
) -> Template:
    """The mean shape and the mean brightness of a group of images of different subjects.

    By turns, all are aligned with the mean so far (first by shift and turn, then by affine transforms, then by warps),
    and a new one is made of them; what all of them share of stretching and bending is taken out of it, so that its
    shape is the mean one and not that of the first (B. B. Avants et al., NeuroImage 49, 2010).

    Parameters
    ----------
    image : image
        Its grid is that of the mean.
    others : images
        Of the same contrast, each of another subject.
    warps : number
        Turns that bend; 0 for affine transforms alone.
    warp_spacing : mm
        See “Align two images”; four voxels when left out.
    name : text
        Of the mean.

    Returns
    -------
    template : Image
        float32, in a space of its own; each image counts alike, by its own brightness over its mean one.
    transforms : list of Mapping
        From the mean to each image.
    report : Table
        For each image how alike it is to the mean, how far it is bent, and by how much it is larger.

    Raises
    ------
    Trouble
        When there are fewer than two, one of them is a picture and another none, or one cannot be aligned.
    """
    everyone = [image, *others]
    if len(everyone) < FEWEST:
        raise Trouble("A mean is made of two images at least", "name the others too")
    flat = require_comparable(image, image)
    for one in others:
        require_comparable(one, image)
    members = [_Member(one, side_of(one, None, progress.part(0.0, 0.01)), np.eye(4)) for one in everyone]
    same = all(alike(image, one) for one in others)
    similarity = similarity_named("correlation" if same else UNLIKE)
    space = image.space
    mean = members[0].side.values
    turns = AFFINE + int(warps)
    for turn in range(turns):
        part = progress.part(0.02 + 0.98 * turn / turns, 0.02 + 0.98 * (turn + 1) / turns)
        side = Sides(mean, space, None, "the mean")
        for n, member in enumerate(members):
            own = part.part(n / len(members), (n + 0.9) / len(members)).unseen()
            own.at(0.0, f"Turn {turn + 1} of {turns}: {member.image.name} of {member.image.subject or 'nobody'}")
            if turn < AFFINE:
                if turn or n:
                    _align_affine(member, side, similarity, turn, flat, own)
            else:
                _align_affine(member, side, similarity, turn, flat, own.part(0, 0.2))
                given = side, member.side, member.affine, similarity, warp_spacing, 1.0
                member.warp = bent(*given, own.part(0.2, 1)).warp
        _without_what_all_share(members, turn, flat)
        mean = _mean(members, space)
    for member in members:
        level = levels_of(Sides(mean, space, None, "the mean"), member.side, shrinks=(2, 1))[-1]
        member.likeness = score_through(level, similarity_named("correlation"), member.way)
    called = name or f"Mean of {len(everyone)}"
    world = World(f"mean:{called}", called)
    made = Image(mean.T, space.in_world(world), called, modality=image.modality)
    ways = [
        m.way.between(world, m.image.space.world).named(f"{called} to {m.image.name}", m.image.subject) for m in members
    ]
    return Template(made, ways, _report(called, members, space))


def _align_affine(
    member: _Member, side: Sides, similarity: Similarity, turn: int, flat: bool, progress: Progress
) -> None:
    """Shift and turn first, from the middles; all of an affine transform the next time."""
    levels = levels_of(side, member.side, similarity.whole)
    start = member.affine
    if turn == 0:
        here, there = levels[0].middles()
        start = np.eye(4)
        start[:3, 3] = there - here
    of = freedom((3 if flat else 6) if turn == 0 else (6 if flat else 12), flat)
    member.affine = fitted(levels, similarity, of, start, progress)


def _without_what_all_share(members: list[_Member], turn: int, flat: bool) -> None:
    """Take the mean of all ways out of each, so that the mean of the group is in its middle."""
    from scipy.linalg import expm, logm

    if turn == 0:  # shifts and turns of heads in scanners mean nothing
        return
    logs = np.mean([np.real(logm(member.affine)) for member in members], axis=0)
    back = expm(-logs)
    if members[0].warp is None:
        for member in members:
            member.affine = member.affine @ back
        return
    warps = [member.warp for member in members if member.warp is not None]
    shared = np.mean([warp.velocity for warp in warps], axis=0)
    for member, warp in zip(members, warps):
        # the way of each begins where the mean bend leads back to
        member.warp = Warp(warp.velocity - shared.astype(np.float32), warp.space, np.eye(4), member.affine)


def _mean(members: list[_Member], space: Space) -> np.ndarray:
    """The mean of all, each seen through its way and over its own mean brightness, [k, j, i]; of the brightness of the
    first."""
    total, counts = np.zeros(space.shape[::-1], np.float32), np.zeros(space.shape[::-1], np.float32)
    bright = [float(np.nanmean(np.abs(member.side.values))) or 1.0 for member in members]
    for member, scale in zip(members, bright):
        seen = resampled_through(member.side.values, member.side.space, space, member.way.prepared(), "linear", np.nan)
        there = np.isfinite(seen)
        total[there] += seen[there] / np.float32(scale)
        counts += there
    return np.where(counts > 0, total / np.maximum(counts, 1), 0).astype(np.float32) * np.float32(bright[0])


def _report(name: str, members: list[_Member], space: Space) -> Table:
    columns = [
        Column("image"),
        Column("subject"),
        Column("correlation with the mean", digits=4),
        Column("larger by", "%", 2),
        Column("bent, mean", space.unit, 4),
        Column("bent, most", space.unit, 4),
    ]
    rows = []
    for member in members:
        far = np.zeros(1)
        if member.warp is not None:
            shift = exponential(member.warp.velocity) @ member.warp.space.affine[:3, :3].T.astype(np.float32)
            far = np.linalg.norm(shift, axis=-1)
        larger = 100 * (float(np.linalg.det(member.affine[:3, :3])) - 1)
        rows.append(
            (
                member.image.name,
                member.image.subject,
                member.likeness,
                larger,
                float(far.mean()),
                float(far.max()),
            )
        )
    return Table(f"{name}, its group", columns, rows)
