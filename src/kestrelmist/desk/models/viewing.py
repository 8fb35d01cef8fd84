"""What is looked at: the lead image and its labels, how they are shown, where the crosshair is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QObject, Signal

from ...core.digits import decimals_of
from ...core.errors import Trouble
from ...core.image import Image
from ...scene.first_look import first_look
from ...scene.layer import Arrangement, ImageLook, Layer, Stack
from ...scene.layer_type import Drawn
from ...scene.showing import for_showing
from ...scene.tiles import BASE
from ...scene.view import View
from ...study.inputs import NOTHING, Lead
from ...study.items import ImageRecord
from .seen_maps import SeenMaps
from .session import Session

MOST_SHOWN = 1 << 30
"""Bytes of one volume on the screen; of larger pictures a coarser level is shown."""


class Viewing(QObject):
    """The state of what is seen. Each signal means one thing."""

    lead_changed = Signal()
    """Another image leads, or none; its values may still be on disk."""
    lead_ready = Signal()
    """Values and labels of the lead image are in memory; or another volume of it is, or it lies elsewhere now."""
    crosshair_moved = Signal()
    place_changed = Signal()
    """Another place along the axes of a series is wanted."""
    looks_changed = Signal()
    stage_changed = Signal()
    arrangement_changed = Signal()
    plan_shown = Signal(bool)
    """Whether a plan lies over the Light table."""

    def __init__(self, session: Session, parent=None):
        super().__init__(parent)
        self.session, self.study = session, session.study
        self.record: ImageRecord | None = None
        self.series: Image | None = None
        self.image: Image | None = None
        self.place: tuple[int, ...] = ()
        self.crosshair = np.zeros(3)
        self.stage = "Gather"
        self.arrangement = Arrangement()
        self.lead_view: Callable[[], View | None] = lambda: None
        """What the lead pane shows at present."""
        self.channels: tuple[Image, ...] = ()
        """Of a picture with channels: each of them at the present place, when they are shown together."""
        self.stacks: dict[int, Stack] = {}
        self.places: dict[int, tuple[int, ...]] = {}
        self._before: int | None = None
        session.things_changed.connect(self._follow)
        self.maps = SeenMaps(session, self.leads)
        """The label maps of the lead image."""
        self.maps.looks_changed.connect(self.looks_changed)

    # what is shown

    @property
    def stack(self) -> Stack:
        """What lies in the lead pane, the lowest first: the image, the other label maps, the one in hand."""
        if self.record is None:
            return Stack()
        stack = self.stacks.get(self.record.id, Stack((Layer(self.record.id),)))
        for layer in self.maps.layers(self.record.id):
            stack = stack.with_layer(layer)
        return stack

    @property
    def look(self) -> ImageLook | None:
        """How the lead image is shown."""
        stack = self.stacks.get(self.record.id) if self.record else None
        layer = stack.of(self.record.id) if stack and self.record else None
        return layer.look if layer and isinstance(layer.look, ImageLook) else None

    def drawn_image(self, look: ImageLook | None = None) -> list[Drawn]:
        """The lead image as it is drawn, with another look for the moment."""
        wanted = look or self.look
        if self.image is None or wanted is None or self.record is None:
            return []
        layer = self.stacks[self.record.id].of(self.record.id)
        opacity = layer.opacity if layer is not None else 1.0
        return [Drawn(self.image, wanted, opacity, self.channels)]

    @property
    def ready(self) -> bool:
        """Whether the lead image's values are in memory."""
        return (
            not self.session.closed
            and self.image is not None
            and self.image.in_memory
            and self.maps.labels is not None
            and self.look is not None
        )

    @property
    def lead(self) -> Lead:
        """What leads, with the volume and the label map that are looked at, as operations are given it."""
        key, of_it = (None if r is None else r.id for r in (self.record, self.maps.map))
        return NOTHING if key is None else Lead(key, tuple(n + 1 for n in self.place or ()), of_it)

    def leads(self, key: int) -> bool:
        """Whether the image with this id leads; its record is a new one after each change."""
        return self.record is not None and self.record.id == key

    # choosing

    def show_image(self, key: int, done: Callable[[], object] | None = None) -> None:
        """Bring an image to the lead pane; its values are read by a worker."""
        try:
            record, image = self.study.find(key), self.study.image(key)
        except Trouble as trouble:
            self.session.trouble.emit(str(trouble))
            return
        self.session.end_gesture()
        if self.record is not None and self.record.id != record.id:
            self._before = self.record.id
        place = self.places.get(record.id, ())
        place = place if len(place) == len(record.axes) else (0,) * len(record.axes)
        shown_image = for_showing(image.frame(place), MOST_SHOWN, BASE)
        self.record, self.series, self.image, self.place = record, image, shown_image, place
        self.channels = ()
        self.maps.empty(record.id)
        self.lead_changed.emit()

        def read(progress):
            shown_image.fetch(progress)
            labels = self.study.labels(record.id)
            if labels.counts[0] == labels.kji.size < 1 << 28:
                labels.kji.fill(0)  # the system hands out memory on first touch: better here than under a stroke
            return labels, first_look(image)

        def shown(result) -> None:
            if not self.leads(record.id):
                return
            labels, look = result
            if self.look is None:  # what lies over it is kept
                self.stacks[record.id] = Stack((Layer(record.id, look=look),))
            if record.grid.nearest_voxel(self.crosshair) is None:
                self.crosshair = record.grid.to_world(np.array(record.grid.shape) // 2)
            self.maps.take(labels)
            self.lead_ready.emit()
            self.maps.chosen.emit()
            self.maps.catch_up()
            self.crosshair_moved.emit()
            if done:
                done()

        def failed(error: BaseException) -> None:
            if self.leads(record.id):
                self.clear()
            self.session.trouble.emit(str(error))

        work = self.session.work
        work.start(f"Reading {record.name}", read, shown, failed, "view", loud=not shown_image.in_memory)

    def show_last(self) -> None:
        """Bring back the image that led before this one."""
        record = None if self._before is None else self.study.items.get(self._before)
        if record is not None and not record.removed:
            self.show_image(record.id)

    def clear(self) -> None:
        """Nothing leads."""
        self.record = self.image = self.series = None
        self.maps.empty(None)
        self.lead_changed.emit()

    def go_along(self, axis: int, n: int) -> None:
        """Show another volume of a series; it is read by a worker when it is not in memory."""
        if not self.ready or self.record is None or self.series is None or axis >= len(self.place):
            return
        place = tuple(
            min(max(n, 0), a.size - 1) if k == axis else p for k, (a, p) in enumerate(zip(self.record.axes, self.place))
        )
        if place == self.place:
            return
        self.session.end_gesture()
        record, wanted = self.record, for_showing(self.series.frame(place), MOST_SHOWN, BASE)
        self.place = self.places[record.id] = place
        self.place_changed.emit()

        def read(progress) -> None:
            if self.place == place:  # a slider that has gone on meanwhile wants another one
                wanted.fetch(progress)

        def put(_) -> None:
            if self.leads(record.id) and self.place == place and wanted.in_memory:
                self.image = wanted
                self.lead_ready.emit()

        if wanted.in_memory:
            put(None)
        else:
            self.session.work.start(f"Reading {record.name}", read, put, lane="view", loud=False)

    def _follow(self, items: tuple[int, ...]) -> None:
        """The study has changed: what is shown follows."""
        record = self.record
        if record is None:
            return
        fresh = self.study.items.get(record.id)
        if fresh is None or fresh.removed:
            self.clear()
            return
        assert isinstance(fresh, ImageRecord)
        self.record = fresh
        if record.id in items and self.series is not None:
            self.series = self.study.image(record.id)
            self.image = for_showing(self.series.frame(self.place), MOST_SHOWN, BASE)
            if record.grid != fresh.grid:
                self._stay_on_voxel(record, fresh)
            if self.image.in_memory:
                self.lead_ready.emit()
            else:
                self.show_image(record.id)
                return
        self.maps.follow(items)

    # moving

    def _stay_on_voxel(self, before: ImageRecord, now: ImageRecord) -> None:
        """The image was placed elsewhere: the crosshair goes along, so that the same place of it is looked at."""
        if before.grid.shape == now.grid.shape and self._inside(before):
            self.crosshair = now.grid.to_world(before.grid.to_voxel(self.crosshair))
        elif not self._inside(now):
            self.crosshair = now.grid.to_world(np.array(now.grid.shape) // 2)
        self.crosshair_moved.emit()

    def _inside(self, record: ImageRecord) -> bool:
        return record.grid.nearest_voxel(self.crosshair) is not None

    def go_to(self, world) -> None:
        """Move the crosshair."""
        self.crosshair = np.asarray(world, float)
        self.crosshair_moved.emit()

    def named_place(self, world) -> tuple[float, ...]:
        """A world position in as many decimals as tell a thousandth of a voxel, so that it can be written down."""
        least = min(self.record.grid.spacing) if self.record is not None else 1.0
        return tuple(round(float(v), decimals_of(least) + 3) for v in world)

    def step(self, axis: int, count: int) -> None:
        """Step along a world axis, or the lead image's own, by its voxels."""
        if self.record is not None:
            self.go_to(self.record.grid.stepped(self.crosshair, axis, count, self.arrangement.own_axes))

    def set_stage(self, stage: str) -> None:
        if stage != self.stage:
            self.session.end_gesture()
            self.stage = stage
            self.stage_changed.emit()

    def set_look(self, **changes) -> None:
        look = self.look
        if look is not None and self.record is not None:
            stack = self.stacks[self.record.id]
            self.stacks[self.record.id] = stack.changed(self.record.id, look=replace(look, **changes))
            self.looks_changed.emit()

    @property
    def left_on_left(self) -> bool:
        return self.arrangement.left_on_left

    def arrange(self, **changes) -> None:
        self.arrangement = replace(self.arrangement, **changes)
        self.arrangement_changed.emit()

    def set_plan_shown(self, on: bool) -> None:
        self.plan_shown.emit(on)
