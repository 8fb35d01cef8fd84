"""A functional run of an animal with all that goes wrong in one, each part of it known: the head moves, slices are
taken one after another, the field distorts and takes signal away, the first volumes are not steady, heart and breath
pulse.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from scipy import ndimage

from ..core.rigid import matrix_of
from ..core.space import Space
from .anatomy import BRAIN, VENTRICLE
from .animal import Animal
from .echo_planar import acquired
from .lattice import sampled
from .off_resonance import off_resonance
from .scans import clean_mr

REPEAT, ECHO = 1.4, 0.014
"""s."""
SPACING = 0.000384
"""Time between the echoes of two lines, s."""
DIRECTION = "j"
"""Lines are read along this axis of the image; what is above resonance is shifted this way."""
MAP_ECHOES = (0.004, 0.0065)
"""Echo times of the field map, s."""
BRIGHT = 620.0
"""Signal of what has the brightness 1."""
NOISE = 9.0
BEATS, BREATHS = 0.7, 0.13
"""A second; a dormouse's heart is slow in its winter sleep."""
FINE = 0.2
"""Step of the lattice of signals, mm."""


def odour_space() -> Space:
    """Grid of the odour run: 16 axial slices of 48 × 48, the uppermost first."""
    affine = np.diag([0.45, -0.45, -1.1, 1.0])
    affine[:3, 3] = (-10.6, 9.6, 10.0)
    return Space((48, 48, 16), affine)


def map_space() -> Space:
    """Grid of the field map: thinner slices, the lowest first, over all of the head that the run sees."""
    affine = np.diag([0.5, 0.5, 0.8, 1.0])
    affine[:3, 3] = (-11.75, -14.0, -8.6)
    return Space((48, 52, 24), affine)


def slice_times(slices: int) -> np.ndarray:
    """When each slice is taken, s after the start of its volume: every second one first."""
    order = np.argsort([n % 2 * slices + n for n in range(slices)])
    times = np.empty(slices)
    times[order] = np.arange(slices) * REPEAT / slices
    return times


@dataclass
class FunctionalRun:
    """A run, its reference volume, its field map, and the truth of each.

    Parameters
    ----------
    animal : Animal
    times : int
        Volumes.
    """

    animal: Animal
    times: int = 40
    space: Space = field(default_factory=odour_space)
    map_space: Space = field(default_factory=map_space)

    def __post_init__(self):
        self.rng = np.random.default_rng(self.animal.seed + 9)
        self.moved = _motion(self.times, np.random.default_rng(self.animal.seed + 12))
        self.map_moved = np.array([0.08, -0.12, 0.06, *np.radians((0.4, -0.3, 0.5))])

    # what there is

    @cached_property
    def _lattice(self) -> tuple[np.ndarray, np.ndarray]:
        """Signals [n, z, y, x], and the matrix from mm to their coordinates: the head, what answers the odour, what
        the heart pulses in, the brain's share."""
        low, high = np.array([-12.6, -16.0, -10.4]), np.array([12.6, 12.0, 12.6])
        shape = tuple(np.ceil((high - low) / FINE).astype(int) + 1)
        affine = np.diag([FINE, FINE, FINE, 1.0])
        affine[:3, 3] = low
        fine = Space(shape, affine)
        head = clean_mr(self.animal, fine, "EP")
        z, y, x = np.meshgrid(*(low[n] + FINE * np.arange(shape[n]) for n in (2, 1, 0)), indexing="ij", sparse=True)
        answers = head * np.exp(-(((np.abs(x) - 2.4) / 1.3) ** 2) - ((y - 0.8) / 1.7) ** 2 - ((z - 2.8) / 1.5) ** 2)
        near = np.abs(sampled(self.animal.fields[VENTRICLE], *self.animal.frame(affine), head.shape))
        base = np.exp(-((x / 3.0) ** 2) - ((y + 4.0) / 4.0) ** 2 - ((z + 2.2) / 1.2) ** 2)
        pulses = head * np.maximum(np.exp(-((near / 0.4) ** 2)), base)
        brain = np.clip(0.5 - sampled(self.animal.fields[BRAIN], *self.animal.frame(affine), head.shape) / FINE, 0, 1)
        return np.stack([head, answers, pulses, brain]).astype(np.float32), np.linalg.inv(affine)

    @cached_property
    def _field(self) -> tuple[np.ndarray, np.ndarray]:
        values, low, step = off_resonance(self.animal)
        frame = np.diag([1 / step, 1 / step, 1 / step, 1.0])
        frame[:3, 3] = -low / step
        return values, frame

    def coil(self, space: Space) -> np.ndarray:
        """Brightness that the coil gives to each place, [k, j, i]: known, and the same wherever the head is."""
        x, y, z = space.to_world(np.indices(space.shape).reshape(3, -1).T).T.reshape(3, *space.shape)
        x, y, z = x / 12, (y + 1) / 12, (z - 1) / 10
        return (1.0 + 0.22 * z - 0.10 * y - 0.16 * (x**2 + y**2) + 0.06 * x * z).T

    def answer(self, moment: np.ndarray) -> np.ndarray:
        """Whether the odour is there at a time (s): blocks of five volumes."""
        return (np.floor(moment / (5 * REPEAT)) % 2).astype(float)

    def pulse(self, moment: np.ndarray) -> np.ndarray:
        """The heart at a time (s), −1 to 1."""
        return np.sin(2 * np.pi * (BEATS * moment + 0.3 * np.sin(2 * np.pi * 0.021 * moment)))

    def breath(self, moment: np.ndarray) -> np.ndarray:
        """The breathing at a time (s), −1 to 1."""
        return np.sin(2 * np.pi * (BREATHS * moment + 0.25 * np.sin(2 * np.pi * 0.013 * moment + 1.0)))

    # what is taken

    def volume(self, n: int) -> np.ndarray:
        """Volume `n` of the run, uint16 [i, j, k]."""
        moment = n * REPEAT + slice_times(self.space.shape[2])
        steady = 1 + 0.3 * 0.25**n
        whole = steady * (1 + 0.006 * self.breath(moment))
        weights = np.stack([whole, whole * 0.04 * self.answer(moment), whole * 0.02 * self.pulse(moment), 0 * whole], 1)
        return self._noisy(self._taken(weights, self.pose(n)), self.space)

    def reference(self, pose: np.ndarray | None = None) -> np.ndarray:
        """A single volume taken apart from the run: no motion, steady; uint16 [i, j, k]. The head lies in it by a
        pose (4, 4), or as it does in the anatomy."""
        weights = np.zeros((self.space.shape[2], 4))
        weights[:, 0] = 1.0
        return self._noisy(self._taken(weights, np.eye(4) if pose is None else pose), self.space)

    def field_map(self) -> tuple[list[np.ndarray], list[np.ndarray], np.ndarray]:
        """Magnitudes (uint16) and phases (0 to 4095) of two echoes, and the phase difference (−4096 to 4094), all
        [i, j, k], wrapped as they are in files."""
        pose, weights = matrix_of(self.map_moved, self.map_space.centre), np.zeros((self.map_space.shape[2], 4))
        weights[:, 0] = 1.0
        seen = []
        x = np.linspace(-1, 1, self.map_space.shape[0])
        receiving = np.exp(1j * (0.7 + 1.1 * x))[None, None, :]  # phase of the coil, the same in both echoes
        for echo in MAP_ECHOES:
            clean = self._taken(weights, pose, self.map_space, 0.0, echo) * BRIGHT * self.coil(self.map_space)
            noise = self.rng.normal(0, 5.0, (2, *clean.shape))
            seen.append(clean * receiving + noise[0] + 1j * noise[1])
        sizes = [np.rint(np.abs(s)).astype(np.uint16).T for s in seen]
        angles = [np.angle(s) for s in seen]
        phases = [np.clip(np.floor((a / (2 * np.pi) + 0.5) * 4096), 0, 4095).astype(np.int16).T for a in angles]
        apart = np.angle(seen[1] * np.conj(seen[0]))
        return sizes, phases, (2 * np.clip(np.rint(apart / np.pi * 2048), -2048, 2047)).astype(np.int16).T

    # what is true

    def pose(self, n: int) -> np.ndarray:
        """Where a place of the reference is in volume `n`, (4, 4)."""
        return matrix_of(self.moved[n], self.space.centre)

    def true_field(self, space: Space, pose: np.ndarray | None = None) -> np.ndarray:
        """Hz off resonance at the voxels of a grid, [i, j, k]."""
        values, frame = self._field
        affine = frame @ (np.eye(4) if pose is None else np.linalg.inv(pose)) @ space.affine
        return sampled(values, affine[:3, 3], affine[:3, :3], space.shape[::-1]).T

    @property
    def voxels_a_hz(self) -> float:
        """How far what is off resonance is shifted along j, in voxels."""
        return SPACING * self.space.shape[1] * (-1 if DIRECTION.endswith("-") else 1)

    def true_brain(self, distorted: bool = True) -> np.ndarray:
        """The brain as it lies in the run (in its reference), or where it would lie without distortion; [i, j, k]."""
        weights = np.zeros((self.space.shape[2], 4))
        weights[:, 3] = 1.0
        return (self._taken(weights, np.eye(4), shift=None if distorted else 0.0, echo=0.0).real > 0.5).T

    def kept_signal(self) -> np.ndarray:
        """Share of the signal that does not drop out, at the true places, [i, j, k]."""
        weights = np.zeros((self.space.shape[2], 4))
        weights[:, 0] = 1.0
        whole = np.abs(self._taken(weights, np.eye(4), shift=0.0, echo=0.0))
        return (np.abs(self._taken(weights, np.eye(4), shift=0.0)) / np.maximum(whole, 1e-9)).T

    def undistorted(self) -> np.ndarray:
        """The reference as it would be without distortion, loss and noise, float32 [i, j, k]."""
        weights = np.zeros((self.space.shape[2], 4))
        weights[:, 0] = 1.0
        return (np.abs(self._taken(weights, np.eye(4), shift=0.0, echo=0.0)) * BRIGHT * self.coil(self.space)).T

    def _taken(self, weights, pose, space: Space | None = None, shift: float | None = None, echo: float = ECHO):
        space = space or self.space
        signals, one = self._lattice
        values, two = self._field
        shift = self.voxels_a_hz if shift is None else shift
        return acquired(signals, weights, values, (one, two), space.shape, pose, space, shift, echo)

    def _noisy(self, clean: np.ndarray, space: Space) -> np.ndarray:
        """Magnitude with Rician noise (H. Gudbjartsson, S. Patz, Magn. Reson. Med. 34, 1995)."""
        seen = np.abs(clean) * BRIGHT * self.coil(space)
        noise = self.rng.normal(0, NOISE, (2, *seen.shape))
        return np.rint(np.hypot(seen + noise[0], noise[1])).astype(np.uint16).T


def _motion(times: int, rng: np.random.Generator) -> np.ndarray:
    """Six numbers a volume (mm, rad), see `core.rigid.matrix_of`: a slow drift, and a few jerks that stay in part."""
    t = np.linspace(0, 1, times)[:, None]
    reach = np.array([0.22, 0.22, 0.28, *np.radians((0.9, 0.7, 0.7))])
    moved = reach * (0.8 * t**0.8 * rng.uniform(-1, 1, 6) + 0.25 * np.sin(3 * np.pi * t + rng.uniform(0, 6, 6)))
    for _ in range(3):
        at, size = int(rng.integers(times // 5, max(times, 1) + 1)), reach * rng.uniform(-1, 1, 6)
        n = np.arange(times) - at
        moved += np.where(n >= 0, 0.4 + 0.6 * np.exp(-np.maximum(n, 0) / 1.5), 0.0)[:, None] * size * 0.8
    still = ndimage.gaussian_filter1d(rng.normal(0, 0.03, (times, 6)), 0.7, axis=0) * reach
    return moved + still
