"""The Solid view: label surfaces as they grow, in a ghost of the subject. Pictures come from another process."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSocketNotifier, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ...core.heights import is_height_map
from ...core.image import Image
from ...scene.occupancy import Field, image_field, label_field
from ...scene.relief import Relief, relief_of
from ..desk_model import Desk
from ..light_table.pane_header import PaneHeader
from ..theme.theme import Theme, words

if TYPE_CHECKING:
    from ...scene.solid_process import SolidProcess

GHOST = -1
SMOOTHING, HELD = 18, 0.3
"""Times that a surface is smoothed, and voxels that it may move by: what is one voxel thick stays to be seen."""
RESTARTS, WITHIN = 3, 60.0
"""Times that the drawing process is started anew, in so many seconds, before somebody has to ask for it."""
AGAIN = "Click to try again."


class SolidPane(QWidget):
    """Header and canvas of the Solid view."""

    wants_lead = Signal()

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.name = "Solid"
        self.header, self.canvas = PaneHeader(self.name), SolidCanvas(desk)
        self.header.clicked.connect(self.wants_lead)
        self.canvas.counted.connect(self.header.place.setText)
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
        self.turn, self.tilt, self.zoom = 35.0, 22.0, 1.0
        self.process: SolidProcess | None = None
        self.trouble = ""
        self.triangles: dict[int, int] = {}
        self._known: dict[int, tuple] = {}
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
        self._soon = QTimer(self, singleShot=True, interval=120)
        self._soon.timeout.connect(self._build)
        viewing = desk.viewing
        for signal in (viewing.labels_changed, viewing.lead_changed, viewing.lead_ready, viewing.looks_changed):
            signal.connect(self._soon.start)

    @property
    def settled(self) -> bool:
        """Whether the picture shows the present labels and camera."""
        return bool(self.trouble) or not (
            self._soon.isActive() or self._building or self._again or self._received < self._asked
        )

    # surfaces

    def _build(self) -> None:
        """Make coarse fields of what has changed, in a worker, and hand them to the drawing process."""
        if not self.viewing.ready or not self.isVisible():
            return
        if self._building:
            self._again = True
            return
        record, image, labels = self.viewing.record, self.viewing.image.grey(), self.viewing.labels
        look = self.viewing.look if is_height_map(image) else None
        new_image = self._image_key != (record.id, record.grid, look)
        wanted = {} if new_image else dict(self._known)
        shown = {row.number: row for row in labels.table if not row.hidden and labels.counts[row.number]}
        changed = [n for n, row in shown.items() if wanted.get(n) != self._state(labels, row)]
        states = {n: self._state(labels, row) for n, row in shown.items()}
        gone = [n for n in self._known if n not in shown and n != GHOST and not new_image]
        if not (new_image or changed or gone):
            return
        self._building = True

        def fields(progress):
            made = {n: label_field(labels, n) for n in changed}
            if not new_image:
                return made, None
            return made, relief_of(image, look) if look is not None else image_field(image)

        def place(result):
            self._building = False
            made, ghost = result
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
            if new_image:
                self.process.send("clear")
                self._known.clear()
                self.triangles.clear()
                self._image_key = (record.id, record.grid, look)
                self._send_body(ghost, image)
            for n in gone:
                self.process.send("surface", n, None, None, (0, 0, 0), 0.0)
                self._known.pop(n, None)
            for n, field in made.items():
                if field is not None:
                    colour = QColor(shown[n].colour)
                    ink = (colour.redF(), colour.greenF(), colour.blueF())
                    how = (127.5, SMOOTHING, HELD / field.factor, field.faces)
                    self.process.send("surface", n, field.values, field.affine, ink, 1.0, *how)
                    self._known[n] = states[n]
            surfaces = f"{len(shown)} surface{'' if len(shown) == 1 else 's'}" if shown else ""
            self.counted.emit(surfaces if look is None else self._relief_words)
            self.ask()
            if self._again:
                self._again = False
                self._soon.start()

        def failed(error):
            self._building = False
            self._stop_with("The Solid view could not be made")

        self.desk.session.work.start("Solid view", fields, place, failed, "preview")

    def _send_body(self, body: Field | Relief, image: Image) -> None:
        """The ghost of a subject, or the surface of a height map."""
        assert self.process is not None
        if isinstance(body, Relief):
            self.process.send("relief", GHOST, body.heights, body.colours, body.affine)
            self._relief_words = f"heights × {body.times:.3g}" if body.times else ""
            return
        level = 40.0 if image.unit != "HU" else max(6.0, min(200.0, self._level(image)))
        self.process.send("surface", GHOST, body.values, body.affine, (0.62, 0.70, 0.74), 0.16, level, 30)

    @staticmethod
    def _state(labels, row) -> tuple:
        return int(labels.revision[row.number]), row.colour, id(labels)

    @staticmethod
    def _level(image) -> float:
        low, high = image.display_range()
        return (-300.0 - low) / (high - low) * 255.0

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
        self.process.send(
            "view", self._asked, int(self.width() * scale), int(self.height() * scale), self.turn, self.tilt, self.zoom
        )

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
        self.turn = (self.turn + turn) % 360
        self.tilt = max(-89.0, min(89.0, self.tilt + tilt))
        self.ask()

    def wheelEvent(self, event) -> None:
        self.zoom = max(0.2, min(8.0, self.zoom * 1.15 ** (event.angleDelta().y() / 120)))
        self.ask()

    def mouseDoubleClickEvent(self, event) -> None:
        self.turn, self.tilt, self.zoom = 35.0, 22.0, 1.0
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
