"""A map of the second animal's response to an odour, and a colleague's labels of the first one, with mistakes."""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from ...core.labels import LabelMap, LabelTable
from ...core.space import Space
from ...formats.label_files import write_label_map
from ...formats.nifti import write_nifti
from ..animal import Animal
from ..scene import Station, scene
from ..truth import true_labels

PLACES = (
    ((1.2, 4.6, 1.4), 7.5, 0.8),
    ((-1.2, 4.6, 1.4), 6.4, 0.8),
    ((2.9, -0.6, 1.0), 4.6, 0.9),
    ((3.2, -4.3, 1.4), -5.2, 1.0),
    ((-3.2, -4.3, 1.4), -4.4, 1.0),
)
"""Where the brain responds: middle and height (t) and width (mm, one standard deviation)."""
WRONG = ((40, 60, 70), (41, 60, 70), (40, 61, 70), (118, 92, 40), (118, 93, 40))
"""Voxels of the head T1 that the colleague's label map has in the ventricles by mistake."""


def response_space() -> Space:
    """Grid of the response map: coarse, as the run that it comes from."""
    affine = np.diag([0.7, 0.7, 0.7, 1.0])
    affine[:3, 3] = (-12.2, -15.2, -9.4)
    return Space((36, 44, 28), affine)


def response_map(animal: Animal, seed: int = 8) -> np.ndarray:
    """t values, float32 [i, j, k]: smooth noise of spread 0.8 in the animal's brain, and what responds; 0 around it."""
    space, rng = response_space(), np.random.default_rng(seed)
    noise = ndimage.gaussian_filter(rng.standard_normal(space.shape), 1.0)
    grid = np.moveaxis(np.indices(space.shape), 0, -1) @ space.affine[:3, :3].T + space.affine[:3, 3]
    found = 0.8 * noise / noise.std()
    for middle, height, width in PLACES:
        found += height * np.exp(-((grid - np.array(middle)) ** 2).sum(-1) / (2 * width**2))
    return np.where(true_labels(animal, ["Brain"], space) > 0, found, 0).astype(np.float32)


@scene("Response map", 44)
def response(station: Station) -> None:
    assert station.other is not None
    space = response_space()
    write_nifti(
        station.folder / "response to the odour.nii", response_map(station.other), space, "Response, t, made up"
    )
    station.truth["response"] = [{"middle": m, "t": t, "width_mm": w} for m, t, w in PLACES]


@scene("A colleague's labels", 38)
def colleague(station: Station) -> None:
    space = station.mr_space
    numbers = true_labels(station.animal, ["Hippocampus", "Ventricles", "Eyes"], space)
    numbers[numbers == 3] = 4  # number 3 is missing
    for voxel in WRONG:
        numbers[voxel] = 2
    table = LabelTable()
    for name in ("Hippocampus", "Ventricles", "", "Eyes"):
        table, _ = table.with_new(name or "Left out")
    table = table.without(3)
    write_label_map(station.folder / "labels by a colleague.nii.gz", LabelMap(space, numbers, table))
    station.truth["colleague"] = {"missing": 3, "wrong_voxels": [list(v) for v in WRONG]}
