"""A number with its unit and how sure it is."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache


@lru_cache(maxsize=1)
def _registry():
    import pint  # imported on first conversion: it costs a tenth of a second at start

    registry = pint.UnitRegistry(autoconvert_offset_to_baseunit=True)
    registry.define("hounsfield_unit = [hounsfield] = HU")
    return registry


@dataclass(frozen=True)
class Quantity:
    """A value in a unit, with a standard uncertainty in the same unit.

    `uncertainty` is None when nothing is known of it, which is not the same as 0. `unit` is written as
    a person writes it: "mm", "mm3", "HU", "" for a plain count.
    """

    value: float
    unit: str = ""
    uncertainty: float | None = None

    def to(self, unit: str) -> Quantity:
        """The same quantity in another unit; raises ValueError when the dimensions differ."""
        if unit == self.unit:
            return self
        import pint

        registry = _registry()
        try:
            factor = registry.Quantity(1.0, _plain(self.unit)).to(_plain(unit)).magnitude
        except pint.DimensionalityError as error:
            raise ValueError(f"{self.unit or 'a count'} cannot be given in {unit or 'a count'}") from error
        spread = None if self.uncertainty is None else self.uncertainty * abs(factor)
        return Quantity(self.value * factor, unit, spread)

    def __str__(self) -> str:
        unit = f" {pretty_unit(self.unit)}" if self.unit else ""
        if self.uncertainty is None or not math.isfinite(self.uncertainty) or self.uncertainty <= 0:
            return f"{self.value:.6g}{unit}"
        digits = max(0, 1 - math.floor(math.log10(self.uncertainty)))
        return f"{self.value:.{digits}f} ± {self.uncertainty:.{digits}f}{unit}"


def _plain(unit: str) -> str:
    return unit.replace("³", "**3").replace("²", "**2").replace("mm3", "mm**3").replace(
        "cm3", "cm**3").replace("mm2", "mm**2").replace("cm2", "cm**2")


def pretty_unit(unit: str) -> str:
    """The unit with raised digits, for showing: mm3 becomes mm³."""
    for plain, raised in (("m3", "m³"), ("m2", "m²"), ("um", "µm")):
        unit = unit.replace(plain, raised)
    return unit
