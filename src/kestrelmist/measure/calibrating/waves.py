"""The waves of a picture whose marks come again at one distance: their frequencies, to a small part of a cycle."""

from __future__ import annotations

import math

import numpy as np

LOOKED_AT = 1.3e6
"""Pixels of the picture that the first guess is made in; a larger one is made coarser for it."""
BLOCKS = 24
"""Along the longer side, in which phases are told."""
TRIED, NEAR = 6, 3
"""Waves that are tried one after another, and how many steps of the transform round one belong to it."""
FEWEST = 4
"""Cycles that a picture has to show, and marks."""


def strongest(picture: np.ndarray) -> list[np.ndarray]:
    """Cycles a column and a row of the strongest waves, the strongest first, to a part of a step of the transform.

    Edges and uneven light are strong in slow waves; what counts is how much a wave stands out among those as fast.
    """
    from scipy import fft

    coarse = max(1, math.ceil(math.sqrt(picture.size / LOOKED_AT)))
    rows, columns = (n // coarse for n in picture.shape)
    small = picture[: rows * coarse, : columns * coarse]
    if coarse > 1:
        small = small.reshape(rows, coarse, columns, coarse).mean((1, 3))
    small = small - small.mean()
    taper = np.hanning(rows + 2)[1:-1, None] * np.hanning(columns + 2)[None, 1:-1]
    power = np.abs(fft.rfft2((small * taper).astype(np.float32), workers=2))
    fv, fu = fft.fftfreq(rows)[:, None] * rows, fft.rfftfreq(columns)[None] * columns
    cycles = np.hypot(fu, fv)  # about the cycles over the picture
    power[cycles < FEWEST - 0.5] = 0
    usual = float(np.median(power[power > 0])) if (power > 0).any() else 0.0
    found: list[np.ndarray] = []
    ranked = power * np.sqrt(cycles)
    for _ in range(TRIED):
        n, m = map(int, np.unravel_index(int(ranked.argmax()), ranked.shape))
        if not power[n, m] > 12 * usual:
            break
        fine = [_parabola(power, n, m, axis) for axis in (0, 1)]
        one = np.array(((m + fine[1]) / columns, (float(fv[n, 0]) + fine[0]) / rows)) / coarse
        found.append(-one if one[0] < 0 else one)
        beside = np.abs(np.arange(rows) - n)
        beside = np.minimum(beside, rows - beside)[:, None] <= NEAR
        ranked = np.where(beside & (np.abs(np.arange(power.shape[1]) - m)[None] <= NEAR), 0, ranked)
    return found


def _parabola(power: np.ndarray, n: int, m: int, axis: int) -> float:
    """By how much a peak lies beside its highest place."""
    size = power.shape[axis]
    at = n if axis == 0 else m
    near = [(at + d) % size if axis == 0 else min(abs(at + d), size - 1) for d in (-1, 0, 1)]
    low, top, high = (math.log(max(float(power[p, m] if axis == 0 else power[n, p]), 1e-30)) for p in near)
    bend = low - 2 * top + high
    return 0.5 * (low - high) / bend if bend < 0 else 0.0


def by_phase(picture: np.ndarray, frequency: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The frequency by how its phase runs over blocks of the picture; phases and strengths [row, column of blocks]."""
    rows, columns = picture.shape
    side = max(8, max(rows, columns) // BLOCKS, int(math.ceil(1.0 / np.hypot(*frequency))))
    side = min(side, rows, columns)
    down, across = rows // side, columns // side
    cut = picture[: down * side, : across * side]
    # light that falls unevenly is no part of the wave
    grounds = cut.reshape(down, side, across, side).mean((1, 3), keepdims=True)
    cut = (cut.reshape(down, side, across, side) - grounds).reshape(cut.shape)
    for _ in range(3):
        right = np.exp(-2j * np.pi * frequency[0] * np.arange(across * side)).reshape(across, side)
        below = np.exp(-2j * np.pi * frequency[1] * np.arange(down * side)).reshape(down, side)
        by_row = np.empty((down * side, across), np.complex64)
        blocks = cut.reshape(down * side, across, side)
        for n in range(across):
            by_row[:, n] = blocks[:, n] @ right[n].astype(np.complex64)
        found = (by_row.reshape(down, side, across) * below[:, :, None]).sum(1)
        strength = np.abs(found)
        weights = np.where(strength >= 0.4 * np.percentile(strength, 90), strength, 0)
        shift = [0.0, 0.0]
        for axis, count in ((1, across), (0, down)):
            if count > 1:
                one, other = (found[:, :-1], found[:, 1:]) if axis == 1 else (found[:-1], found[1:])
                pair = (weights[:, :-1] * weights[:, 1:]) if axis == 1 else (weights[:-1] * weights[1:])
                turn = np.angle((pair * other * np.conj(one) / np.maximum(np.abs(other * one), 1e-30)).sum())
                shift[0 if axis == 1 else 1] = float(turn) / (2 * np.pi * side)
        frequency = frequency + shift
        if max(map(abs, shift)) * max(rows, columns) < 1e-4:
            break
    return frequency, np.angle(found), strength
