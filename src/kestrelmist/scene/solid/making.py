"""Bodies of a scene worked out: what the process that draws is told of each."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.marks import Marks
from ...core.geometry.shape import shape_named
from ...core.image import Image
from ...core.label_boxes import boxes_of
from ...core.labels import LabelMap
from ...core.progress import Progress, silent
from ...core.space import Space
from ...core.surface.blocks import SIDE
from ...core.surface.march import marched
from ...core.surface.of_label import surface_of
from ...core.surface.smoothing import smoothed
from ...core.surface.surface import Surfaces
from ...core.through import resampled_through
from ..first_look import first_look
from ..layer import ImageLook
from ..primitives import rgba
from ..relief import relief_of
from ..showing import display_range
from .coarse_field import image_field
from .ready_looks import first_name, fitted
from .scene import CROSS, MARKS, MESH, OUTLINE, RELIEF, SLICE, VOLUME, Body, Solid
from .slices import slice_of
from .volume import levels_of
from .volume_look import VolumeLook

Message = tuple


def made(body: Body, thing: Any, find: Callable[[int | str], Any], progress: Progress = silent()) -> Message:
    """What the process that draws is told of a body of a thing that is at hand."""
    return MAKERS[body.way](body, thing, find, progress)


def gone(key: Any) -> Message:
    """What it is told of one that is shown no more."""
    return ("drop", key)


def _surface(body: Body, labels: LabelMap, find, progress: Progress) -> Message:
    row = labels.table.get(body.part)
    box = boxes_of(labels.kji).get(body.part)
    if box is None or row is None:
        return gone(body.key)
    if 1 in labels.space.shape:
        return gone(body.key)
    one = surface_of(labels, row, box, False, progress)
    return ("mesh", body.key, one.corners, one.triangles, body.finish, (labels.space.inverse, SIDE), None)


def _outline(body: Body, image: Image, find, progress: Progress) -> Message:
    if min(image.space.shape) < 2:
        return gone(body.key)
    field = image_field(image)
    level = 40.0 if image.unit != "HU" else max(6.0, min(200.0, _air(image)))
    values = np.pad(field.values.astype(np.float32) - np.float32(level), 1, constant_values=-1.0)
    corners, triangles, _, _ = marched(values)
    if not len(triangles):
        return gone(body.key)
    places = smoothed(corners, triangles, 4.0) - 1
    world = places @ field.affine[:3, :3].T + field.affine[:3, 3]
    turned = np.linalg.det(field.affine[:3, :3]) < 0
    return ("mesh", body.key, world, triangles[:, ::-1] if turned else triangles, body.finish, None, None)


def _air(image: Image) -> float:
    """Where skin begins, as a share of 255 of the display range: −300 HU."""
    low, high = display_range(image)
    return (-300.0 - low) / (high - low) * 255.0


def _relief(body: Body, image: Image, find, progress: Progress) -> Message:
    look = body.look if isinstance(body.look, ImageLook) else ImageLook(*display_range(image))
    relief = relief_of(image, look)
    rows, columns = relief.heights.shape
    j, i = np.mgrid[0:rows, 0:columns]
    flat = np.stack([i.ravel(), j.ravel(), np.zeros(i.size), np.ones(i.size)])
    places = (relief.affine @ flat)[:3].T
    places[:, 2] += relief.heights.ravel()
    at = np.arange(rows * columns).reshape(rows, columns)
    a, b, c, d = (one.ravel() for one in (at[:-1, :-1], at[:-1, 1:], at[1:, 1:], at[1:, :-1]))
    triangles = np.concatenate((np.stack((a, b, c), 1), np.stack((a, c, d), 1))).astype(np.int32)
    if np.linalg.det(relief.affine[:3, :3]) < 0:
        triangles = triangles[:, ::-1]
    return ("mesh", body.key, places, triangles, body.finish, None, relief.colours.reshape(-1, 3))


def _volume(body: Body, image: Image, find, progress: Progress) -> Message:
    if min(image.space.shape) < 2:
        raise Trouble(f"“{image.name}” is one slice, and no volume", "choose an image of several slices")
    if image.through is not None and body.onto is not None:  # rays are straight: what bends is brought on a grid once
        target: Space = find(body.onto).space
        values = resampled_through(image.kji, image.space, target, image.through, progress=progress)
        image = Image(values.T, target, image.name, image.subject, unit=image.unit)
    look = body.look if isinstance(body.look, VolumeLook) else fitted(first_name(image), image)
    mask: LabelMap | None = None
    numbers: tuple[int, ...] = ()
    if body.inside is not None:
        mask = find(body.inside[0])
        assert mask is not None
        numbers = (body.inside[1],) if body.inside[1] else ()
        if mask.space.shape != image.space.shape:
            raise Trouble(f"“{mask.name}” lies on another grid than “{image.name}”", "choose labels of that image")
    return ("volume", body.key, levels_of(image, mask, numbers), look)


def _mesh(body: Body, surfaces: Surfaces, find, progress: Progress) -> Message:
    if not 0 <= body.part < len(surfaces.parts):
        return gone(body.key)
    one = surfaces.parts[body.part]
    return ("mesh", body.key, one.corners, one.triangles, body.finish, None, None)


def _slice(body: Body, image: Image, find, progress: Progress) -> Message:
    look = body.look if isinstance(body.look, ImageLook) else first_look(image)
    at = body.at if body.at is not None else tuple(image.space.corners().mean(0))
    pixels, corners = slice_of(image, look, body.part, at)
    return ("picture", body.key, pixels, corners, body.opacity)


def _marks(body: Body, marks: Marks, find, progress: Progress) -> Message:
    lines, points = [], []
    for mark in marks:
        red, green, blue, _ = rgba(mark.colour or body.colour)
        ink = red / 255, green / 255, blue / 255
        outline = np.asarray(mark.outline, float).reshape(-1, 3)
        if len(outline) > 2 and shape_named(mark.shape).closed:
            outline = np.concatenate((outline, outline[:1]))
        if len(outline) > 1:
            lines.append((outline, ink, 3.0))
        elif len(outline):
            points.append((outline[0], ink, 9.0))
    return ("lines", body.key, lines, points)


def _cross(body: Body, image: Image, find, progress: Progress) -> Message:
    at = np.asarray(body.at if body.at is not None else image.space.corners().mean(0), float)
    corners = image.space.corners()
    lines = []
    for n in range(3):
        ends = np.stack((at, at))
        ends[0, n], ends[1, n] = corners[:, n].min(), corners[:, n].max()
        lines.append((ends, body.ink, 1.5))
    return ("lines", body.key, lines, [(at, body.ink, 7.0)])


MAKERS: dict[str, Callable[[Body, Any, Any, Progress], Message]] = {
    "surface": _surface,
    OUTLINE: _outline,
    RELIEF: _relief,
    VOLUME: _volume,
    MESH: _mesh,
    SLICE: _slice,
    MARKS: _marks,
    CROSS: _cross,
}


def messages(solid: Solid, find: Callable[[int | str], Any], progress: Progress = silent()) -> Iterable[Message]:
    """All that the process is told of a scene; `find(thing)` gives a thing by what it is called in the scene.

    Raises Trouble when the scene holds nothing.
    """
    if not solid.bodies:
        raise Trouble("There is nothing to be seen", "name an image, or labels that have voxels")
    for n, body in enumerate(solid.bodies):
        part = progress.part(n / len(solid.bodies), (n + 1) / len(solid.bodies))
        yield made(body, find(body.thing), find, part)
    yield ("planes", solid.planes)
