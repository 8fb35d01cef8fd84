"""The Solid view: label surfaces as they grow, in a ghost of the subject. Pictures come from another process."""

from __future__ import annotations

import time
from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSocketNotifier, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ...core.labels import LabelMap
from ...scene.relief import Relief
from ...scene.solid import (
    RELIEF,
    SURFACE,
    Body,
    Camera,
    Made,
    Solid,
    bodies_of_image,
    bodies_of_labels,
    gone,
    made,
    message,
)
from ..light_table.pane_header import PaneHeader
from ..models.desk_model import Desk
from ..theme.theme import Theme, words

if TYPE_CHECKING:
    from ...scene.solid_process import SolidProcess

RESTARTS, WITHIN = 3, 60.0
"""Times that the drawing process is started anew, in so many seconds, before somebody has to ask for it."""
AGAIN = "Click to try again."
SOON = 40
"""Milliseconds after a change, in which further ones are waited for."""


class SolidPane(QWidget):
    """Header and canvas of the Solid view."""

    wants_lead = Signal()

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.name = "Solid"
        self.header, self.canvas = PaneHeader(self.name), SolidCanvas(desk)
        self.header.clicked.connect(self.wants_lead)
        self.canvas.counted.connect(self.header.set_place)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.header)
        column.addWidget(self.canvas, 1)

    def set_lead(self, lead: bool) -> None:
        self.header.set_lead(lead)


class SolidCanvas(QWidget):
    """Shows the last picture; asks for surfaces when labels change and for pictures when turned."""

    counted = Signal(str)
    """How many surfaces there are, or how much taller than it is a relief is drawn."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.viewing = desk, desk.viewing
        self.camera, self.solid = Camera(), Solid()
        self.process: SolidProcess | None = None
        self.trouble = ""
        self.triangles: dict[tuple, int] = {}
        self._known: dict[tuple, tuple] = {}
        self._rough: set[tuple] = set()
        """Surfaces that were made of few cells, while a hand was at work."""
        self._image_key = None
        self._picture: QImage | None = None
        self._last: QPointF | None = None
        self._asked = self._received = 0
        self._building = self._again = False
        self._ends: list[float] = []
        self._relief_words = ""
        self.setMinimumSize(80, 60)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Solid view")
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._soon = QTimer(self, singleShot=True, interval=SOON)
        self._soon.timeout.connect(self._build)
        viewing = desk.viewing
        for signal in (viewing.maps.changed, viewing.lead_changed, viewing.lead_ready, viewing.looks_changed):
            signal.connect(self._later)
        desk.hand.gesture_moved.connect(self._later)

    @property
    def settled(self) -> bool:
        """Whether the picture shows the present labels and camera."""
        return bool(self.trouble) or not (
            self._soon.isActive() or self._building or self._again or self._received < self._asked
        )

    def _later(self) -> None:
        """Soon, and not the later the more changes there are: it follows a brush that does not rest."""
        if not self._soon.isActive():
            self._soon.start()

    # surfaces

    def wanted(self) -> tuple[Solid, dict[int | str, object]]:
        """The scene as it should be now, and its things: the image that leads, its label map in hand, and the others
        when they are shown."""
        viewing, record = self.viewing, self.viewing.record
        assert record is not None and viewing.image is not None
        image = viewing.image.grey()
        bodies = [bodies_of_image(record.id, image, viewing.look)]
        things: dict[int | str, object] = {record.id: image}
        for key, labels in viewing.maps.seen():
            things[key] = labels
            bodies += bodies_of_labels(key, labels)
        return Solid(tuple(bodies), self.camera), things

    def _build(self) -> None:
        """Work out what has changed of the scene, in a worker, and hand it to the drawing process."""
        if not self.viewing.ready or not self.isVisible():
            return
        if self._building:
            self._again = True
            return
        solid, things = self.wanted()
        record = self.viewing.record
        states = {body.key: self._state(body, things[body.thing]) for body in solid.bodies}
        image_key = (record.id, record.grid)
        new_image = self._image_key != image_key
        known = {} if new_image else self._known
        rough = self.desk.hand.gesture is not None
        changed = [
            body
            for body in solid.bodies
            if known.get(body.key) != states[body.key] or (not rough and body.key in self._rough)
        ]
        away = [key for key in known if key not in states]
        if not (new_image or changed or away):
            return
        self._building = True

        def work(progress):
            return [made(body, things[body.thing], rough) for body in changed]

        def place(found: list[Made]) -> None:
            self._building = False
            if not new_image and self._image_key is None:  # the process has ended meanwhile, and begins anew
                self._again = False
                self._soon.start()
                return
            try:
                if self.process is None:
                    self._start()
            except OSError as error:
                self._stop_with(f"The Solid view cannot be started ({error.strerror}); the rest goes on")
                return
            assert self.process is not None
            if new_image:
                self.process.send("clear")
                self._known.clear()
                self._rough.clear()
                self.triangles.clear()
                self._image_key = image_key
            for key in away:
                self.process.send(*gone(key))
                self._known.pop(key, None)
                self._rough.discard(key)
                self.triangles.pop(key, None)
            for one in found:
                self.process.send(*message(one))
                self._known[one.body.key] = states[one.body.key]
                (self._rough.add if rough and one.body.way == SURFACE else self._rough.discard)(one.body.key)
                if isinstance(one.shape, Relief):
                    self._relief_words = f"heights × {one.shape.times:.3g}" if one.shape.times else ""
            self.solid = solid
            count = sum(body.way == SURFACE for body in solid.bodies)
            surfaces = f"{count} surface{'' if count == 1 else 's'}" if count else ""
            self.counted.emit(self._relief_words if solid.bodies[0].way == RELIEF else surfaces)
            self.ask()
            if self._again:
                self._again = False
                self._soon.start()

        def failed(error):
            self._building = False
            self._stop_with("The Solid view could not be made")

        self.desk.session.work.start("Solid view", work, place, failed, "preview")

    def _state(self, body: Body, thing) -> tuple:
        """What tells that a body is as it was sent."""
        if isinstance(thing, LabelMap):
            return body, int(thing.revision[body.part]), id(thing)
        return body, self.viewing.record.hash, self.viewing.place

    def _start(self) -> None:
        from ...scene.solid_process import SolidProcess  # what talks to processes is not needed for a window

        self.process = SolidProcess()
        self._notifier = QSocketNotifier(self.process.pipe.fileno(), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._read)

    def ask(self) -> None:
        """Ask for a picture from the present camera."""
        if self.process is None:
            return
        scale = self.devicePixelRatioF()
        self._asked += 1
        size, camera = (int(self.width() * scale), int(self.height() * scale)), self.camera
        self.process.send("view", self._asked, *size, camera.turn, camera.tilt, camera.zoom)

    def _read(self) -> None:
        try:
            while self.process.pipe.poll():
                word, *rest = self.process.pipe.recv()
                if word == "surface":
                    self.triangles[rest[0]] = rest[1]
                elif word == "picture":
                    self._received, width, height, pixels = rest
                    self._picture = QImage(pixels, width, height, 3 * width, QImage.Format.Format_RGB888).copy()
                    self.update()
        except (EOFError, OSError):
            self._process_ended()

    def _process_ended(self) -> None:
        """Start the process anew; when it ends again and again, leave that to the person."""
        self.close_process()
        now = time.monotonic()
        self._ends = [at for at in self._ends if now - at < WITHIN] + [now]
        if len(self._ends) > RESTARTS:
            self._stop_with("The Solid view stops again and again; the rest goes on")
        else:
            self._from_the_start()

    def _stop_with(self, trouble: str) -> None:
        self.trouble = f"{trouble}. {AGAIN}"
        self.update()

    def _from_the_start(self) -> None:
        """Hand everything over again."""
        self.trouble, self._image_key = "", None
        self._known.clear()
        self.triangles.clear()
        self._received = self._asked
        self._soon.start()

    def close_process(self) -> None:
        if self.process is not None:
            self._notifier.setEnabled(False)
            self.process.close()
            self.process = None

    # picture and gestures

    def paintEvent(self, event) -> None:
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), QColor(Theme.tokens.night))
            if self._picture is not None and self.viewing.record is not None and not self.trouble:
                painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
                size = self._picture.size().scaled(self.size(), Qt.AspectRatioMode.KeepAspectRatioByExpanding)
                painter.drawImage(
                    QRectF(
                        (self.width() - size.width()) / 2,
                        (self.height() - size.height()) / 2,
                        size.width(),
                        size.height(),
                    ),
                    self._picture,
                )
            elif self.trouble or self.viewing.record is not None:
                painter.setPen(QColor("#A9B7BE"))
                painter.setFont(words(13))
                painter.drawText(
                    self.rect(), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.trouble or "Building …"
                )

    def resizeEvent(self, event) -> None:
        self.ask()

    def showEvent(self, event) -> None:
        self._soon.start()

    def mousePressEvent(self, event) -> None:
        if self.trouble:
            self._ends.clear()
            self._from_the_start()
        self._last = event.position()

    def mouseMoveEvent(self, event) -> None:
        if self._last is None:
            return
        moved, self._last = event.position() - self._last, event.position()
        self.turn_by(-moved.x() * 0.6, moved.y() * 0.6)

    def mouseReleaseEvent(self, event) -> None:
        self._last = None

    def turn_by(self, turn: float, tilt: float) -> None:
        self.camera = self.camera.turned(turn, tilt)
        self.ask()

    def wheelEvent(self, event) -> None:
        zoom = self.camera.zoom * 1.15 ** (event.angleDelta().y() / 120)
        self.camera = replace(self.camera, zoom=max(0.2, min(8.0, zoom)))
        self.ask()

    def mouseDoubleClickEvent(self, event) -> None:
        self.camera = Camera()
        self.ask()

    def keyPressEvent(self, event) -> None:
        steps = {
            Qt.Key.Key_Left: (-10, 0),
            Qt.Key.Key_Right: (10, 0),
            Qt.Key.Key_Up: (0, 10),
            Qt.Key.Key_Down: (0, -10),
        }
        if event.key() in steps:
            self.turn_by(*steps[event.key()])
        else:
            super().keyPressEvent(event)
