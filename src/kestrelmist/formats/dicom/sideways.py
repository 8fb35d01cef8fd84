"""Slices of a stack that lie sideways of the others: found by where each should lie, and brought there when asked."""

from __future__ import annotations

import numpy as np

from ...core.caveat import SLICES_SIDEWAYS, SLICES_UNEVEN
from ..series import Series
from .header import Slice

SIDEWAYS = "Sideways"
"""Key of a slice's header: by how many pixels it lies to the right and below where it should."""
FAR = 0.5
"""Pixels; less may be how positions are rounded."""
WHOLE = 0.01
"""Pixels from whole ones that are none."""
FEWEST = 4
"""Slices of which one can be told from the others; of three that lie on no line, nobody knows which is off."""


def note_sideways(series: Series) -> None:
    """Find slices whose place in their plane is off the line on which the others lie (a line through medians: H. Theil,
    1950; P. K. Sen, J. Am. Stat. Assoc. 63, 1968), and note them."""
    row, column = series.first.orientation
    spacing = series.spacing
    if spacing is None:
        return
    off: list[tuple[int, float]] = []
    for t, volume in enumerate(series.grid):
        there = [(k, s) for k, s in enumerate(volume) if s is not None]
        if len(there) < 3:
            continue
        places = np.array([k for k, _ in there], float)
        at = np.array([(s.position @ row / spacing[0], s.position @ column / spacing[1]) for _, s in there])
        lean = np.median(np.diff(at, axis=0) / np.diff(places)[:, None], axis=0)
        base = np.median(at - places[:, None] * lean, axis=0)
        away = at - base - places[:, None] * lean
        if len(there) < FEWEST:
            if np.abs(away).max() > FAR / 2:
                series.doubt(SLICES_UNEVEN, "The three slices do not lie on one line")
            continue
        for (k, s), (right, down) in zip(there, away):
            if max(abs(right), abs(down)) > FAR:
                s.header = {**s.header, SIDEWAYS: (float(right), float(down))}
                off.append((k, float(np.hypot(right * spacing[0], down * spacing[1]))))
        if t == 0 and off:
            normal = np.cross(row, column)
            along = float(np.median([s.position @ normal - series.step * k for k, s in there]))
            series.line = (
                base[0] * spacing[0] * row + base[1] * spacing[1] * column + along * normal,
                lean[0] * spacing[0] * row + lean[1] * spacing[1] * column + series.step * normal,
            )
    if off:
        at_places = sorted({k + 1 for k, _ in off})
        count = f"{len(off)} slices lie" if len(off) > 1 else "1 slice lies"
        far = max(mm for _, mm in off)
        series.doubt(
            SLICES_SIDEWAYS,
            f"{count} sideways of the others, by up to {far:.3g} mm, at place "
            + ", ".join(map(str, at_places[:5]))
            + (" …" if len(at_places) > 5 else ""),
        )


def in_place(s: Slice, raw: np.ndarray) -> np.ndarray:
    """Pixels [row, column] of a slice that lies sideways, where they belong: by whole pixels as they are, else linearly
    between them; what it does not reach has its lowest value."""
    moved = s.header.get(SIDEWAYS)
    if moved is None:
        return raw
    from scipy import ndimage

    right, down = moved
    by = (down, right, *[0.0] * (raw.ndim - 2))
    whole = max(abs(v - round(v)) for v in by) < WHOLE
    by = tuple(float(round(v)) for v in by) if whole else by
    low = float(raw.min())
    values = ndimage.shift(raw.astype(np.float64), by, order=0 if whole else 1, mode="constant", cval=low)
    return (np.rint(values) if raw.dtype.kind in "iu" else values).astype(raw.dtype)
