"""The surface of a label: smooth and of the volume of its voxels, or stepped, as they lie."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..errors import Trouble
from ..kernel import kernel, unmarked
from ..label_boxes import boxes_of, wider
from ..labels import Label, LabelMap
from ..progress import Progress, silent
from ..space import Space
from .between_slices import finer
from .depth import ROUND, depth_of
from .march import marched
from .smoothing import brought_to, smoothed, volume
from .stepped import stepped_faces
from .surface import Surface, Surfaces

SLAB = 96
"""Slices that are worked on at a time: memory stays bounded, whatever the label's size."""
SOFT = ((1.0, 0.75), (0.6, 0.5), (0.4, 0.35))
"""How wide the field is smoothed, and how far a corner is moved at most, in voxels: as much as may be while the volume
is kept."""
BESIDE = 2
"""Voxels within which another label keeps a surface from coming nearer to it."""
GROWN, KEPT = 0.5, 0.005
"""Voxels by which a surface is moved at most to bring it to its volume, and what may be left of it."""


def surfaces_of(
    labels: LabelMap, names: list[str] | None = None, stepped: bool = False, progress: Progress = silent()
) -> Surfaces:
    """The surfaces of labels that are drawn, all of them or those that are named.

    Smooth ones follow the zero of the smoothed distance to the label, on even steps: between thick slices distances
    are interpolated (G. Herman, J. Zheng, C. Bucholtz, IEEE CG&A 12, 1992). What stairs are left goes by a low-pass
    filter that moves nothing by more than a voxel; then the surface is moved, all over by the same, until it encloses
    the volume of the voxels. Where another label is near it comes no nearer to that than the voxels do.

    Raises
    ------
    Trouble
        When a label is unknown, or has no voxel, or the map is of a picture.
    """
    if names:
        rows = [labels.table.named(name) for name in names]
    else:
        rows = [row for row in labels.table if labels.counts[row.number]]
    if not rows:
        raise Trouble(f"“{labels.name}” has no label that is drawn", "draw one first")
    for row in rows:
        if not labels.counts[row.number]:
            raise Trouble(f"“{row.name}” has no voxels, and so no surface", "draw it first, or name another label")
    if 1 in labels.space.shape:
        raise Trouble(f"“{labels.name}” is of a picture, and has no surface", "export its contours (geojson)")
    boxes = boxes_of(labels.kji)
    parts = []
    for n, row in enumerate(rows):
        part = progress.part(n / len(rows), (n + 1) / len(rows))
        parts.append(surface_of(labels, row, boxes[row.number], stepped, part))
    name = rows[0].name if len(rows) == 1 else labels.name
    return Surfaces(tuple(parts), name, labels.subject, labels.space.unit, labels.space.world)


def surface_of(labels: LabelMap, row: Label, box, stepped: bool = False, progress: Progress = silent()) -> Surface:
    """The surface of one label that lies in a box of slices along k, j, i."""
    progress.at(0.0, f"Making the surface of {row.name}")
    numbers = labels.kji[box]
    mask = (numbers == row.number).astype(np.uint8)
    low = np.array([s.start for s in box[::-1]], float)
    if stepped:
        corners, triangles = stepped_faces(mask)
    else:
        wide = labels.kji[wider(box, (BESIDE, BESIDE, BESIDE), labels.kji.shape)]
        alone = not np.any((wide != 0) & (wide != row.number))

        def beside(places: np.ndarray) -> np.ndarray | None:
            return None if alone else near_others(places + low, labels.kji, row.number)

        corners, triangles = smooth_faces(mask, labels.space, progress, beside)
    world = labels.space.to_world(corners + low)
    if np.linalg.det(labels.space.affine[:3, :3]) < 0:
        triangles = triangles[:, ::-1]
    return Surface(world, triangles, row.name, row.colour)


def smooth_faces(
    mask: np.ndarray,
    space: Space,
    progress: Progress = silent(),
    beside: Callable[[np.ndarray], np.ndarray | None] = lambda places: None,
) -> tuple[np.ndarray, np.ndarray]:
    """Corners (n, 3) as (i, j, k) of a mask's own grid, and triangles (m, 3), of its smooth surface.

    Parameters
    ----------
    mask : uint8 array [k, j, i]
        It is closed at its ends.
    space : Space
        Its steps count.
    beside : callable
        Which of places (n, 3) on the mask's grid lie near something that the surface may not come nearer to; None for
        none.
    """
    count, steps = int(np.count_nonzero(mask)), np.array(space.spacing[::-1])
    fine, times = finer(mask, steps)
    fine = np.pad(fine, 2)
    even = steps / times
    unit = even.min()
    scale = (even[::-1] / unit).astype(np.float32)
    wanted = count * float(np.prod(steps) / unit**3)
    for sigma, most in SOFT:
        corners, triangles = _in_slabs(fine, tuple(even / unit), sigma, progress)
        held = beside(_on_mask(corners, times))
        if held is not None:
            corners = _half_way(corners, fine, held)
        there = smoothed(corners * scale, triangles, most, held, lambda: progress.at(0.8))
        there = brought_to(there, triangles, wanted, GROWN * max(1, max(times) / 2), held)
        if abs(volume(there, triangles) - wanted) < KEPT * wanted or held is not None:
            return _on_mask(np.asarray(there, np.float64) / scale, times), triangles
    return stepped_faces(mask)  # specks of a voxel or two, of which nothing would be left


def _on_mask(corners: np.ndarray, times: tuple[int, int, int]) -> np.ndarray:
    """Places on a mask's own grid, of such on the finer one with two voxels round it."""
    return (np.asarray(corners, np.float64) - 2.0 + 0.5) / np.array(times[::-1]) - 0.5


def _half_way(corners: np.ndarray, mask: np.ndarray, held: np.ndarray) -> np.ndarray:
    """Corners, which lie between two voxels of a mask, no further than half-way from the one inside, where held."""
    below, above = np.floor(corners).astype(int), np.ceil(corners).astype(int)
    inside = mask[below[:, 2], below[:, 1], below[:, 0]] != 0
    start = np.where(inside[:, None], below, above)
    away = corners - start
    short = start + away * np.minimum(1, 0.5 / np.maximum(np.abs(away).max(1, keepdims=True), 1e-6))
    return np.where(held[:, None] != 0, short, corners).astype(np.float32)


def near_others(places: np.ndarray, kji: np.ndarray, number: int) -> np.ndarray:
    """Which of places (n, 3) lie within BESIDE voxels of a voxel of another label, uint8 (n,)."""
    found = np.zeros(len(places), np.uint8)
    _near_others(np.ascontiguousarray(places), unmarked(kji), number, found)
    return found


@kernel
def _near_others(places, numbers, number, found):
    nk, nj, ni = numbers.shape
    for n in range(places.shape[0]):
        x, y, z = places[n, 0], places[n, 1], places[n, 2]
        for k in range(max(0, int(np.ceil(z - BESIDE))), min(nk, int(np.floor(z + BESIDE)) + 1)):
            for j in range(max(0, int(np.ceil(y - BESIDE))), min(nj, int(np.floor(y + BESIDE)) + 1)):
                for i in range(max(0, int(np.ceil(x - BESIDE))), min(ni, int(np.floor(x + BESIDE)) + 1)):
                    if numbers[k, j, i] != 0 and numbers[k, j, i] != number:
                        found[n] = 1


def _in_slabs(mask: np.ndarray, steps: tuple, sigma: float, progress: Progress) -> tuple[np.ndarray, np.ndarray]:
    corners: list[np.ndarray] = []
    triangles: list[np.ndarray] = []
    known = 0
    last = mask.shape[0] - 1
    for first in range(0, last, SLAB):
        progress.at(0.7 * first / last)
        end = min(first + SLAB, last)
        found, sides, begins, _ = marched(depth_of(mask, steps, first, end + 1, sigma))
        found[:, 2] += first
        shared = begins if corners else 0  # those of the slice where the slabs meet are there already
        triangles.append(sides + (known - shared))
        corners.append(found[shared:])
        known += len(found) - shared
    return np.concatenate(corners), np.concatenate(triangles).astype(np.int32)


assert ROUND <= SLAB
