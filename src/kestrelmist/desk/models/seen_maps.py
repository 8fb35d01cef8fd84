"""The label maps of the lead image: which one is in hand, how each is shown."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import QObject, Signal

from ...core.labels import LabelMap
from ...scene.layer import LabelLook, Layer
from ...scene.layer_type import Drawn
from ...study.items import Record
from .session import Session

OTHERS = LabelLook(0.0, True)
"""How label maps that are not in hand are shown: by their edges."""


class SeenMaps(QObject):
    """What is seen of label maps.

    Parameters
    ----------
    session : Session
    leads : callable
        `leads(image)`: whether the image with that id leads.
    """

    changed = Signal()
    """Voxels or names in the label map in hand have changed."""
    chosen = Signal()
    """Another label map of the lead image is in hand, or the list of them has changed."""
    looks_changed = Signal()

    def __init__(self, session: Session, leads: Callable[[int], bool]):
        super().__init__(session)
        self.session, self.study, self.leads = session, session.study, leads
        self.image: int | None = None
        """The image that they are of."""
        self.labels: LabelMap | None = None
        self.map: Record | None = None
        """The label map in hand; None while there is none yet."""
        self.looks: dict[int, LabelLook] = {}
        self.others_shown = False
        self.opening = False
        """Whether another label map has been taken in hand and is still being opened."""
        self._others: list[tuple[int, LabelMap]] = []
        session.hand_changed.connect(self._follow_hand)

    def empty(self, image: int | None) -> None:
        """Another image leads, or none: its maps are still to be read."""
        self.image, self.labels, self.map, self._others, self.opening = image, None, None, [], False

    def take(self, labels: LabelMap) -> None:
        """The label map in hand is read."""
        self.labels = labels
        key = self.study.maps.key_of(labels)
        self.map = None if key is None else self.study.items.get(key)

    # how they look

    @property
    def look(self) -> LabelLook:
        """How the label map in hand is shown; that of one that is not yet made is kept under 0."""
        key = self.map.id if self.map is not None else 0
        return self.looks.get(key, self.looks.get(0, LabelLook()))

    def set_look(self, **changes) -> None:
        """Show the label map in hand otherwise."""
        key = self.map.id if self.map is not None else 0
        self.looks[key] = replace(self.look, **changes)
        self.looks_changed.emit()

    def layers(self, image: int) -> list[Layer]:
        """The label maps of an image as layers, the one in hand last."""
        found = [Layer(m.id, look=self.looks.get(m.id, OTHERS), shown=self.others_shown) for m in self.others()]
        return [*found, Layer(self.map.id if self.map is not None else -image, look=self.look)]

    def drawn(self) -> list[Drawn]:
        """The label maps of the lead image as they are drawn, the one in hand on top."""
        others = [Drawn(m, self.looks.get(key, OTHERS)) for key, m in self.seen_others()]
        return [*others, *([Drawn(self.labels, self.look)] if self.labels is not None else [])]

    # which there are

    def others(self) -> list[Record]:
        """Label maps of the lead image that are not in hand."""
        if self.image is None:
            return []
        return [m for m in self.study.label_maps(self.image) if self.map is None or m.id != self.map.id]

    def seen_others(self) -> list[tuple[int, LabelMap]]:
        """Label maps that are not in hand and are seen, with their ids."""
        return list(self._others) if self.others_shown else []

    def seen(self) -> list[tuple[int, LabelMap]]:
        """Label maps that are seen, with their ids; the one in hand last."""
        own = [(self.map.id, self.labels)] if self.map is not None and self.labels is not None else []
        return self.seen_others() + own

    def choose(self, key: int) -> None:
        """Take another label map of the lead image in hand."""
        self.session.guarded(lambda: self.study.maps.take_in_hand(key))

    def show_others(self, on: bool) -> None:
        """Whether the other label maps of the lead image are seen as edges."""
        self.others_shown = on
        self._read_others()
        self.looks_changed.emit()

    def _read_others(self) -> None:
        image, wanted = self.image, [m.id for m in self.others()] if self.others_shown else []
        if image is None or not wanted:
            self._others = []
            return

        def shown(maps) -> None:
            if self.leads(image):
                self._others = maps
                self.looks_changed.emit()

        self.session.work.start(
            "Opening labels",
            lambda progress: [(k, self.study.label_map(k)) for k in wanted],
            shown,
            lane="view",
            loud=False,
        )

    # what has happened

    def follow(self, items: tuple[int, ...]) -> None:
        """Things of the study have changed."""
        if self.labels is None or self.image is None:
            return
        maps = [m.id for m in self.study.label_maps(self.image)]
        known = None if self.map is None else self.map.id
        if any(item in items for item in maps) or (known is not None and known in items):
            self._follow_hand(self.image)

    def catch_up(self) -> None:
        """Show the map in hand when another was chosen while one was read."""
        if self.image is not None and self.study.in_hand(self.image) != (None if self.map is None else self.map.id):
            self._follow_hand(self.image)

    def _follow_hand(self, image: int) -> None:
        """Show the label map that is in hand: at once when it is in memory; else a worker opens it, and tools that
        would draw on the one still shown wait."""
        if not self.leads(image) or self.labels is None:
            return
        wanted = self.study.in_hand(image)
        there = self.study.maps.blank(image) if wanted is None else self.study.maps.in_memory(wanted)
        if there is not None:
            self._show(there)
            return
        self.opening = True

        def shown(labels: LabelMap) -> None:
            if self.leads(image) and self.study.in_hand(image) == wanted:  # else a later one is on its way
                self._show(labels)

        def failed(error: BaseException) -> None:
            self.opening = False
            self.session.trouble.emit(str(error))
            if self.map is not None and self.leads(image):
                self.choose(self.map.id)  # the one that is shown is in hand again

        def read(_) -> LabelMap:
            assert wanted is not None
            return self.study.label_map(wanted)

        self.session.work.start("Opening labels", read, shown, failed, "view", loud=False)

    def _show(self, labels: LabelMap) -> None:
        self.opening = False
        self.take(labels)
        self._read_others()
        self.chosen.emit()
        self.changed.emit()
