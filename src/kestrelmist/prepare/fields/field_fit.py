"""How well a map of the field and its magnitude go together with a series that the field distorts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...align.affine_fit import fitted
from ...align.freedom import freedom
from ...align.levels import Sides, levels_of
from ...align.similar import similarity_named
from ...core.errors import Trouble
from ...core.image import Image
from ...core.progress import Progress
from ...core.resampling import resampled
from ...core.rigid import moved_by
from ...formats.echo_lines import Lines
from .line_shift import shifted
from .smooth_field import head_mask

LEVELS = (2, 1)
"""How much coarser both are on each level of lining up."""
FAR_SHIFT, FAR_TURN = 0.25, 20.0
"""Share of the image's extent, and degrees: a movement beyond these is a mistake."""


@dataclass
class FieldFit:
    """A series (its mean), a field and its magnitude, and how well they go together."""

    mean: np.ndarray
    series: Image
    hertz: np.ndarray
    seen: np.ndarray | None
    field: Image

    def __post_init__(self):
        self.head = head_mask(self.mean)

    def brought(self, values: np.ndarray, moved: np.ndarray, outside: float = np.nan) -> np.ndarray:
        """Something on the map's grid, on that of the series."""
        space = self.series.space
        return resampled(values, (self.field.space.inverse @ moved @ space.affine)[:3], space.shape, "linear", outside)

    def field_at(self, moved: np.ndarray) -> tuple[np.ndarray, float]:
        """The field at the voxels of the series, carried on where the map ends, and the share of what is seen there
        that it covers."""
        from scipy import ndimage

        found = self.brought(self.hertz, moved)
        there = np.isfinite(found)
        covered = float(there[self.head].mean()) if self.head.any() else float(there.mean())
        if not there.any() or covered < 0.05:
            raise Trouble(
                f"“{self.field.name}” does not lie where “{self.series.name}” does", "place it first, or choose another"
            )
        if not there.all():
            near = ndimage.distance_transform_edt(
                ~there, sampling=self.series.space.spacing[::-1], return_distances=False, return_indices=True
            )
            found = found[tuple(near)]
        return found, covered

    def lined_up(self, lines: Lines, moved: np.ndarray, progress: Progress, sign: int = 1) -> np.ndarray:
        """The movement of the map's magnitude, distorted as the series is (not when the sign is 0), onto the series;
        as it was when what is found is too far to be true."""
        from scipy import ndimage

        assert self.seen is not None
        space = self.series.space
        if min(space.shape) < 4:
            return moved
        bent = self.bent(lines, moved, sign)
        inside = ndimage.binary_dilation(self.head, iterations=2)
        levels = levels_of(
            Sides(self.mean, space, inside, "the series"), Sides(bent, space, None, "the map"), False, LEVELS
        )
        step = fitted(levels, similarity_named("information"), freedom(6, False), np.eye(4), progress)
        six = moved_by(step, space.centre)
        extent = max(s * n for s, n in zip(space.spacing, space.shape))
        if np.abs(six[:3]).max() > FAR_SHIFT * extent or np.degrees(np.abs(six[3:])).max() > FAR_TURN:
            return moved
        return moved @ step

    def bent(self, lines: Lines, moved: np.ndarray, sign: int = 1) -> np.ndarray:
        """The magnitude as the series would see it."""
        assert self.seen is not None
        seen = self.brought(self.seen, moved, 0.0)
        if not sign:
            return seen
        return shifted(seen, self.field_at(moved)[0] * np.float32(sign * lines.voxels_a_hz), lines.axis)

    def resemblance(self, lines: Lines, moved: np.ndarray, plain: np.ndarray) -> tuple[float, float, float]:
        """Mutual information of the series and the magnitude: as it is, distorted by the field, and distorted with the
        other sign. The series stays as it was measured: set right, it differs by signal that is lost or made up for,
        which says nothing of the field.

        `plain` is the movement by which the magnitude as it is lies best on the series.
        """
        results = []
        for where, sign in ((plain, 0), (moved, 1), (moved, -1)):
            bent = self.bent(lines, where, sign)
            inside = self.head | head_mask(bent)
            results.append(mutual_information(self.mean[inside], bent[inside]))
        return results[0], results[1], results[2]

    def constant(self, found: np.ndarray) -> float:
        """What the field has in the middle of what is seen in the series, Hz."""
        return float(np.median(found[self.head])) if self.head.any() else float(np.median(found))

    def excess(self, lines: Lines, moved: np.ndarray) -> float:
        """By how many voxels along the lines the map was moved at the centre: so far, a constant of the field that is
        too high shifts everything."""
        space = self.series.space
        there = moved @ [*space.centre, 1.0]
        return float((space.inverse[:3, :3] @ (there[:3] - space.centre))[lines.axis])

    def without(self, lines: Lines, moved: np.ndarray) -> np.ndarray:
        """The movement without its part along the lines."""
        kept = moved.copy()
        kept[:3, 3] -= self.excess(lines, moved) * self.series.space.affine[:3, lines.axis]
        return kept


def mutual_information(one: np.ndarray, other: np.ndarray, bins: int = 32) -> float:
    """Of the values of two images at the same places, over the mean of both entropies: 0 to 1 (C. Studholme et al.,
    Pattern Recognit. 32, 1999)."""
    if one.size < bins:
        return 0.0
    joint, _, _ = np.histogram2d(_ranked(one, bins), _ranked(other, bins), bins=bins)
    joint /= joint.sum()
    a, b = joint.sum(1), joint.sum(0)

    def entropy(p: np.ndarray) -> float:
        p = p[p > 0]
        return float(-(p * np.log(p)).sum())

    both = entropy(a) + entropy(b)
    return 2 * (both - entropy(joint.ravel())) / both if both > 0 else 0.0


def _ranked(values: np.ndarray, bins: int) -> np.ndarray:
    """Values in steps between their 1st and 99th percentile, so that a few bright ones do not take all steps."""
    low, high = np.percentile(values, (1, 99))
    return np.clip((values - low) / max(high - low, 1e-30), 0, 1)
