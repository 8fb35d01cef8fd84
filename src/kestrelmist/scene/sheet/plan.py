"""Which slices a contact sheet shows, and how they lie: plain frozen data, and the places that come of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.label_boxes import boxes_of
from ...core.labels import LabelMap
from ...core.quantity import pretty_unit
from ..layer_type import Drawn
from ..showing import display_range
from ..view import AXIAL, CORONAL, SAGITTAL, Plane

PLANES = {"axial": AXIAL, "coronal": CORONAL, "sagittal": SAGITTAL}
MOST = 600
"""Slices of a sheet."""
AIR = 0.15
"""Share of the display range below which is taken for the ground round a subject."""
ROOM = 0.04
"""Of the subject's size that stays round it."""


@dataclass(frozen=True)
class SheetPlan:
    """What a person wants of a sheet.

    Parameters
    ----------
    planes : tuple of str
        "axial", "coronal", "sagittal": each begins on a row of its own.
    count : int
        Slices of each plane, at even steps.
    every : mm
        Steps between slices, in place of their number; 0 for none.
    places : tuple of mm
        Where slices lie, in place of both.
    start, end : mm, optional
        Between which they lie; over all of the image when left out.
    label : int
        Over whose extent they lie, in place of that; 0 for none.
    columns : int
        Slices of a row; as many as make the page about as wide as tall when 0.
    gap : number
        Between slices, as a share of their width; below zero they overlap.
    light : bool
        A pale ground in place of a dark one.
    trim : bool
        Slices are cut to the subject.
    letters, written, bars, locator : bool
        Letters of sides, positions and scale bar, colour bars, and a slice that shows where they cut.
    left_on_left : bool
    """

    planes: tuple[str, ...] = ("axial",)
    count: int = 12
    every: float = 0.0
    places: tuple[float, ...] = ()
    start: float | None = None
    end: float | None = None
    label: int = 0
    columns: int = 0
    gap: float = 0.02
    light: bool = False
    trim: bool = True
    letters: bool = True
    written: bool = True
    bars: bool = True
    locator: bool = True
    left_on_left: bool = True


@dataclass(frozen=True)
class Box:
    """A part of the world, mm: lowest and highest x, y, z."""

    low: tuple[float, float, float]
    high: tuple[float, float, float]

    def along(self, axis: int) -> float:
        return self.high[axis] - self.low[axis]

    def with_other(self, other: Box) -> Box:
        """The box round two."""
        low = tuple(map(min, self.low, other.low))
        return Box(low, tuple(map(max, self.high, other.high)))  # type: ignore[arg-type]


def subject_box(image: Image, trim: bool) -> Box:
    """Where the subject of an image lies: what is brighter than the ground round it, or all of the grid."""
    corners = image.space.corners()
    whole = Box(tuple(map(float, corners.min(0))), tuple(map(float, corners.max(0))))  # type: ignore[arg-type]
    if not trim or image.colour or min(image.space.shape) < 2:
        return whole
    low, high = display_range(image)
    step = max(1, round((image.kji.size / 2_000_000) ** (1 / 3)))
    values = image.kji[::step, ::step, ::step]
    at = np.argwhere(np.nan_to_num(values) > low + AIR * (high - low))
    if not len(at):
        return whole
    # a speck of noise is no subject: what lies outside on every axis by a thousandth is left out
    ends = np.percentile(at[:, ::-1] * step, (0.4, 99.6), axis=0)
    places = image.space.to_world(
        np.array([[ends[a, 0], ends[b, 1], ends[c, 2]] for a in (0, 1) for b in (0, 1) for c in (0, 1)])
    )
    room = ROOM * float(np.ptp(places, axis=0).max())
    lower = np.maximum(places.min(0) - room, corners.min(0))
    upper = np.minimum(places.max(0) + room, corners.max(0))
    return Box(tuple(map(float, lower)), tuple(map(float, upper)))  # type: ignore[arg-type]


def places_of(plan: SheetPlan, plane: Plane, image: Image, labels: LabelMap | None, box: Box) -> list[float]:
    """Where the slices of a plane lie along the axis across it, mm.

    Raises
    ------
    Trouble
        When there are none or too many, they lie outside the image, or the label has no voxels.
    """
    axis, unit = plane.across, pretty_unit(image.space.unit)
    corners = image.space.corners()[:, axis]
    lowest, highest = float(corners.min()), float(corners.max())
    if plan.places:
        outside = [at for at in plan.places if not lowest <= at <= highest]
        if outside:
            where = f"{lowest:.4g} to {highest:.4g} {unit}"
            raise Trouble(f"The plane at {outside[0]:g} lies outside “{image.name}”", f"choose places from {where}")
        return list(plan.places)
    if image.space.flat_axis == axis:  # there is one slice, however many are asked for
        return [(lowest + highest) / 2]
    start, end = box.low[axis], box.high[axis]
    if plan.label:
        start, end = _label_ends(labels, plan.label, axis)
    start = start if plan.start is None else plan.start
    end = end if plan.end is None else plan.end
    if not end >= start:
        raise Trouble(f"From {start:g} to {end:g} {unit} there is nothing", "give the lower end first")
    start, end = max(start, lowest), min(end, highest)
    if end < start:
        raise Trouble(
            f"The slices lie outside “{image.name}”", f"choose ends from {lowest:.4g} to {highest:.4g} {unit}"
        )
    if plan.every > 0:
        count = math.floor((end - start) / plan.every + 1e-9) + 1
        rest = (end - start) - (count - 1) * plan.every
        found = [start + rest / 2 + n * plan.every for n in range(min(count, MOST + 1))]
    else:
        count = max(1, plan.count)
        step = (end - start) / count
        found = [start + (n + 0.5) * step for n in range(min(count, MOST + 1))]
    if len(found) > MOST:
        raise Trouble(f"A sheet of more than {MOST} slices cannot be read", "give fewer, or larger steps")
    return found


def _label_ends(labels: LabelMap | None, number: int, axis: int) -> tuple[float, float]:
    box = boxes_of(labels.kji).get(number) if labels is not None else None
    if labels is None or box is None:
        raise Trouble("The label over whose extent slices are to lie has no voxels", "draw it first, or name another")
    ends = [(s.start - 0.5, s.stop - 0.5) for s in box[::-1]]
    corners = [(ends[0][a], ends[1][b], ends[2][c]) for a in (0, 1) for b in (0, 1) for c in (0, 1)]
    along = labels.space.to_world(np.array(corners))[:, axis]
    return float(along.min()), float(along.max())


@dataclass(frozen=True, eq=False)
class SheetStack:
    """One picture of a subject: layers, the lowest first, which is the image, and the labels that places may follow."""

    layers: Sequence[Drawn]
    labels: LabelMap | None = None
    name: str = ""

    @property
    def image(self) -> Image:
        found = self.layers[0].thing
        assert isinstance(found, Image)
        return found
