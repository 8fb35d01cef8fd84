"""A pane that shows one plane: draws, and turns mouse and keys into gestures."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ...core.digits import signed
from ...core.quantity import pretty_unit
from ...scene.view import Plane, View, fitted, plane_view
from ..desk_model import Desk
from ..theme.theme import Theme, words
from ..tool import ToolEvent, tool_named
from ..tools.framing import framed_corners
from . import overlay
from .pane_header import PaneHeader
from .picture import Picture

AXES = "xyz"


BUTTONS = {Qt.MouseButton.MiddleButton: "pan", Qt.MouseButton.RightButton: "range"}
"""What the other buttons of the mouse do, whatever the tool."""


class SlicePane(QWidget):
    """Header and canvas of one plane."""

    wants_lead = Signal()

    def __init__(self, desk: Desk, plane: Plane, parent=None):
        super().__init__(parent)
        self.plane, self.header, self.canvas = plane, PaneHeader(plane.name), Canvas(desk, plane)
        self.header.clicked.connect(self.wants_lead)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.header)
        column.addWidget(self.canvas, 1)
        self.viewing = desk.viewing
        for signal in (self.viewing.crosshair_moved, self.viewing.lead_changed, self.viewing.lead_ready):
            signal.connect(self._place)

    @property
    def name(self) -> str:
        return self.plane.name

    def _place(self) -> None:
        record = self.viewing.record
        if record is None:
            self.header.place.setText("")
            return
        space = record.grid
        if space.flat_axis == self.plane.across:
            self.header.set_name("Picture" if not space.sides_known else self.plane.name)
            self.header.place.setText("")
            return
        self.header.set_name(self.plane.name)
        value = signed(self.viewing.crosshair[self.plane.across], overlay.decimals(space))
        self.header.place.setText(f"{AXES[self.plane.across]} {value} {pretty_unit(space.unit)}")

    def set_lead(self, lead: bool) -> None:
        self.header.set_lead(lead)
        self.canvas.lead = lead


class Canvas(QWidget):
    """The picture. Its view keeps zoom and centre; the slice shown follows the crosshair."""

    pointed = Signal(object)

    def __init__(self, desk: Desk, plane: Plane):
        super().__init__()
        self.desk, self.viewing, self.hand = desk, desk.viewing, desk.hand
        self.plane, self.lead = plane, False
        self.view: View | None = None
        self.following = True
        self.picture = Picture()
        self._press: tuple[str, QPoint] | None = None
        self._start = None
        self.pointer: np.ndarray | None = None
        self._mouse: QPointF | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(80, 60)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(f"{plane.name} pane")
        viewing, hand = self.viewing, self.hand
        viewing.lead_changed.connect(self.fit)
        viewing.crosshair_moved.connect(self._follow_slice)
        for signal in (
            viewing.crosshair_moved,
            viewing.lead_ready,
            viewing.labels_changed,
            viewing.labels_chosen,
            viewing.looks_changed,
            viewing.arrangement_changed,
            viewing.stage_changed,
            hand.settings_changed,
            hand.framed_changed,
            hand.gesture_moved,
        ):
            signal.connect(self.refresh)
        hand.tool_changed.connect(self._show_cursor)

    # geometry

    def fit(self) -> None:
        """Show the whole image."""
        self.following, self.view = True, None
        self.refresh()

    def current_view(self) -> View | None:
        """The view for the pane's present size, on the crosshair's slice."""
        record = self.viewing.record
        if record is None:
            return None
        scale = self.devicePixelRatioF()
        width, height = max(1, int(self.width() * scale)), max(1, int(self.height() * scale))
        view, known = self.view, record.grid.sides_known
        if view is None or self.following:
            view = fitted(self.plane, record.grid, width, height)
        centre = list(view.centre)
        centre[self.plane.across] = float(self.viewing.crosshair[self.plane.across])
        left = self.viewing.left_on_left or not known
        self.view = plane_view(self.plane, centre, view.pixel, width, height, left, known)
        return self.view

    def world_at(self, point: QPointF) -> np.ndarray | None:
        """World position under a point of the canvas, on the slice shown."""
        view, scale = self.current_view(), self.devicePixelRatioF()
        return None if view is None else view.to_world(point.x() * scale - 0.5, point.y() * scale - 0.5)

    def zoom(self, factor: float, about: QPointF | None = None) -> None:
        """Zoom, keeping the point under `about` where it is."""
        view, record = self.current_view(), self.viewing.record
        if view is None or record is None:
            return
        about = about or QPointF(self.width() / 2, self.height() / 2)
        fixed = self.world_at(about)
        self.following = False
        extent = float(np.ptp(record.grid.corners(), axis=0).max())
        pixel = float(np.clip(view.pixel / factor, 1e-3 * min(record.grid.spacing), 10 * extent))
        self.view = view.moved(pixel=pixel)
        shift = fixed - self.world_at(about)
        self.view = self.view.moved(centre=tuple(np.asarray(self.view.centre) + shift))
        self.refresh()

    def pan(self, dx: float, dy: float) -> None:
        view = self.current_view()
        if view is None:
            return
        scale = self.devicePixelRatioF()
        self.following = False
        self.view = view.moved(centre=tuple(np.asarray(view.centre) - view.right * dx * scale - view.down * dy * scale))
        self.refresh()

    def _follow_slice(self) -> None:
        """The slice has changed under a resting pointer: it points at another place now."""
        if self._mouse is not None:
            self.pointer = self.world_at(self._mouse)
            self.pointed.emit(self.pointer)

    # drawing

    def refresh(self) -> None:
        self.picture.stale = True
        self.update()

    def render_pixels(self) -> np.ndarray | None:
        """The picture as packed colours, drawn anew when something has changed."""
        view, viewing = self.current_view(), self.viewing
        if view is None or not viewing.ready:
            return None
        tint = None
        if self.hand.settings.show_range and viewing.stage == "Outline":
            tint = (self.hand.settings.low, self.hand.settings.high)
        return self.picture.pixels(view, viewing, self.desk.layers, tint)

    def paintEvent(self, event) -> None:
        pixels = self.render_pixels()  # before the painter: what runs here may load and compile
        with QPainter(self) as painter:
            record = self.viewing.record
            if pixels is None or record is None or self.view is None:
                painter.fillRect(self.rect(), QColor(Theme.tokens.night))
                painter.setPen(QColor("#A9B7BE"))
                painter.setFont(words(14))
                text = "" if not self.lead else f"Reading {record.name} …" if record else "Gather an image to begin"
                painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, text)
                return
            height, width = pixels.shape
            painter.drawImage(self.rect(), QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_RGB32))
            scale, view = self.devicePixelRatioF(), self.view
            painter.scale(1 / scale, 1 / scale)
            overlay.draw_crosshair(painter, view, self.viewing.crosshair, width, height, 12 if self.lead else 6)
            painter.resetTransform()
            flat = view.moved(pixel=view.pixel * scale, width=self.width(), height=self.height())
            overlay.draw_letters(painter, flat, self.width(), self.height())
            overlay.draw_scale_bar(painter, flat, self.width(), self.height(), record.grid.unit)
            overlay.draw_framed(painter, flat, framed_corners(self.desk))
            if self.hand.gesture is not None:
                self.hand.gesture.paint(painter, flat)
            tool = tool_named(self.hand.tool)
            if tool.hover is not None and self.pointer is not None:
                tool.hover(painter, flat, self.desk, self.pointer)

    def resizeEvent(self, event) -> None:
        self.refresh()

    # gestures

    def _event(self, world: np.ndarray, event=None) -> ToolEvent:
        view = self.current_view()
        assert view is not None
        modifiers = event.modifiers() if event is not None else Qt.KeyboardModifier.NoModifier
        return ToolEvent(self.desk, world, view, modifiers)

    def mousePressEvent(self, event) -> None:
        world = self.world_at(event.position())
        if world is None or not self.viewing.ready:
            return
        if self._press is not None and event.buttons() != event.button():
            return  # a second button while one is down
        kind = BUTTONS.get(event.button(), "tool")
        if kind == "tool":
            shifted = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._begin("point" if shifted else self.hand.tool, self._event(world, event))
        self._press, self._start = (kind, event.position().toPoint()), self.desk.layers.look

    def _begin(self, tool: str, event: ToolEvent) -> None:
        self.hand.end_gesture()
        gesture = tool_named(tool).start(event)
        if gesture is not None:
            self.hand.begin(gesture)

    def mouseMoveEvent(self, event) -> None:
        world = self.world_at(event.position())
        if world is None or not self.viewing.ready:
            return
        self.pointer, self._mouse = world, event.position()
        self.pointed.emit(world)
        if self._press is not None and event.buttons() == Qt.MouseButton.NoButton:
            self._let_go()  # the button went up where nobody told
        if self._press is None:
            if tool_named(self.hand.tool).hover is not None:
                self.update()
            return
        kind, last = self._press
        now = event.position().toPoint()
        if kind == "pan":
            self.pan(now.x() - last.x(), now.y() - last.y())
            self._press = (kind, now)
        elif kind == "range":
            self._drag_range(now - last)
        elif self.hand.gesture is not None:
            self.hand.gesture.move(self._event(world, event))

    def mouseReleaseEvent(self, event) -> None:
        if self._press is not None and self._press[0] == BUTTONS.get(event.button(), "tool"):
            self._let_go()

    def _let_go(self) -> None:
        if self._press and self._press[0] == "tool":
            self.hand.end_gesture()
        self._press = None

    def _drag_range(self, moved: QPoint) -> None:
        """Right drag: sideways makes the range wider or narrower, up and down shifts it."""
        start = self._start
        if start is None:
            return
        width = max(start.high - start.low, 1e-12)
        centre = (start.high + start.low) / 2 - moved.y() / max(self.height(), 1) * width
        width *= float(np.exp(moved.x() / max(self.width(), 1) * 2))
        self.desk.layers.set_look(low=centre - width / 2, high=centre + width / 2)

    def wheelEvent(self, event) -> None:
        notches = event.angleDelta().y() / 120
        if not notches or not self.viewing.ready:
            return
        if self.hand.gesture is not None and self.hand.gesture.wheel(notches):
            return
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom(1.2**notches, event.position())
        else:
            self.viewing.step(self.plane.across, int(np.sign(notches) * max(1, round(abs(notches)))))

    def mouseDoubleClickEvent(self, event) -> None:
        if self.hand.tool == "point":
            self.fit()
        else:
            self.mousePressEvent(event)

    def leaveEvent(self, event) -> None:
        self.pointer = self._mouse = None
        self.pointed.emit(None)
        self.update()

    def keyPressEvent(self, event) -> None:
        viewing, key = self.viewing, event.key()
        side = -1 if self.plane.right == 0 and not viewing.left_on_left else 1
        steps = {
            Qt.Key.Key_Left: (self.plane.right, -side),
            Qt.Key.Key_Right: (self.plane.right, side),
            Qt.Key.Key_Up: (self.plane.up, 1),
            Qt.Key.Key_Down: (self.plane.up, -1),
            Qt.Key.Key_PageUp: (self.plane.across, 1),
            Qt.Key.Key_PageDown: (self.plane.across, -1),
        }
        if self.hand.gesture is not None and self.hand.gesture.key(key):
            return
        if key in steps and viewing.ready:
            viewing.step(*steps[key])
        elif key in (Qt.Key.Key_Comma, Qt.Key.Key_Period) and viewing.ready and viewing.place:
            viewing.go_along(0, viewing.place[0] + (1 if key == Qt.Key.Key_Period else -1))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(1.2)
        elif key == Qt.Key.Key_Minus:
            self.zoom(1 / 1.2)
        elif key == Qt.Key.Key_0:
            self.fit()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and viewing.ready and self.hand.tool != "point":
            # the tool at the crosshair, for hands that stay on the keyboard
            self._begin(self.hand.tool, self._event(np.asarray(viewing.crosshair)))
            self.hand.end_gesture()
        else:
            super().keyPressEvent(event)

    def _show_cursor(self) -> None:
        self.setCursor(tool_named(self.hand.tool).cursor)
        self.update()
