"""A number with its unit and how sure it is."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from functools import lru_cache
from typing import Any


@lru_cache(maxsize=1)
def _registry():
    import pint  # imported on first conversion: it costs a tenth of a second at start

    registry: Any = pint.UnitRegistry(autoconvert_offset_to_baseunit=True)
    registry.define("hounsfield_unit = [hounsfield] = HU")
    registry.define("pixel_length = [pixel_length] = px")  # a length on a picture without a scale
    return registry


@dataclass(frozen=True)
class Quantity:
    """A value in a unit, with a standard uncertainty in the same unit.

    `uncertainty` is None when nothing is known of it, which is not the same as 0. `unit` is written as
    a person writes it: "mm", "mm3", "HU", "" for a plain count.

    Examples
    --------
    >>> Quantity(1.5, "cm3", 0.1).to("mm3")
    Quantity(value=1500.0, unit='mm3', uncertainty=100.0)
    >>> str(Quantity(12.3456, "mm", 0.21))
    '12.35 ± 0.21 mm'
    """

    value: float
    unit: str = ""
    uncertainty: float | None = None

    def to(self, unit: str) -> Quantity:
        """The same quantity in another unit, temperatures included.

        Raises
        ------
        ValueError
            When the dimensions differ or a unit is unknown.
        """
        if unit == self.unit:
            return self
        import pint

        registry = _registry()
        try:
            own, wanted = registry.Unit(_plain(self.unit)), registry.Unit(_plain(unit))
            value = float(registry.Quantity(self.value, own).to(wanted).magnitude)
            spread = None
            if self.uncertainty is not None:
                # a spread is a difference: it knows a scale but no zero
                scale = registry.Quantity(1.0, _difference(registry, own)).to(_difference(registry, wanted)).magnitude
                spread = self.uncertainty * abs(float(scale))
        except pint.UndefinedUnitError as error:
            raise ValueError(f"nobody knows the unit {error.unit_names}") from error
        except pint.PintError as error:
            raise ValueError(f"{self.unit or 'a count'} cannot be given in {unit or 'a count'}") from error
        return Quantity(value, unit, spread)

    def __str__(self) -> str:
        unit = f" {pretty_unit(self.unit)}" if self.unit else ""
        if self.uncertainty is None or not math.isfinite(self.uncertainty) or self.uncertainty <= 0:
            return f"{self.value:.6g}{unit}"
        digits = max(0, 1 - math.floor(math.log10(self.uncertainty)))
        return f"{self.value:.{digits}f} ± {self.uncertainty:.{digits}f}{unit}"


@lru_cache(maxsize=64)
def nanometres(unit: str) -> float | None:
    """Nanometres in one of a unit of length; None when it is no length, or nobody knows it."""
    if not unit:
        return None
    try:
        return Quantity(1.0, unit).to("nm").value
    except ValueError:
        return None


def readable(unit: str) -> tuple[str, float]:
    """The unit in which heights are told, and how many of it one of theirs has: what a file has in metres is told in
    nanometres."""
    return ("nm", 1e9) if unit in ("m", "metre", "meter") else (unit, 1.0)


def _difference(registry, unit):
    """The unit of a difference of two values: for degrees, without their zero."""
    name = str(unit)
    return registry.Unit(f"delta_{name}") if f"delta_{name}" in registry else unit


def _plain(unit: str) -> str:
    """A unit as pint reads it: raised digits and digits behind letters become powers."""
    raised = unit.replace("²", "2").replace("³", "3").replace("⁻¹", "-1").replace("·", "*")
    return re.sub(r"(?<=[A-Za-zµμ°Å])(-?\d+)", r"**\1", raised)


def pretty_unit(unit: str) -> str:
    """The unit with raised digits, for showing: mm3 becomes mm³.

    >>> pretty_unit("um2")
    'µm²'
    """
    text = re.sub(r"\bu(?=m)", "µ", unit)
    return re.sub(r"(?<=[A-Za-zµ])([23])(?!\d)", lambda m: "²³"[int(m.group(1)) - 2], text)


def measure_unit(length: str, dimensions: int) -> str:
    """The unit of a length, area (2) or volume (3) on an image whose lengths are in `length`.

    >>> measure_unit("mm", 3), measure_unit("px", 2), measure_unit("px", 3)
    ('mm3', 'pixels', 'voxels')
    """
    if length == "px":
        return ("px", "pixels", "voxels")[dimensions - 1]
    return length if dimensions == 1 else f"{length}{dimensions}"


SIZES = {
    "s": (("us", 1e6, 1e-4), ("ms", 1e3, 0.1), ("s", 1.0, 120.0), ("min", 1 / 60, math.inf)),
    "mm": (("nm", 1e6, 1e-4), ("um", 1e3, 0.1), ("mm", 1.0, 1e4), ("m", 1e-3, math.inf)),
    "nm": (("nm", 1.0, 1e4), ("um", 1e-3, 1e7), ("mm", 1e-6, math.inf)),
    "Hz": (("Hz", 1.0, 1e5), ("kHz", 1e-3, 1e7), ("MHz", 1e-6, math.inf)),
}
"""For a unit those that suit sizes of it: the unit, how many of it one has, and up to which size it is taken."""


def suited_unit(value: float, unit: str) -> tuple[str, float]:
    """The unit that suits a size, and how many of it one of its own unit has.

    >>> suited_unit(0.00051, "s"), suited_unit(2.0, "s"), suited_unit(0.05, "mm"), suited_unit(3.0, "px")
    (('ms', 1000.0), ('s', 1.0), ('um', 1000.0), ('px', 1.0))
    """
    for name, factor, below in SIZES.get(unit, ()) if value and math.isfinite(value) else ():
        if abs(value) < below:
            return name, factor
    return unit, 1.0


def suited(value: float, unit: str) -> str:
    """A number with its unit, in the one that suits its size.

    >>> suited(0.00051, "s"), suited(1.6, "mm"), suited(0.0, "s")
    ('0.51 ms', '1.6 mm', '0 s')
    """
    name, factor = suited_unit(value, unit)
    return f"{value * factor:.6g} {pretty_unit(name)}".strip()


FINER = {"mm3": ("um3", 1e9, 1e-4), "mm2": ("um2", 1e6, 1e-2), "mm": ("um", 1e3, 1e-2)}
COARSER = {"mm3": ("cm3", 1e-3, 1e5), "mm2": ("cm2", 1e-2, 1e5)}


def short_size(value: float, unit: str) -> str:
    """A length, area or volume short enough for a row, in the unit that suits it.

    >>> short_size(403.77, "mm3"), short_size(2.5e-7, "mm2"), short_size(2e6, "mm3"), short_size(12345, "pixels")
    ('404 mm³', '0.25 µm²', '2000 cm³', '12345 pixels')
    """
    if unit in FINER and 0 < value < FINER[unit][2]:
        unit, value = FINER[unit][0], value * FINER[unit][1]
    elif unit in COARSER and value >= COARSER[unit][2]:
        unit, value = COARSER[unit][0], value * COARSER[unit][1]
    if unit in ("pixels", "voxels", "px") or value >= 1000:
        text = f"{value:.0f}"
    elif value == 0:
        text = "0"
    else:
        text = f"{value:.1f}" if 10 <= value < 100 else f"{value:.3g}"
    return f"{text} {pretty_unit(unit)}"
