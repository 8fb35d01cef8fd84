"""Every tool that outlines, used once on next to nothing, so that its kernels are compiled before somebody waits."""

from __future__ import annotations

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap, LabelTable
from ..core.patch import patch_to
from ..core.space import Space

PARTS = (
    "shaping.near",
    "shaping.necks",
    "slices.flat_distance",
    "slices.between",
    "slices.bridge",
    "slices.drawn_slices",
    "slices.oblique",
    "strokes.geodesic",
    "strokes.walker",
    "cells.blobs",
    "cells.find_cells",
    "vessels.tubes",
    "forest.features",
    "forest.forest_kernel",
)
"""Where their kernels are."""


def use_all() -> None:
    """Call what has kernels, in the order of `PARTS`."""
    shape = (12, 12, 12)
    space = Space(shape, np.eye(4))
    k, j, i = np.indices(shape)
    ball = ((k - 6) ** 2 + (j - 6) ** 2 + (i - 6) ** 2 <= 16).astype(np.uint16)
    stop = np.zeros(1, np.uint8)
    _shape(ball, space, stop)
    _bridge(ball, space)
    _compare(ball.astype(np.float32), stop)
    _count_cells(ball)
    _ask_a_forest(ball.astype(np.float32))


def _drawn(numbers: np.ndarray, space: Space) -> LabelMap:
    table, _ = LabelTable().with_new("ball")
    labels = LabelMap(space, table=table)
    patch_to(labels, numbers).apply(labels)
    return labels


def _shape(ball: np.ndarray, space: Space, stop: np.ndarray) -> None:
    from .runs import find_runs
    from .shaping.near import near
    from .shaping.necks import parts_by_necks

    near(ball > 0, 1.0, space)
    depth = ball.astype(np.float32)
    parts_by_necks(ball > 0, depth, (1.0, 1.0, 1.0), 0.5, 1.0, None, stop)
    parts_by_necks(ball > 0, depth, (1.0, 1.0, 1.0), 0.5, 1.0, ball.astype(np.int32), stop)
    runs = find_runs(ball, 1, 1, 26)
    assert runs is not None  # there is no limit to their number
    runs.fill(int(runs.root[0]), np.zeros(ball.shape, np.uint8))


def _bridge(ball: np.ndarray, space: Space) -> None:
    from ..core.progress import silent
    from .slices.bridge import bridge_slices
    from .slices.oblique import AcrossGrid
    from .slices.sheets import Sheets

    for step in (2, 3):
        sparse = np.zeros_like(ball)
        sparse[::step] = ball[::step]
        bridge_slices(_drawn(sparse, space))
    askew = Sheets(np.array((0.6, 0.0, 0.8)), (4.0, 8.0, 12.0), 1.4)
    AcrossGrid(ball > 0, (0, 0, 0), askew, space).field(True, silent())


def _compare(values: np.ndarray, stop: np.ndarray) -> None:
    from .strokes.geodesic import geodesic
    from .strokes.walker import walked
    from .vessels.tubes import tube_likeness

    geodesic(values > 0, values + 1, (1.0, 1.0, 1.0), stop)
    walked(values, values + 1, values, 0.1, np.full(values.shape, -1, np.int8), 1.0, (1.0, 1.0, 1.0), stop)
    tube_likeness(values, 1.0, (2.0,), (1.0, 1.0, 1.0))
    tube_likeness(np.ascontiguousarray(values[6:7]), 1.0, (2.0,), (1.0, 1.0, 1.0))


def _count_cells(ball: np.ndarray) -> None:
    from .cells.find_cells import find_cells

    picture = np.asfortranarray(np.tile(ball[6] * np.uint16(200), (2, 2)).T[:, :, None])
    try:
        find_cells(Image(picture, Space(picture.shape, np.eye(4), unit="px")), 8.0)
    except Trouble:  # its kernels are compiled all the same
        pass


def _ask_a_forest(values: np.ndarray) -> None:
    from ..core.classifier import Trees
    from .forest.features import features_of
    from .forest.forest_kernel import shares_of

    features_of([values], [(1.0, 1.0, 1.0)], flat=False)
    features = features_of([values], [(0.0, 1.0, 1.0)], flat=True)
    leaf = np.full(1, -1, np.int32)
    trees = Trees(np.zeros(1, np.int32), leaf, np.zeros(1, np.float32), leaf, leaf, np.ones((1, 2), np.float32))
    shares_of(trees, features.reshape(-1, features.shape[-1]))
