"""Made-up scans: what their noise is like."""

from __future__ import annotations

import numpy as np

from kestrelmist.core.space import Space
from kestrelmist.demo.animal import make_animal
from kestrelmist.demo.scans import scan_ct

from .row import Row


def rows(seed: int) -> list[Row]:
    animal = make_animal("noise", seed)
    affine = np.diag([0.05, 0.05, 0.05, 1.0])
    affine[:3, 3] = (-1.6, -4.0, 1.0)  # within the brain, far from the ends of the scale
    space = Space((64, 64, 32), affine)
    noise = scan_ct(animal, space, 38.0).astype(float) - scan_ct(animal, space, 0.0)
    power = (np.abs(np.fft.fft2(noise, axes=(0, 1))) ** 2).mean(2)
    radius = np.hypot(np.fft.fftfreq(64)[:, None], np.fft.fftfreq(64)[None])
    low, middle = power[(radius > 0.01) & (radius < 0.05)].mean(), power[(radius > 0.15) & (radius < 0.25)].mean()
    between = abs(float((noise[:, :, 1:] * noise[:, :, :-1]).mean() / noise.var()))
    return [
        Row("noise of a made-up CT", float(noise.std()), 36.5, 39.5, "HU", "38 HU asked for"),
        Row("its offset", abs(float(noise.mean())), at_most=1.0, unit="HU", against="none"),
        Row("its power in coarse structures", float(low / middle), at_most=0.4, against="a ramp filter: little"),
        Row("its likeness from slice to slice", between, at_most=0.03, against="slices apart"),
    ]
