"""How a volume comes about whose lines are read in one go: samples inside every voxel, each shifted along the lines by
how far it is off resonance, turned by its phase at the echo, and added up.

Signal that drops out where the field changes within a voxel, and signal that is piled up or drawn out, follow from that
and are not put in by hand.
"""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from ..core.kernel import kernel
from ..core.space import Space
from .lattice import at


def acquired(
    signals: np.ndarray,
    weights: np.ndarray,
    field: np.ndarray,
    frames: tuple[np.ndarray, np.ndarray],
    shape: tuple[int, int, int],
    pose: np.ndarray,
    space: Space,
    shift: float,
    echo: float,
) -> np.ndarray:
    """Complex signal [k, j, i] of one volume.

    Parameters
    ----------
    signals : float32 array [n, z, y, x]
        What is summed up with weights.
    weights : array [k, n]
        For each slice, as its signal at the time that it is taken.
    field : float32 array [z, y, x], Hz
    frames : two arrays (4, 4)
        From a place in the head (mm) to lattice coordinates x, y, z of `signals` and of `field`.
    shape : tuple
        Voxels along i, j, k.
    pose : array (4, 4)
        Where a place of the head is in the scanner's world.
    space : Space
        Grid of the scanner.
    shift : voxels a Hz
        Along j.
    echo : s
    """
    to_head = np.linalg.inv(pose) @ space.affine
    one, two = ((frame @ to_head)[:3] for frame in frames)
    out = np.zeros((*shape[::-1], 2))
    with ThreadPoolExecutor(2) as pool:
        list(
            pool.map(
                lambda k: _slice(signals, weights[k], field, one, two, shift, 2 * math.pi * echo, k, out[k]),
                range(shape[2]),
            )
        )
    return out[..., 0] + 1j * out[..., 1]


@kernel
def _slice(signals, weights, field, one, two, shift, turn, k, out):
    nj, ni = out.shape[0], out.shape[1]
    beyond = 6  # lines outside the grid whose signal may be shifted into it
    a, b, c = 2, 4, 6
    for jj in range(-beyond * b, (nj + beyond) * b):
        j = (jj + 0.5) / b - 0.5
        for ii in range(ni * a):
            i = (ii + 0.5) / a - 0.5
            for kk in range(c):
                z = k + (kk + 0.5) / c - 0.5
                x1 = one[0, 0] * i + one[0, 1] * j + one[0, 2] * z + one[0, 3]
                y1 = one[1, 0] * i + one[1, 1] * j + one[1, 2] * z + one[1, 3]
                z1 = one[2, 0] * i + one[2, 1] * j + one[2, 2] * z + one[2, 3]
                if not (0 <= x1 < signals.shape[3] - 1 and 0 <= y1 < signals.shape[2] - 1):
                    continue
                if not 0 <= z1 < signals.shape[1] - 1:
                    continue
                value = 0.0
                for n in range(signals.shape[0]):
                    if weights[n] != 0.0:
                        value += weights[n] * at(signals[n], z1, y1, x1)
                if value <= 0.0:
                    continue
                x2 = two[0, 0] * i + two[0, 1] * j + two[0, 2] * z + two[0, 3]
                y2 = two[1, 0] * i + two[1, 1] * j + two[1, 2] * z + two[1, 3]
                z2 = two[2, 0] * i + two[2, 1] * j + two[2, 2] * z + two[2, 3]
                off = at(field, z2, y2, x2)
                to = j + shift * off
                low = math.floor(to)
                share = to - low
                real, imaginary = value * math.cos(turn * off), value * math.sin(turn * off)
                for line, part in ((int(low), 1.0 - share), (int(low) + 1, share)):
                    if 0 <= line < nj:
                        out[line, ii // a, 0] += part * real / (a * b * c)
                        out[line, ii // a, 1] += part * imaginary / (a * b * c)
