"""What lies on the table: images laid over the one that leads, with looks of their own."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from PySide6.QtCore import QObject, Signal

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.overlap import Apart, apart, require_overlap, why_apart
from ...core.through import labels_through, seen_through
from ...core.transform import Transform
from ...scene.compare import Comparison
from ...scene.first_look import over_look, over_opacity
from ...scene.laid import LaidStack
from ...scene.layer import ImageLook, LabelLook, Layer, Stack
from ...scene.layer_type import Drawn
from ...scene.showing import for_showing
from ...scene.tiles import BASE
from ...study.items import ImageRecord
from .viewing import Viewing

OUTLINES = LabelLook(fill=0.0, edges=True)
MOST = 1 << 30
"""Bytes of a layer on the screen; of larger pictures a coarser level is shown."""


@dataclass(frozen=True)
class Row:
    """A layer of the lead pane with the record of its image."""

    layer: Layer
    record: ImageRecord
    leads: bool


class Layers(QObject):
    """The images of the lead pane's stack. The lowest is the image that leads; the stack is kept with the view."""

    changed = Signal()
    """Layers were added, moved or taken away, or another one is chosen."""
    ranged = Signal(float, float)
    """The lead image is shown in another range."""

    def __init__(self, viewing: Viewing):
        super().__init__(viewing)
        self.viewing = viewing
        self._images: dict[int, Image] = {}
        self._places: dict[int, tuple] = {}
        """Where each was found when its values were read."""
        self._maps: dict[int, LabelMap] = {}
        self._chosen: int | None = None
        self._held: Comparison | None = None
        self._moved: tuple[int, Image] | None = None
        """A layer as a hand moves it, as long as it does."""
        self.comparison = Comparison()
        """How what lies over the lead image is seen; the same in every pane."""
        viewing.lead_changed.connect(self._lead)
        viewing.session.shelf_changed.connect(self._follow)

    @property
    def stack(self) -> Stack:
        record = self.viewing.record
        return Stack() if record is None else self.viewing.stacks.get(record.id, Stack((Layer(record.id),)))

    @property
    def rows(self) -> list[Row]:
        """The layers, top first; those whose image is not on the Shelf are left out."""
        found, lead = [], self.viewing.record
        for layer in reversed(self.stack.layers):
            record = self.viewing.study.items.get(layer.thing) if isinstance(layer.thing, int) else None
            if isinstance(record, ImageRecord) and not record.removed:
                found.append(Row(layer, record, lead is not None and record.id == lead.id))
        return found

    def image(self, key: int) -> Image | None:
        """The image of a layer when its values are in memory."""
        lead = self.viewing.record
        return self.viewing.image if lead is not None and lead.id == key else self._images.get(key)

    def label_maps(self) -> list[tuple[str, LabelMap]]:
        """Label maps that say something of a place: those of the lead image that are drawn, and of what lies over it,
        when they are in memory."""
        viewing, found = self.viewing, []
        if viewing.maps.labels is not None and viewing.maps.map is not None:
            found.append((viewing.maps.map.name, viewing.maps.labels))
        names = {record.id: record.name for record in viewing.maps.others()}
        found += [(names[key], labels) for key, labels in viewing.maps.seen_others() if key in names]
        for row in self.rows:
            if not row.leads and row.record.id in self._maps:
                found.append((f"Labels on {row.record.name}", self._maps[row.record.id]))
        return found

    def outlines(self) -> list[Drawn]:
        """Edges of the labels of what lies over the lead image and is shown, such as the regions of an atlas."""
        rows = [row for row in reversed(self.rows) if not row.leads and row.layer.shown]
        return [Drawn(self._maps[row.record.id], OUTLINES) for row in rows if row.record.id in self._maps]

    def drawn(self) -> list[Drawn]:
        """What lies over the lead image, the lowest first."""
        above = []
        for row in reversed(self.rows):
            image = self._images.get(row.record.id)
            if self._moved is not None and self._moved[0] == row.record.id:
                image = self._moved[1]
            if not row.leads and row.layer.shown and image is not None and isinstance(row.layer.look, ImageLook):
                above.append(Drawn(image, row.layer.look, row.layer.opacity))
        return above

    def show_moved(self, key: int, matrix: np.ndarray | None) -> None:
        """Draw a layer as if it were moved in the world by a matrix (4, 4), until its values are read again where it
        lies; None for where it lay."""
        image = self._images.get(key)
        self._moved = None
        if matrix is not None and image is not None:
            world = image.space.world
            self._moved = key, seen_through(image, Transform(matrix, world, world))
        self.viewing.looks_changed.emit()

    def show_as(self, key: int, image: Image) -> None:
        """Draw an image in place of a layer, for the time being; see `show_moved`."""
        if key in self._images:
            self._moved = key, image
            self.viewing.looks_changed.emit()

    def compare(self, how: Comparison) -> None:
        """See what lies over the lead image in another way."""
        if how != self.comparison:
            self.comparison = how
            self.viewing.looks_changed.emit()

    def compare_by(self, **changes) -> None:
        """Change part of how it is seen: way, share, side of squares."""
        self.compare(replace(self.comparison, **changes))

    def fade_all(self) -> None:
        """As long as it is held: what lies above is seen wholly, or not at all when it is seen by more than half."""
        how = self.comparison
        self._held = how
        seen = how.share if how.way in ("fade", "swipe") else 1.0
        self.compare(replace(how, way="fade", share=0.0 if seen > 0.5 else 1.0))

    @property
    def held(self) -> bool:
        """Whether it is seen in another way only as long as a key is held."""
        return self._held is not None

    def fade_back(self) -> None:
        """It is let go."""
        if self._held is not None:
            how, self._held = self._held, None
            self.compare(how)

    # the layer that Look belongs to

    @property
    def chosen(self) -> int | None:
        """The image whose look the Bench shows: the one chosen, else the lead."""
        lead = self.viewing.record
        return self._chosen if self._chosen is not None else None if lead is None else lead.id

    def choose(self, key: int) -> None:
        lead = self.viewing.record
        self._chosen = None if lead is not None and lead.id == key else key
        self.changed.emit()
        self.viewing.looks_changed.emit()

    @property
    def look(self) -> ImageLook | None:
        """How the chosen layer is shown."""
        layer = self.stack.of(self.chosen) if self.chosen is not None else None
        return layer.look if layer is not None and isinstance(layer.look, ImageLook) else self.viewing.look

    def set_look(self, **changes) -> None:
        """Change the look of the chosen layer; a lower limit that hides what is below it goes along with the range."""
        look = self.look
        if "low" in changes and look is not None and look.hide_below is not None:
            changes.setdefault("hide_below", changes["low"])
        if self._chosen is None:
            if "low" in changes or "high" in changes:
                shown = replace(look or ImageLook(), **changes)
                self.ranged.emit(shown.low, shown.high)
            self.viewing.set_look(**changes)
            return
        layer = self.stack.of(self._chosen)
        if layer is not None and isinstance(layer.look, ImageLook):
            self._put(self.stack.changed(self._chosen, look=replace(layer.look, **changes)), whole=False)

    # putting down and taking away

    def why_not(self, record: ImageRecord) -> Apart | None:
        """Why an image cannot lie over the one that leads, as far as grids tell; None when it can."""
        lead = self.viewing.record
        if lead is None:
            return None
        try:
            way = self.viewing.study.way(lead.grid.world, record.grid.world)
        except Trouble as trouble:
            return Apart(trouble.what, trouble.do, "ways disagree")
        through = None if way is None or not way.made_of else way.mapping
        return why_apart(lead.name, lead.grid, record.name, record.grid, through)

    def lay_over(self, key: int) -> None:
        """Lay an image over the one that leads; its values are read by a worker."""
        viewing, lead = self.viewing, self.viewing.record
        if lead is None or not viewing.ready or viewing.image is None or lead.id == key:
            return
        try:
            record, image = viewing.study.find(key), viewing.study.image(key)
            way = viewing.study.way(lead.grid.world, record.grid.world)
            require_overlap(viewing.image, image, None if way is None or not way.made_of else way.mapping)
        except Trouble as trouble:
            viewing.session.trouble.emit(str(trouble))
            return
        if self.stack.of(key) is not None:
            self.choose(key)
            return

        def read(progress):
            shown = for_showing(image.frame(viewing.places.get(key, ())), MOST, BASE)
            shown.fetch(progress)
            return self._seen(shown, lead), over_look(image), self._labels_of(key, lead)

        def put(result) -> None:
            if viewing.leads(lead.id):
                self._images[key], look, labels = result
                self._places[key] = self._place(record, lead)
                self._keep_labels(key, labels)
                self._chosen = key
                self._put(self.stack.with_layer(Layer(key, look=look, opacity=over_opacity(look))))

        viewing.session.work.start(f"Reading {record.name}", read, put, lane="view", loud=not image.in_memory)

    def lay_out(self, key: int) -> None:
        """Lay out a stack that was saved: its lowest image leads. What is in it is read by a worker."""
        viewing, record = self.viewing, self.viewing.study.items.get(key)
        if record is None:
            return
        rows = [row for row in record.body.get("layers") or () if isinstance(row, dict)]
        places = {row.get("thing"): tuple(row.get("place") or ()) for row in rows}

        def put(stack: LaidStack) -> None:
            images = []
            for thing, one in zip(stack.things, stack.layers):
                if isinstance(one.look, ImageLook):
                    images.append(Layer(thing, look=one.look, opacity=one.opacity))
                elif isinstance(one.look, LabelLook):
                    viewing.maps.looks[thing] = one.look
                else:
                    viewing.session.done(partial(viewing.study.marks.take_in_hand, thing))
                if places.get(thing):
                    viewing.places[thing] = places[thing]
            viewing.stacks[stack.things[0]] = Stack(tuple(images))
            self.comparison = stack.how
            viewing.show_image(stack.things[0])

        work = viewing.session.work
        work.start(f"Laying out {record.name}", lambda progress: viewing.study.thing(key), put, lane="view")

    def take_away(self, key: int) -> None:
        """Take a layer off the table; the one that leads stays."""
        lead = self.viewing.record
        if lead is not None and lead.id != key:
            self._images.pop(key, None)
            self._chosen = None if self._chosen == key else self._chosen
            self._put(self.stack.without(key))

    def take_all_away(self) -> None:
        """Everything but the image that leads."""
        for row in self.rows:
            self.take_away(row.record.id)

    def set_shown(self, key: int, on: bool) -> None:
        self._put(self.stack.changed(key, shown=on))

    def show_only(self, key: int) -> None:
        """Show one layer over the lead image, or all when it is the only one shown."""
        others = [r.record.id for r in self.rows if not r.leads and r.record.id != key]
        on = not any(layer.shown for layer in map(self.stack.of, others) if layer is not None)
        stack = self.stack.changed(key, shown=True)
        for other in others:
            stack = stack.changed(other, shown=on)
        self._put(stack)

    def set_opacity(self, key: int, opacity: float) -> None:
        self._put(self.stack.changed(key, opacity=min(max(float(opacity), 0.0), 1.0)), whole=False)

    def move(self, key: int, steps: int) -> None:
        """Move a layer up, or down to just above the image that leads."""
        layers = list(self.stack.layers)
        at = next((n for n, one in enumerate(layers) if one.thing == key), 0)
        to = min(max(at + steps, 1), len(layers) - 1)
        if at > 0 and to != at:
            layers.insert(to, layers.pop(at))
            self._put(Stack(tuple(layers)))

    def _put(self, stack: Stack, whole: bool = True) -> None:
        lead = self.viewing.record
        if lead is None:
            return
        self.viewing.stacks[lead.id] = stack
        if whole:
            self.changed.emit()
        self.viewing.looks_changed.emit()

    def _lead(self) -> None:
        """Another image leads: what lay over it the last time is read again."""
        self._images, self._maps, self._places, self._chosen = {}, {}, {}, None
        self._moved = None
        self.changed.emit()
        for row in self.rows:
            if not row.leads:
                self._read(row.record)

    def _seen(self, image: Image, lead: ImageRecord) -> Image:
        """An image as it lies in the space of the one that leads; raises Trouble where no way leads there."""
        here, there = image.space.world, lead.grid.world
        way = self.viewing.study.way(here, there)
        if way is None and here.id and there.id and not image.space.same_grid(lead.grid):
            raise apart(image.name, here, lead.name, there)
        return image if way is None or not way.made_of else seen_through(image, way.mapping)

    def _place(self, record: ImageRecord, lead: ImageRecord | None) -> tuple:
        """What tells where a layer lies: its grid, and the transforms on the way to that of the image that leads."""
        try:
            way = None if lead is None else self.viewing.study.way(record.grid.world, lead.grid.world)
        except Trouble:  # two that disagree
            return record.grid, None
        return record.grid, tuple(r.hash for r in way.made_of) if way is not None else ()

    def _labels_of(self, key: int, lead: ImageRecord) -> LabelMap | None:
        """Labels that were drawn on an image; for a worker."""
        study = self.viewing.study
        if study.in_hand(key) is None:
            return None
        labels = study.labels(key)
        way = study.way(labels.space.world, lead.grid.world)
        return labels if way is None or not way.made_of else labels_through(labels, way.mapping)

    def _keep_labels(self, key: int, labels: LabelMap | None) -> None:
        if labels is not None:
            self._maps[key] = labels

    def _read(self, record: ImageRecord) -> None:
        """Read a layer's values beside the window; it is drawn when they are there."""
        lead, viewing = self.viewing.record, self.viewing

        def read(progress):
            frame = viewing.study.image(record.id).frame(viewing.places.get(record.id, ()))
            shown = for_showing(frame, MOST, BASE)
            shown.fetch(progress)
            assert lead is not None
            return self._seen(shown, lead), self._labels_of(record.id, lead)

        def put(result) -> None:
            if lead is not None and viewing.leads(lead.id) and self.stack.of(record.id) is not None:
                self._images[record.id], labels = result
                self._moved = None
                self._places[record.id] = self._place(record, lead)
                self._keep_labels(record.id, labels)
                viewing.looks_changed.emit()
                self._follow()  # it may have been moved again meanwhile

        viewing.session.work.start(f"Reading {record.name}", read, put, lane="view", loud=False)

    def _follow(self) -> None:
        """Something has come onto the Shelf, or gone, or lies elsewhere now."""
        there = {row.record.id for row in self.rows}
        self._images = {key: image for key, image in self._images.items() if key in there}
        self._chosen = self._chosen if self._chosen in there else None
        for row in self.rows:
            image = self._images.get(row.record.id)
            moved = self._places.get(row.record.id) != self._place(row.record, self.viewing.record)
            if not row.leads and moved and (image is None or not image.levels):
                self._read(row.record)
        self.changed.emit()
        self.viewing.looks_changed.emit()
