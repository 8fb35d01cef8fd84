"""How far the magnetic field at each place of the head is from where it should be: what air beside tissue does to it.

The susceptibility of a body sets up a field that is a convolution with a dipole, a product in the Fourier domain (J. P.
Marques and R. Bowtell, Concepts Magn. Reson. B 25, 2005). The shim takes out the best polynomial of second order in the
brain.
"""

from __future__ import annotations

import numpy as np
from scipy import fft

from .anatomy import AIR, BRAIN, JAW, MUCOSA, SKIN, SKULL, VERTEBRA
from .animal import LOW, STEP, Animal

FIELD_STRENGTH = 4.7
"""T."""
HZ_A_PPM = 42.577 * FIELD_STRENGTH
IN_AIR, IN_TISSUE, BONE_MORE = 0.36, -9.05, -1.8
"""Susceptibility in parts per million."""
COARSER, MARGIN, ORDER = 2, 30, 2


def off_resonance(animal: Animal) -> tuple[np.ndarray, np.ndarray, float]:
    """Frequency off resonance (Hz) on a lattice [z, y, x], where its first point lies (mm), and its step (mm).

    The main field runs along y, from back to front. Where there is air the numbers mean nothing.
    """
    fields = animal.fields[:, ::COARSER, ::COARSER, ::COARSER]
    step = STEP * COARSER

    def share(distance: np.ndarray) -> np.ndarray:
        return np.clip(0.5 - distance / step, 0, 1)

    hollow = share(fields[AIR])
    body = share(fields[SKIN]) * (1 - hollow) + hollow * share(fields[MUCOSA])
    bone = share(np.minimum(np.minimum(fields[SKULL], fields[JAW]), fields[VERTEBRA]))
    ppm = dipole_field(IN_AIR + body * (IN_TISSUE - IN_AIR + BONE_MORE * bone))
    return (_shimmed(ppm, fields[BRAIN] < 0, step) * HZ_A_PPM).astype(np.float32), LOW.copy(), step


def dipole_field(chi: np.ndarray) -> np.ndarray:
    """The field that a susceptibility [z, y, x] sets up in a field along y, both in parts per million.

    What lies at the edge goes on beyond it, as the trunk does.
    """
    wide = np.pad(chi, MARGIN, mode="edge")
    size = [fft.next_fast_len(n, real=True) for n in wide.shape]
    kz, ky, kx = np.meshgrid(*(np.fft.fftfreq(n) for n in size[:2]), np.fft.rfftfreq(size[2]), indexing="ij")
    square = kx**2 + ky**2 + kz**2
    square[0, 0, 0] = 1.0
    dipole = 1 / 3 - ky**2 / square
    dipole[0, 0, 0] = 0.0
    inner = tuple(slice(MARGIN, MARGIN + n) for n in chi.shape)
    return fft.irfftn(fft.rfftn(wide, size, workers=2) * dipole, size, workers=2)[inner]


def _shimmed(field: np.ndarray, inside: np.ndarray, step: float) -> np.ndarray:
    z, y, x = np.meshgrid(*(low + step * np.arange(n) for low, n in zip(LOW[::-1], field.shape)), indexing="ij")
    powers = [(a, b, c) for a in range(ORDER + 1) for b in range(ORDER + 1 - a) for c in range(ORDER + 1 - a - b)]
    terms = [x**a * y**b * z**c for a, b, c in powers]
    weights = np.linalg.lstsq(np.stack([t[inside] for t in terms], 1), field[inside], rcond=None)[0]
    return field - sum(w * t for w, t in zip(weights, terms))
