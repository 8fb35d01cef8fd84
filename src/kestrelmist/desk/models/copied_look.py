"""The range and colours of a layer, given to another one or to all of its kind."""

from __future__ import annotations

from dataclasses import replace

from ...scene.layer import ImageLook, Layer, Stack
from ...study.items import ImageRecord
from .layers import Layers

COPIED = ("low", "high", "colour_map", "inverted", "below_map", "below_low", "below_high", "hide_below", "hide_above")
"""What of a look is copied with a range."""


class CopiedLook:
    """What was copied from the look of the chosen layer."""

    def __init__(self, layers: Layers):
        self.layers = layers
        self._copied: dict | None = None

    def copy(self) -> None:
        """Remember the range and colours of the chosen layer."""
        look = self.layers.look
        if look is not None:
            self._copied = {name: getattr(look, name) for name in COPIED}
            low, high = look.low, look.high
            self.layers.viewing.session.said.emit(f"The range {low:.4g} to {high:.4g} is remembered, with its colours.")

    def give(self) -> None:
        """Give the chosen layer the range and colours that are remembered."""
        if self._copied is None:
            self.layers.viewing.session.trouble.emit("No range is remembered yet: copy one first.")
        else:
            self.layers.set_look(**self._copied)

    def for_all(self) -> None:
        """Show every image of the kind of the chosen layer (its modality and unit) in its range and colours; those that
        were not looked at yet, once they are."""
        look, key = self.layers.look, self.layers.chosen
        record = None if key is None else self.layers.viewing.study.items.get(key)
        if look is None or not isinstance(record, ImageRecord):
            return
        changes = {name: getattr(look, name) for name in COPIED}
        kin = [
            other
            for other in self.layers.viewing.study.records()
            if other.id != key and (other.modality, other.unit) == (record.modality, record.unit) and not other.colour
        ]
        for other in kin:
            stack = self.layers.viewing.stacks.get(other.id, Stack((Layer(other.id, look=look),)))
            own = stack.of(other.id)
            if own is not None and isinstance(own.look, ImageLook):
                self.layers.viewing.stacks[other.id] = stack.changed(other.id, look=replace(own.look, **changes))
        self.layers.viewing.looks_changed.emit()
        several = "" if len(kin) == 1 else "s"
        self.layers.viewing.session.said.emit(f"{len(kin)} more image{several} of this kind shown in this range.")
