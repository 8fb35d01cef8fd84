"""The columns of a table of regions: what each is called, its unit, and which are shown unless others are chosen."""

from __future__ import annotations

from collections.abc import Iterable

from ...core.errors import Trouble
from ...core.quantity import measure_unit
from ...core.space import Space
from ...core.table import Column
from .intensities import NAMES as OF_VALUES

OF_VOLUMES = ("surface", "sphericity", "elongation", "flatness", "longest_axis", "middle_axis", "shortest_axis")
OF_PICTURES = ("perimeter", "circularity", "elongation", "major_axis", "minor_axis")
PLACES = ("x", "y", "z", "i", "j", "k")
OF_PLACE = ("feret", "extent", *PLACES, "nearest")
USUAL = ("mean", "sd")
BARE = ("entropy", "sphericity", "circularity", "elongation", "flatness", "extent")
"""What has no unit."""


def known_columns(space: Space) -> tuple[str, ...]:
    """All columns that can be chosen for regions of a grid, in their order."""
    shapes = OF_PICTURES if space.flat_axis is not None else OF_VOLUMES
    return (*OF_VALUES, "total_over_background", *shapes, *OF_PLACE)


def chosen_columns(text: str, space: Space) -> tuple[str, ...]:
    """Which columns a person wants: "usual", "all", or names with commas between. Raises Trouble on unknown ones."""
    known = known_columns(space)
    words = [word.strip().casefold().replace(" ", "_") for word in text.split(",") if word.strip()]
    if not words or words == ["usual"]:
        return USUAL
    if words == ["all"]:
        return tuple(name for name in known if name != "total_over_background")
    wrong = next((word for word in words if word not in known), None)
    if wrong is not None:
        raise Trouble(f"Nothing is called “{wrong[:40]}” here", f"choose usual, all, or some of {', '.join(known)}")
    return tuple(name for name in known if name in words)


def column_of(name: str, space: Space, unit: str, of_value: int, digits: int) -> Column:
    """The column of a name, for values in `unit` shown to so many decimals, and lengths to `digits` decimals."""
    if name in BARE:
        return Column(name, "", 3)
    if name in ("i", "j", "k"):
        return Column(name, "", 2)
    if name in OF_VALUES or name == "total_over_background":
        return Column(name, unit, of_value)
    length = measure_unit(space.unit, 2) if name == "surface" else space.unit
    return Column(name, length, digits + 1)


def require_some(numbers: Iterable, called: str) -> None:
    """Raises Trouble when there are no labels to be measured."""
    if not list(numbers):
        raise Trouble(f"“{called}” has no labels yet", "outline something first")
