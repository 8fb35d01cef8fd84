"""What guides a warp besides the images: labels of both that have one name, and pairs of landmarks."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.errors import Trouble
from ..core.flows import exponential
from ..core.geometry.marks import Marks
from ..core.labels import LabelMap
from ..core.space import Space
from .fit_landmarks import paired
from .landmarks import Pairs

LABELS = 0.5
"""How much labels count beside the images: their mean squares are between 0 and about 2."""
MARKS = 0.02
"""How much a squared voxel (of the finest grid) of a landmark's distance counts."""
MOST = 24
"""Labels that a warp is guided by."""


@dataclass(frozen=True)
class Guides:
    """Labels as pairs of volumes (bool [k, j, i]) with their grids, the one that stays first; landmarks as pairs."""

    volumes: tuple[tuple[np.ndarray, np.ndarray], ...] = ()
    spaces: tuple[Space, Space] | None = None
    pairs: Pairs | None = None

    def __bool__(self) -> bool:
        return bool(self.volumes) or self.pairs is not None


def guides_of(
    landmarks: Marks | None, onto_landmarks: Marks | None, regions: LabelMap | None, onto_regions: LabelMap | None
) -> Guides:
    """Guides from what was named for the image that moves and for the one that stays.

    Raises
    ------
    Trouble
        When something is named for one of both alone, no names go together, or too many do.
    """
    for one, other, words in ((landmarks, onto_landmarks, "Landmarks"), (regions, onto_regions, "Labels")):
        if (one is None) != (other is None):
            raise Trouble(f"{words} guide a warp in pairs", "name those of both images, or of none")
    volumes: list[tuple[np.ndarray, np.ndarray]] = []
    spaces = None
    if regions is not None and onto_regions is not None:
        spaces = onto_regions.space, regions.space
        for row in onto_regions.table:
            if not onto_regions.counts[row.number] or not regions.table.has_name(row.name):
                continue
            number = regions.table.named(row.name).number
            if regions.counts[number]:
                volumes.append((onto_regions.kji == row.number, regions.kji == number))
        if not volumes:
            what = f"“{regions.name}” and “{onto_regions.name}” have no label of one name"
            raise Trouble(what, "name what goes together alike")
        if len(volumes) > MOST:
            raise Trouble(f"{len(volumes)} labels are to guide the warp", f"choose maps with at most {MOST} in common")
    pairs = None if landmarks is None or onto_landmarks is None else paired(landmarks, onto_landmarks)
    return Guides(tuple(volumes), spaces, pairs)


class PulledMarks:
    """Landmarks on one level: how far they lie apart through a velocity, and where it would have to go.

    Parameters
    ----------
    here, there : arrays (n, 3)
        Voxel coordinates i, j, k on the level's grid: in the image that stays, and in the one that moves where the
        affine transform brings it.
    weight : number
        Of a squared voxel of this level.
    """

    def __init__(self, here: np.ndarray, there: np.ndarray, weight: float):
        self.ends, self.weight = (here, there), weight / max(len(here), 1)

    def judged(self, velocity: np.ndarray, step: np.ndarray) -> float:
        """The cost; what pulls at the velocity is added to `step`."""
        cost = 0.0
        for n, sign in enumerate((1.0, -1.0)):
            start, goal = self.ends[n], self.ends[1 - n]
            index, share = _corners(start, velocity.shape)
            shift = exponential(velocity if n == 0 else -velocity)
            moved = np.einsum("nc,ncx->nx", share, shift[index])
            left = goal - start - moved
            cost += self.weight * float((left**2).sum()) / 2
            np.add.at(step, index, (sign * self.weight * share[..., None] * left[:, None]).astype(np.float32))
        return cost


def _corners(at: np.ndarray, shape: tuple[int, ...]) -> tuple[tuple[np.ndarray, ...], np.ndarray]:
    """Indices [k, j, i] of the eight voxels round each place, (n, 8) each, and their shares, (n, 8)."""
    size = np.array(shape[2::-1])
    inside = np.clip(at, 0, size - 1)
    low = np.minimum(np.floor(inside).astype(int), np.maximum(size - 2, 0))
    share = inside - low
    corners = np.array([[(c >> axis) & 1 for axis in range(3)] for c in range(8)])
    index = np.minimum(low[:, None] + corners[None], size - 1)
    weights = np.where(corners[None] == 1, share[:, None], 1 - share[:, None]).prod(-1)
    return (index[..., 2], index[..., 1], index[..., 0]), weights
