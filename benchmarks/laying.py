"""One volume moved over another by hand, one seen through a warp, and a series brought through a chain."""

from __future__ import annotations

import time

import numpy as np
from scipy import ndimage

from kestrelmist.align.lay import hand_matrix
from kestrelmist.core.axis import Axis
from kestrelmist.core.chain import Chain
from kestrelmist.core.displacement import DisplacementField
from kestrelmist.core.image import Image
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space
from kestrelmist.core.through import seen_through
from kestrelmist.core.transform import Transform
from kestrelmist.core.warp import Warp
from kestrelmist.desk.light_table.picture import Picture
from kestrelmist.desk.models.sight import Parts
from kestrelmist.formats.itk_transforms import library_transform
from kestrelmist.prepare.grid.resample import resample
from kestrelmist.scene import bent
from kestrelmist.scene.compare import Comparison
from kestrelmist.scene.drawing import warm
from kestrelmist.scene.layer import ImageLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.view import AXIAL, CORONAL, SAGITTAL, View, fitted
from kestrelmist.warm import load_drawing

from .row import Row

PANES = ((CORONAL, 554, 660), (AXIAL, 260, 220), (SAGITTAL, 260, 220))
"""Planes and sizes of the panes in a window of 1280 × 800."""
FEW, VOLUMES = 10, 100


def rows() -> list[Row]:
    load_drawing(Progress())
    warm()
    rng = np.random.default_rng(5)
    lead = _volume(512, 0.1, rng)
    over = _volume(256, 0.2, rng)
    views = [fitted(plane, lead.space, wide, high) for plane, wide, high in PANES]
    return [_dragged(lead, over, views), _through_a_warp(lead, over, views, rng), _series(rng)]


def _volume(side: int, step: float, rng: np.random.Generator) -> Image:
    k, j, i = np.ogrid[:side, :side, :side]
    smooth = 900 * np.sin(i * step * 0.6) * np.sin(j * step * 0.4) + 700 * np.cos(k * step * 0.5)
    values = (smooth + rng.integers(-60, 60, (side, side, side), np.int16)).astype(np.int16)
    return Image(values.T, Space((side,) * 3, np.diag([step, step, step, 1.0])))


def _frames(lead: Image, uppers: list[Image], views: list[View]) -> float:
    """Median time of drawing all panes once."""
    look, times, pictures = ImageLook(-1500, 1500), [], [Picture() for _ in views]
    for upper in uppers:
        parts = Parts([Drawn(lead, look)], [Drawn(upper, look, 0.5)], Comparison("fade", 0.5))
        started = time.perf_counter()
        for view, picture in zip(views, pictures):
            picture.stale = True
            picture.pixels(view, parts)
        times.append(time.perf_counter() - started)
    return float(np.median(times[3:]))


def _dragged(lead: Image, over: Image, views: list[View]) -> Row:
    world = over.space.world
    moves = [hand_matrix((0.1 * n, -0.05 * n, 0), (0, 0, 0.3 * n), 1, lead.space.centre) for n in range(40)]
    frame = _frames(lead, [seen_through(over, Transform(m, world, world)) for m in moves], views)
    started = time.perf_counter()
    for view, matrix in zip(views, moves[1:]):
        affine = (
            np.linalg.inv(matrix @ over.space.affine)
            @ np.array([[*view.right, 0], [*view.down, 0], [0, 0, 0, 0], [*view.to_world(0, 0), 1]]).T
        )
        ndimage.affine_transform(
            over.kji, affine[2::-1, [2, 1, 0]], affine[2::-1, 3], (1, view.height, view.width), np.float32, order=1
        )
    theirs = time.perf_counter() - started
    return Row("256³ dragged over 512³, three panes at 1280 × 800", frame, theirs,
               "scipy affine_transform of the moving slices alone", "≥ 60 frames/s", met=frame <= 1 / 60)  # fmt: skip


def _through_a_warp(lead: Image, over: Image, views: list[View], rng: np.random.Generator) -> Row:
    grid = Space((64, 64, 64), np.diag([0.8, 0.8, 0.8, 1.0]))
    parts = [ndimage.gaussian_filter(rng.normal(size=grid.shape[::-1]), 4) * 40 for _ in range(3)]
    warp = Warp(np.stack(parts, -1).astype(np.float32), grid).prepared()
    several = [over.like(over.data) for _ in range(20)]  # another one each time, so that it is drawn anew
    for seen in several:
        seen.through = warp
    frame = _frames(lead, several, views)
    started = time.perf_counter()
    for view in views:
        bent.values(view, seen, True)
    theirs = time.perf_counter() - started
    return Row("the same seen through a warp", frame, theirs, "scipy map_coordinates, field and volume alone",
               "≥ 30 frames/s", met=frame <= 1 / 30)  # fmt: skip


def _series(rng: np.random.Generator) -> Row:
    import SimpleITK as sitk

    small = Space((64, 64, 36), np.array([[3, 0, 0, -96], [0, 3, 0, -96], [0, 0, 3.5, -60], [0, 0, 0, 1.0]]))
    grid = Space((182, 218, 182), np.array([[1, 0, 0, -91.0], [0, 1, 0, -109], [0, 0, 1, -91], [0, 0, 0, 1]]))
    coarse = Space((91, 109, 91), np.array([[2, 0, 0, -91.0], [0, 2, 0, -109], [0, 0, 2, -91], [0, 0, 0, 1]]))
    parts = [ndimage.gaussian_filter(rng.normal(size=coarse.shape[::-1]), 5) * 20 for _ in range(3)]
    field = np.zeros((*small.shape, 3), np.float32)
    field[..., 1] = ndimage.gaussian_filter(rng.normal(size=small.shape), 4) * 30
    way = Chain(
        (
            Warp(np.stack(parts, -1).astype(np.float32), coarse),
            Transform(hand_matrix((2, 1, -3), (2, -4, 5), 1.02, (0, 0, 0))),
            Transform(hand_matrix((1, -2, 1), (1, 2, 3), 1, (0, 0, 0))),
            DisplacementField(field, small),
        )
    )
    values = rng.normal(size=(*small.shape, VOLUMES)).astype(np.float32)
    series, onto = Image(values, small, axes=(Axis("time", VOLUMES),)), Image(np.zeros(grid.shape, np.int16), grid)
    one = Image(values[..., 0], small)
    resample(one, onto, through=way, how="linear", soften=False)  # so that nothing is compiled while it is timed
    started = time.perf_counter()
    brought = resample(series, onto, through=way, how="linear", soften=False)
    for n in range(VOLUMES):
        np.asarray(brought.frame((n,)).data)
    ours = time.perf_counter() - started
    theirs, target = library_transform(way), _as_library(onto)
    started = time.perf_counter()
    for n in range(FEW):
        moving = _as_library(series.frame((n,)))
        sitk.Resample(moving, target, theirs, sitk.sitkLinear, float("nan"), sitk.sitkFloat32)
    long = (time.perf_counter() - started) * VOLUMES / FEW
    return Row(f"chain of four onto 1 mm, {VOLUMES} volumes of 64 × 64 × 36", ours, long,
               f"SimpleITK, the same transforms ({FEW} volumes, times {VOLUMES // FEW})", "ratio ≤ 1.3")  # fmt: skip


def _as_library(image: Image):
    import SimpleITK as sitk

    made = sitk.GetImageFromArray(np.ascontiguousarray(image.kji))
    affine = np.diag([-1.0, -1, 1, 1]) @ image.space.affine
    spacing = np.linalg.norm(affine[:3, :3], axis=0)
    made.SetSpacing(spacing.tolist())
    made.SetOrigin(affine[:3, 3].tolist())
    made.SetDirection((affine[:3, :3] / spacing).ravel().tolist())
    return made
