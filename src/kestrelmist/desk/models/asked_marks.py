"""What a form asks a hand for: an area or a box that is framed, places that are picked. They are marks of the lead
image like all others: kept, undone, dragged; the field that asked follows them."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QObject, Signal

from ...core.geometry.grid_box import GridBox, box_round
from ...core.geometry.mark import Mark, Vector
from .drawn_marks import DrawnMarks

FRAME, PLACE = {"for": "frame"}, {"for": "places"}
"""What marks are known by again that were made for a form."""
MOST = 3


class AskedMarks(QObject):
    """The frame and the places that the field which asked goes by. Nothing of it is there until a field asks, or once
    another image leads."""

    framed_changed = Signal()
    picked_changed = Signal()
    asked_again = Signal()

    def __init__(self, marks: DrawnMarks):
        super().__init__(marks)
        self.marks, self.viewing = marks, marks.viewing
        self.by: object = None
        """The field that what is framed or picked is for, when it asked."""
        self.frame: int | None = None
        self.places: tuple[int, ...] = ()
        self._of: int | None = None
        """Id of the marks that these are numbers in; while others are in hand there is nothing framed."""
        self._told: tuple = (None, ())
        marks.changed.connect(self._follow)
        self.viewing.lead_changed.connect(self.let_go)

    @property
    def framed(self) -> GridBox | None:
        """The voxels in the frame, while it is drawn too."""
        record, mark = self.viewing.record, self._live(FRAME) or self._mark(self.frame)
        return None if record is None or mark is None else box_round(mark, record.grid)

    @property
    def picked(self) -> tuple[Vector, ...]:
        """The places that are picked, the last one last."""
        live = self.marks.live
        there = [live if live is not None and live.id == n else self._mark(n) for n in self.places]
        return tuple(mark.points[0] for mark in there if mark is not None)

    def ask(self, field: object, tool: str) -> None:
        """A field asks for what a tool makes; what was made for another one before is there again."""
        self.by = field
        if self._of != self.marks.key:
            self.frame, self.places, self._of = None, (), self.marks.key
        made = [mark for mark in self.marks.marks or () if mark.notes == (FRAME if tool == "frame" else PLACE)]
        if tool == "frame" and self._mark(self.frame) is None:
            self.frame = made[-1].id if made else None
        elif tool == "pick" and not self.picked:
            self.places = tuple(mark.id for mark in sorted(made, key=lambda mark: mark.name)[-MOST:])
        self.asked_again.emit()
        self._follow()

    def let_go(self) -> None:
        """No field asks any more. The marks stay."""
        self.by, self.frame, self.places = None, None, ()
        self._follow()

    def keep_frame(self, mark: Mark, of: int | None, image: int) -> None:
        """Keep what was framed, on the marks of an image that its drag began on."""
        kept = self.marks.keep("Frame an area", {mark.id: mark}, of, image)
        if kept and self.viewing.leads(image):
            self.frame, self._of = kept[-1], self.marks.key if of is None else of
            self._follow()

    def pick(self, world: Vector) -> None:
        """One more place; of the last few, the one that was picked first goes there."""
        record = self.viewing.record
        if record is None:
            return
        if self._of != self.marks.key:
            self.frame, self.places = None, ()
        there = [mark for mark in map(self._mark, self.places) if mark is not None]
        if len(there) < MOST:
            there.append(Mark("point", (world,), notes=dict(PLACE)))
        else:
            there = [*there[1:], there[0].with_points((world,))]
        named = {mark.id: replace(mark, name=str(n)) for n, mark in enumerate(there, 1)}
        kept = self.marks.keep("Pick a place", named, self.marks.key, record.id)
        if kept:
            self.places = tuple(mark.id for mark in there if mark.id) + tuple(n for n in kept if n not in named)
            self._of = self.marks.key
            self._follow()

    def _mark(self, number: int | None) -> Mark | None:
        marks = self.marks.marks
        if number is None or marks is None or self._of != self.marks.key:
            return None
        return marks.marks.get(number)

    def _live(self, notes: dict) -> Mark | None:
        live = self.marks.live
        return live if live is not None and live.notes == notes else None

    def _follow(self) -> None:
        framed, picked = self.framed, self.picked
        before, self._told = self._told, (framed, picked)
        if framed != before[0]:
            self.framed_changed.emit()
        if picked != before[1]:
            self.picked_changed.emit()
