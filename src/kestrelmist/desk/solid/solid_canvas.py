"""The picture of the Solid view, and what hands do in it: turn, move, come nearer, click."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QWidget

from ...core.quantity import pretty_unit
from ...scene.crop_box import Side, dragged_in_scene, in_scene, taken_in_scene
from ...scene.primitives import paint
from ...scene.solid.eye import SIDES, Eye
from ...scene.solid.figure import cube, ruler, scale
from ...scene.solid.scene import MESH, RELIEF, SURFACE, VOLUME, Solid
from ..light_table.qt_painter import QtPainter
from ..models.desk_model import Desk
from ..theme.theme import Theme, words
from .feed import SolidFeed

STEP = 10.0
"""Degrees that a key turns."""
STILL = 4.0
"""Pixels that a click may wander."""
KEYS = {
    Qt.Key.Key_1: "front",
    Qt.Key.Key_2: "back",
    Qt.Key.Key_3: "left",
    Qt.Key.Key_4: "right",
    Qt.Key.Key_5: "top",
    Qt.Key.Key_6: "bottom",
}


class SolidCanvas(QWidget):
    """Shows the last picture, and asks for another one when the scene is turned."""

    counted = Signal(str)
    """How many surfaces there are, or how much taller than it is a relief is drawn."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.viewing, self.model = desk, desk.viewing, desk.solid
        self.feed = SolidFeed(desk, self)
        self.feed.in_view = self.isVisible
        self.picture: QImage | None = None
        self.eye: Eye | None = None
        self._last: QPointF | None = None
        self._pressed: QPointF | None = None
        self._side: Side | None = None
        self.setMinimumSize(80, 60)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Solid view")
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.feed.pictured.connect(self._show)
        self.feed.counted.connect(self._count)
        self.feed.troubled.connect(self.update)
        self.feed.met.connect(self.model.met)
        self.model.measured.connect(self.update)
        self.model.changed.connect(self._count)
        self.viewing.lead_changed.connect(self._let_go)

    # what tests and the window ask

    @property
    def settled(self) -> bool:
        """Whether the picture shows what there is, as fine as it gets."""
        return self.feed.settled

    @property
    def trouble(self) -> str:
        return self.feed.trouble

    @property
    def process(self):
        return self.feed.process

    @property
    def triangles(self) -> dict[tuple, int]:
        return self.feed.triangles

    @property
    def solid(self) -> Solid:
        return self.feed.solid

    def close_process(self) -> None:
        self.feed.close()

    # the picture

    def _show(self, picture: QImage, eye: Eye) -> None:
        self.picture, self.eye = picture, eye
        self.update()

    def _count(self) -> None:
        solid = self.feed.solid
        count = sum(body.way in (SURFACE, MESH) for body in solid.bodies)
        said = [f"{count} surface{'' if count == 1 else 's'}"] if count else []
        if any(body.way == VOLUME for body in solid.bodies):
            look = self.model.look
            said.append(look.name or "own curve" if look is not None else "")
        if any(body.way == RELIEF for body in solid.bodies):
            said = [_relief_words(self.viewing)]
        if solid.crop is not None or solid.cut is not None:
            said.append("cropped")
        self.counted.emit(", ".join(word for word in said if word))

    def paintEvent(self, event) -> None:
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), QColor(Theme.tokens.night))
            if self.picture is not None and self.viewing.record is not None and not self.trouble:
                painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
                size = self.picture.size().scaled(self.size(), Qt.AspectRatioMode.KeepAspectRatioByExpanding)
                left, top = (self.width() - size.width()) / 2, (self.height() - size.height()) / 2
                painter.drawImage(QRectF(left, top, size.width(), size.height()), self.picture)
                self._figures(painter)
            elif self.trouble or self.viewing.record is not None:
                painter.setPen(QColor("#A9B7BE"))
                painter.setFont(words(13))
                painter.drawText(
                    self.rect(), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.trouble or "Building …"
                )

    def _figures(self, painter: QPainter) -> None:
        record, eye = self.viewing.record, self._eye()
        if record is None or eye is None:
            return
        page = eye.width / max(1, self.width())
        found = (
            cube(eye, self.width(), self.height(), record.grid.sides_known)
            if min(self.width(), self.height()) > 110
            else []
        )
        found += scale(eye, self.width(), self.height(), record.grid.unit, page)
        if len(self.model.ends) == 2:
            found += ruler(eye, self.model.ends, page, self.distance)
        if self.model.shown.crop is not None:
            found += in_scene(eye, self.model.shown.crop, page)
        paint(QtPainter(painter), found)

    def _eye(self) -> Eye | None:
        """The eye of the picture, as the camera stands now: what stands over it does not wait for the next one."""
        return None if self.eye is None else replace(self.eye, camera=self.model.camera)

    @property
    def distance(self) -> str:
        """What is measured between two places, in words; "" while there are none."""
        if len(self.model.ends) < 2 or self.viewing.record is None:
            return ""
        long = float(np.linalg.norm(np.subtract(*self.model.ends)))
        return f"{long:.4g} {pretty_unit(self.viewing.record.grid.unit)}"

    def resizeEvent(self, event) -> None:
        ratio = self.devicePixelRatioF()
        self.feed.wanted_size = int(self.width() * ratio), int(self.height() * ratio)
        self.feed.ask(True)

    def showEvent(self, event) -> None:
        self.model.in_view = True
        self.viewing.looks_changed.emit()
        self.feed.later()

    def hideEvent(self, event) -> None:
        self.model.in_view = False
        self._side = None

    # hands

    def mousePressEvent(self, event) -> None:
        if self.trouble:
            self.feed.try_again()
        self._last = self._pressed = event.position()
        self._side = None
        crop, eye = self.model.shown.crop, self._eye()
        if crop is not None and eye is not None and event.button() == Qt.MouseButton.LeftButton:
            at, page = event.position(), eye.width / max(1, self.width())
            self._side = taken_in_scene(eye, crop, at.x(), at.y(), page)
            if self._side is not None:
                self._pressed = None  # it is no click

    def mouseMoveEvent(self, event) -> None:
        if self._last is None:
            return
        moved, self._last = event.position() - self._last, event.position()
        if self._pressed is not None and (event.position() - self._pressed).manhattanLength() > STILL:
            self._pressed = None
        if self._side is not None:
            self._drag_side(event.position())
            return
        buttons, keys = event.buttons(), event.modifiers()
        camera = self.model.camera
        if buttons & Qt.MouseButton.MiddleButton or keys & Qt.KeyboardModifier.ShiftModifier:
            share = 2 / (max(1, self.height()) * camera.zoom)
            across, up = camera.across - moved.x() * share, camera.up + moved.y() * share
            self.model.set_camera(replace(camera, across=across, up=up))
        elif buttons & Qt.MouseButton.RightButton:
            self.model.set_camera(camera.zoomed(1.01 ** -moved.y()))
        elif keys & Qt.KeyboardModifier.ControlModifier:
            self.model.set_camera(replace(camera, roll=(camera.roll + moved.x() * 0.5) % 360))
        else:
            self.turn_by(-moved.x() * 0.6, moved.y() * 0.6)

    def mouseReleaseEvent(self, event) -> None:
        if self._pressed is not None and event.button() == Qt.MouseButton.LeftButton:
            ratio = self.devicePixelRatioF()
            self.feed.pick(event.position().x() * ratio, event.position().y() * ratio)
        self._let_go()

    def _let_go(self) -> None:
        """Another image leads: what was pressed before does nothing to it."""
        self._last = self._pressed = self._side = None

    def _drag_side(self, at: QPointF) -> None:
        crop, eye = self.model.shown.crop, self._eye()
        if crop is None or eye is None or self._side is None:
            return  # taken away meanwhile
        page = eye.width / max(1, self.width())
        self.model.change(crop=dragged_in_scene(eye, crop, self._side, at.x(), at.y(), page))

    def turn_by(self, turn: float, tilt: float) -> None:
        self.model.set_camera(self.model.camera.turned(turn, tilt))

    def wheelEvent(self, event) -> None:
        self.model.set_camera(self.model.camera.zoomed(1.15 ** (event.angleDelta().y() / 120)))

    def mouseDoubleClickEvent(self, event) -> None:
        self.feed.look_at_all()

    def keyPressEvent(self, event) -> None:
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        camera, key = self.model.camera, event.key()
        ways = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1)}
        if key in ways and shift:
            across, up = ways[key]
            self.model.set_camera(replace(camera, across=camera.across - 0.1 * across, up=camera.up - 0.1 * up))
        elif key in ways:
            self.turn_by(STEP * ways[key][0], STEP * ways[key][1])
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self.model.set_camera(camera.zoomed(1 / 1.2 if key == Qt.Key.Key_Minus else 1.2))
        elif key in KEYS:
            self.model.set_camera(camera.side(KEYS[key]))
        elif key in (Qt.Key.Key_BracketLeft, Qt.Key.Key_BracketRight):
            step = STEP if key == Qt.Key.Key_BracketRight else -STEP
            self.model.set_camera(replace(camera, roll=(camera.roll + step) % 360))
        elif key == Qt.Key.Key_0:
            self.feed.look_at_all()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            ratio = self.devicePixelRatioF()
            self.feed.pick(self.width() * ratio / 2, self.height() * ratio / 2)
        elif key == Qt.Key.Key_Escape and self.model.measuring:
            self.model.set_measuring(False)
        else:
            super().keyPressEvent(event)


assert set(KEYS.values()) == set(SIDES)


def _relief_words(viewing) -> str:
    from ...scene.relief import times_taller

    times = times_taller(viewing.image, viewing.look) if viewing.image is not None and viewing.look is not None else 0.0
    return f"heights × {times:.3g}" if times else ""
