"""How well labels of two images agree through a mapping: Dice, and the distance of their surfaces."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.errors import Trouble
from ..core.labels import LabelMap
from ..core.mapping import Mapping
from ..core.through import resampled_through

MARGIN = 2


@dataclass(frozen=True)
class Agreement:
    """Of one label: its name, Dice (0 to 1), mean and largest distance of both surfaces (mm)."""

    name: str
    dice: float
    mean: float
    largest: float


def agreements(labels: LabelMap, onto: LabelMap, way: Mapping) -> list[Agreement]:
    """For each name that both maps have, how well they agree (L. R. Dice, Ecology 26, 1945).

    Parameters
    ----------
    labels, onto : label maps
        Of the image that moves, and of the one that stays.
    way : Mapping
        From places of the one that stays to those of the one that moves.

    Raises
    ------
    Trouble
        When they have no name in common.
    """
    names = [row for row in onto.table if onto.counts[row.number] and labels.table.has_name(row.name)]
    names = [row for row in names if labels.counts[labels.table.named(row.name).number]]
    if not names:
        raise Trouble(f"“{labels.name}” and “{onto.name}” have no label of one name", "name what goes together alike")
    brought = resampled_through(labels.kji, labels.space, onto.space, way.prepared(), "nearest", 0)
    found = []
    for row in names:
        one, other = onto.kji == row.number, brought == labels.table.named(row.name).number
        both = int(np.count_nonzero(one)) + int(np.count_nonzero(other))
        dice = 2.0 * int(np.count_nonzero(one & other)) / both
        found.append(Agreement(row.name, dice, *_apart(one, other, onto.space.spacing)))
    return found


def _apart(one: np.ndarray, other: np.ndarray, spacing) -> tuple[float, float]:
    """Mean and largest distance from each surface to the other one, both ways; NaN where one of them is nowhere."""
    from scipy import ndimage

    if not one.any() or not other.any():
        return float("nan"), float("nan")
    box = tuple(slice(max(int(at.min()) - MARGIN, 0), int(at.max()) + MARGIN + 1) for at in np.nonzero(one | other))
    surfaces = [part & ~ndimage.binary_erosion(part, border_value=0) for part in (one[box], other[box])]
    away = [ndimage.distance_transform_edt(~surface, sampling=spacing[::-1]) for surface in surfaces]
    distances = np.concatenate([away[1][surfaces[0]], away[0][surfaces[1]]])
    return float(distances.mean()), float(distances.max())
