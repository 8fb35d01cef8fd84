"""The marks of the lead image: which are in hand, which one is chosen, and what a hand is drawing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Signal

from ...core.errors import Trouble
from ...core.geometry.hits import Hit, hit
from ...core.geometry.mark import Mark
from ...core.geometry.marks import MarkEdit, Marks
from ...core.geometry.measured import placed_to
from ...core.geometry.shape import Plane, shape_named
from ...core.scale import scale_of
from ...scene.layer import MarkLook
from ...scene.layer_type import Drawn, type_of_thing
from ...scene.layer_types.marks import drawn_mark, handles, in_view, slice_of, under
from ...scene.pieces import at_pixel
from ...scene.primitives import Primitive
from ...scene.view import View
from ...study.items import Record
from ...study.journal.logbook import BY_HAND, Step, Things
from ...study.stores.marks import blank_marks
from .viewing import Viewing

LIVE = "#F0B263"


class DrawnMarks(QObject):
    """What the panes, the Bench and the Drawer show of marks."""

    changed = Signal()
    """Marks, their choice or what is being drawn are others now."""
    class_chosen = Signal()
    """What is drawn from now on is of another class."""
    listed = Signal()
    """Marks have changed, or other ones are in hand: lists are made anew."""

    def __init__(self, viewing: Viewing):
        super().__init__(viewing)
        self.viewing, self.session, self.study = viewing, viewing.session, viewing.study
        self.key: int | None = None
        """Id of the marks in hand; None while the image has none."""
        self.marks: Marks | None = None
        self.chosen: int | None = None
        self.live: Mark | None = None
        """What a hand draws or moves; it is drawn in place of the mark of its number."""
        self.shown = True
        self.named = True
        self.measured = True
        self.next_class = 0
        """Of marks that are drawn from now on."""
        self._colours: tuple[tuple[int, str], ...] = ()
        viewing.lead_changed.connect(self._follow)
        self.session.things_changed.connect(self._things)
        self.session.hand_changed.connect(lambda image: self._follow() if viewing.leads(image) else None)

    # which there are

    @property
    def there(self) -> list[Record]:
        """The marks of the lead image, the oldest first."""
        record = self.viewing.record
        return [] if record is None else self.study.marks.of(record.id)

    def take_in_hand(self, key: int) -> None:
        """Choose the marks that are drawn on."""
        self.session.guarded(lambda: self.study.marks.take_in_hand(key))

    def _things(self, items: tuple[int, ...]) -> None:
        record = self.viewing.record
        if record is None:
            return
        classes = self.marks.classes if self.marks is not None else None
        if self.key in items or classes in items or any(r.id in items for r in self.there):
            self._follow()

    def _follow(self) -> None:
        """Show the marks in hand of what leads: at once when they are in memory, else a worker opens them."""
        record = self.viewing.record
        wanted = None if record is None else self.study.marks.in_hand(record.id)
        if wanted != self.key:
            self.chosen = self.live = None
        self.key = wanted
        if wanted is None:
            self._show(None if record is None else blank_marks(record))
            return
        there = self.study.marks.in_memory(wanted)
        if there is not None:
            self._show(there)
            return
        self._show(None)

        def shown(marks: Marks) -> None:
            if self.key == wanted:
                self._show(self.study.marks.in_memory(wanted) or marks)

        work = self.session.work
        work.start("Opening marks", lambda _: self.study.marks.open(wanted), shown, lane="view", loud=False)

    def _show(self, marks: Marks | None) -> None:
        self.marks = marks
        if marks is None or self.chosen is None or self.chosen not in marks:
            self.chosen = None
        self._colours = () if marks is None else self.study.marks.class_colours(marks)
        self.listed.emit()
        self.changed.emit()

    # how they look

    def show_again(self) -> None:
        """Show marks that were hidden: whoever draws is to see it."""
        if not self.shown:
            self.shown = True
            self.changed.emit()

    def thickness(self, view: View) -> float:
        """How thick the slice is that a view shows, mm."""
        record = self.viewing.record
        if record is None:
            return 0.0
        normal = view.normal / np.linalg.norm(view.normal)
        steps = record.grid.affine[:3, :3] / np.array(record.grid.spacing)
        return float(record.grid.spacing[int(np.abs(normal @ steps).argmax())])

    def look(self, view: View) -> MarkLook:
        """How marks are drawn in a view."""
        hidden = (self.live.id,) if self.live is not None and self.live.id else ()
        place = tuple(self.viewing.place)
        return MarkLook(
            MarkLook().colour, self._colours, self.named, self.thickness(view), place, hidden, self.measured, *self.sure
        )

    @property
    def sure(self) -> tuple[str, float]:
        """How sure lengths on the lead image are, and points that do not say it: as `MarkLook` has both."""
        record = self.viewing.record
        return ("", 0.0) if record is None else (scale_of(record).fact, placed_to(record.grid))

    def colour_of(self, mark: Mark) -> str:
        """The colour that a mark is drawn in."""
        return mark.colour or dict(self._colours).get(mark.cls, MarkLook().colour)

    def drawn(self, view: View, elsewhere: tuple[int, ...] = ()) -> list[Primitive]:
        """What stands over a pane; `elsewhere` are numbers of marks that somebody else draws."""
        if self.marks is None or not self.shown:
            return []
        look = self.look(view)
        look = replace(look, without=(*look.without, *elsewhere))
        draws = type_of_thing(self.marks).primitives
        found = draws(view, Drawn(self.marks, look)) if draws is not None else []
        chosen = self.live or (self.marks[self.chosen] if self.chosen is not None else None)
        if chosen is None or chosen.id in elsewhere:
            return found
        if self.live is not None:
            found += drawn_mark(view, self.live, LIVE, look)
        drawing = self.live is not None and not self.live.id  # a line that is still being drawn has no handles yet
        if not drawing and in_view(view, Marks({chosen.id: chosen}), replace(look, without=())):
            found += handles(view, chosen)
        return found

    # what a hand does

    def plane(self, view: View) -> Plane:
        """The plane that a view lies in."""
        return Plane(np.asarray(view.rightward, float), np.asarray(view.downward, float))

    def hit(self, view: View, world) -> Hit | None:
        """What lies under a world position in a view; the chosen mark goes first."""
        if self.marks is None or not self.shown:
            return None

        to = view.to_page
        at, seen = at_pixel(view, world), under(view, self.marks, self.look(view), world)
        chosen = [mark for mark in seen if mark.id == self.chosen]
        slice = slice_of(view)
        found = hit(chosen, at, to, slice=slice)
        return found if found is not None and found.handle is not None else hit(seen, at, to, slice=slice)

    def choose(self, number: int | None) -> None:
        """Choose a mark, or none."""
        if number != self.chosen:
            self.chosen = number
            self.changed.emit()

    def show_live(self, mark: Mark | None) -> None:
        """Show what is being drawn."""
        self.live = mark
        self.changed.emit()

    def go_to(self, number: int) -> None:
        """Choose a mark and bring the crosshair there."""
        if self.marks is not None and number in self.marks:
            self.choose(number)
            self.viewing.go_to(self.marks[number].middle)

    # what is kept

    def keep(self, title: str, after: Mapping[int, Mark | None], key: int | None, image: int) -> list[int]:
        """Keep what marks are now, of those that a gesture was begun on (`key`, or None for the first ones of an
        image); new ones are given as 0 and below. Returns the numbers of what was kept."""
        marks = self.study.marks.open(key) if key is not None else self.study.marks.on(image)
        before = {number: marks.marks.get(number) for number in after if number > 0}
        first = marks.next_id
        new = [mark for number, mark in after.items() if number <= 0 and mark is not None]
        added = {n: replace(mark, id=n) for n, mark in enumerate(new, first)}
        edit = MarkEdit(title, {**before, **dict.fromkeys(added)}, {**{n: after[n] for n in before}, **added})
        record = self.study.items.get(image)
        things: Things = {} if record is None else {"image": (self.study.as_thing(record),)}
        step = Step(BY_HAND, title, {"marks": len(edit.after)}, things)
        kept = self.session.keep_marks(image if key is None else key, edit, step, key is None)
        return [] if kept is None else list(kept[1].after)

    def class_next(self, number: int) -> None:
        """Marks drawn from now on are of a class; the chosen one becomes of it."""
        self.next_class = number
        if self.chosen is not None:
            self.change_chosen("Class of", cls=number)
        self.class_chosen.emit()

    @property
    def has_classes(self) -> bool:
        """Whether there is a class table that says what classes are called."""
        return self.marks is not None and bool(self.study.marks.class_names(self.marks))

    def class_name(self, number: int) -> str:
        """What a class is called, as far as the marks' class table says it."""
        names = {} if self.marks is None else self.study.marks.class_names(self.marks)
        return names.get(number, f"class {number}" if number else "no class")

    def change_chosen(self, title: str, **facts: Any) -> None:
        """Change what is known of the chosen mark: points, name, class, colour."""
        if self.marks is None or self.chosen is None:
            return
        before = self.marks[self.chosen]
        try:
            after = before.with_points(facts.pop("points")) if "points" in facts else before
            after = replace(after, **facts)
        except Trouble as trouble:
            self.session.trouble.emit(str(trouble))
            return
        self._put(title, before, after)

    def _put(self, title: str, before: Mark, after: Mark | None) -> None:
        record = self.viewing.record
        if after == before or record is None:
            return
        if not self.session.done(self.study.catalogue.require_writable):
            return
        self.session.end_gesture()
        self.keep(f"{title} {before.called}", {before.id: after}, self.key, record.id)

    def resize_chosen(self, name: str, value: float) -> None:
        """Give the chosen mark a typed size."""
        if self.marks is not None and self.chosen is not None:
            mark = self.marks[self.chosen]
            self.change_chosen("Resize", points=shape_named(mark.shape).sized(mark.array, name, value))

    def nudge_chosen(self, by: np.ndarray) -> None:
        """Shift the chosen mark, mm."""
        if self.marks is not None and self.chosen is not None:
            self.change_chosen("Move", points=self.marks[self.chosen].array + by)

    def delete_chosen(self) -> None:
        """Take the chosen mark out."""
        if self.marks is not None and self.chosen is not None:
            before = self.marks[self.chosen]
            self._put("Delete", before, None)
