"""Units of length and time as files write them."""

from __future__ import annotations

MILLIMETRES = {
    unit: length
    for units, length in (
        ("km kilometer kilometre", 1e6),
        ("m meter metre", 1e3),
        ("dm decimeter decimetre", 1e2),
        ("cm centimeter centimetre", 10.0),
        ("mm millimeter millimetre", 1.0),
        ("µm μm um micron micrometer micrometre", 1e-3),
        ("nm nanometer nanometre", 1e-6),
        ("pm picometer picometre", 1e-9),
        ("fm femtometer femtometre", 1e-12),
        ("\u00c5 \u212b å angstrom", 1e-7),
        ("in inch inche", 25.4),
        ("ft foot feet", 304.8),
        ("thou", 0.0254),
        ("pt point", 25.4 / 72),
    )
    for unit in units.split()
}
SECONDS = {
    unit: time
    for units, time in (
        ("ns nsec nanosecond", 1e-9),
        ("µs μs us usec microsecond", 1e-6),
        ("ms msec millisecond", 1e-3),
        ("s sec second", 1.0),
        ("min minute", 60.0),
        ("h hour", 3600.0),
        ("d day", 86400.0),
    )
    for unit in units.split()
}


def millimetres(unit: str) -> float | None:
    """One of a unit of length in mm; None for a unit that is not known."""
    return _known(unit, MILLIMETRES)


def seconds(unit: str) -> float | None:
    """One of a unit of time in s; None for a unit that is not known."""
    return _known(unit, SECONDS)


def _known(unit: str, table: dict[str, float]) -> float | None:
    """By its symbol as it is, as “Mm” is not “mm”; words in any letters, one or many."""
    unit = unit.strip()
    if unit in table or len(unit) < 4:
        return table.get(unit)
    word = unit.casefold()
    return table.get(word, table.get(word.removesuffix("s")))
