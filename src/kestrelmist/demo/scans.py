"""Scanning the animal: CT numbers and MR signal with partial volume, texture, uneven brightness and right noise."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np
from scipy import fft, ndimage

from ..core.kernel import kernel
from ..core.space import Space
from .anatomy import (
    AIR,
    BRAIN,
    CORD,
    EYE,
    FIELDS,
    HIPPOCAMPUS,
    JAW,
    LENS,
    MUCOSA,
    NUCLEI,
    SEAM,
    SKIN,
    SKULL,
    TEETH,
    VENTRICLE,
    VERTEBRA,
    WHITE,
)
from .animal import Animal
from .lattice import at


def head_ct_space(size: int = 384, slices: int = 360) -> Space:
    """Grid of the head CT: coronal slices from back to front, rows running down."""
    step, thick = 28.8 / size, 28.8 / slices
    affine = np.array(
        [[step, 0, 0, -14.4 + step / 2], [0, 0, thick, -14.4 + thick / 2], [0, -step, 0, 12.9 - step / 2], [0, 0, 0, 1]]
    )
    return Space((size, size, slices), affine)


def head_mr_space() -> Space:
    """Grid of the head MR: another voxel size, tilted by a few degrees."""
    tilt, turn = np.radians((4.0, -3.0))
    about_x = np.array([[1, 0, 0], [0, np.cos(tilt), -np.sin(tilt)], [0, np.sin(tilt), np.cos(tilt)]])
    about_z = np.array([[np.cos(turn), -np.sin(turn), 0], [np.sin(turn), np.cos(turn), 0], [0, 0, 1]])
    shape, step = (160, 184, 140), 0.16
    affine = np.eye(4)
    affine[:3, :3] = about_z @ about_x * step
    affine[:3, 3] = np.array([0.0, -0.6, 0.2]) - affine[:3, :3] @ ((np.array(shape) - 1) / 2)
    return Space(shape, affine)


def head_t2_space() -> Space:
    """Grid of the T2-weighted head: coarser, and straight."""
    return centred_space((96, 110, 84), (0.27, 0.27, 0.27))


def centred_space(shape: tuple[int, int, int], spacing: tuple[float, float, float]) -> Space:
    """A straight grid round the middle of the head."""
    affine = np.diag([*spacing, 1.0])
    affine[:3, 3] = np.array([0.0, -0.6, 0.2]) - np.array(spacing) * (np.array(shape) - 1) / 2
    return Space(shape, affine)


def scan_ct(animal: Animal, space: Space, noise: float = 38.0) -> np.ndarray:
    """CT numbers (HU), int16 [i, j, k], with the noise of filtered back-projection.

    The noise has the power spectrum of a ramp filter with a smooth cut-off (S. J. Riederer et al., Phys. Med. Biol. 23,
    1978), in the plane of the slices (i, j), and is independent from slice to slice.
    """
    clean = _scan(animal, space, _ct_volume)
    rng = np.random.default_rng(animal.seed + 1)
    nk, nj, ni = clean.shape
    radius = np.hypot(np.fft.fftfreq(nj)[:, None], np.fft.rfftfreq(ni)[None])
    shape = (np.sqrt(radius) * np.cos(np.pi * np.minimum(radius, 0.5)) + 0.03).astype(np.float32)
    out = np.empty(clean.shape, np.int16)
    for k in range(0, nk, 24):
        part = rng.standard_normal((min(24, nk - k), nj, ni), np.float32)
        part = fft.irfft2(fft.rfft2(part, workers=2) * shape, s=(nj, ni), workers=2)
        part *= noise / part.std()
        out[k : k + 24] = np.clip(np.rint(clean[k : k + 24] + part), -1024, 3071)
    return out.T


SIGNALS = {
    "T1": (0.62, 0.92, 0.47, 0.74, 0.58, 0.24, 0.68, 0.10, 0.86, 0.97, 0.66, 0.16, 0.22, 0.45, 0.26, 0.40, 0.09, 0.45),
    "T2": (0.35, 0.60, 0.30, 0.52, 0.66, 1.25, 0.78, -0.03, 0.62, 0.50, 0.84, -0.14, 1.4, 0.5, 1.35, 0.15, 0.05, 0.30),
    "PD": (0.70, 0.84, 0.72, 0.80, 0.85, 0.94, 0.92, 0.02, 0.85, 0.74, 0.93, -0.07, 0.98, 0.8, 0.97, 0.5, 0.12, 0.50),
    "EP": (0.24, 0.20, 0.36, 0.30, 0.42, 0.44, 0.72, 0.03, 0.70, 0.55, 0.76, 0.02, 0.62, 0.4, 0.55, 0.20, 0.03, 0.08),
}
"""Signal by weighting: skin, fat, muscle, seams, lining of the nose, fluid round the brain, grey matter and how much
more in its depth, deep nuclei, white matter, hippocampus and how much more along its ridge, ventricles, coat of the
eye, its inside, lens, bone and how much more of marrow."""


def scan_mr(animal: Animal, space: Space, noise: float = 0.028, weighting: str = "T1") -> np.ndarray:
    """MR signal in arbitrary units, T1-weighted around 1000 for white matter, int16 [i, j, k].

    Brightness varies smoothly as near a surface coil; the noise is Rician (H. Gudbjartsson, S. Patz, Magn. Reson. Med.
    34, 1995).
    """
    clean = clean_mr(animal, space, weighting)
    rng = np.random.default_rng(animal.seed + 2 + 20 * list(SIGNALS).index(weighting))
    clean = ndimage.gaussian_filter(clean, 0.45)
    clean *= coil(space)
    real, imaginary = (noise * rng.standard_normal(clean.shape, np.float32) for _ in range(2))
    return np.rint(1000 * np.hypot(clean + real, imaginary)).astype(np.int16).T


def clean_mr(animal: Animal, space: Space, weighting: str) -> np.ndarray:
    """MR signal without noise and with the same brightness everywhere, around 1 for white matter in T1, [k, j, i]."""
    signal = np.array(SIGNALS[weighting], np.float64)
    return _scan(animal, space, lambda *given: _mr_volume(signal, *given))


def coil(space: Space) -> np.ndarray:
    """Brightness that the coil gives to each place of an MR scan, float32 [k, j, i]: known, so that a field that is
    found can be compared with it."""
    k, j, i = np.meshgrid(*(np.linspace(-1, 1, n, dtype=np.float32) for n in space.shape[::-1]), indexing="ij")
    return 1.06 - 0.16 * j - 0.10 * (k - 0.3) ** 2 + 0.05 * i * k


def _scan(animal: Animal, space: Space, kernel) -> np.ndarray:
    out = np.empty(space.shape[::-1], np.float32)
    start, steps = animal.frame(space.affine)
    step = max(1, out.shape[0] // 16)
    voxel = float(np.mean(space.spacing))
    with ThreadPoolExecutor(2) as pool:
        list(
            pool.map(
                lambda k: kernel(
                    animal.fields, animal.fine, animal.coarse, start, steps, voxel, out, k, min(k + step, out.shape[0])
                ),
                range(0, out.shape[0], step),
            )
        )
    return out


@kernel
def _share(distance, voxel):
    """Part of a voxel that lies inside a surface at a signed distance from its centre."""
    return min(max(0.5 - distance / voxel, 0.0), 1.0)


@kernel
def _ct_volume(fields, fine, coarse, start, steps, voxel, out, first, last):
    d = np.empty(FIELDS)
    for k in range(first, last):
        for j in range(out.shape[1]):
            for i in range(out.shape[2]):
                x = start[0] + steps[0, 0] * i + steps[0, 1] * j + steps[0, 2] * k
                y = start[1] + steps[1, 0] * i + steps[1, 1] * j + steps[1, 2] * k
                z = start[2] + steps[2, 0] * i + steps[2, 1] * j + steps[2, 2] * k
                skin = at(fields[SKIN], z, y, x)
                if skin > voxel:
                    out[k, j, i] = -1000.0
                    continue
                for n in range(1, FIELDS):
                    d[n] = at(fields[n], z, y, x)
                f, c = at(fine, z, y, x), at(coarse, z, y, x)
                # skin, fat, then muscle with fat in the seams between muscles
                v = 62.0 + 10.0 * f
                v += _share(skin + 0.34, voxel) * (-88.0 + 9.0 * f + 8.0 * c - v)
                v += _share(skin + 0.62 + 0.10 * c, voxel) * (54.0 + 11.0 * at(fine, z, 0.3 * y, x) + 6.0 * c - v)
                v += _share(d[SEAM] - 0.02 - 0.07 * c, 2 * voxel) * _share(skin + 0.6, voxel) * (-70.0 - v)
                v += _share(d[AIR], voxel) * (-1000.0 - v)
                v += _share(d[MUCOSA], voxel) * (35.0 - v)
                v += _share(min(d[BRAIN], d[CORD]) - 0.24, voxel) * (9.0 - v)
                v += _share(min(d[BRAIN], d[CORD]), voxel) * (36.0 + 5.0 * f + 3.0 * c - v)
                v += _share(d[WHITE], voxel) * (29.0 - v)
                v += _share(d[VENTRICLE], voxel) * (8.0 - v)
                v += _share(d[EYE], voxel) * (14.0 - v)
                v += _share(d[EYE] + 0.20, voxel) * (8.0 - v)
                v += _share(d[LENS], voxel) * (84.0 - v)
                bone = min(min(d[SKULL], d[JAW]), d[VERTEBRA])
                # dense outside, spongy where it is thick
                deep = min(max((-bone - 0.28) / 0.25, 0.0), 1.0)
                v += _share(bone, voxel) * (1300.0 + 45.0 * c + 30.0 * f - deep * (330.0 + 110.0 * f) - v)
                v += _share(d[TEETH] + 0.10, 2 * voxel) * _share(bone + 0.05, voxel) * (2150.0 + 60.0 * c - v)
                out[k, j, i] = -1000.0 + _share(skin, voxel) * (v + 1000.0)


@kernel
def _mr_volume(signal, fields, fine, coarse, start, steps, voxel, out, first, last):
    d = np.empty(FIELDS)
    for k in range(first, last):
        for j in range(out.shape[1]):
            for i in range(out.shape[2]):
                x = start[0] + steps[0, 0] * i + steps[0, 1] * j + steps[0, 2] * k
                y = start[1] + steps[1, 0] * i + steps[1, 1] * j + steps[1, 2] * k
                z = start[2] + steps[2, 0] * i + steps[2, 1] * j + steps[2, 2] * k
                skin = at(fields[SKIN], z, y, x)
                if skin > voxel:
                    out[k, j, i] = 0.0
                    continue
                for n in range(1, FIELDS):
                    d[n] = at(fields[n], z, y, x)
                f, c = at(fine, z, y, x), at(coarse, z, y, x)
                v = signal[0] + 0.03 * f
                v += _share(skin + 0.34, voxel) * (signal[1] + 0.07 * c + 0.05 * f - v)
                fibre = at(fine, z, 0.3 * y, x)
                v += _share(skin + 0.62 + 0.10 * c, voxel) * (signal[2] + 0.045 * fibre + 0.04 * c - v)
                v += (
                    _share(d[SEAM] - 0.02 - 0.07 * c, 2 * voxel)
                    * _share(skin + 0.6, voxel)
                    * (signal[3] + 0.05 * f - v)
                )
                v += _share(d[AIR], voxel) * (0.0 - v)
                v += _share(d[MUCOSA], voxel) * (signal[4] - v)
                v += _share(min(d[BRAIN], d[CORD]) - 0.24, voxel) * (signal[5] - v)
                # grey matter, a shade darker at the rim, brighter in the depth
                depth = min(max(-d[BRAIN] / 1.6, 0.0), 1.0)
                v += _share(min(d[BRAIN], d[CORD]), voxel) * (signal[6] + signal[7] * depth + 0.022 * f + 0.030 * c - v)
                v += _share(d[NUCLEI], 3 * voxel) * (signal[8] + 0.02 * f + 0.02 * c - v)
                v += _share(d[WHITE], 1.3 * voxel) * (signal[9] + 0.03 * f - v)
                ridge = max(0.0, 1.0 - abs(d[HIPPOCAMPUS] + 0.33) / 0.12)
                v += _share(d[HIPPOCAMPUS], voxel) * (signal[10] + signal[11] * ridge - v)
                v += _share(d[VENTRICLE], voxel) * (signal[12] - v)
                v += _share(d[EYE], voxel) * (signal[13] - v)
                v += _share(d[EYE] + 0.20, voxel) * (signal[14] - v)
                v += _share(d[LENS], voxel) * (signal[15] + 0.10 * min(1.0, -d[LENS]) - v)
                bone = min(min(d[SKULL], d[JAW]), d[VERTEBRA])
                marrow = min(max((-bone - 0.30) / 0.2, 0.0), 1.0)
                v += _share(bone, voxel) * (signal[16] + signal[17] * marrow - v)
                out[k, j, i] = v * _share(skin, voxel)
