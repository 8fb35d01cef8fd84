"""Displacement fields of many sizes: their way back, and images brought there and home again."""

from __future__ import annotations

import numpy as np

from kestrelmist.core.chain import joined
from kestrelmist.core.displacement import DisplacementField
from kestrelmist.core.space import Space
from kestrelmist.core.through import resampled_through
from tests.making import tilted_space
from tests.test_mappings import blobs, inside, of_library, turned

from .row import Row

SHAPE, SPACING = (48, 44, 40), (0.6, 0.7, 0.8)


def rows(seed: int) -> list[Row]:
    found = []
    for n, size in enumerate((0.3, 1.0, 2.0, 3.0)):
        space = tilted_space(SHAPE, SPACING)
        field = _waves(space, size, np.random.default_rng([seed, n]))
        points = space.centre + 0.6 * (inside(space, 4000) - space.centre)  # whose way leads to no edge
        back = field.back(field.to(points))
        off = np.linalg.norm(back - points, axis=1) / min(SPACING)
        found += [
            Row(f"way back of a field of {size:g} mm, worst place", float(np.nanmax(off)), at_most=0.1, unit="voxels",
                against="where it came from"),
            Row("places of which nothing is said", float(np.isnan(off).mean()), at_most=0.0, against="none"),
            Row(f"a field of {size:g} mm at any place", _against_the_library(field, points[:500]), at_most=1e-5,
                unit="mm", against="SimpleITK"),
            Row(f"an image there and back by {size:g} mm", _there_and_back(space, field), at_most=0.03,
                against="itself (share of its range)"),
        ]  # fmt: skip
    return found


def _waves(space: Space, size: float, rng: np.random.Generator) -> DisplacementField:
    p = space.to_world(np.indices(space.shape).reshape(3, -1).T) - space.centre
    ways, turns = rng.uniform(0.02, 0.09, (3, 3)), rng.uniform(0, 6, 3)  # none of them folds
    waves = size * np.sin(p @ ways + turns)
    return DisplacementField(waves.reshape(*space.shape, 3).astype(np.float32), space)


def _against_the_library(field: DisplacementField, points: np.ndarray) -> float:
    from kestrelmist.formats.itk_transforms import library_transform

    chain = joined(turned(7), field)
    start = turned(7).back(points)
    return float(np.abs(chain.to(start) - of_library(library_transform(chain), start)).max())


def _there_and_back(space: Space, field: DisplacementField) -> float:
    image = blobs(space)
    there = resampled_through(image.kji, space, space, field, "cubic")
    home = resampled_through(there, space, space, field.inverse(), "cubic")
    middle = (slice(8, -8),) * 3
    return float(np.nanmax(np.abs(home[middle] - image.kji[middle])) / np.ptp(image.kji))
