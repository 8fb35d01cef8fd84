"""What is measured of a mark, with its unit and how sure it is.

Uncertainties come from where its points were placed, each for itself, and from the scale, which all of it shares; both
are carried through by the first derivatives (JCGM 100:2008, 5.1), which the package uncertainties keeps.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from ..calibration import coverage, together
from ..quantity import FINER, measure_unit, nanometres, pretty_unit
from ..scale import Scale
from ..space import Space
from .amounts import DIMENSIONS, nominal
from .many_points import followed_area, followed_length
from .mark import Mark
from .shape import shape_named

MOST = 8
"""Points of a mark up to which it is followed number by number; lines of more are worked out at once."""


@dataclass(frozen=True)
class Measured:
    """One quantity of a mark.

    Parameters
    ----------
    name : str
        "length", "area", "angle" and the like; see `amounts.DIMENSIONS`.
    value : number
    unit : str
        "mm", "mm2", "deg", "px" …
    sure : number
        Standard uncertainty, in the same unit; of what is known of it.
    freedom : number
        Degrees of freedom of that.
    """

    name: str
    value: float
    unit: str
    sure: float = 0.0
    freedom: float = math.inf

    @property
    def expanded(self) -> float:
        """Within what the true value lies 95 times of 100."""
        return coverage(self.freedom) * self.sure

    def suited(self, fine: bool = False) -> Measured:
        """The same in the unit that suits its size: always the finer one on `fine` images."""
        finer = FINER.get(self.unit)
        if finer is None or not (fine or 0 < abs(self.value) < finer[2]):
            return self
        unit, factor, _ = finer
        return Measured(self.name, self.value * factor, unit, self.sure * factor, self.freedom)

    def told(self, mark: Mark, fine: bool = False) -> Measured:
        """The same in the unit that the mark says, else in the one that suits its size."""
        dimension = DIMENSIONS[self.name]
        if not mark.unit or not dimension:  # units are not looked up, which loads a library, before one is said
            return self.suited(fine)
        one, own = nanometres(mark.unit), nanometres(self.unit.rstrip("23"))
        if one is None or own is None:
            return self.suited(fine)
        factor = (own / one) ** dimension
        unit = measure_unit(mark.unit, dimension)
        return Measured(self.name, self.value * factor, unit, self.sure * factor, self.freedom)

    @property
    def parts(self) -> tuple[str, str, str]:
        """As a person reads it, in three: digits that are certain, those that are not with their uncertainty, and the
        unit: "12.3", "1 ± 0.04", "mm"."""
        return self.parts_of(None, True)

    def parts_of(self, decimals: int | None, with_spread: bool) -> tuple[str, str, str]:
        """As `parts`, with so many decimals, or as many as the uncertainty allows; and with that, or without."""
        unit = "°" if self.unit == "deg" else pretty_unit(self.unit)
        spread = self.expanded
        known = spread > 0 and math.isfinite(spread)
        if not known:
            return f"{self.value:.5g}" if decimals is None else f"{self.value:.{decimals}f}", "", unit
        digits = max(0, 1 - math.floor(math.log10(spread))) if decimals is None else decimals
        whole = f"{self.value:.{digits}f}"
        # digits from the place on at which the uncertainty begins
        behind = digits + math.floor(math.log10(spread)) + 1
        unsure = min(len(whole), max(0, behind + (digits > 0 and behind > digits)))
        said = f" ± {spread:.{digits}f}" if with_spread and float(f"{spread:.{digits}f}") > 0 else ""
        return whole[: len(whole) - unsure], f"{whole[len(whole) - unsure :]}{said}", unit

    @property
    def words(self) -> str:
        """As a person reads it: 12.31 ± 0.04 mm."""
        certain, unsure, unit = self.parts
        return f"{certain}{unsure}{'' if unit == '°' else ' '}{unit}"


FINE = 0.01
"""mm: on images of finer voxels lengths are told in µm."""


def is_fine(placed: float) -> bool:
    """Whether an image on which a point is placed so surely is one of fine voxels."""
    return 0 < placed < FINE / math.sqrt(12)


def placed_to(space: Space) -> float:
    """Standard uncertainty of a point that was placed to a voxel of an image: a uniform one of that side."""
    sides = [s for s, n in zip(space.spacing, space.shape) if n > 1] or [min(space.spacing)]
    return min(sides) / math.sqrt(12)


@lru_cache(maxsize=20_000)
def measured(mark: Mark, scale: Scale, placed: float) -> tuple[Measured, ...]:
    """What can be measured of a mark.

    Parameters
    ----------
    mark : Mark
    scale : Scale
        Of the image that it lies on.
    placed : number
        Standard uncertainty of its points along each axis, in the unit of the world, where the mark says none.

    Returns
    -------
    tuple of Measured
        In the order that its shape tells them; empty where there is nothing to measure.
    """
    amounts = shape_named(mark.shape).measured
    if amounts is None:
        return ()
    points = mark.array
    points = points - (points.min(0) + points.max(0)) / 2
    factors = _factors(scale)
    placed = mark.sure or placed
    if not (placed > 0 or factors):
        return tuple(Measured(name, nominal(v), _unit(name, scale)) for name, v in amounts(points).items())
    if len(points) > MOST:
        return tuple(_of_many(points, mark, scale, placed))
    from uncertainties import ufloat

    unsure = np.array([[ufloat(v, placed) if placed > 0 else v for v in point] for point in points], object)
    shared = {f.tag for f in factors if hasattr(f, "tag")}
    if factors:
        unsure = unsure * np.array(factors, object)
    made = []
    for name, value in amounts(unsure).items():
        parts = value.error_components() if hasattr(value, "error_components") else {}
        of_scale = math.sqrt(math.fsum(u * u for v, u in parts.items() if v.tag in shared and v.tag))
        of_place = math.sqrt(math.fsum(u * u for v, u in parts.items() if not (v.tag in shared and v.tag)))
        sure, freedom = together((of_scale, scale.freedom), (of_place, math.inf))
        made.append(Measured(name, nominal(value), _unit(name, scale), sure, freedom))
    return tuple(made)


def _of_many(points: np.ndarray, mark: Mark, scale: Scale, placed: float) -> Iterator[Measured]:
    """As `measured`, of a line of any number of points, open or closed."""
    closed = shape_named(mark.shape).closed
    told = {"area": followed_area(points)} if closed else {}
    told["perimeter" if closed else "length"] = followed_length(points, closed)
    x, y, z = (s if scale.unit != "px" and math.isfinite(s) else 0.0 for s in scale.sure)
    for name, found in told.items():
        by_x, by_y, by_z = found.by_scale
        flat = (by_x + by_y) * x if scale.together else math.hypot(by_x * x, by_y * y)
        of_scale, of_place = math.hypot(flat, by_z * z), found.by_points * placed
        sure, freedom = together((of_scale, scale.freedom), (of_place, math.inf))
        yield Measured(name, found.value, _unit(name, scale), sure, freedom)


def _factors(scale: Scale) -> list:
    """By what lengths along the axes are to be multiplied: 1, as sure as the scale is; empty where nothing is known."""
    if scale.unit == "px" or not any(math.isfinite(s) and s > 0 for s in scale.sure):
        return []
    from uncertainties import ufloat

    found: list = [ufloat(1.0, s, tag=f"scale {n}") if math.isfinite(s) and s > 0 else 1.0
                   for n, s in enumerate(scale.sure)]  # fmt: skip
    if scale.together and scale.sure[0] > 0:
        found[1] = found[0]
    return found


def _unit(name: str, scale: Scale) -> str:
    dimension = DIMENSIONS[name]
    return "deg" if not dimension else measure_unit(scale.unit, dimension)
