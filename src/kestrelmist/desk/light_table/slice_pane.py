"""A pane that shows one plane: draws, and turns mouse and keys into gestures."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ...core.quantity import pretty_unit
from ...scene.slices import ImageLook, draw_image, draw_labels
from ...scene.view import Plane, View, fitted
from ..desk_model import Desk
from ..framed_area import framed_corners
from ..theme.theme import Theme, words
from . import overlay
from .hand_tools import hand_tool
from .pane_header import PaneHeader

AXES = "xyz"


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
        self.desk = desk
        desk.crosshair_moved.connect(self._place)
        desk.image_changed.connect(self._place)

    def _place(self) -> None:
        if self.desk.record is None:
            self.header.place.setText("")
            return
        space = self.desk.record.space
        if space.flat_axis == self.plane.across:
            self.header.set_name("Picture" if not space.sides_known else self.plane.name)
            self.header.place.setText("")
            return
        self.header.set_name(self.plane.name)
        value = f"{self.desk.crosshair[self.plane.across]:+.2f}".replace("-", "−")
        self.header.place.setText(f"{AXES[self.plane.across]} {value} {pretty_unit(self.desk.record.space.unit)}")

    def set_lead(self, lead: bool) -> None:
        self.header.set_lead(lead)
        self.canvas.lead = lead


class Canvas(QWidget):
    """The picture. Its view keeps zoom and centre; the slice shown follows the crosshair."""

    pointed = Signal(object)

    def __init__(self, desk: Desk, plane: Plane):
        super().__init__()
        self.desk, self.plane, self.lead = desk, plane, False
        self.view: View | None = None
        self.following = True
        self._pixels: np.ndarray | None = None
        self._image: np.ndarray | None = None
        self._under: tuple | None = None
        self._stale = True
        self._press: tuple[str, QPoint] | None = None
        self._start = None
        self.pointer: np.ndarray | None = None
        self._mouse: QPointF | None = None
        self.stroke = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(80, 60)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(f"{plane.name} pane")
        desk.image_changed.connect(self.fit)
        desk.crosshair_moved.connect(self._follow_slice)
        for signal in (desk.crosshair_moved, desk.labels_changed, desk.look_changed, desk.settings_changed, desk.stage_changed,
                       desk.framed_changed):
            signal.connect(self.refresh)
        desk.tool_changed.connect(self._show_cursor)

    # geometry

    def fit(self) -> None:
        """Show the whole image."""
        self.following, self.view = True, None
        self.refresh()

    def current_view(self) -> View | None:
        """The view for the pane's present size, on the crosshair's slice."""
        if self.desk.record is None:
            return None
        scale = self.devicePixelRatioF()
        width, height = max(1, int(self.width() * scale)), max(1, int(self.height() * scale))
        view = self.view
        if view is None or self.following:
            view = fitted(self.plane, self.desk.record.space, width, height)
        centre = list(view.centre)
        centre[self.plane.across] = float(self.desk.crosshair[self.plane.across])
        known = self.desk.record.space.sides_known
        self.view = view.moved(width=width, height=height, centre=tuple(centre), left_on_left=self.desk.left_on_left or not known, sides_known=known)
        return self.view

    def world_at(self, point: QPointF) -> np.ndarray | None:
        """World position under a point of the canvas, on the slice shown."""
        view, scale = self.current_view(), self.devicePixelRatioF()
        return None if view is None else view.to_world(point.x() * scale - 0.5, point.y() * scale - 0.5)

    def zoom(self, factor: float, about: QPointF | None = None) -> None:
        """Zoom, keeping the point under `about` where it is."""
        view = self.current_view()
        if view is None:
            return
        about = about or QPointF(self.width() / 2, self.height() / 2)
        fixed = self.world_at(about)
        self.following = False
        self.view = view.moved(pixel=float(np.clip(view.pixel / factor, 1e-6, 1e3)))
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
        self._stale = True
        self.update()

    def _look(self) -> ImageLook:
        look, settings = self.desk.look, self.desk.settings
        if settings.show_range and self.desk.stage == "Outline":
            return ImageLook(look.low, look.high, look.colour_map, look.smooth, tint=(settings.low, settings.high))
        return look

    def render_pixels(self) -> np.ndarray | None:
        """The picture as packed colours, drawn anew when something has changed."""
        view = self.current_view()
        if view is None or not self.desk.ready or self.desk.look is None:
            return None
        if self._stale or self._pixels is None or self._pixels.shape != (view.height, view.width):
            # a brush changes labels only: the image below them is drawn once and kept
            under = (view, self.desk.image, self._look())
            if self._under != under:
                self._image, self._under = draw_image(*under, self._image), under
            self._pixels = self._image.copy()
            draw_labels(view, self.desk.labels, self.desk.label_look, self._pixels)
            self._stale = False
        return self._pixels

    def paintEvent(self, event) -> None:
        painter = QPainter(self)
        pixels = self.render_pixels()
        if pixels is None:
            painter.fillRect(self.rect(), QColor(Theme.tokens.night))
            painter.setPen(QColor("#A9B7BE"))
            painter.setFont(words(14))
            text = "" if not self.lead else f"Reading {self.desk.record.name} …" if self.desk.record else "Gather an image to begin"
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, text)
            return
        height, width = pixels.shape
        painter.drawImage(self.rect(), QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_RGB32))
        scale = self.devicePixelRatioF()
        painter.scale(1 / scale, 1 / scale)
        view, tool = self.view, hand_tool(self.desk.tool)
        overlay.draw_crosshair(painter, view, self.desk.crosshair, width, height, 12 if self.lead else 6)
        painter.resetTransform()
        flat = view.moved(pixel=view.pixel * scale, width=self.width(), height=self.height())
        overlay.draw_letters(painter, flat, self.width(), self.height())
        overlay.draw_scale_bar(painter, flat, self.width(), self.height(), self.desk.record.space.unit)
        if self.desk.framed is not None:
            overlay.draw_framed(painter, flat, framed_corners(self.desk))
        if tool.has_size and self.pointer is not None and self.desk.label:
            overlay.draw_brush(painter, flat, self.pointer, self.desk.settings.size, tool.erases)

    def resizeEvent(self, event) -> None:
        self.refresh()

    # gestures

    def mousePressEvent(self, event) -> None:
        world = self.world_at(event.position())
        if world is None or not self.desk.ready:
            return
        kind = {Qt.MouseButton.MiddleButton: "pan", Qt.MouseButton.RightButton: "range"}.get(event.button(), "tool")
        tool = hand_tool(self.desk.tool)
        if kind == "tool" and (event.modifiers() & Qt.KeyboardModifier.ShiftModifier or tool.name == "point"):
            kind = "point"
        self._press, self._start = (kind, event.position().toPoint()), self.desk.look
        if kind == "point":
            self.desk.go_to(world)
        elif kind == "tool":
            tool.press(self, world)

    def mouseMoveEvent(self, event) -> None:
        world = self.world_at(event.position())
        if world is None or not self.desk.ready:
            return
        self.pointer, self._mouse = world, event.position()
        self.pointed.emit(world)
        if self._press is None:
            if hand_tool(self.desk.tool).has_size:
                self.update()
            return
        kind, last = self._press
        now = event.position().toPoint()
        if kind == "point":
            self.desk.go_to(world)
        elif kind == "pan":
            self.pan(now.x() - last.x(), now.y() - last.y())
            self._press = (kind, now)
        elif kind == "range":
            self._drag_range(now - last)
        else:
            hand_tool(self.desk.tool).move(self, world)

    def mouseReleaseEvent(self, event) -> None:
        if self._press and self._press[0] == "tool":
            hand_tool(self.desk.tool).release(self)
        self._press = None

    def _drag_range(self, moved: QPoint) -> None:
        """Right drag: sideways makes the range wider or narrower, up and down shifts it."""
        start = self._start
        width = max(start.high - start.low, 1e-6)
        centre = (start.high + start.low) / 2 - moved.y() / max(self.height(), 1) * width
        width *= float(np.exp(moved.x() / max(self.width(), 1) * 2))
        self.desk.set_look(low=centre - width / 2, high=centre + width / 2)

    def wheelEvent(self, event) -> None:
        notches = event.angleDelta().y() / 120
        if not notches or not self.desk.ready:
            return
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom(1.2 ** notches, event.position())
        else:
            self.desk.step(self.plane.across, int(np.sign(notches) * max(1, round(abs(notches)))))

    def mouseDoubleClickEvent(self, event) -> None:
        if self.desk.tool == "point":
            self.fit()
        else:
            self.mousePressEvent(event)

    def leaveEvent(self, event) -> None:
        self.pointer = self._mouse = None
        self.pointed.emit(None)
        self.update()

    def keyPressEvent(self, event) -> None:
        side = -1 if self.plane.right == 0 and not self.desk.left_on_left else 1
        steps = {Qt.Key.Key_Left: (self.plane.right, -side), Qt.Key.Key_Right: (self.plane.right, side),
                 Qt.Key.Key_Up: (self.plane.up, 1), Qt.Key.Key_Down: (self.plane.up, -1),
                 Qt.Key.Key_PageUp: (self.plane.across, 1), Qt.Key.Key_PageDown: (self.plane.across, -1)}
        if event.key() in steps and self.desk.ready:
            self.desk.step(*steps[event.key()])
        elif event.key() in (Qt.Key.Key_Comma, Qt.Key.Key_Period) and self.desk.ready and self.desk.place:
            self.desk.go_along(0, self.desk.place[0] + (1 if event.key() == Qt.Key.Key_Period else -1))
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(1.2)
        elif event.key() == Qt.Key.Key_Minus:
            self.zoom(1 / 1.2)
        elif event.key() == Qt.Key.Key_0:
            self.fit()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.desk.ready and self.desk.tool != "point":
            tool = hand_tool(self.desk.tool)  # the tool at the crosshair, for hands that stay on the keyboard
            tool.press(self, self.desk.crosshair)
            tool.release(self)
        else:
            super().keyPressEvent(event)

    def _show_cursor(self) -> None:
        self.setCursor(hand_tool(self.desk.tool).cursor)
        self.update()
