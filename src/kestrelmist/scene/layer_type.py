"""What a layer type is, and the list of them. A type says what it is made of, its look, and how it is drawn: in pixels,
or as primitives that every painter draws."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..core.errors import Trouble
from ..core.registry import Registry
from .primitives import Primitive
from .view import View


@dataclass(frozen=True)
class Drawn:
    """A layer with the thing itself at hand: its look is of the kind that its layer type has."""

    thing: Any
    look: Any
    opacity: float = 1.0
    channels: tuple[Any, ...] = ()
    """Of a picture whose channels are shown together: each of them."""


@dataclass(frozen=True)
class LayerType:
    """A layer type.

    Parameters
    ----------
    name : str
        Under which stacks keep its looks.
    thing : type
        What such a layer is made of.
    look : type
        How it is shown: plain frozen data whose fields all have first values.
    first : callable
        `first(thing, over)`: look and opacity at first, by itself or over what leads.
    pixels : callable, optional
        `pixels(view, layer, out)`: lay it over a picture (height, width) of packed colours.
    primitives : callable, optional
        `primitives(view, layer)`: what painters draw over the picture.
    values : callable, optional
        `values(view, layer)`: values (height, width) under a view's pixels, for those who look for its edges; None
        when it has none.
    leads : bool
        Whether it can be the lowest of a stack.
    """

    name: str
    thing: type
    look: type
    first: Callable[[Any, bool], tuple[Any, float]]
    pixels: Callable[[View, Drawn, np.ndarray], None] | None = None
    primitives: Callable[[View, Drawn], list[Primitive]] | None = None
    values: Callable[[View, Drawn], np.ndarray | None] | None = None
    leads: bool = False


LAYER_TYPES: Registry[LayerType] = Registry("layer type", f"{__package__}.layer_types")
_by_type: dict[type, LayerType] = {}


def register(one: LayerType) -> LayerType:
    """Make a layer type known."""
    return LAYER_TYPES.add(one.name, one)


def type_of_thing(thing: Any) -> LayerType:
    """The layer type of a thing; raises Trouble when nothing of its kind can lie in a stack."""
    found = _by_type.get(type(thing))
    if found is None:
        known = LAYER_TYPES.values()
        found = next((one for one in known if isinstance(thing, one.thing)), None)
        if found is None:
            raise Trouble(f"A {type(thing).__name__} cannot lie in a stack", "lay images, labels or marks")
        _by_type[type(thing)] = found
    return found


def type_of_look(look: Any) -> LayerType:
    """The layer type that has looks of a kind."""
    return next(one for one in LAYER_TYPES.values() if isinstance(look, one.look))


def primitives_of(view: View, layers: Iterable[Drawn]) -> list[Primitive]:
    """What painters draw for layers that are not made of pixels, the lowest first."""
    found: list[Primitive] = []
    for layer in layers:
        draws = type_of_thing(layer.thing).primitives
        if draws is not None and layer.opacity > 0:
            found += draws(view, layer)
    return found
