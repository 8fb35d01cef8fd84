"""One digital hazel dormouse: its tissues as distance fields on a fine lattice, with a shape of its own.

The lattice is the animal. Scenes interpolate it linearly, and the truth is measured on that same interpolation, so the
true volume of a tissue is known to any accuracy by sampling fine enough.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from .anatomy import FIELDS
from .lattice import fill_lattice

STEP = 0.15
"""Lattice step, mm."""
LOW = np.array([-14.7, -14.7, -14.7])
"""World position of the first lattice point, mm."""
POINTS = (197, 197, 197)


@dataclass
class Animal:
    """Fields [field, z, y, x] (float32, mm, negative inside) and two textures [z, y, x] around 0 with spread 1."""

    name: str
    fields: np.ndarray
    fine: np.ndarray
    coarse: np.ndarray
    seed: int

    def frame(self, affine: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Lattice coordinates of a grid's voxel (0, 0, 0) and steps along i, j, k as columns, from its affine."""
        return (affine[:3, 3] - LOW) / STEP, affine[:3, :3] / STEP


def _shape(rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """What makes an animal another one: three displacements and one roughness on a 1 mm grid, and three scales."""
    coarse = [ndimage.gaussian_filter(rng.standard_normal((34, 34, 34)), 3.0) for _ in range(3)]
    coarse.append(ndimage.gaussian_filter(rng.standard_normal((34, 34, 34)), 1.3))
    bends = np.stack([c / c.std() for c in coarse]).astype(np.float32)
    fine = np.stack([ndimage.gaussian_filter(rng.standard_normal((34, 34, 34)), 1.1) for _ in range(3)])
    bends[:3] = 0.16 * bends[:3] + 0.055 * fine / fine.std()
    return bends, 1 + 0.025 * rng.standard_normal(3)


def bends_of(animal: Animal) -> tuple[np.ndarray, np.ndarray]:
    """What makes it another one than its kind: a place p of it is that of the kind at (p + bends at p) / scales."""
    return _shape(np.random.default_rng(animal.seed))


def landmarks_in(animal: Animal, places: np.ndarray) -> np.ndarray:
    """Where landmarks of the kind lie in an animal: those that are one place (n, 3) in all of them, mm."""
    bends, scale = bends_of(animal)
    found = np.asarray(places, float) * scale
    for _ in range(60):
        at = (found + 16.5).T[::-1]
        away = np.stack([ndimage.map_coordinates(bends[n], at, order=1, mode="nearest") for n in range(3)], -1)
        found = np.asarray(places, float) * scale - away
    return found


def make_animal(name: str, seed: int) -> Animal:
    """Build the animal of a seed: the same seed gives the same animal."""
    rng = np.random.default_rng(seed)
    bends, scale = _shape(rng)
    fields = np.empty((FIELDS, *POINTS), np.float32)
    step = -(-POINTS[0] // 16)
    with ThreadPoolExecutor(2) as pool:
        list(
            pool.map(
                lambda z: fill_lattice(fields, bends, LOW, STEP, scale, z, min(z + step, POINTS[0])),
                range(0, POINTS[0], step),
            )
        )

    def texture(width):
        noise = ndimage.gaussian_filter(rng.standard_normal(POINTS, np.float32), width, mode="wrap", truncate=3)
        return noise / noise.std()

    return Animal(name, fields, texture(0.7), texture(2.6), seed)
