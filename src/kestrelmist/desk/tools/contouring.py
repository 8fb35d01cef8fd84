"""Outline by a line: drawn freely, or clinging to edges from click to click. A stretch drawn anew over the chosen
contour heals it; Alt adds a corner to a contour, or takes one away."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import Qt

from ...core.errors import Trouble
from ...core.geometry.healing import healed, on_line, with_point, without_point
from ...core.geometry.mark import Mark
from ...core.geometry.shape import shape_named
from ...core.geometry.thinned import thinned
from ...outline.contours.edge_line import REACH, EdgeLine, Tile
from ...scene.tiles import finest_values
from ..models.desk_model import Desk
from ..tool import Gesture, Tool, ToolEvent, register
from .marks import Moving, OnMarks, can_draw
from .marks import _key as _mark_key

NEAR = 9.0
"""Pixels within which a stroke begins on the chosen contour."""
STEP = 1.5
"""Pixels between two points of a stroke."""
FEWER = 0.35
"""Pixels by which a finished line may leave what was drawn."""
ALT = Qt.KeyboardModifier.AltModifier


def chosen_contour(desk: Desk) -> Mark | None:
    """The closed contour that is chosen; None when none is."""
    marks = desk.marks
    mark = marks.marks[marks.chosen] if marks.marks is not None and marks.chosen is not None else None
    return mark if mark is not None and shape_named(mark.shape).closed else None


class Contouring(OnMarks):
    """What both ways have in common: the contour gets the name and the colour of the chosen label."""

    def __init__(self, event: ToolEvent):
        super().__init__(event)
        label = event.desk.hand.label
        self.name, self.colour = ("", "") if label is None else (label.name, label.colour)
        self.normal = tuple(self.plane.normal.tolist())
        self.place = tuple(event.desk.viewing.place) or None

    def made(self, points: np.ndarray, closed: bool = True) -> Mark:
        """The contour through points."""
        shape = "polygon" if closed and len(points) > 2 else "polyline"
        corners = points if len(points) > 1 else np.vstack((points, points))
        return Mark(
            shape,
            tuple(map(tuple, corners.tolist())),
            0,
            self.normal,  # type: ignore[arg-type]
            place=self.place,
            name=self.name,
            colour=self.colour,
        )

    def keep(self, points: np.ndarray) -> None:
        """Keep a new contour, and choose it."""
        fewer = thinned(np.vstack((points, points[:1])), FEWER * self.pixel)[:-1]
        mark = self.made(fewer if len(fewer) > 2 else points)
        numbers = self.put(f"Draw {mark.called}", mark)
        if numbers:
            self.marks.choose(numbers[-1])


class Freehand(Contouring):
    """A line from press to release, closed; or a stretch of the chosen contour drawn anew."""

    def __init__(self, event: ToolEvent):
        super().__init__(event)
        self.line = [self.start]
        mark = chosen_contour(event.desk)
        near = NEAR * event.view.pixel
        self.mended = mark if mark is not None and on_line(mark.outline, self.start, near) else None
        if self.mended is None:
            self.marks.choose(None)

    def move(self, event: ToolEvent) -> None:
        at = np.asarray(event.world, float)
        if np.linalg.norm(at - self.line[-1]) >= STEP * event.view.pixel:
            self.line.append(at)
        if self.mended is None:
            self.show(self.made(np.array([*self.line, at])))
        elif len(self.line) > 1:
            self.show(self._healed())

    def _healed(self) -> Mark:
        assert self.mended is not None
        line = healed(self.mended.outline, np.array(self.line))
        corners = thinned(np.vstack((line, line[:1])), FEWER * self.pixel)[:-1]
        if len(corners) < 3:  # nothing would be left within it
            return self.mended
        return replace(self.mended, shape="polygon", points=tuple(map(tuple, corners.tolist())))

    def finish(self) -> None:
        self.marks.show_live(None)
        if self.mended is not None:
            after = self._healed() if len(self.line) > 1 else self.mended
            if after is not self.mended:
                self.put(f"Mend {self.mended.called}", after)
            return
        points = np.array(self.line)
        if len(points) > 2 and np.ptp(points, 0).max() > 3 * self.pixel:
            self.keep(points)


class EdgeFollowing(Contouring):
    """A click for each stop; between them the line clings to the edge. The first ways are looked for beside the
    window, and until they are known the line is straight."""

    goes_on = True

    def __init__(self, event: ToolEvent):
        super().__init__(event)
        self.marks.choose(None)
        self.stops: list[int] = []
        """How many points there were at each stop, for Backspace."""
        self.points = self.start[None]
        self.ways: EdgeLine | None = None
        self._look(event, self.start)

    def _look(self, event: ToolEvent, start: np.ndarray) -> None:
        self.ways = None
        image = event.desk.viewing.image
        if image is None or not image.in_memory:
            return
        view = event.view
        side = 2 * REACH + 1
        record = event.desk.viewing.record
        pixel = max(view.pixel, 0.5 * min(record.grid.spacing)) if record is not None else view.pixel
        centred = view.moved(centre=tuple(float(v) for v in start), width=side, height=side, pixel=pixel)

        def work(progress) -> EdgeLine:
            values = finest_values(centred, image)
            right, down = (np.asarray(v, float) * pixel for v in (view.rightward, view.downward))
            corner = np.asarray(centred.to_world(0, 0), float)
            return EdgeLine(Tile(np.asarray(values, np.float32), corner, right, down), start)

        def known(ways: EdgeLine) -> None:
            if np.array_equal(self.points[-1], start):
                self.ways = ways

        event.desk.session.work.start("Looking for edges", work, known, lambda error: None, "trial", False)

    def _to(self, world: np.ndarray) -> np.ndarray:
        if self.ways is None:
            return world[None]
        return self.ways.to(world)[1:]

    def move(self, event: ToolEvent) -> None:
        self.show(self.made(np.vstack((self.points, self._to(np.asarray(event.world, float)))), closed=False))

    def press(self, event: ToolEvent) -> None:
        """One more stop; at the first one again the contour is closed."""
        at = np.asarray(event.world, float)
        near = NEAR * event.view.pixel
        if self.stops and np.linalg.norm(at - self.points[0]) <= near:
            self.points = np.vstack((self.points, self._to(self.points[0])[:-1]))
            self.desk.hand.end_gesture()
            return
        if np.linalg.norm(at - self.points[-1]) <= 2 * event.view.pixel:
            return
        self.stops.append(len(self.points))
        self.points = np.vstack((self.points, self._to(at)))
        self._look(event, self.points[-1])
        self.show(self.made(self.points, closed=False))

    def key(self, key: Qt.Key) -> bool:
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if self.stops:
                self.points = np.vstack((self.points, self._to(self.points[0])[:-1]))
            self.desk.hand.end_gesture()
            return True
        if key == Qt.Key.Key_Backspace:
            if not self.stops:
                self.desk.hand.cancel_gesture()
                return True
            self.points = self.points[: self.stops.pop()]
            self.ways = None
            self.show(self.made(self.points, closed=False))
            return True
        return super().key(key)

    def finish(self) -> None:
        self.marks.show_live(None)
        if len(self.points) > 2 and np.ptp(self.points, 0).max() > 3 * self.pixel:
            self.keep(self.points)


def _start(event: ToolEvent, gesture: type[Contouring]) -> Gesture | None:
    desk = event.desk
    if not can_draw(desk):
        return None
    chosen = chosen_contour(desk)
    found = desk.marks.hit(event.view, event.world)
    if event.modifiers & ALT and chosen is not None and chosen.shape == "polygon":
        return _corner(event, chosen, found)
    if (
        found is not None
        and found.handle is not None
        and found.mark.id == desk.marks.chosen
        and gesture is EdgeFollowing
    ):
        return Moving(event, found.mark, found.handle)
    if found is not None and found.away > 0 and found.mark.id != desk.marks.chosen and gesture is Freehand:
        desk.marks.choose(found.mark.id)  # a press on a contour takes it in hand, and a drag from there mends it
    return gesture(event)


def _corner(event: ToolEvent, mark: Mark, found) -> Gesture | None:
    """A corner more where the line is pressed, to be dragged; a corner less where one is."""
    marks, image = event.desk.marks, event.desk.viewing.record
    assert image is not None
    if found is not None and found.mark.id == mark.id and found.handle is not None:
        fewer = mark.with_points(without_point(mark.array, found.handle))
        if fewer != mark:
            marks.keep(f"Take a corner from {mark.called}", {mark.id: fewer}, marks.key, image.id)
        return None
    at = np.asarray(event.world, float)
    if not on_line(mark.outline, at, NEAR * event.view.pixel):
        return None
    more = mark.with_points(with_point(mark.array, at))
    return _Added(event, more, int(np.linalg.norm(more.array - at, axis=1).argmin()), mark)


class _Added(Moving):
    """A corner that was added, while it is dragged."""

    def __init__(self, event: ToolEvent, more: Mark, handle: int, before: Mark):
        super().__init__(event, more, handle)
        self.more, self.was = more, before
        self.show(more)

    def finish(self) -> None:
        mark = self.mark
        self.marks.show_live(None)
        if mark is not None and mark != self.was:
            self.put(f"Add a corner to {self.was.called}", mark)


def _key(event: ToolEvent, key: Qt.Key) -> bool:
    """F fills the chosen contour into its label, C copies it to the next slice and goes there, X mirrors it; arrows and
    Delete as for all marks."""
    desk, mark = event.desk, chosen_contour(event.desk)
    if mark is None or desk.marks.key is None:
        return _mark_key(event, key)
    given = {"marks": desk.marks.key, "which": str(mark.id)}
    if key == Qt.Key.Key_F:
        fill_chosen(desk)
    elif key == Qt.Key.Key_C:
        copy_chosen(desk, 1)
    elif key == Qt.Key.Key_X:
        desk.run_now("mirror-marks", given)
    else:
        return _mark_key(event, key)
    return True


def fill_chosen(desk: Desk) -> None:
    """Fill the chosen contour into the label of its name, or the chosen one."""
    mark = chosen_contour(desk)
    if mark is None or desk.marks.key is None or desk.viewing.record is None:
        desk.session.trouble.emit(str(Trouble("No contour is chosen", "draw one, or click on one")))
        return
    given = {"marks": desk.marks.key, "onto": desk.viewing.record.id, "which": str(mark.id)}
    label = desk.hand.label
    if not mark.name and label is not None:
        given["label"] = label.name
    desk.run("fill-marks", given, into=_named_anew(desk, [mark]))


def fill_all(desk: Desk) -> None:
    """Fill every contour of the marks in hand into the label of its name."""
    marks, record = desk.marks.marks, desk.viewing.record
    if marks is None or desk.marks.key is None or record is None:
        desk.session.trouble.emit(str(Trouble("There is no contour", "draw one")))
        return
    given = {"marks": desk.marks.key, "onto": record.id}
    desk.run("fill-marks", given, into=_named_anew(desk, list(marks)))


def _named_anew(desk: Desk, several: list[Mark]) -> int:
    """Contours whose label has been renamed since they were drawn get the name it has now; returns the entry of the
    history that did so, 0 when there are none."""
    after = {m.id: replace(m, name=name) for m in several if (name := desk.strokes.present_name(m.name)) is not None}
    record = desk.viewing.record
    if not after or record is None:
        return 0
    if not desk.marks.keep("Name contours as their label", after, desk.marks.key, record.id):
        return 0
    entry = desk.study.history.to_undo()
    return 0 if entry is None else entry.id


def copy_chosen(desk: Desk, slices: int) -> None:
    """Copy the chosen contour so many slices on, choose the copy, and go there."""
    mark = chosen_contour(desk)
    if mark is None or desk.marks.key is None:
        desk.session.trouble.emit(str(Trouble("No contour is chosen", "draw one, or click on one")))
        return
    if desk.run_now("copy-marks", {"marks": desk.marks.key, "which": str(mark.id), "slices": slices}):
        marks = desk.marks.marks
        if marks is not None and len(marks):
            desk.marks.go_to(max(marks.marks))


for name, title, icon, gesture, hint, order, more in (
    (
        "freehand",
        "Freehand",
        "freehand",
        Freehand,
        "Drag round a structure; a drag along the chosen contour draws that stretch anew. F fills it, C copies it on,"
        " X mirrors it; Alt+click adds or removes a corner.",
        4,
        "lasso contour polygon trace draw outline",
    ),
    (
        "edge-line",
        "Edge line",
        "edge-line",
        EdgeFollowing,
        "Click along an edge: the line clings to it. Enter, or the first point again, closes it; Backspace goes back.",
        5,
        "live edge following contour intelligent scissors snap trace",
    ),
):
    register(
        Tool(
            name,
            title,
            icon,
            hint,
            lambda event, gesture=gesture: _start(event, gesture),
            ("Outline",),
            ("contours",),
            key=_key,
            order=order,
            more=more,
        )
    )
