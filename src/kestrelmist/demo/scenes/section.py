"""A brown-fat section under the microscope."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
from scipy import ndimage

from ...core.axis import Axis
from ...core.image import Image
from ...core.space import picture_space
from ...formats.tiff_write import save_ome_tiff
from ..scene import Station, scene


def section(seed: int = 12, side: int = 1536) -> tuple[np.ndarray, int]:
    """A brown-fat section, two channels [channel, row, column] uint16 (lipid, nuclei), and how many nuclei it shows."""
    rng = np.random.default_rng(seed)
    cells: list = []
    for _ in range(6000):  # cell centres no closer than a cell's width
        at = rng.uniform(20, side - 20, 2)
        if not cells or np.min(np.hypot(*(np.array(cells) - at).T)) > 52:
            cells.append(at)
    lipid, nuclei = np.zeros((side, side), np.float32), np.zeros((side, side), np.float32)

    def add(target, at, radii, height, turn=0.0, soft=1.6):
        reach = int(max(radii) + 5)
        if not (0 <= at[0] < side and 0 <= at[1] < side):
            return
        top, left = (max(int(v) - reach, 0) for v in at)
        y, x = (
            np.mgrid[top : min(int(at[0]) + reach, side), left : min(int(at[1]) + reach, side)]
            - np.array(at)[:, None, None]
        )
        u, v = y * math.cos(turn) + x * math.sin(turn), x * math.cos(turn) - y * math.sin(turn)
        far = (np.hypot(u / radii[0], v / radii[1]) - 1) * min(radii)
        part = height / (1 + np.exp(np.clip(far / soft, -40, 40)))
        block = target[top : top + y.shape[0], left : left + y.shape[1]]
        np.maximum(block, part, out=block)

    for at in cells:
        for _ in range(int(rng.integers(14, 30))):
            add(lipid, at + rng.normal(0, 15, 2), [rng.uniform(2.2, 7.5)] * 2, rng.uniform(0.55, 1.0))
        add(
            nuclei,
            at + rng.normal(0, 4, 2),
            rng.uniform((6.5, 8.0), (8.5, 11.0)),
            rng.uniform(0.6, 1.0),
            rng.uniform(0, np.pi),
            1.2,
        )
    lipid *= 1 - 0.9 * np.minimum(nuclei, 1)
    texture = ndimage.gaussian_filter(rng.standard_normal((side, side)), 1.5)
    nuclei *= 1 + 0.12 * texture / texture.std()
    y, x = np.mgrid[-1 : 1 : side * 1j, -1 : 1 : side * 1j]
    light = 1 - 0.25 * (x**2 + y**2)
    clean = (
        np.stack([120 + 3400 * ndimage.gaussian_filter(lipid, 0.8), 90 + 2600 * ndimage.gaussian_filter(nuclei, 0.8)])
        * light
    )
    counts = rng.poisson(clean / 4) * 4 + rng.normal(0, 8, clean.shape)
    return np.clip(np.rint(counts), 0, 65535).astype(np.uint16), len(cells)


def write_section(path: Path) -> int:
    """The section as OME-TIFF, 0.5 µm a pixel; returns how many nuclei it shows."""
    values, count = section()
    side = values.shape[1]
    image = Image(
        values.transpose(2, 1, 0)[:, :, None, :],
        picture_space(side, side, (0.0005, 0.0005)),
        "Brown fat, section 3",
        axes=(Axis("channel", 2, labels=("lipid", "nuclei")),),
    )
    save_ome_tiff(path, image)
    return count


@scene("Section", 70)
def brown_fat(station: Station) -> None:
    station.truth["nuclei"] = write_section(station.incoming / "brown fat, section 3.ome.tif")
