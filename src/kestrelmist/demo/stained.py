"""A made-up bright-field section with two stains, whose amounts are known in every pixel."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

HAEMATOXYLIN, EOSIN = (0.651, 0.701, 0.290), (0.072, 0.990, 0.118)
WHITE = (243.0, 241.0, 242.0)


@dataclass(frozen=True)
class Stained:
    """Colours uint8 (rows, columns, 3), and amounts of both stains in optical density (2, rows, columns)."""

    colours: np.ndarray
    amounts: np.ndarray


def stained(
    seed: int = 5, side: int = 768, first=HAEMATOXYLIN, second=EOSIN, white=WHITE, strength=(0.75, 0.3)
) -> Stained:
    """Brown fat beside empty glass: nuclei take the first stain, what lies between drops of fat the second; every
    nucleus lies in some of the second, and the first leaves a little everywhere."""
    rng = np.random.default_rng([7, seed])
    y, x = np.mgrid[0:side, 0:side].astype(np.float32)
    edge = x - side * 0.2 - 0.05 * side * _soft(rng, side, side / 12)
    tissue = np.clip(edge / 6, 0, 1).astype(np.float32)
    cells = _middles(rng, side, 34.0)
    fat, nuclei = np.zeros((side, side), np.float32), np.zeros((side, side), np.float32)
    for at in cells:
        for _ in range(int(rng.integers(5, 11))):
            _disc(fat, at + rng.normal(0, 10, 2), rng.uniform(2.0, 5.5), 1.0, 1.0, 0.0, 1.2)
        radius, turn = rng.uniform(4.0, 6.5), rng.uniform(0, np.pi)
        _disc(nuclei, at + rng.normal(0, 3, 2), radius, rng.uniform(0.75, 1.0), rng.uniform(1.0, 1.5), turn, 0.9)
    chromatin = 1 + 0.22 * _soft(rng, side, 1.4)
    fibres = 1 + 0.25 * _soft(rng, side, 3.0) + 0.2 * _soft(rng, side, 30)
    one = strength[0] * tissue * (np.clip(nuclei * chromatin, 0, None) + 0.04)
    two = strength[1] * tissue * np.clip(fibres, 0.1, None) * (1 - 0.93 * fat) * (1 - 0.55 * np.clip(nuclei, 0, 1))
    amounts = np.stack([ndimage.gaussian_filter(a, 0.7) for a in (one, two)]).astype(np.float32)
    vectors = np.array([first, second], float)
    vectors /= np.linalg.norm(vectors, axis=1, keepdims=True)
    light = np.array(white)[:, None, None] * 10 ** -np.tensordot(vectors.T, amounts, 1)
    seen = rng.poisson(light * 14) / 14
    return Stained(np.clip(np.rint(seen.transpose(1, 2, 0)), 0, 255).astype(np.uint8), amounts)


def _middles(rng: np.random.Generator, side: int, apart: float) -> np.ndarray:
    """Places that lie apart from each other, in no order."""
    count = int(side / apart)
    y, x = np.mgrid[0:count, 0:count] + 0.5
    shift = rng.uniform(-0.36, 0.36, (2, count, count))
    places = np.stack([y + shift[0], x + shift[1]], -1).reshape(-1, 2)
    return places * side / count


def _disc(target: np.ndarray, at, radius: float, height: float, long: float, turn: float, soft: float) -> None:
    """Put an ellipse with a soft rim into a picture, where it is higher than what is there."""
    side, reach = target.shape[0], int(radius * long + 5)
    top, left = (max(int(v) - reach, 0) for v in at)
    bottom, right = (min(int(v) + reach, side) for v in at)
    if bottom <= top or right <= left:
        return
    y, x = np.mgrid[top:bottom, left:right] - np.asarray(at)[:, None, None]
    u, v = y * np.cos(turn) + x * np.sin(turn), x * np.cos(turn) - y * np.sin(turn)
    far = (np.hypot(u / (radius * long), v / radius) - 1) * radius
    block = target[top:bottom, left:right]
    np.maximum(block, (height / (1 + np.exp(np.clip(far / (0.35 * soft), -40, 40)))).astype(np.float32), out=block)


def _soft(rng: np.random.Generator, side: int, sigma: float) -> np.ndarray:
    """A field of mean 0 and standard deviation 1, smooth over `sigma` pixels."""
    field = ndimage.gaussian_filter(rng.standard_normal((side, side)), sigma, mode="wrap")
    return ((field - field.mean()) / field.std()).astype(np.float32)
