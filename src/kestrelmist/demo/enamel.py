"""Made-up height maps of tooth enamel: a window etched by acid, seen by a scanning probe, with all that such maps have
on them; the truth of each is known."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

PIXEL = 0.1
"""Micrometres from point to point."""


@dataclass(frozen=True)
class Enamel:
    """A map, and what it is made of: arrays (rows, columns), heights in nm.

    Parameters
    ----------
    heights : float32
        As measured; NaN where the probe lost the surface.
    surface : float64
        Without tilt, bow, jumps, dust and noise; 0 is the sound enamel's mean.
    etched, dust : bool
        Where the floor of the window is flat, and where something lies on the surface.
    sound : bool
        Where the enamel was not etched.
    depth : nm
        Of the window.
    """

    heights: np.ndarray
    surface: np.ndarray
    sound: np.ndarray
    etched: np.ndarray
    dust: np.ndarray
    depth: float


def enamel(seed: int, size: int = 512, depth: float | None = None, scale: float = 1.0) -> Enamel:
    """A map of `size` × `size` points, the window about a third of its width; every seed has its own depth, tilt, bow,
    jumps and dust. `scale` multiplies tilt, bow and jumps."""
    rng = np.random.default_rng([41, seed])
    depth = float(rng.uniform(300, 1500)) if depth is None else depth
    y, x = np.mgrid[0:size, 0:size] * PIXEL
    wide = size * PIXEL
    texture = _prisms(x, y, rng) + 5 * _soft(rng, size, 6) + 2 * _soft(rng, size, 1.5)
    edges = [wide * (0.5 + side * rng.uniform(0.16, 0.18)) + 0.25 * _soft(rng, size, 25)[:, :1] for side in (-1, 1)]
    blur = 0.25
    inside = (np.tanh((x - edges[0]) / blur) - np.tanh((x - edges[1]) / blur)) / 2
    sound, etched = inside < 1e-4, inside > 1 - 1e-4
    texture -= np.where(inside > 0.5, texture[etched].mean(), texture[sound].mean())
    surface = texture - depth * inside
    dust = np.zeros((size, size), bool)
    heights = surface.copy()
    for _ in range(int(rng.integers(5, 9))):
        at, radius = rng.uniform(0.05, 0.95, 2) * wide, rng.uniform(0.4, 1.6)
        away = np.hypot(x - at[0], y - at[1]) / radius
        heights += rng.uniform(300, 1500) * np.clip(1 - away**2, 0, None) ** 0.5
        dust |= away < 1.15
    u, v = 2 * x / wide - 1, 2 * y / wide - 1
    heights += scale * (rng.normal(0, 400) * u + rng.normal(0, 300) * v + rng.uniform(80, 250) * u**2)
    jumps = rng.normal(0, 4, size)
    for line in rng.integers(20, size - 20, 3):
        jumps[line:] += rng.normal(0, 60)
    heights += scale * jumps[:, None] + rng.normal(0, 1.5, (size, size))
    for _ in range(3):
        row, column = rng.integers(10, size - 10, 2)
        heights[row : row + 4, column : column + int(rng.integers(3, 20))] = np.nan
    return Enamel(heights.astype(np.float32), surface, sound & ~dust, etched & ~dust, dust, depth)


def _prisms(x: np.ndarray, y: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Ends of prisms, five micrometres apart in rows, each a shallow keyhole."""
    apart, turn = rng.uniform(4.6, 5.4), rng.uniform(0, np.pi)
    u, v = x * np.cos(turn) + y * np.sin(turn), y * np.cos(turn) - x * np.sin(turn)
    row = np.round(v / (apart * 0.87))
    du = (u + 0.5 * apart * (row % 2) + apart / 2) % apart - apart / 2
    dv = v - row * apart * 0.87
    away = np.hypot(du, dv - 0.25 * np.abs(du))
    return ndimage.gaussian_filter(30 * np.tanh(4 * (away / apart - 0.42)), 3.5)


def _soft(rng: np.random.Generator, size: int, sigma: float) -> np.ndarray:
    """A field of mean 0 and standard deviation 1, smooth over `sigma` points."""
    field = ndimage.gaussian_filter(rng.standard_normal((size, size)), sigma, mode="wrap")
    return (field - field.mean()) / field.std()
