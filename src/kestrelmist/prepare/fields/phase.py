"""Phase images: what a whole turn is in a file, and turns that were lost put back."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.progress import Progress
from .unwrap import TURN, unwrapped_by_reliability

SCALES = (
    (-np.pi, np.pi, 0.0, "radians from −π to π"),
    (0.0, TURN, 0.0, "radians from 0 to 2π"),
    (-180.0, 180.0, 0.0, "degrees from −180 to 180"),
    (0.0, 360.0, 0.0, "degrees from 0 to 360"),
    (-1000 * np.pi, 1000 * np.pi, 0.0, "thousandths of radians"),
    (-2048.0, 2048.0, 0.0, "whole numbers from −2048 to 2047"),
    (0.0, 4096.0, 2048.0, "whole numbers from 0 to 4095"),
    (-4096.0, 4096.0, 0.0, "whole numbers from −4096 to 4095"),
    (0.0, 8192.0, 4096.0, "whole numbers from 0 to 8191"),
    (-32768.0, 32768.0, 0.0, "whole numbers from −32768 to 32767"),
    (0.0, 65536.0, 32768.0, "whole numbers from 0 to 65535"),
)
"""Ends of a whole turn as scanners and programs write it, where it is zero, and what it is called."""
FILLED = 0.93
"""Share of a scale that values must fill to be taken for it: air holds every phase."""
SLACK = 0.002
MANY_TURNS = 1 << 16
ROUGH = 0.5
"""Mean of unit vectors of a voxel and its neighbours below which a phase is noise."""


@dataclass(frozen=True)
class PhaseScale:
    """What a whole turn is among the values of a phase image."""

    low: float
    high: float
    zero: float
    words: str

    def radians(self, values: np.ndarray) -> np.ndarray:
        """Values as radians between −π and π, float32."""
        turns = (values.astype(np.float64) - self.zero) / (self.high - self.low)
        return (TURN * (turns - np.round(turns))).astype(np.float32)


def scale_of_phase(image: Image, turn: float = 0.0) -> PhaseScale:
    """The scale that the values of a phase image fill.

    Parameters
    ----------
    turn : number
        Difference of values that is a whole turn, when somebody knows; else 0.

    Raises
    ------
    Trouble
        When there are no values, or they fill none of the known scales.
    """
    low, high = np.inf, -np.inf
    for index in image.indices():
        values = image.frame(index).data if image.axes else image.data
        there = values[np.isfinite(values)] if values.dtype.kind == "f" else values
        if there.size:
            low, high = min(low, float(there.min())), max(high, float(there.max()))
    if not low < high:
        raise Trouble(f"“{image.name}” holds one value only, so it is no phase image", "choose another image")
    if turn > 0:
        if (high - low) / turn > MANY_TURNS:
            raise Trouble(f"A turn of {turn:g} would be less than a step of “{image.name}”", "give another")
        return PhaseScale(0.0, turn, 0.0, f"numbers of which {turn:g} are a turn")
    for a, b, zero, words in SCALES:
        room = SLACK * (b - a)
        if a - room <= low and high <= b + room and high - low >= FILLED * (b - a):
            return PhaseScale(a, b, zero, words)
    raise Trouble(
        f"The values of “{image.name}” go from {low:.5g} to {high:.5g}, which is no scale of phase that is known",
        "choose a phase image, or give the difference of values that is a whole turn",
    )


def coherence(radians: np.ndarray) -> np.ndarray:
    """How well the phase of a voxel agrees with its neighbours', 0 to 1, [k, j, i]; slopes count for nothing."""
    from scipy import ndimage

    unit = np.exp(1j * radians.astype(np.float32)).astype(np.complex64)
    total = np.zeros(radians.shape, np.float32)
    count = 0
    for axis, n in enumerate(radians.shape):
        if n < 3:
            continue
        step = np.roll(unit, -1, axis) * np.conj(unit)  # the step to the next voxel, as a turn
        size = [3 if m > 2 else 1 for m in radians.shape]
        total += np.hypot(ndimage.uniform_filter(step.real, size), ndimage.uniform_filter(step.imag, size))
        count += 1
    return total / max(count, 1)


def unwrapped(radians: np.ndarray, inside: np.ndarray, progress: Progress) -> np.ndarray:
    """A phase without jumps of a turn, in every piece of a mask; float32 [k, j, i], 0 outside.

    Whole turns are put so that the largest piece lies about zero, and every other one as close to its surroundings as
    it can be; within a piece see `unwrapped_by_reliability`.
    """
    from scipy import ndimage

    progress.at(0.1, "Unwrapping")
    inside = inside & np.isfinite(radians)
    out = unwrapped_by_reliability(radians, inside)
    progress.at(0.8, "Putting the turns of every piece in place")
    pieces, count = ndimage.label(inside)
    if not count:
        return out
    sizes = np.bincount(pieces.ravel())
    sizes[0] = 0
    done = pieces == int(sizes.argmax())
    out[done] -= TURN * np.round(np.median(out[done]) / TURN)
    if count == 1:
        return out
    near = ndimage.distance_transform_edt(~done, return_distances=False, return_indices=True)
    expected = out[tuple(near)]
    for number, where in enumerate(ndimage.find_objects(pieces), 1):
        if number == int(sizes.argmax()):
            continue
        here = pieces[where] == number
        apart = np.median((expected[where] - out[where])[here])
        out[where][here] += np.float32(TURN * np.round(apart / TURN))
    return out
