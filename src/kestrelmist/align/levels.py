"""Two images made ready to be compared: level by level, the coarsest first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ..core.coarse import coarse_space, means_of_blocks
from ..core.errors import Trouble
from ..core.space import Space
from .looks import Looks

MOST = 250_000
"""Places that are compared on a level."""
COARSEST = 12
"""Voxels along the longest axis below which a level tells too little."""
LEAST = 40
"""Places below which nothing can be compared."""


@dataclass(frozen=True)
class Sides:
    """One of the two images.

    Parameters
    ----------
    values : float32 array [k, j, i]
        NaN where there is none.
    space : Space
    mask : bool array [k, j, i], optional
        What of it counts; all when left out.
    name : str
    weights : float32 array [k, j, i], optional
        How much each voxel counts, 0 or more.
    """

    values: np.ndarray
    space: Space
    mask: np.ndarray | None = None
    name: str = ""
    weights: np.ndarray | None = None


@dataclass(frozen=True)
class Level:
    """What is compared on one level.

    Parameters
    ----------
    places : float32 array (n, 3)
        Of the fixed image's world, mm from `centre`.
    values : float32 array (n,)
        What it has there.
    shape : tuple
        Of the grid they lie on, when they are all of it.
    moving : float32 array [k, j, i]
    moving_space : Space
    centre : three mm
    radius : mm
        Root mean square distance of the places from the centre.
    pixel : mm
        Side of a voxel of this level.
    limits : two numbers
        Lowest and highest value of the moving image that count.
    """

    places: np.ndarray
    values: np.ndarray
    shape: tuple[int, int, int] | None
    moving: np.ndarray
    moving_space: Space
    centre: np.ndarray
    radius: float
    pixel: float
    limits: tuple[float, float]
    counted: np.ndarray | None = None
    """Which of the places count, uint8 (n,), when they are all of a grid and not all do; how much each counts, float32
    (n,), when that differs."""
    moving_weights: np.ndarray | None = None
    """How much each voxel of the moving image counts, float32 [k, j, i]."""

    def weighed(self, inside: np.ndarray) -> np.ndarray:
        """How much places count of which some lie inside the moving image, uint8 (n,): uint8, or float32 (n,)."""
        if self.counted is None:
            return inside
        return inside & self.counted if self.counted.dtype == np.uint8 else inside * self.counted

    @property
    def most(self) -> float:
        """How much all places count together."""
        return float(len(self.places)) if self.counted is None else float(self.counted.sum(dtype=np.float64))

    @property
    def unit(self) -> str:
        """Of places, in both worlds."""
        return self.moving_space.unit

    def mirrored(self) -> Level:
        """The same with the moving image as in a mirror across its middle, left for right."""
        flip = np.diag((-1.0, 1.0, 1.0, 1.0))
        flip[0, 3] = 2 * float(self.moving_space.centre[0])
        return replace(self, moving_space=self.moving_space.moved(flip))

    def thinned(self, most: int) -> Level:
        """The same with fewer places."""
        step = -(-len(self.places) // most)
        counted = None if self.counted is None else np.ascontiguousarray(self.counted[::step])
        places = np.ascontiguousarray(self.places[::step])
        return replace(self, places=places, values=self.values[::step], shape=None, counted=counted)

    def middles(self) -> tuple[np.ndarray, np.ndarray]:
        """The middles of what is bright in the fixed image and in the moving one, in the world of each."""
        bright = (self.values - self.values.min()).astype(np.float64)
        here = self.centre + (self.places * bright[:, None]).sum(0) / max(float(bright.sum()), 1e-30)
        values = np.clip(np.nan_to_num(self.moving, nan=self.limits[0]), *self.limits) - self.limits[0]
        total = float(values.sum(dtype=np.float64))
        if not total > 0:
            return here, self.moving_space.centre
        sums = [values.sum(axis=tuple(a for a in range(3) if a != n), dtype=np.float64) for n in (2, 1, 0)]
        return here, self.moving_space.to_world([float((one * np.arange(len(one))).sum()) / total for one in sums])


def levels_of(
    fixed: Sides, moving: Sides, whole: bool = False, shrinks: Sequence[int] = (8, 4, 2, 1), most: int = MOST
) -> list[Level]:
    """The levels of two images, each by means of blocks of about so many voxels.

    Parameters
    ----------
    whole : bool
        Whether the places of a level are all of a grid, as measures need that look at neighbours; else they are picked
        at random, between voxels too, always the same ones.

    Raises
    ------
    Trouble
        When one image is the same everywhere that counts, or too little of it counts.
    """
    _require_structure(fixed)
    _require_structure(moving)
    base = max(grain_of(fixed.space), grain_of(moving.space))
    found = []
    for shrink in shrinks:
        if shrink > 1 and max(_extent(fixed.space)) / (base * shrink) < COARSEST:
            continue
        found.append(_level(fixed, moving, base * shrink, whole, most))
    return found


def grain_of(space: Space) -> float:
    """About how large its voxels are, mm; the thin axis of a picture does not count."""
    sizes = [s for s, n in zip(space.spacing, space.shape) if n > 1]
    return float(np.exp(np.mean(np.log(sizes)))) if sizes else float(min(space.spacing))


def _extent(space: Space) -> list[float]:
    return [s * n for s, n in zip(space.spacing, space.shape)]


def _require_enough(counted: np.ndarray, name: str) -> None:
    if int(np.count_nonzero(counted)) < LEAST:
        raise Trouble(f"Too little of “{name}” counts to be compared", "choose another mask or other weights, or none")


def _require_structure(side: Sides) -> None:
    counted = np.isfinite(side.values)
    if side.mask is not None:
        counted &= side.mask
    _require_enough(counted, side.name)
    low = np.min(side.values, where=counted, initial=np.inf)
    if not float(np.max(side.values, where=counted, initial=-np.inf)) > float(low):
        raise Trouble(f"“{side.name}” is the same everywhere that counts", "choose an image with something in it")


def _level(fixed: Sides, moving: Sides, pixel: float, whole: bool, most: int) -> Level:
    values, space, inside = coarse_side(fixed, pixel)
    while whole and values.size > most:
        pixel *= 1.25
        values, space, inside = coarse_side(fixed, pixel)
    moved, moved_space, moved_inside = coarse_side(moving, pixel)
    if moved_inside is not None:
        moved = np.where(moved_inside, moved, np.float32(np.nan))
    counted = np.isfinite(values) if inside is None else np.isfinite(values) & inside
    if whole:
        places = _all_places(space)
        picked = np.where(counted, values, np.float32(0)).reshape(-1)
        shape = values.shape
        centre, some = _middle(places[counted.reshape(-1)]), counted.reshape(-1)
    else:
        places, picked = _picked(values, counted, space, most)
        shape, centre, some = None, _middle(places), None
    _require_enough(counted, fixed.name)
    away = (places - centre).astype(np.float32)
    radius = float(np.sqrt((away.astype(np.float64) ** 2).sum(1).mean()))
    low, high = limits_of(moved)
    kept = None if some is None or some.all() else some.astype(np.uint8)
    if fixed.weights is not None:
        heavy = coarse_side(Sides(fixed.weights, fixed.space), pixel)[0]
        if whole:
            found = np.where(counted, heavy, np.float32(0)).reshape(-1).astype(np.float32)
        else:
            found = Looks(heavy, space, places.astype(np.float32), np.zeros(3)).look(np.eye(4))[0].copy()
        kept = np.nan_to_num(found)
    moving_weights = None
    if moving.weights is not None:
        moving_weights = np.nan_to_num(coarse_side(Sides(moving.weights, moving.space), pixel)[0])
    given = max(radius, pixel), pixel, (low, high), kept, moving_weights
    return Level(away, picked, shape, moved, moved_space, centre, *given)


def limits_of(values: np.ndarray) -> tuple[float, float]:
    """Lowest and highest value that count, all but one in a thousand at either end."""
    some = values.reshape(-1)[:: max(1, values.size // 400_000)]
    some = some[np.isfinite(some)]
    if not some.size:
        some = values[np.isfinite(values)]
    low, high = (float(v) for v in np.percentile(some, (0.1, 99.9)))
    return low, high


def coarse_side(side: Sides, pixel: float) -> tuple[np.ndarray, Space, np.ndarray | None]:
    space = side.space
    i, j, k = (max(1, min(round(pixel / s), n // 2 if n > 1 else 1)) for s, n in zip(space.spacing, space.shape))
    steps = i, j, k
    mask = side.mask
    if steps == (1, 1, 1):
        return side.values, space, mask
    values = means_of_blocks(side.values, (k, j, i))
    if mask is not None:
        mask = means_of_blocks(mask.astype(np.float32), (k, j, i)) >= 0.5
    return values, coarse_space(space, steps), mask


def _all_places(space: Space) -> np.ndarray:
    k, j, i = np.indices(space.shape[::-1]).reshape(3, -1)
    return space.to_world(np.stack((i, j, k), 1))


def _picked(values: np.ndarray, counted: np.ndarray, space: Space, most: int) -> tuple[np.ndarray, np.ndarray]:
    """Places picked at random, and the values there."""
    random = np.random.default_rng(20261129)
    flat, among = counted.reshape(-1), int(np.count_nonzero(counted))
    if among <= most:
        picked = np.flatnonzero(flat)
    else:  # as many are drawn as may well leave enough that count
        drawn = np.unique(random.integers(0, flat.size, int(1.3 * most * flat.size / among) + 1000))
        picked = drawn[flat[drawn]]
        if len(picked) > most:
            picked = picked[np.sort(random.permutation(len(picked))[:most])]
    kji = np.stack(np.unravel_index(picked, values.shape), 1)
    at = kji[:, ::-1] + random.uniform(-0.5, 0.5, kji.shape) * (np.array(space.shape) > 1)
    places = space.to_world(np.clip(at, 0, np.array(space.shape) - 1))
    looks = Looks(values, space, places.astype(np.float32), np.zeros(3))
    found, inside = looks.look(np.eye(4))
    kept = inside > 0
    return places[kept], found[kept].copy()


def _middle(places: np.ndarray) -> np.ndarray:
    return places.mean(0) if len(places) else np.zeros(3)
