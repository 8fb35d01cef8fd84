"""A made-up section of nuclei, many of them touching, in which each one's pixels are known."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from .stained import EOSIN, HAEMATOXYLIN, WHITE


@dataclass(frozen=True)
class Nuclei:
    """Numbers of nuclei (uint16 [row, column]); the section as fluorescence (uint16) and as two stains (uint8 [row,
    column, 3])."""

    numbers: np.ndarray
    fluorescence: np.ndarray
    stained: np.ndarray


def nuclei(seed: int = 1, side: int = 600, diameter: float = 14.0, crowded: float = 0.5) -> Nuclei:
    """Nuclei of about one size, a share of which touch another one.

    Parameters
    ----------
    diameter : pixels
    crowded : share
        Of nuclei that are put down beside one that is there.
    """
    rng = np.random.default_rng([11, seed])
    numbers = np.zeros((side, side), np.uint16)
    bright = np.zeros((side, side), np.float32)
    known: list[tuple[np.ndarray, float]] = []
    wanted = int(0.16 * side**2 / (np.pi / 4 * diameter**2))
    for _ in range(60 * wanted):
        if len(known) >= wanted:
            break
        radius = diameter / 2 * rng.uniform(0.8, 1.2)
        long, turn = rng.uniform(1.0, 1.3), rng.uniform(0, np.pi)
        if known and rng.random() < crowded:
            beside, other = known[rng.integers(len(known))]
            way = rng.uniform(0, 2 * np.pi)
            at = beside + (other + radius * np.sqrt(long)) * rng.uniform(0.95, 1.1) * np.array(
                [np.sin(way), np.cos(way)]
            )
        else:
            at = rng.uniform(0, side, 2)
        if _put(numbers, bright, at, radius, long, turn, len(known) + 1, rng):
            known.append((at, radius))
    seen = np.unique(numbers)[1:]
    renumbered = np.zeros(len(known) + 1, np.uint16)
    renumbered[seen] = np.arange(1, len(seen) + 1)
    numbers = renumbered[numbers]
    texture = ndimage.gaussian_filter(rng.standard_normal((side, side)), 1.4)
    amount = np.clip(bright * (1 + 0.2 * texture / texture.std()), 0, None)
    y, x = np.mgrid[-1 : 1 : side * 1j, -1 : 1 : side * 1j]
    light = 1 - 0.3 * (x**2 + 0.6 * y**2)
    haze = ndimage.gaussian_filter(bright, 1.5 * diameter)
    clean = 90 + light * (60 + 500 * haze + 1800 * ndimage.gaussian_filter(amount, 0.9))
    fluorescence = np.clip(rng.poisson(clean / 4) * 4 + rng.normal(0, 8, clean.shape), 0, 65535).astype(np.uint16)
    return Nuclei(numbers, fluorescence, _two_stains(rng, amount))


def _put(numbers, bright, at, radius, long, turn, number, rng) -> bool:
    """One more nucleus, unless it would cover another one; whether it was put down."""
    side, reach = len(numbers), int(radius * long + 4)
    top, left = (max(int(v) - reach, 0) for v in at)
    bottom, right = (min(int(v) + reach, side) for v in at)
    if bottom - top < 3 or right - left < 3:
        return False
    y, x = np.mgrid[top:bottom, left:right] - np.asarray(at)[:, None, None]
    u, v = y * np.cos(turn) + x * np.sin(turn), x * np.cos(turn) - y * np.sin(turn)
    far = (np.hypot(u / (radius * long**0.5), v / (radius / long**0.5)) - 1) * radius
    inside = far <= 0
    block, light = numbers[top:bottom, left:right], bright[top:bottom, left:right]
    if (
        np.count_nonzero(inside) < 0.4 * np.pi * radius**2
        or np.count_nonzero(inside & (block > 0)) > 0.06 * inside.sum()
    ):
        return False
    block[inside & (block == 0)] = number
    np.maximum(light, (rng.uniform(0.6, 1.0) / (1 + np.exp(np.clip(far / 0.5, -40, 40)))).astype(np.float32), out=light)
    return True


def _two_stains(rng: np.random.Generator, amount: np.ndarray) -> np.ndarray:
    fibres = ndimage.gaussian_filter(rng.standard_normal(amount.shape), 3.0)
    eosin = 0.28 * np.clip(1 + 0.3 * fibres / fibres.std(), 0.2, None) * (1 - 0.5 * np.clip(amount, 0, 1))
    first = 0.7 * ndimage.gaussian_filter(amount, 0.7) + 0.04
    vectors = np.array([HAEMATOXYLIN, EOSIN], float)
    vectors /= np.linalg.norm(vectors, axis=1, keepdims=True)
    light = np.array(WHITE)[:, None, None] * 10 ** -np.tensordot(vectors.T, np.stack((first, eosin)), 1)
    seen = rng.poisson(light * 14) / 14
    return np.clip(np.rint(seen.transpose(1, 2, 0)), 0, 255).astype(np.uint8)
