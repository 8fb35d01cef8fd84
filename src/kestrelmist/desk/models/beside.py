"""Images side by side: which they are, and what moves together in them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QObject, Signal

from ...scene.layer import FOLLOWS, LINKED, ImageLook
from ...study.items import ImageRecord
from .layers import Layers
from .viewing import Viewing

MOST = 4


class Beside(QObject):
    """Two to four images, one of which leads. The others follow its crosshair by world position, by voxel, or not."""

    places_changed = Signal()
    """An image that does not lead is wanted at another place along its axes."""

    def __init__(self, viewing: Viewing, layers: Layers):
        super().__init__(viewing)
        self.viewing, self.layers = viewing, layers
        self._apart: dict[int, np.ndarray] = {}
        self._led: int | None = None
        viewing.lead_changed.connect(self._lead)
        viewing.session.shelf_changed.connect(self._leave_out)
        viewing.place_changed.connect(self._place)
        layers.ranged.connect(self._range)

    @property
    def keys(self) -> tuple[int, ...]:
        """The images, from left to right; empty when the usual panes are shown."""
        return self.viewing.arrangement.beside

    @property
    def others(self) -> list[int]:
        return [key for key in self.keys if not self.viewing.leads(key)]

    def grid(self, key: int):
        record = self.viewing.study.items.get(key)
        return record.grid if isinstance(record, ImageRecord) and not record.removed else None

    # which

    def show(self, keys: Iterable[int]) -> None:
        """Show images side by side; fewer than two are shown as usual. One of them leads."""
        wanted = [key for key in dict.fromkeys(keys) if self.grid(key) is not None][:MOST]
        if len(wanted) < 2:
            self.viewing.arrange(beside=())
            return
        self.viewing.arrange(beside=tuple(wanted), times=False)
        lead = self.viewing.record
        if lead is None or lead.id not in wanted:
            self.viewing.show_image(wanted[0])

    def add(self, key: int) -> None:
        """Show an image beside what is there."""
        lead = self.viewing.record
        there = self.keys or ((lead.id,) if lead is not None else ())
        if len(there) == MOST and key not in there:
            self.viewing.session.trouble.emit(f"{MOST} images lie side by side: take one away before adding another.")
            return
        self.show([*there, key])

    def take_away(self, key: int) -> None:
        left = [one for one in self.keys if one != key]
        if self.viewing.leads(key) and left:
            self.viewing.arrange(beside=tuple(left) if len(left) > 1 else ())
            self.viewing.show_image(left[0])
        else:
            self.show(left)

    def suggested(self) -> Sequence[int]:
        """What lies side by side when nobody says what: the layers on the table, or else the next images of the
        subject and then of others."""
        lead = self.viewing.record
        if lead is None:
            return ()
        over = [row.record.id for row in reversed(self.layers.rows) if not row.leads]
        same = sorted(
            (
                r
                for r in self.viewing.study.records()
                if r.id != lead.id and r.grid.sides_known == lead.grid.sides_known
            ),
            key=lambda r: (r.subject != lead.subject, r.id),
        )
        return (lead.id, *(over or [r.id for r in same])[: MOST - 1 if over else 1])

    def make_lead(self, key: int) -> None:
        """Another one of them leads; the crosshair stays where it is in that image."""
        if self.viewing.leads(key) or key not in self.keys:
            return
        at, lead = self.crosshair_of(key), self.viewing.record
        if lead is not None:
            self._apart[lead.id] = self.viewing.crosshair.copy()
        self.viewing.crosshair = at
        self.viewing.show_image(key)

    def _lead(self) -> None:
        """An image that was chosen on the Shelf takes the place of the one that led."""
        lead = self.viewing.record
        if lead is not None and self.keys and lead.id not in self.keys:
            self.viewing.arrange(beside=tuple(lead.id if key == self._led else key for key in self.keys))
            if lead.id not in self.keys:
                self.viewing.arrange(beside=(lead.id, *self.keys[1:]))
        self._led = None if lead is None else lead.id

    def _leave_out(self) -> None:
        """One of them was taken off the Shelf."""
        if self.keys and any(self.grid(key) is None for key in self.keys):
            self.show(self.keys)

    # what moves together

    @property
    def follow(self) -> str:
        return self.viewing.arrangement.follow

    def set_follow(self, how: str) -> None:
        """By "world" position, by "voxel", or "apart"."""
        assert how in FOLLOWS
        for key in self.others:  # each stays where it is
            self._apart[key] = self.crosshair_of(key)
        self.viewing.arrange(follow=how)
        self.viewing.crosshair_moved.emit()

    def linked(self, what: str) -> bool:
        return what in self.viewing.arrangement.linked

    def set_linked(self, what: str, on: bool) -> None:
        """Whether "zoom", "range" or "place" is the same in all."""
        assert what in LINKED
        kept = [one for one in self.viewing.arrangement.linked if one != what]
        self.viewing.arrange(linked=tuple([*kept, what] if on else kept))

    def crosshair_of(self, key: int) -> np.ndarray:
        """Where the crosshair stands in one of the images, in its world."""
        lead, grid = self.viewing.record, self.grid(key)
        if self.follow == "world" or lead is None or grid is None or lead.id == key:
            return self.viewing.crosshair
        if self.follow == "voxel":
            return grid.to_world(lead.grid.to_voxel(self.viewing.crosshair))
        return self._apart.setdefault(key, grid.to_world(np.array(grid.shape) // 2))

    def go_to(self, key: int, world) -> None:
        """Move the crosshair by where it is to be in one of the images."""
        lead, grid = self.viewing.record, self.grid(key)
        if lead is None or grid is None or self.follow == "world":
            self.viewing.go_to(world)
        elif self.follow == "voxel":
            self.viewing.go_to(lead.grid.to_world(grid.to_voxel(world)))
        else:
            self._apart[key] = np.asarray(world, float)
            self.viewing.crosshair_moved.emit()

    def _range(self, low: float, high: float) -> None:
        if not self.linked("range"):
            return
        for key in self.others:
            stack = self.viewing.stacks.get(key)
            layer = stack.of(key) if stack is not None else None
            if stack is not None and layer is not None and isinstance(layer.look, ImageLook):
                self.viewing.stacks[key] = stack.changed(key, look=replace(layer.look, low=low, high=high))

    def _place(self) -> None:
        if not self.linked("place"):
            return
        moved = False
        for key in self.others:
            record = self.viewing.study.items.get(key)
            axes = record.axes if isinstance(record, ImageRecord) else ()
            if axes:
                place = tuple(min(n, axis.size - 1) for n, axis in zip(self.viewing.place, axes))
                self.viewing.places[key] = place + (0,) * (len(axes) - len(place))
                moved = True
        if moved:
            self.places_changed.emit()
