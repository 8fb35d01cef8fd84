"""A warp that makes a moving image most like a fixed one: level by level, both ways at once.

As log-demons go (T. Vercauteren, X. Pennec, A. Perchant and N. Ayache, MICCAI 2008): each step pulls at a velocity,
from the moving image seen along it and from the fixed one seen against it, and is smoothed before it is taken; here it
goes where any measure of similarity grows.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.errors import Cancelled
from ..core.flows import exponential, folding, smoothed
from ..core.found_so_far import FoundSoFar
from ..core.progress import Progress, silent
from ..core.resampling import resampled
from ..core.space import Space
from ..core.warp import Warp
from .guides import LABELS, MARKS, Guides, PulledMarks
from .levels import Sides, coarse_side, grain_of, limits_of
from .similar import Seen, Similarity, similarity_named
from .warp_forces import longest, pulled, warped

STEPS, LAST = 60, 25
"""At most on each level, and on the finest of several."""
LEVELS = 4
COARSEST, FINEST = 14, 1_400_000
"""Voxels along the longest axis of the coarsest level at least, and in all of the finest at most."""
FIRST, SHORT = 1.0, 0.03
"""Voxels that the longest part of a step is at first, and below which a level ends."""
WIDE = (3.0, 4.0, 5.0)
"""Standard deviation (voxels) of the smoothing of steps on the coarsest levels at least: where little is seen, only
what is coarse can be told."""
SOFT = 0.5
"""Standard deviation (voxels) of the smoothing of the velocity after each step, for stiffness 1."""
LEAST = 0.05
"""Of the Jacobian: below it a velocity is smoothed further."""


@dataclass
class Bent:
    """What was found: the warp, what was left after each step, and the smallest Jacobian."""

    warp: Warp
    left: list[list[float]]
    smallest: float


def bent(
    fixed: Sides,
    moving: Sides,
    affine: np.ndarray,
    similarity: Similarity,
    spacing: float | None = None,
    stiffness: float = 1.0,
    progress: Progress | None = None,
    guides: Guides | None = None,
) -> Bent:
    """The warp from the fixed world to the moving one.

    Parameters
    ----------
    affine : array (4, 4)
        Where it begins, from the fixed world to the moving one; it goes into the warp.
    similarity : Similarity
        What is made larger.
    spacing : mm
        How fine the warp may be: standard deviation by which steps are smoothed on the finest level; four voxels of
        that level when left out.
    stiffness : number
        How much the velocity itself is smoothed after each step; 0 for not at all.
    guides : Guides, optional
        Labels and landmarks that are to come to lie on one another, besides.
    """
    progress = progress or silent()
    pixels = pixels_of(fixed.space, moving.space)
    fine = 4 * pixels[-1] if spacing is None else spacing
    velocity, space, left = None, None, []
    for n, pixel in enumerate(pixels):
        grid = grid_of(fixed.space, pixel)
        wanted, seen = _on_grid(fixed, grid, np.eye(4), pixel), _on_grid(moving, grid, affine, pixel)
        velocity = _brought(velocity, space, grid)
        last = n == len(pixels) - 1
        wide = fine if last else max(fine, pixel * WIDE[min(n, 2)])
        part = progress.part(n / len(pixels), (n + 1) / len(pixels))
        count = LAST if last and n else STEPS
        level = _Level(wanted, seen, similarity, wide / pixel, SOFT * stiffness)
        level.weights = [
            None
            if side.weights is None
            else np.nan_to_num(_on_grid(Sides(side.weights, side.space), grid, matrix, pixel))
            for side, matrix in ((fixed, np.eye(4)), (moving, affine))
        ]
        if guides:
            level.guide(guides, grid, affine, pixel, pixel / pixels[-1])
        velocity, costs = level.followed(velocity, count, part, (n + 1, len(pixels)))
        left.append(costs)
        space = grid
        if progress.watched:
            way = Warp(velocity, space, np.eye(4), affine)
            progress.show(FoundSoFar(costs[-1] if costs else 0.0, n + 1, len(pixels), way, True))
        if progress.has_enough:
            break
    assert velocity is not None and space is not None
    velocity, smallest = _unfolded(velocity)
    return Bent(Warp(velocity, space, np.eye(4), affine), left, smallest)


def pixels_of(fixed: Space, moving: Space) -> list[float]:
    """Sides of the voxels of each level, mm, the coarsest first."""
    extent = np.array([s * n for s, n in zip(fixed.spacing, fixed.shape) if n > 1] or [fixed.spacing[0]])
    finest = max(grain_of(fixed), grain_of(moving), float(np.prod(extent) / FINEST) ** (1 / len(extent)))
    found = [finest]
    while float(extent.max()) / (2 * found[0]) >= COARSEST and len(found) < LEVELS:
        found.insert(0, 2 * found[0])
    return found


def grid_of(space: Space, pixel: float) -> Space:
    """A grid of even voxels along the axes of another, over the same extent."""
    shape = tuple(
        1 if n == 1 else max(2, int(np.ceil(s * n / pixel - 1e-6))) for s, n in zip(space.spacing, space.shape)
    )
    affine = space.affine.copy()
    affine[:3, :3] = space.affine[:3, :3] / np.array(space.spacing) * pixel
    affine[:3, 3] = space.centre - affine[:3, :3] @ ((np.array(shape) - 1) / 2)
    return Space(shape, affine, space.unit, space.world)  # type: ignore[arg-type]


class _Level:
    """Two images on one grid, the moving one where the affine transform brings it."""

    def __init__(self, wanted: np.ndarray, seen: np.ndarray, similarity: Similarity, wide: float, soft: float):
        self.images = wanted, seen
        self.wide, self.soft = wide, soft
        self.measures = [
            similarity.made(Seen(np.nan_to_num(one).ravel(), limits_of(other), one.shape))
            for one, other in ((wanted, seen), (seen, wanted))
        ]
        self.counted = [np.isfinite(one) for one in self.images]
        self.warped = np.empty_like(wanted)
        self.weights: list[np.ndarray | None] = [None, None]
        self.labels: list[_Level] = []
        self.marks: PulledMarks | None = None

    def guide(self, guides: Guides, grid: Space, affine: np.ndarray, pixel: float, coarse: float) -> None:
        """Let labels and landmarks count, too; `coarse` is how many of the finest voxels one of this level is wide."""
        squares = similarity_named("squares")
        for volumes in guides.volumes:
            assert guides.spaces is not None
            one, other = (
                _on_grid(Sides(volume.astype(np.float32), space), grid, matrix, pixel)
                for volume, space, matrix in zip(volumes, guides.spaces, (np.eye(4), affine))
            )
            self.labels.append(_Level(np.nan_to_num(one), np.nan_to_num(other), squares, self.wide, self.soft))
        if guides.pairs is not None:
            back = np.linalg.inv(affine)
            there = guides.pairs.there @ back[:3, :3].T + back[:3, 3]
            ends = grid.to_voxel(guides.pairs.here), grid.to_voxel(there)
            self.marks = PulledMarks(*ends, MARKS * coarse**2)

    def judged(self, velocity: np.ndarray) -> tuple[float, np.ndarray]:
        """The cost of a velocity, there and back, and where it would have to go for that to fall (voxels)."""
        cost, step = self._alike(velocity)
        for level in self.labels:
            more, way = level._alike(velocity)
            cost += LABELS * more / len(self.labels)
            step += np.float32(LABELS / len(self.labels)) * way
        if self.marks is not None:
            cost += self.marks.judged(velocity, step)
        return cost, step

    def _alike(self, velocity: np.ndarray) -> tuple[float, np.ndarray]:
        cost, step = 0.0, np.zeros_like(velocity)
        for n, sign in enumerate((1.0, -1.0)):
            shift = exponential(velocity if n == 0 else -velocity)
            seen = warped(self.images[1 - n], shift, self.warped)
            inside = np.isfinite(seen) & self.counted[n]
            counts = self._counts(inside, n, shift)
            found, slope = self.measures[n](np.nan_to_num(seen).ravel(), counts)
            cost += found / 2
            pulled(seen, slope.reshape(seen.shape), step, sign)
        return cost, step

    def _counts(self, inside: np.ndarray, n: int, shift: np.ndarray) -> np.ndarray:
        """How much each voxel counts: by the weights of the image that stands still, and of the one that is warped."""
        counts: np.ndarray = inside.ravel().astype(np.uint8)
        still, moves = self.weights[n], self.weights[1 - n]
        if still is not None:
            counts = counts * still.ravel()
        if moves is not None:
            counts = counts * np.nan_to_num(warped(moves, shift, np.empty(inside.shape, np.float32))).ravel()
        return counts

    def followed(
        self, velocity: np.ndarray, steps: int, progress: Progress, level: tuple[int, int] = (1, 1)
    ) -> tuple[np.ndarray, list[float]]:
        """A velocity after so many steps, or fewer when they become short; a step after which the cost is higher is
        taken back and tried at half its length."""
        costs: list[float] = []
        best, least, way, length = velocity, np.inf, np.zeros_like(velocity), FIRST
        for n in range(steps):
            if progress.cancelled:
                raise Cancelled()
            cost, step = self.judged(velocity)
            if cost < least:
                best, least = velocity, cost
                way = smoothed(step, self.wide)
                far = longest(way)
                if not far > 0:
                    break
                way /= np.float32(far)
                length = min(1.1 * length, FIRST)
            else:
                length *= 0.5
            costs.append(least)
            progress.at((n + 1) / steps, "Warping")
            progress.show(FoundSoFar(least, *level))
            if length < SHORT or progress.has_enough:
                break
            velocity = smoothed(best + np.float32(length) * way, self.soft)
        return best, costs


def _on_grid(side: Sides, grid: Space, matrix: np.ndarray, pixel: float) -> np.ndarray:
    """An image on a grid, by means of blocks where its voxels are finer; NaN where it is not, or is left out."""
    values, space, inside = coarse_side(side, pixel)
    if inside is not None:
        values = np.where(inside, values, np.float32(np.nan))
    return resampled(values, (space.inverse @ matrix @ grid.affine)[:3], grid.shape, "linear", np.nan)


def _brought(velocity: np.ndarray | None, before: Space | None, grid: Space) -> np.ndarray:
    """A velocity on a finer grid, in its voxels."""
    if velocity is None or before is None:
        return np.zeros((*grid.shape[::-1], 3), np.float32)
    frame = (before.inverse @ grid.affine)[:3]
    factor = np.float32(before.spacing[0] / grid.spacing[0])
    made = np.empty((*grid.shape[::-1], 3), np.float32)
    for n in range(3):
        part = resampled(np.ascontiguousarray(velocity[..., n]), frame, grid.shape, "linear", np.nan)
        made[..., n] = part * factor
    return _carried_on(made)


def _carried_on(velocity: np.ndarray) -> np.ndarray:
    """With what lies beyond the coarser grid as at its edge."""
    gone = ~np.isfinite(velocity[..., 0])
    if gone.any():
        from scipy import ndimage

        places = ndimage.distance_transform_edt(gone, return_distances=False, return_indices=True)
        velocity = np.ascontiguousarray(velocity[tuple(places)])
    return velocity


def _unfolded(velocity: np.ndarray) -> tuple[np.ndarray, float]:
    """A velocity whose flow folds nowhere, there or back, smoothed as much as that takes; and the smallest Jacobian."""
    for _ in range(40):
        smallest = min(float(folding(exponential(sign * velocity)).min()) for sign in (1.0, -1.0))
        if smallest > LEAST:
            break
        velocity = smoothed(velocity, 1.0)
    return velocity, smallest
