"""Take a part of an image, or put a margin around it; every voxel keeps its place in the world."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.memory import require_room
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Between, Fill, LabelName, Role, Unit
from ...core.progress import Progress
from ...core.space import Space
from ...core.values import KERNEL_TYPES, Stored, packed_grey, type_holding
from ...formats.grid_facts import cut_out, placed

Six = tuple[float, float, float, float, float, float]
Margin = Annotated[float, Unit("mm"), Between(-1e6, 1e6)]


@operation(
    "prepare",
    "Crop",
    name="crop",
    keywords="box cut part pad margin field of view trim trim resize canvas bounding box fov",
    takes="series colour",
    group="Grid",
    called={
        "box": "Between corners",
        "voxels": "Voxels",
        "label": "Round label",
        "air": "Without air",
        "fill": "Beyond image",
    },
    rare="fill",
    methods="Images were cropped",
)
def crop(
    image: Image,
    labels: LabelMap,
    box: Annotated[Six, Unit("mm")] | None = None,
    voxels: Annotated[Six, Role("box")] | None = None,
    label: LabelName = "",
    *,
    air: bool = False,
    margin: Margin = 0.0,
    fill: Fill = 0.0,
) -> Image:
    """Keep a box of an image: between two places in the world, between two voxels, around a label, or around what is
    not air. Voxels stay where they are in the world; what a box has beyond the image is filled.

    Parameters
    ----------
    box : six mm
        Two opposite corners in the world, x, y, z of one and then of the other; all voxels that the box touches are
        kept.
    voxels : six numbers
        The first and the last voxel that are kept: i, j, k of one and then of the other, counted from 0. They may lie
        outside the image.
    label : label
        Keep what holds all of it.
    air : bool
        Keep what is brighter than the ground, by the threshold of N. Otsu (IEEE Trans. SMC 9, 1979).
    margin : mm
        Put around the box on every side; less than 0 makes it smaller.
    fill : value
        What stands in voxels beyond the image; of colours a grey from 0 to 255. The number type becomes one that holds
        it; "nan" leaves them without a value.

    Raises
    ------
    Trouble
        When none or several of the ways are named, nothing is left, the label is empty, or an image without a scale is
        given a size in mm.
    """
    named = sum((box is not None, voxels is not None, bool(label), air))
    if named > 1 or (named == 0 and margin == 0):
        raise Trouble(
            "Nothing says which part is wanted", "give a box, two voxels, a label, or ask for what is not air"
        )
    if image.space.unit == "px" and (box is not None or margin):
        raise Trouble(
            f"“{image.name}” has no scale, so a size in mm means nothing", "give two voxels, or set its scale"
        )
    if box is not None:
        low, high = _of_box(image.space, box)
    elif voxels is not None:
        ends = np.array(voxels, float).reshape(2, 3)
        if not np.array_equal(ends, np.round(ends)):
            raise Trouble("Voxels are counted in whole numbers", "give six whole numbers")
        low, high = ends.min(0).astype(int), ends.max(0).astype(int)
    elif label:
        low, high = _of_label(image, labels, label)
    elif air:
        low, high = _of_bright(image)
    else:
        low, high = np.zeros(3, int), np.array(image.space.shape) - 1
    added = np.round(margin / np.array(image.space.spacing)).astype(int)
    added = np.where(np.array(image.space.shape) == 1, 0, added)  # a picture of one slice stays one
    low, high = low - added, high + added
    if np.any(high < low) or np.any(low >= image.space.shape) or np.any(high < 0):
        raise Trouble(f"Nothing of “{image.name}” would be left", "choose a box that holds part of it")
    return cropped(image, low, high, fill)


def cropped(image: Image, low: np.ndarray, high: np.ndarray, fill: float = 0.0) -> Image:
    """The voxels from `low` to `high` (i, j, k, included), which may lie outside the image. Read when looked at."""
    for kind in KERNEL_TYPES:  # what cannot be held is said before anything is read
        type_holding(kind, fill)
    ground = packed_grey(fill) if image.colour else None
    shape = tuple(int(n) for n in high - low + 1)
    affine = image.space.affine.copy()
    affine[:3, 3] = image.space.to_world(low)
    require_room(4 * int(np.prod(shape, dtype=object)), "The new image")
    space = replace(image.space, shape=shape, affine=affine)  # type: ignore[arg-type]
    inner = [slice(max(int(a), 0), min(int(b) + 1, n)) for a, b, n in zip(low, high, image.space.shape)]
    place = tuple(slice(s.start - int(a), s.stop - int(a)) for s, a in zip(inner, low))
    whole = all(s.start == a and s.stop == b + 1 for s, a, b in zip(inner, low, high))

    def fetch(index: tuple[int, ...], progress: Progress):
        got = image.stored(index, progress)
        part = got.values[tuple(inner)]
        if whole:
            return part if image.colour else Stored(part, got.slope, got.intercept)
        if ground is not None:
            out = np.full(shape, ground, np.uint32, order="F")
        else:
            part = Stored(part, got.slope, got.intercept).exact()
            out = np.full(shape, fill, type_holding(part.dtype, fill), order="F")
        out[place] = part
        return out

    facts = cut_out(image, [int(n) for n in low], shape)
    return image.like(fetch, space=space, name=f"{image.name}, cropped", facts=facts)


def _of_box(space: Space, box: Six) -> tuple[np.ndarray, np.ndarray]:
    ends = np.array(box).reshape(2, 3)
    picks = np.array(np.meshgrid([0, 1], [0, 1], [0, 1], indexing="ij")).reshape(3, -1).T
    corners = space.to_voxel(np.stack([ends[picks[:, n], n] for n in range(3)], 1))
    return np.floor(corners.min(0) + 0.5 + 1e-6).astype(int), np.ceil(corners.max(0) - 0.5 - 1e-6).astype(int)


def _of_label(image: Image, labels: LabelMap, name: str) -> tuple[np.ndarray, np.ndarray]:
    row = labels.table.named(name)
    require_same_grid(image, labels)
    inside = labels.data == row.number
    if not inside.any():
        raise Trouble(f"“{row.name}” has no voxel", "paint it first, or choose another label")
    return bounds_of(inside)


def _of_bright(image: Image) -> tuple[np.ndarray, np.ndarray]:
    from skimage.filters import threshold_otsu

    first = image.frame((0,) * len(image.axes)).grey()
    sample = first.sample()
    if not sample.size or sample.min() == sample.max():
        raise Trouble(f"“{image.name}” has one value everywhere, so nothing stands out from air", "give a box")
    from scipy import ndimage

    bright = ndimage.binary_opening(first.data > threshold_otsu(sample))  # single bright voxels are noise
    if not bright.any():
        bright = first.data > threshold_otsu(sample)
    return bounds_of(bright)


def bounds_of(inside: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """First and last index of what is true along each axis of an array that holds something."""
    ends = [np.flatnonzero(inside.any(axis=tuple(n for n in range(inside.ndim) if n != axis))) for axis in range(3)]
    return np.array([e[0] for e in ends]), np.array([e[-1] for e in ends])


@operation(
    "prepare",
    "Turn or flip",
    name="turn",
    keywords="rotate mirror quarter flip axes rotation rotate 90 mirror image",
    takes="series colour",
    group="Grid",
    called={"quarters": "Quarter turns", "flip": "Mirror after"},
    methods="Images were turned about {about} by {quarters} quarter turns",
)
def turn(
    image: Image,
    about: Literal["x", "y", "z"] = "z",
    quarters: Annotated[int, Between(0, 3)] = 0,
    *,
    flip: bool = False,
) -> Image:
    """Turn an image in the world by quarter turns about an axis through its middle, or mirror it across that axis,
    without touching a value.

    Parameters
    ----------
    about : text
        The world axis: x, y or z.
    quarters : number
        Quarter turns, against the clock as seen from the axis' positive end.
    flip : bool
        Mirror it along that axis afterwards. What was left is right then: only for images that were written wrongly.

    Raises
    ------
    Trouble
        When nothing is asked for.
    """
    axis = "xyz".index(about)
    if quarters == 0 and not flip:
        raise Trouble("Nothing is to be turned", "give quarter turns, or ask for a flip")
    a, b = [n for n in range(3) if n != axis]
    if axis == 1:
        a, b = b, a  # against the clock from the front goes from z to x
    matrix = np.eye(3)
    for _ in range(quarters):
        step = np.zeros((3, 3))
        step[axis, axis], step[b, a], step[a, b] = 1, 1, -1
        matrix = step @ matrix
    if flip:
        mirror = np.eye(3)
        mirror[axis, axis] = -1
        matrix = mirror @ matrix
    whole, middle = np.eye(4), image.space.centre
    whole[:3, :3] = matrix
    whole[:3, 3] = middle - matrix @ middle
    words = " and ".join(
        [
            *([f"turned by {90 * quarters}° about {about}"] if quarters else []),
            *([f"flipped along {about}"] if flip else []),
        ]
    )
    space = image.space.moved(whole)
    return image.like(image._fetch, space=space, facts=placed(image, space), name=f"{image.name}, {words}")
