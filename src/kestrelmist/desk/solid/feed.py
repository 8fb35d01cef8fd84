"""Between the models and the process that draws the Solid view: what has changed is worked out and handed over, asked
for as pictures, and handed over anew when the process has ended."""

from __future__ import annotations

import time
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QSocketNotifier, QTimer, Signal
from PySide6.QtGui import QImage

from ...core.errors import Trouble
from ...core.labels import LabelMap
from ...core.surface.blocks import block_surface, changed_blocks, states_of
from ...scene.solid.eye import Camera, Eye, Frame
from ...scene.solid.making import gone, made
from ...scene.solid.scene import OUTLINE, RELIEF, SURFACE, VOLUME, Body, Solid
from ...scene.solid.volume_look import VolumeLook
from ..models.desk_model import Desk

if TYPE_CHECKING:
    from ...scene.solid.process import SolidProcess

RESTARTS, WITHIN = 3, 60.0
"""Times that the drawing process is started anew, in so many seconds, before somebody has to ask for it."""
AGAIN = "Click to try again."
SOON = 40
"""Milliseconds after a change, in which further ones are waited for."""


class SolidFeed(QObject):
    """Keeps the process at what is to be seen."""

    pictured = Signal(QImage, object)
    """A picture, and the eye that it was seen by."""
    met = Signal(object)
    """What a click has met: a world position."""
    troubled = Signal()
    counted = Signal()
    """Another number of surfaces is in the scene."""

    def __init__(self, desk: Desk, parent: QObject):
        super().__init__(parent)
        self.desk, self.viewing, self.model = desk, desk.viewing, desk.solid
        self.solid = Solid()
        self.process: SolidProcess | None = None
        self.trouble = ""
        self.triangles: dict[tuple, int] = {}
        self.known: dict[tuple, tuple] = {}
        """What was handed over of each body: its state."""
        self.frame: Frame | None = None
        self.wanted_size = (0, 0)
        self.in_view = lambda: True
        self._blocks: dict[tuple, Any] = {}
        """States of the blocks of each surface when it was last made."""
        self._patched: set[tuple] = set()
        self._image_key: object = None
        self._asked = self._received = 0
        self._picks = self._met = 0
        self._moving = False
        self._building = self._again = False
        self._ends: list[float] = []
        self._soon = QTimer(self, singleShot=True, interval=SOON)
        self._soon.timeout.connect(self.build)
        self._rest = QTimer(self, singleShot=True, interval=180)
        self._rest.timeout.connect(lambda: self.ask(False))
        viewing = self.viewing
        for signal in (viewing.maps.changed, viewing.lead_changed, viewing.lead_ready, viewing.looks_changed):
            signal.connect(self.later)
        for signal in (desk.hand.gesture_moved, desk.marks.changed, desk.layers.changed, self.model.changed):
            signal.connect(self.later)
        viewing.crosshair_moved.connect(self._crosshair)
        desk.session.shelf_changed.connect(self.later)
        self.model.quality_changed.connect(self._quality)
        self.model.camera_changed.connect(lambda: self.ask(True))

    @property
    def settled(self) -> bool:
        """Whether the last picture shows what there is, as fine as it gets."""
        waiting = self._soon.isActive() or self._rest.isActive() or self._building or self._again
        return bool(self.trouble) or not (waiting or self._received < self._asked or self._met < self._picks)

    def later(self) -> None:
        """Soon, and not the later the more changes there are: it follows a brush that does not rest."""
        if not self._soon.isActive():
            self._soon.start()

    def _crosshair(self) -> None:
        if self.model.shown.slices or self.model.shown.cross:
            self.later()

    # what is in the scene

    def build(self) -> None:
        """Work out what has changed, in a worker, and hand it to the process."""
        if not self.viewing.ready or not self.in_view():
            return
        if self._building:
            self._again = True
            return
        solid, things = self.model.scene()
        record = self.viewing.record
        image_key = (record.id, record.grid)
        anew = self._image_key != image_key
        known = {} if anew else self.known
        states = {body.key: self._state(body, things) for body in solid.bodies}
        rough = self.desk.hand.gesture is not None
        changed, dressed = [], []
        for body in solid.bodies:
            if body.key not in known or known[body.key][0] != states[body.key][0]:
                changed.append(body)
            elif body.key in self._patched and not rough:
                changed.append(body)
            elif known[body.key][1] != states[body.key][1]:
                dressed.append(body)
        away = [key for key in known if key not in states]
        cut = anew or solid.planes.tolist() != self.solid.planes.tolist()
        if not (anew or changed or dressed or away or cut):
            self.solid = solid
            return
        self._building = True
        blocks = dict(self._blocks)

        def work(progress):
            found = []
            for body in changed:
                thing = things[body.thing]
                if rough and body.way == SURFACE:
                    found.append((body, *_patch(body, thing, blocks.get(body.key), body.key in known)))
                    continue
                state = states_of(thing, body.part) if body.way == SURFACE else None
                try:
                    found.append((body, made(body, thing, things.__getitem__, progress), state))
                except Trouble:  # of one thing that cannot be shown the others are seen all the same
                    found.append((body, gone(body.key), None))
            return found

        def place(found) -> None:
            self._building = False
            if not anew and self._image_key is None:  # the process has ended meanwhile, and begins anew
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
            if anew:
                self.process.send("clear")
                for one in (self.known, self.triangles, self._blocks):
                    one.clear()
                self._patched.clear()
                self._image_key, self.frame = image_key, None
            for key in away:
                self._forget(key)
            for body, message, state in found:
                self._hand_over(body, message, state, states[body.key], rough)
            for body in dressed:
                self._dress(body)
                self.known[body.key] = states[body.key]
            if cut:
                self.process.send("planes", solid.planes)
            self.solid = solid
            self.counted.emit()
            self.ask(rough)
            if self._again:
                self._again = False
                self._soon.start()

        def failed(error) -> None:
            self._building = False
            self._stop_with("The Solid view could not be made")

        self.desk.session.work.start("Solid view", work, place, failed, "preview")

    def _hand_over(self, body: Body, message: tuple | None, state: Any, known: tuple, rough: bool) -> None:
        assert self.process is not None
        if message is not None:
            self.process.send(*message)
            if message[0] in ("drop",):
                self.triangles.pop(body.key, None)
        if state is not None:
            self._blocks[body.key] = state
        (self._patched.add if rough and body.way == SURFACE else self._patched.discard)(body.key)
        self.known[body.key] = known

    def _dress(self, body: Body) -> None:
        assert self.process is not None
        if body.way == VOLUME and isinstance(body.look, VolumeLook):
            self.process.send("look", body.key, body.look)
        else:
            self.process.send("dress", body.key, body.finish)

    def _forget(self, key: tuple) -> None:
        assert self.process is not None
        self.process.send("drop", key)
        for one in (self.known, self.triangles, self._blocks):
            one.pop(key, None)
        self._patched.discard(key)

    def _state(self, body: Body, things: dict) -> tuple:
        """What tells that a body is as it was handed over: its content, and how it is dressed."""
        thing = things[body.thing]
        dress: object = (body.colour, body.opacity, body.shift)
        if isinstance(thing, LabelMap):
            return (body.way, int(thing.revision[body.part]), id(thing)), dress
        content: tuple = (body.way, id(thing), self.viewing.place, body.at)
        if body.way in (OUTLINE, RELIEF, VOLUME) and body.thing == self.viewing.record.id:
            content = (body.way, self.viewing.record.hash, self.viewing.place)
        if body.way == VOLUME:
            mask = things.get(body.inside[0]) if body.inside is not None else None
            inside = None if mask is None else (body.inside, id(mask), mask.revision.tobytes())
            return (*content, inside, body.look is None), body.look
        if body.way in (SURFACE, OUTLINE, "mesh"):
            return content, dress
        return (*content, body.look, dress), None

    # the process

    def _start(self) -> None:
        from ...scene.solid.process import SolidProcess  # what talks to processes is not needed for a window

        self.process = SolidProcess()
        self.process.send("quality", self.model.quality)
        self._notifier = QSocketNotifier(self.process.pipe.fileno(), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._read)

    def _quality(self) -> None:
        if self.process is not None:
            self.process.send("quality", self.model.quality)
            self.ask()

    def ask(self, moving: bool = False) -> None:
        """Ask for a picture from the present camera: a quick one while something moves, and a fine one soon after."""
        if self.process is None or not min(self.wanted_size):
            return
        self._rest.stop()
        if moving:
            self._rest.start()
            if self._received < self._asked and self._moving:  # the one under way is followed by the next
                self._waiting = True
                return
        self._moving = moving
        self._waiting = False
        self._asked += 1
        self.process.send("view", self._asked, *self.wanted_size, self.model.camera, self.frame, moving, False)

    _waiting = False

    def pick(self, x: float, y: float) -> None:
        """Ask what is seen at a pixel of the picture."""
        if self.process is not None:
            self._picks += 1
            self.process.send("pick", self._picks, *self.wanted_size, self.model.camera, self.frame, x, y)

    def _read(self) -> None:
        try:
            while self.process is not None and self.process.pipe.poll():
                word, *rest = self.process.pipe.recv()
                if word == "made":
                    self.triangles[rest[0]] = rest[1]
                elif word == "ready":
                    self.model.set_drawn_by(rest[0])
                elif word == "met":
                    self._met = rest[0]
                    if rest[1] is not None:
                        self.met.emit(rest[1])
                elif word == "picture":
                    self._received, eye, pixels = rest
                    self._show(eye, pixels)
        except (EOFError, OSError):
            self._process_ended()

    def _show(self, eye: Eye, pixels: bytes) -> None:
        self.frame = eye.frame if self.frame is None else self.frame
        times = next(n for n in range(1, 9) if len(pixels) == 4 * (eye.width // n) * (eye.height // n))
        width, height = eye.width // times, eye.height // times  # of a quick one there are fewer
        picture = QImage(pixels, width, height, 4 * width, QImage.Format.Format_RGBX8888).copy()
        self.pictured.emit(picture, eye)
        if self._waiting and self._received >= self._asked:
            self.ask(True)

    def look_at_all(self) -> None:
        """Look at all that there is now."""
        self.frame = None
        self.model.set_camera(replace(Camera(), parallel=self.model.camera.parallel))

    def _process_ended(self) -> None:
        """Start the process anew; when it ends again and again, leave that to the person."""
        self.close()
        now = time.monotonic()
        self._ends = [at for at in self._ends if now - at < WITHIN] + [now]
        if len(self._ends) > RESTARTS:
            self._stop_with("The Solid view stops again and again; the rest goes on")
        else:
            self.from_the_start()

    def _stop_with(self, trouble: str) -> None:
        self.trouble = f"{trouble}. {AGAIN}"
        self.troubled.emit()

    def try_again(self) -> None:
        """Somebody has asked for it."""
        self._ends.clear()
        self.from_the_start()

    def from_the_start(self) -> None:
        """Hand everything over again."""
        self.trouble, self._image_key = "", None
        self._blocks.clear()
        self._patched.clear()
        self.known.clear()
        self.triangles.clear()
        self._received, self._met, self._waiting = self._asked, self._picks, False
        self._soon.start()

    def close(self) -> None:
        """End the process."""
        self._rest.stop()
        if self.process is not None:
            self._notifier.setEnabled(False)
            self.process.close()
            self.process = None


def _patch(body: Body, labels: LabelMap, before: Any, there: bool) -> tuple[tuple | None, Any]:
    """What has changed of a label's surface since its blocks were in a state, block by block; and their state now."""
    import numpy as np

    after = states_of(labels, body.part)
    old = before if before is not None and there else np.zeros_like(after)
    blocks = {block: block_surface(labels, body.part, block) for block in changed_blocks(old, after)}
    if there:
        return ("patch", body.key, blocks) if blocks else None, after
    from ...core.surface.blocks import SIDE

    corners, triangles, first = [np.zeros((0, 3))], [np.zeros((0, 3), np.int32)], 0
    for places, sides in blocks.values():
        corners.append(places)
        triangles.append(sides + first)
        first += len(places)
    grid = (labels.space.inverse, SIDE)
    mesh = ("mesh", body.key, np.concatenate(corners), np.concatenate(triangles), body.finish, grid, None)
    return mesh, after
