"""What hands do in a pane: mouse, wheel, fingers and keys, by the list of commands."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QInputDevice, QKeySequence

from ...scene.view import Plane
from ..command import COMMANDS, Command, what_does
from ..models.desk_model import Desk
from ..models.sight import Sight
from ..tool import ToolEvent, tool_named
from ..widgets.carrying import key_of
from .canvas import Canvas
from .crop_edge import CropEdge
from .navigating import Navigating

MODIFIERS = {
    "Shift": Qt.KeyboardModifier.ShiftModifier,
    "Ctrl": Qt.KeyboardModifier.ControlModifier,
    "Alt": Qt.KeyboardModifier.AltModifier,
}


def held(event) -> set[str]:
    """Names of the modifier keys that are held."""
    return {name for name, flag in MODIFIERS.items() if event.modifiers() & flag}


def by_keys(pane: bool = True) -> dict[str, Command]:
    """Commands of panes, or of the window, by their keys."""
    return {QKeySequence(keys).toString(): one for one in COMMANDS.values() if one.pane == pane for keys in one.keys}


class WorkingCanvas(Canvas):
    """A canvas that hands work in."""

    def __init__(self, desk: Desk, plane: Plane, sight: Sight):
        super().__init__(desk, plane, sight)
        self._press: tuple[str, QPoint] | None = None
        self._start = None
        self._moving: Navigating | CropEdge | None = None
        self._faded = False
        self.setAcceptDrops(True)
        self.hand.tool_changed.connect(self._show_cursor)

    # mouse

    def _event(self, world: np.ndarray, event=None) -> ToolEvent:
        view = self.current_view()
        assert view is not None
        modifiers = event.modifiers() if event is not None else Qt.KeyboardModifier.NoModifier
        return ToolEvent(self.desk, world, view, modifiers)

    def mousePressEvent(self, event) -> None:
        world = self.world_at(event.position())
        if world is None or not self.sight.ready:
            return
        if self._press is not None and event.buttons() != event.button():
            return  # a second button while one is down
        button = event.button()
        if button == Qt.MouseButton.LeftButton:
            moving = Navigating.at(self, event.position()) or CropEdge.at(self, event.position())
            if moving is not None:
                self._moving, self._press = moving, ("part", event.position().toPoint())
                return
        if not self.sight.leads and button == Qt.MouseButton.LeftButton:
            self._take_lead(world)
            return
        kind = what_does(button.name.removesuffix("Button"), held(event)) or "tool"
        if kind == "tool" and self.hand.gesture is not None and self.hand.gesture.goes_on:
            self.hand.gesture.press(self._event(world, event))
        elif kind in ("tool", "point"):
            self._begin("point" if kind == "point" else self.hand.tool, self._event(world, event))
            kind = "tool"
        self._press, self._start = (kind, event.position().toPoint()), self.desk.layers.look

    def _take_lead(self, world: np.ndarray) -> None:
        """A click on an image that lies beside the one that leads: it leads now, and the crosshair goes there."""
        sight = self.sight
        if self.hand.tool == "point":
            sight.go_to(world)
        if sight.key is not None:
            self.desk.beside.make_lead(sight.key)

    def _begin(self, tool: str, event: ToolEvent) -> None:
        self.hand.end_gesture()
        if tool != "point" and self.desk.live.says_wait():
            return
        gesture = tool_named(tool).start(event)
        if gesture is not None:
            self.hand.begin(gesture)

    def mouseMoveEvent(self, event) -> None:
        world = self.world_at(event.position())
        if world is None or not self.sight.ready:
            return
        self.pointer, self._mouse = world, event.position()
        self.pointed.emit(world, self.sight)
        if self._press is not None and event.buttons() == Qt.MouseButton.NoButton:
            self._let_go()  # the button went up where nobody told
        if self._press is None:
            if self.hand.gesture is not None and self.hand.gesture.goes_on and self.sight.leads:
                self.hand.gesture.move(self._event(world, event))
            elif tool_named(self.hand.tool).hover is not None:
                self.update()
            return
        kind, last = self._press
        now = event.position().toPoint()
        if kind == "pan":
            self.pan(now.x() - last.x(), now.y() - last.y())
            self._press = (kind, now)
        elif kind == "range":
            self._drag_range(now - last)
        elif kind == "part" and self._moving is not None:
            self._moving.move(event.position())
        elif self.hand.gesture is not None and self.sight.leads:
            self.hand.gesture.move(self._event(world, event))

    def mouseReleaseEvent(self, event) -> None:
        if self._press is None:
            return
        kind = what_does(event.button().name.removesuffix("Button"), set()) or "tool"
        if self._press[0] == kind or (kind == "tool" and self._press[0] == "part"):
            self._let_go()

    def _let_go(self) -> None:
        if self._press and self._press[0] == "tool" and not (self.hand.gesture and self.hand.gesture.goes_on):
            self.hand.end_gesture()
        self._press = self._moving = None

    def _drag_range(self, moved: QPoint) -> None:
        """Sideways makes the range wider or narrower, up and down shifts it."""
        start = self._start
        if start is None:
            return
        width = max(start.high - start.low, 1e-12)
        centre = (start.high + start.low) / 2 - moved.y() / max(self.height(), 1) * width
        width *= float(np.exp(moved.x() / max(self.width(), 1) * 2))
        self.desk.layers.set_look(low=centre - width / 2, high=centre + width / 2)

    def mouseDoubleClickEvent(self, event) -> None:
        if self.hand.gesture is not None and self.hand.gesture.goes_on:
            self.hand.end_gesture()
        elif self.hand.tool == "point":
            self.fit()
        else:
            self.mousePressEvent(event)

    def leaveEvent(self, event) -> None:
        self.pointer = self._mouse = None
        self.pointed.emit(None, self.sight)
        self.update()

    # what is dropped

    def dragEnterEvent(self, event) -> None:
        if key_of(event.mimeData()) is not None or event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event) -> None:
        """An image of the Shelf lies over the one that leads; a file is taken in first. A folder, or several files,
        come into the plan."""
        key = key_of(event.mimeData())
        places = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        lead = self.viewing.record
        if key is not None:
            self.desk.layers.lay_over(key)
        elif lead is not None and len(places) == 1 and places[0].is_file():
            given = {"folder": places[0], "subject": lead.subject}
            self.desk.session.run("gather", given, over=lead.id, title=f"Taking in {places[0].name}")
        elif places:
            self.desk.parent().gather(places)
        event.acceptProposedAction()

    # wheel and fingers

    def wheelEvent(self, event) -> None:
        if not self.sight.ready:
            return
        touch = event.device() is not None and event.device().type() == QInputDevice.DeviceType.TouchPad
        turned = QPointF(event.pixelDelta()) if not event.pixelDelta().isNull() else QPointF(event.angleDelta()) / 4
        notches = (event.angleDelta().y() or event.angleDelta().x()) / 120
        if not notches:
            return
        if self.hand.gesture is not None and self.hand.gesture.wheel(notches):
            return
        does = what_does("Fingers" if touch and "Ctrl" not in held(event) else "Wheel", held(event))
        record = self.sight.record
        flat = record is not None and record.grid.flat_axis == self.plane.across
        if does == "pan":
            self.pan(turned.x(), turned.y())
        elif does == "zoom" or flat:
            self.zoom(1.2**notches, event.position())
        elif does == "step":
            self.sight.step(self.plane.across, int(np.sign(notches) * max(1, round(abs(notches)))))

    def event(self, event) -> bool:
        if event.type() == QEvent.Type.NativeGesture and what_does("Pinch", set()) == "zoom":
            if event.gestureType() == Qt.NativeGestureType.ZoomNativeGesture and self.sight.ready:
                self.zoom(1.0 + event.value(), event.position())
                return True
        return super().event(event)

    # keys

    def keyPressEvent(self, event) -> None:
        key = event.key()
        if self.hand.gesture is not None and self.hand.gesture.key(key):
            return
        tool = tool_named(self.hand.tool)
        if tool.key is not None and self.hand.gesture is None and self.sight.leads and self.viewing.ready:
            place = self.viewing.crosshair if self.pointer is None else self.pointer
            if tool.key(self._event(np.asarray(place), event), key):
                return
        modifiers = event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
        keys = QKeySequence(key | modifiers.value).toString()
        plain = QKeySequence(key).toString() if modifiers == Qt.KeyboardModifier.ShiftModifier else keys
        known = by_keys()
        found = known.get(keys) or (known.get(plain) if not plain.isalpha() else None)
        if found is not None:
            if self.sight.ready:
                found.do(self)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.viewing.ready and self.hand.tool != "point":
            # the tool at the crosshair, for hands that stay on the keyboard
            self._begin(self.hand.tool, self._event(np.asarray(self.viewing.crosshair)))
            self.hand.end_gesture()
        elif self.window() is not self.desk.parent() and (of_window := by_keys(False).get(keys)) is not None:
            of_window.do(self.desk.parent())  # a pane that floats has the keys of the window all the same
        else:
            super().keyPressEvent(event)

    def hold_fade(self) -> None:
        """As long as the key is held, what lies above is seen wholly, or not at all when it is seen by more than
        half."""
        if not self._faded:
            self._faded = True
            self.desk.layers.fade_all()

    def keyReleaseEvent(self, event) -> None:
        if self._faded and not event.isAutoRepeat() and event.key() == Qt.Key.Key_F:
            self._faded = False
            self.desk.layers.fade_back()
        else:
            super().keyReleaseEvent(event)

    def focusOutEvent(self, event) -> None:
        if self._faded:
            self._faded = False
            self.desk.layers.fade_back()
        super().focusOutEvent(event)

    def _show_cursor(self) -> None:
        self.setCursor(tool_named(self.hand.tool).cursor)
        self.update()
