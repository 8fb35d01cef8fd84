"""A stack with the images themselves at hand: what a study keeps under a name, and what a file describes."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

from ..core.errors import Trouble
from ..core.image import Image
from .compare import WAYS, Comparison
from .layer import Layer, restored
from .layer_type import Drawn, type_of_thing

VERSION = 1
"""Of the way stacks are written; raised when an older program would draw them wrongly."""


@dataclass(frozen=True)
class LaidStack:
    """Layers over an image that leads.

    Parameters
    ----------
    layers : tuple of Drawn
        The lowest first, which is the image that leads.
    how : Comparison
        How what lies above it is seen.
    name, subject : str
    things : tuple
        What each layer is called where the stack is kept.
    """

    layers: tuple[Drawn, ...]
    how: Comparison = Comparison()
    name: str = ""
    subject: str = ""
    things: tuple = ()

    @property
    def lead(self) -> Image:
        """The image that leads."""
        found = self.layers[0].thing
        assert isinstance(found, Image)
        return found

    def content_hash(self) -> str:
        """SHA-256 of images, labels and looks."""
        digest = hashlib.sha256(repr(self.how).encode())
        for one in self.layers:
            digest.update(f"{one.thing.content_hash()} {one.look} {one.opacity}".encode())
        return digest.hexdigest()


def laid(facts: Any, find: Callable[[Any], Any], name: str = "", subject: str = "") -> LaidStack:
    """A stack from what is written of it.

    Parameters
    ----------
    facts : dict
        "version", "layers" (each as `Layer.as_dict` gives it, with a "thing") and "comparison"; looks that are left out
        are chosen from the values.
    find : callable
        `find(thing)` gives the image, one volume, the label map or the marks that are meant; raises Trouble when it is
        gone.

    Raises
    ------
    Trouble
        When a newer version has written it, it holds no image, or one of them is gone.
    """
    if not isinstance(facts, dict) or not isinstance(facts.get("layers"), list):
        raise Trouble(f"“{name}” is no stack of layers", "write a list of layers in it")
    if not isinstance(facts.get("version", VERSION), int) or facts.get("version", VERSION) > VERSION:
        raise Trouble(f"“{name}” was saved by a newer version of this program", "use that version, or lay it anew")
    layers: list[Drawn] = []
    things = []
    for row in facts["layers"]:
        if not isinstance(row, dict) or "thing" not in row:
            continue
        layer, given = Layer.from_dict(row), row.get("look")
        if not layer.shown:
            continue
        thing = find(row["thing"])
        things.append(row["thing"])
        chosen, clear = type_of_thing(thing).first(thing, bool(layers))
        look = restored(type(chosen), {**asdict(chosen), **given}) if isinstance(given, dict) else chosen
        layers.append(Drawn(thing, look, layer.opacity if "opacity" in row else clear))
    if not layers or not type_of_thing(layers[0].thing).leads:
        raise Trouble(f"The lowest layer of “{name}” is no image", "lay an image lowest")
    how = restored(Comparison, facts.get("comparison"))
    return LaidStack(tuple(layers), how if how.way in WAYS else Comparison(), name, subject, tuple(things))


def as_text(layers: list[dict], how: Comparison) -> dict:
    """What is written of a stack."""
    return json.loads(json.dumps({"version": VERSION, "layers": layers, "comparison": asdict(how)}))
