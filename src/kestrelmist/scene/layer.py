"""What is looked at: layers in a stack, and how panes are arranged. Plain data, kept as JSON."""

from __future__ import annotations

import types
import typing
from dataclasses import asdict, dataclass, field, fields, is_dataclass, replace
from typing import Any, TypeVar

from .layer_type import LAYER_TYPES, type_of_look

D = TypeVar("D")
Channel = tuple[str, float, float, bool]
"""Colour, range and whether it is shown, of a channel."""


@dataclass(frozen=True)
class ImageLook:
    """How an image is shown.

    Parameters
    ----------
    low, high : values
        The range that the colour map spans.
    colour_map : str
        A name of `scene.colours.MAPS`.
    smooth : bool
        Mixed between voxels, or true voxels.
    hide_below, hide_above : values, optional
        What lies outside these limits is not drawn.
    inverted : bool
        The colour map is turned round.
    below_map : str, optional
        Values below zero have a colour map of their own, and those nearer to zero than `low` are not drawn: values
        from `low` to `high` are drawn by `colour_map`, and from −`low` to −`high` by this one.
    below_low, below_high : values, optional
        Limits of their own for values below zero, as distances from it.
    channels : tuple of (colour, low, high, shown)
        Of a picture with channels: all are shown at once, as lights that add up. One at a time when empty.
    light : number
        Strength of a light from the side, 0 to 1, for values that are heights.
    steep : values a mm
        The slope that is drawn as if it rose at 45°; 0 for no light.
    slab : mm
        How thick a slab is shown in place of one slice; 0 for a slice.
    slab_way : "highest", "lowest" or "mean"
        Which of its values.
    tint : two values, optional
        A range that is lit up in `tint_colour`.
    """

    low: float = 0.0
    high: float = 1.0
    colour_map: str = "Grey"
    smooth: bool = True
    hide_below: float | None = None
    hide_above: float | None = None
    tint: tuple[float, float] | None = None
    tint_colour: str = "#A44E28"
    inverted: bool = False
    below_map: str | None = None
    below_low: float | None = None
    below_high: float | None = None
    channels: tuple[Channel, ...] = ()
    light: float = 0.0
    steep: float = 0.0
    slab: float = 0.0
    slab_way: str = "highest"

    def sides(self) -> list[tuple[int, ImageLook]]:
        """Looks to be drawn one after another, each with the sign that values are taken with."""
        if self.below_map is None:
            return [(1, self)]
        low = self.low if self.below_low is None else self.below_low
        high = self.high if self.below_high is None else self.below_high
        least = self.low if self.hide_below is None else max(self.low, self.hide_below)
        above = replace(self, hide_below=least, below_map=None)
        below = replace(above, low=low, high=high, hide_below=low, hide_above=None, tint=None)
        return [(1, above), (-1, replace(below, colour_map=self.below_map))]


@dataclass(frozen=True)
class LabelLook:
    """How labels are shown: opacity of the filling (0 for edges only), edges on or off and their width in pixels, one
    label or all, and the opacity of it all."""

    fill: float = 0.35
    edges: bool = True
    only: int | None = None
    edge_width: int = 1
    opacity: float = 1.0


@dataclass(frozen=True)
class MarkLook:
    """How marks are shown.

    Parameters
    ----------
    colour : str
        Of marks that have none of their own, and no class.
    colours : tuple of (int, str)
        Those of classes, by number.
    named : bool
        Whether names stand beside them.
    thickness : mm
        Of the slice that shows them.
    place : tuple of int
        The volume of a series that is looked at; marks of others are not drawn.
    without : tuple of int
        Numbers of marks that are not drawn, as a hand moves them.
    measured : bool
        Whether what they measure stands beside them.
    scale : str
        How sure lengths are, as the fact of the image says it (`core.scale.Scale.fact`).
    placed : mm
        Standard uncertainty of points of marks that do not say it.
    """

    colour: str = "#E8B68C"
    colours: tuple[tuple[int, str], ...] = ()
    named: bool = True
    thickness: float = 0.0
    place: tuple[int, ...] = ()
    without: tuple[int, ...] = ()
    measured: bool = True
    scale: str = ""
    placed: float = 0.0


@dataclass(frozen=True)
class Layer:
    """One thing that lies in a pane.

    Parameters
    ----------
    thing : int or str
        Which thing of the study: its id, or a reference in text.
    place : tuple of int
        Where along the axes of a series.
    look : plain frozen data
        Of the kind that its layer type has.
    opacity : float
        0 to 1.
    shown : bool
    """

    thing: int | str
    place: tuple[int, ...] = ()
    look: Any = field(default_factory=ImageLook)
    opacity: float = 1.0
    shown: bool = True

    def as_dict(self) -> dict:
        return asdict(self) | {"kind": type_of_look(self.look).name, "place": list(self.place)}

    @classmethod
    def from_dict(cls, facts: dict) -> Layer:
        known = LAYER_TYPES.get(str(facts.get("kind")))
        look = ImageLook if known is None else known.look
        rest = {k: v for k, v in facts.items() if k not in ("look", "kind")}
        return replace(restored(cls, rest), look=restored(look, facts.get("look", {})))


@dataclass(frozen=True)
class Stack:
    """Layers in order, the lowest first."""

    layers: tuple[Layer, ...] = ()

    def with_layer(self, layer: Layer) -> Stack:
        """The stack with a layer put on top, in place of one of the same thing."""
        kept = tuple(one for one in self.layers if one.thing != layer.thing)
        return Stack((*kept, layer))

    def without(self, thing: int | str) -> Stack:
        return Stack(tuple(one for one in self.layers if one.thing != thing))

    def of(self, thing: int | str) -> Layer | None:
        return next((one for one in self.layers if one.thing == thing), None)

    def changed(self, thing: int | str, **changes) -> Stack:
        """The stack with one layer changed."""
        return Stack(tuple(replace(one, **changes) if one.thing == thing else one for one in self.layers))

    def as_list(self) -> list[dict]:
        return [one.as_dict() for one in self.layers]

    @classmethod
    def from_list(cls, rows: list[dict]) -> Stack:
        return cls(tuple(Layer.from_dict(row) for row in rows if "thing" in row))


FOLLOWS = ("world", "voxel", "apart")
LINKED = ("zoom", "range", "place")


@dataclass(frozen=True)
class Arrangement:
    """How the panes lie on the Light table.

    Parameters
    ----------
    order : tuple of str
        Names of the panes, the lead pane first.
    alone : bool
        The lead pane only.
    left_on_left : bool
        Whether the subject's left is on the picture's left.
    beside : tuple of int
        Images that are shown side by side, two to four; the usual panes when empty.
    three : bool
        Each of them in all three planes.
    times : bool
        Every volume of a series in one pane, on the slice of the crosshair.
    sheet : bool
        A contact sheet of the image that leads.
    follow : "world", "voxel" or "apart"
        What images side by side have in common: the place in the world, the voxel, or nothing.
    linked : tuple of str
        What else moves together in them, of LINKED.
    own_axes : bool
        A tilted image is shown along its own axes instead of the world's.
    crosshair, crosshair_width : str, number of pixels
        Its colour, and how wide its lines are; 0 is none.
    bars : bool
        Colour bars are drawn in the lead pane.
    """

    order: tuple[str, ...] = ("Coronal", "Axial", "Sagittal", "Solid")
    alone: bool = False
    left_on_left: bool = True
    beside: tuple[int, ...] = ()
    three: bool = False
    times: bool = False
    sheet: bool = False
    follow: str = "world"
    linked: tuple[str, ...] = ("zoom",)
    own_axes: bool = False
    crosshair: str = "#C9C49B"
    crosshair_width: float = 1.0
    bars: bool = True

    def led_by(self, name: str) -> Arrangement:
        """The arrangement with another pane in the lead; it swaps its place."""
        order = list(self.order)
        n = order.index(name)
        order[0], order[n] = order[n], order[0]
        return replace(self, order=tuple(order))

    def as_dict(self) -> dict:
        return asdict(self)


def restored(kind: type[D], facts: Any) -> D:
    """A piece of plain data from what was kept of it: fields that are unknown or of another type are passed over, those
    that are missing have their first value."""
    if not is_dataclass(kind) or not isinstance(facts, dict):
        return kind()
    hints = typing.get_type_hints(kind)
    given = {}
    for one in fields(kind):
        if one.name in facts:
            value = _frozen(facts[one.name])
            if _fits(value, hints[one.name]):
                given[one.name] = value
    return kind(**given)


def _frozen(value: Any) -> Any:
    return tuple(_frozen(v) for v in value) if isinstance(value, list) else value


def _fits(value: Any, hint: Any) -> bool:
    origin, given = typing.get_origin(hint), typing.get_args(hint)
    if origin in (typing.Union, types.UnionType):
        return any(_fits(value, one) for one in given)
    if hint is type(None):
        return value is None
    if origin is tuple:
        if given and given[-1] is not Ellipsis:
            return isinstance(value, tuple) and len(value) == len(given) and all(map(_fits, value, given))
        inner = given[0] if given else object
        return isinstance(value, tuple) and all(_fits(v, inner) for v in value)
    if hint is float:
        return isinstance(value, (int, float)) and not isinstance(value, bool)
    if hint is int:
        return isinstance(value, int) and not isinstance(value, bool)
    return isinstance(value, hint) if isinstance(hint, type) else True
