"""What a pane looks at: the image that leads, or one that lies beside it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from PySide6.QtCore import QObject, Signal

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...scene.compare import Comparison
from ...scene.first_look import first_look
from ...scene.layer import ImageLook, LabelLook, Layer, Stack
from ...scene.layer_type import Drawn
from ...scene.showing import for_showing
from ...scene.tiles import BASE
from ...study.items import ImageRecord
from .beside import Beside
from .layers import Layers
from .viewing import MOST_SHOWN, Viewing


@dataclass(frozen=True)
class Parts:
    """What is drawn in a pane: the image, what lies over it and how both are compared, and labels."""

    lower: Sequence[Drawn] = ()
    upper: Sequence[Drawn] = ()
    how: Comparison = Comparison()
    labels: Sequence[Drawn] = ()


class Sight(QObject):
    """One image as a group of panes looks at it.

    Parameters
    ----------
    viewing, layers, beside
        The models of the window.
    key : int, optional
        The image; the one that leads, whichever that is, when left out.
    """

    changed = Signal()
    """Values, labels or looks have changed: draw anew."""

    def __init__(self, viewing: Viewing, layers: Layers, beside: Beside, key: int | None = None, parent=None):
        super().__init__(parent)
        self.viewing, self.layers, self.beside, self.key = viewing, layers, beside, key
        self._image: Image | None = None
        self._labels: LabelMap | None = None
        self._upper: dict[int, Image] = {}
        self._wanted: tuple | None = None
        self._ended = False
        if key is not None:
            self._image = self._at_hand()
            for signal in (viewing.lead_changed, viewing.session.shelf_changed, beside.places_changed):
                signal.connect(self.read)
            viewing.session.things_changed.connect(self._things)
            viewing.session.hand_changed.connect(self._things)
            self.read()

    @property
    def leads(self) -> bool:
        return self.key is None or self.viewing.leads(self.key)

    @property
    def record(self) -> ImageRecord | None:
        if self.key is None or self.leads:
            return self.viewing.record
        record = self.viewing.study.items.get(self.key)
        return record if isinstance(record, ImageRecord) and not record.removed else None

    @property
    def image(self) -> Image | None:
        return self.viewing.image if self.leads else self._image

    @property
    def labels(self) -> LabelMap | None:
        return self.viewing.maps.labels if self.leads else self._labels

    @property
    def look(self) -> ImageLook | None:
        """How the image itself is shown."""
        if self.leads or self.key is None:
            return self.viewing.look
        own = self._stack().of(self.key)
        return own.look if own is not None and isinstance(own.look, ImageLook) else None

    @property
    def ready(self) -> bool:
        """Whether there is something to draw."""
        if self.leads:
            return self.viewing.ready
        return not self.viewing.session.closed and self._image is not None and self._image.in_memory

    @property
    def crosshair(self) -> np.ndarray:
        return self.viewing.crosshair if self.key is None or self.leads else self.beside.crosshair_of(self.key)

    def go_to(self, world) -> None:
        """Move the crosshair, in this image's terms."""
        if self.key is None or self.leads:
            self.viewing.go_to(world)
        else:
            self.beside.go_to(self.key, world)

    def step(self, axis: int, count: int) -> None:
        """Step by voxels of this image."""
        record = self.record
        if record is not None:
            self.go_to(record.grid.stepped(self.crosshair, axis, count, self.viewing.arrangement.own_axes))

    def parts(self, tint: tuple[float, float] | None = None) -> Parts:
        """What is drawn; `tint` lights up a range of the lead image's values."""
        if self.leads:
            look = self.viewing.look
            lower = self.viewing.drawn_image(replace(look, tint=tint) if look is not None and tint else look)
            labels = [*self.layers.outlines(), *self.viewing.maps.drawn()]
            return Parts(lower, self.layers.drawn(), self.comparison, labels)
        if self._image is None:
            return Parts()
        assert self.key is not None
        stack, shown = self._stack(), self.look
        lower = [Drawn(self._image, shown)] if shown is not None else []
        upper = [
            Drawn(self._upper[one.thing], one.look, one.opacity)
            for one in stack.layers
            if one.thing in self._upper and one.shown and isinstance(one.look, ImageLook)
        ]
        labels = []
        if self._labels is not None:
            of_labels = self.viewing.maps.looks.get(self.viewing.study.maps.key_of(self._labels) or 0, LabelLook())
            labels.append(Drawn(self._labels, of_labels))
        return Parts(lower, upper, self.comparison, labels)

    @property
    def comparison(self) -> Comparison:
        """How what lies over the image is seen; as over it, when nothing does."""
        there = self.layers.drawn() if self.leads else self._upper
        return self.layers.comparison if there else Comparison()

    def bars(self) -> list[tuple[ImageLook, str, str]]:
        """Looks with a colour bar, the units of their values, and names: of what lies over the image, the top one
        first, and of the image itself when it is not grey."""
        record = self.record
        if record is None:
            return []
        looks = []
        for layer in reversed(self._stack().layers):
            of = self.viewing.study.items.get(layer.thing) if isinstance(layer.thing, int) else None
            if (
                not isinstance(of, ImageRecord)
                or of.removed
                or not layer.shown
                or not isinstance(layer.look, ImageLook)
            ):
                continue
            image = self.layers.image(of.id) if self.leads else self._upper.get(of.id, self._image)
            plain = of.id == record.id and layer.look.colour_map == "Grey" and not layer.look.inverted
            if image is not None and not image.colour and not plain:
                looks.append((layer.look, of.unit, of.name))
        return looks

    def _stack(self) -> Stack:
        if self.key is None:
            return self.layers.stack
        return self.viewing.stacks.get(self.key, Stack((Layer(self.key),)))

    def _frame(self) -> Image:
        assert self.key is not None
        image = self.viewing.study.image(self.key)
        place = self.viewing.places.get(self.key, ())
        return for_showing(image.frame(place if len(place) == len(image.axes) else ()), MOST_SHOWN, BASE)

    def _at_hand(self) -> Image | None:
        """The image when its values are in memory: nothing flickers when another one takes the lead."""
        try:
            frame = self._frame()
        except Trouble:
            return None
        return frame if frame.in_memory else None

    def _things(self, _) -> None:
        """Its labels may be others now."""
        if not self._ended:
            self.read()
            self.changed.emit()

    def end(self) -> None:
        """Nobody looks any more: what is still being read is not drawn."""
        self._ended, self._wanted = True, None
        self.deleteLater()

    def read(self) -> None:
        """Read what is to be drawn, beside the window."""
        if self._ended or self.key is None or self.leads or self.record is None or self.viewing.session.closed:
            self._wanted = None
            return
        key, record, study = self.key, self.record, self.viewing.study
        over = [one.thing for one in self._stack().layers if one.thing != key and isinstance(one.thing, int)]
        wanted = (record.grid, self.viewing.places.get(key), tuple(over), study.in_hand(key))
        if wanted == self._wanted:
            return
        self._wanted = wanted
        self._image = self._at_hand() or self._image
        self.changed.emit()

        def work(progress):
            image = self._frame()
            image.fetch(progress)
            upper = {}
            for other in over:
                layer = for_showing(study.image(other).frame(self.viewing.places.get(other, ())), MOST_SHOWN, BASE)
                layer.fetch(progress)
                upper[other] = layer
            return image, study.labels(key), first_look(study.image(key)), upper

        def put(found) -> None:
            if self._ended or self._wanted != wanted:
                return
            self._image, self._labels, look, self._upper = found
            if key not in self.viewing.stacks:
                self.viewing.stacks[key] = Stack((Layer(key, look=look),))
            self.changed.emit()

        def failed(error: BaseException) -> None:
            self.viewing.session.trouble.emit(str(error))

        work_of = self.viewing.session.work
        work_of.start(f"Reading {record.name}", work, put, failed, "view", loud=self._image is None)
