"""Draw marks: one tool a shape. A press on a mark takes hold of it: by a handle, or all of it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt

from ...core.errors import Trouble
from ...core.geometry.mark import Mark
from ...core.geometry.measured import placed_to
from ...core.geometry.shape import SHAPES, Shape, shape_named
from ...core.geometry.thinned import thinned
from ..models.desk_model import Desk
from ..theme.theme import icon_or
from ..tool import Gesture, Tool, ToolEvent, register

STAGES = ("Align", "Outline", "Measure", "Report")
NEAR = 9.0
LEAST = 2.0
"""Pixels that a drag must be long to have drawn something."""
HAND, THIN = 1.0, 0.4
"""Pixels of the pane that a hand is sure to, and that a traced line may leave what was drawn by."""
STEPS = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
FAR = 10


def even(event: ToolEvent) -> bool:
    """Whether Shift is held: straight lines, squares, circles."""
    return bool(event.modifiers & Qt.KeyboardModifier.ShiftModifier)


class OnMarks(Gesture):
    """What drawing and moving have in common: which marks it is on, from its first pixel to the journal."""

    def __init__(self, event: ToolEvent):
        record = event.desk.viewing.record
        assert record is not None
        self.desk, self.marks, self.image = event.desk, event.desk.marks, record.id
        self.of, self.plane = event.desk.marks.key, event.desk.marks.plane(event.view)
        self.start, self.pixel = np.asarray(event.world, float), event.view.pixel
        self.mark: Mark | None = None

    def put(self, title: str, mark: Mark) -> list[int]:
        """Keep what was drawn; returns its number."""
        return self.marks.keep(title, {mark.id: mark}, self.of, self.image)

    def show(self, mark: Mark | None) -> None:
        self.mark = mark
        self.marks.show_live(mark)

    def key(self, key: Qt.Key) -> bool:
        if key == Qt.Key.Key_Escape:
            self.desk.hand.cancel_gesture()
            return True
        return False

    def cancel(self) -> None:
        self.marks.show_live(None)


class Moving(OnMarks):
    """A mark, or a handle of it, follows the pointer."""

    def __init__(self, event: ToolEvent, mark: Mark, handle: int | None):
        super().__init__(event)
        self.before, self.handle = mark, handle
        self.marks.choose(mark.id)

    def move(self, event: ToolEvent) -> None:
        at = np.asarray(event.world, float)
        if self.handle is None:
            self.show(self.before.shifted(at - self.start))
            return
        pulled = shape_named(self.before.shape).pulled
        self.show(self.before.with_points(pulled(self.before.array, self.handle, at, self.plane, even(event))))

    def finish(self) -> None:
        mark = self.mark
        self.marks.show_live(None)
        if mark is not None and mark != self.before:
            self.put(f"Move {self.before.called}", mark)


class Drawing(OnMarks):
    """A new mark: by one click, from press to release, or by a click a point."""

    def __init__(self, event: ToolEvent, shape: Shape):
        super().__init__(event)
        self.shape, self.goes_on = shape, shape.by == "clicks"
        self.points = [self.start]
        self.normal = tuple(self.plane.normal.tolist()) if shape.least > 1 or shape.by == "clicks" else None
        place = tuple(event.desk.viewing.place)
        self.place = place or None
        record = self.marks.viewing.record
        voxel = placed_to(record.grid) if record is not None else 0.0
        # a hand is sure to about a pixel of the pane, and to no less than a voxel
        self.facts = {"place": self.place, "sure": float(np.hypot(voxel, HAND * self.pixel))}
        self.facts["cls"] = self.marks.next_class
        if shape.name == "text":
            self.facts["text"] = shape.title
        self.marks.choose(None)
        if shape.by == "click":
            self.draw(shape.begun(self.start, self.start, self.plane, False))

    def draw(self, points) -> None:
        ends = tuple(map(tuple, np.asarray(points).tolist()))
        try:
            mark = Mark(self.shape.name, ends, 0, self.normal, **self.facts)
        except Trouble:
            # of a polygon the first line is drawn as one
            mark = Mark("polyline", ends, 0, self.normal, **self.facts)
        self.show(mark)

    def move(self, event: ToolEvent) -> None:
        at = np.asarray(event.world, float)
        if self.shape.by == "trace":
            if np.linalg.norm(at - self.points[-1]) > event.view.pixel:
                self.points.append(at)
            self.draw([*self.points, at])
            return
        if self.shape.by != "clicks":
            self.draw(self.shape.begun(at if self.shape.by == "click" else self.start, at, self.plane, even(event)))
            return
        self.draw([*self.points, at])

    def press(self, event: ToolEvent) -> None:
        """One more point; at the first one again the line is closed."""
        at = np.asarray(event.world, float)
        near = NEAR * event.view.pixel
        if len(self.points) >= max(self.shape.least, 3) and np.linalg.norm(at - self.points[0]) <= near:
            self.desk.hand.end_gesture()
            return
        if np.linalg.norm(at - self.points[-1]) > LEAST * event.view.pixel:
            self.points.append(at)
        if self.shape.most and len(self.points) == self.shape.most:
            self.desk.hand.end_gesture()
            return
        self.draw([*self.points, at])

    def key(self, key: Qt.Key) -> bool:
        if self.goes_on and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.desk.hand.end_gesture()
            return True
        if self.goes_on and key == Qt.Key.Key_Backspace:
            if len(self.points) > 1:
                self.points.pop()
                self.draw([*self.points, self.points[-1]])
            else:
                self.desk.hand.cancel_gesture()
            return True
        return super().key(key)

    def finish(self) -> None:
        mark = self.mark
        self.marks.show_live(None)
        if self.goes_on:
            if len(self.points) < self.shape.least:
                return
            mark = self._whole()
        elif self.shape.by == "trace":
            if mark is None or mark.length <= LEAST * self.pixel:
                return
            mark = mark.with_points(thinned(mark.array, THIN * self.pixel))
        elif mark is None or (self.shape.by == "drag" and np.ptp(mark.array, 0).max() <= LEAST * self.pixel):
            return
        numbers = self.put(f"Draw {mark.called}", mark)
        if numbers:
            self.marks.choose(numbers[-1])

    def _whole(self) -> Mark:
        return Mark(self.shape.name, tuple(tuple(p.tolist()) for p in self.points), 0, self.normal, **self.facts)


def can_draw(desk: Desk) -> bool:
    """Whether marks can be drawn now; says why when they cannot."""
    if desk.marks.marks is None:
        desk.session.trouble.emit("The marks are still being opened: wait a moment.")
        return False
    if not desk.session.done(desk.session.study.catalogue.require_writable):
        return False
    desk.marks.show_again()
    return True


def _start(event: ToolEvent, shape: Shape) -> Gesture | None:
    desk = event.desk
    if not can_draw(desk):
        return None
    found = desk.marks.hit(event.view, event.world)
    if found is not None and (found.handle is not None or found.away > 0 or found.mark.id == desk.marks.chosen):
        return Moving(event, found.mark, found.handle)
    return Drawing(event, shape)


def _key(event: ToolEvent, key: Qt.Key) -> bool:
    """Keys for the chosen mark: arrows move it by a pixel, with Shift by ten; Delete takes it out; Escape lets go.
    1 to 9 say of which class it is, and those that are drawn next; the same again, of none."""
    marks = event.desk.marks
    if Qt.Key.Key_1 <= key <= Qt.Key.Key_9 and not event.modifiers:
        number = int(key) - int(Qt.Key.Key_0)
        marks.class_next(0 if marks.next_class == number else number)
        return True
    if marks.chosen is None:
        return False
    if key in STEPS:
        across, down = STEPS[key]
        step = (FAR if even(event) else 1) * event.view.pixel
        marks.nudge_chosen(step * (across * np.asarray(event.view.rightward) + down * np.asarray(event.view.downward)))
    elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
        marks.delete_chosen()
    elif key == Qt.Key.Key_Escape:
        marks.choose(None)
    else:
        return False
    return True


for shape in SHAPES:
    if shape.icon:
        register(
            Tool(
                f"mark-{shape.name}",
                f"{shape.title} mark",
                icon_or(f"mark-{shape.icon}", "pencil"),
                shape.hint,
                lambda event, shape=shape: _start(event, shape),
                STAGES,
                key=_key,
                offered=False,
                order=shape.order,
                more=f"draw {shape.more} annotate",
            )
        )
