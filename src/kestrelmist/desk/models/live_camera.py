"""A camera that is live: frames are pulled by a thread and shown in place of the picture they will become.

What leads while it is live is an image of the study like any other, taken with the camera as it is set: marks are drawn
on it, lengths have its scale, operations are given it. Frames are laid over its pixels. When the camera is set
otherwise a new one is taken; the one before goes off the Shelf again unless somebody has marked or used it.
"""

from __future__ import annotations

import threading
import time
from collections import deque
from contextlib import suppress
from dataclasses import asdict, replace
from typing import Any

import numpy as np
import shiboken6
from PySide6.QtCore import QObject, QTimer, Signal

from ...core.calibration import Calibration
from ...core.camera import CAMERAS, CameraSettings, HeldCamera, camera_kind, held
from ...core.errors import Trouble
from ...core.image import Image
from ...core.kinds.calibration import CALIBRATION
from ...core.space import Space
from ...core.values import packed_colours
from ...measure.camera.take_pictures import across
from ...scene.layer_type import Drawn
from .sight import Parts
from .viewing import Viewing
from .work import Job, unexpected

REST = 400
"""Milliseconds without another change of settings until what leads is taken anew."""
SET_SOON = 50
"""Milliseconds between looks at whether the camera is set as it is wanted."""
LEAST = 0.005
"""Seconds between two frames, however fast a camera is."""
FEW = 25
"""Frames over which the rate is told."""


class LiveCamera(QObject):
    """The camera of a window. `showing` says whether frames are seen: it is open, not held still, and what leads is
    what it was last taken as."""

    changed = Signal()
    """It was opened, closed, held or set, or what leads was taken anew."""
    arrived = Signal()
    """There is another frame to draw."""
    _came, _opened, _failed = Signal(), Signal(), Signal(str)

    def __init__(self, viewing: Viewing):
        super().__init__(viewing)
        self.viewing, self.session = viewing, viewing.session
        self.camera: HeldCamera | None = None
        self.settings = self._set = CameraSettings()
        self.kind = ""
        self.still: int | None = None
        """The image that leads while it is live."""
        self.still_held = False
        """Whether the picture is held as it was last taken."""
        self.calibration: int | None = None
        """The one that fits as the camera is set; None when there is none."""
        self._frame: np.ndarray | None = None
        """The newest one, [i, j, 1], as values of an image."""
        self._drawn: tuple[np.ndarray, Space, Image] | None = None
        self._awaited = False
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self._times: deque[float] = deque(maxlen=FEW)
        self._taking: Job | None = None
        self._setting: Job | None = None
        self._stale = False
        """Whether the camera was set otherwise while somebody looked at something else."""
        self._soon = QTimer(self, singleShot=True, interval=REST)
        self._soon.timeout.connect(self.renew)
        self._came.connect(self._take_in)
        self._opened.connect(self._begin)
        self._failed.connect(self._broken)
        viewing.lead_changed.connect(self._lead)
        viewing.session.shelf_changed.connect(self._look_for_calibration)

    # opening and closing

    @property
    def on(self) -> bool:
        """Whether a camera is open or being opened."""
        return self._thread is not None

    @property
    def showing(self) -> bool:
        return self.on and not self.still_held and self.still is not None and self.viewing.leads(self.still)

    @property
    def gone(self) -> bool:
        """Whether the picture that led was taken off the Shelf, as by undo: it is taken anew when the camera is set
        or held."""
        record = None if self.still is None else self.session.study.items.get(self.still)
        return self.still is not None and (record is None or record.removed)

    @property
    def rate(self) -> float:
        """Frames a second, 0 while there are none."""
        if len(self._times) < 2 or time.monotonic() - self._times[-1] > 2:
            return 0.0
        return (len(self._times) - 1) / max(1e-6, self._times[-1] - self._times[0])

    def start(self, name: str) -> None:
        """Open a camera and show what it sees."""
        self.stop()
        if self.session.study.read_only:
            self.session.trouble.emit("This study is open in another window: pictures cannot be taken into it here.")
            return
        self.kind, self.still_held = name, False
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, args=(name, self._stop), name="camera", daemon=True)
        self._thread.start()
        self.changed.emit()

    def stop(self) -> None:
        """Let the camera go. What was taken and not used goes off the Shelf."""
        if self._thread is None:
            return
        self._stop.set()
        self._thread, self.camera, self._frame, self._drawn = None, None, None, None
        self._times.clear()
        self._soon.stop()
        before, self.still = self.still, None
        if not self.session.closed:
            self._drop(before)
            self.viewing.looks_changed.emit()
        self.changed.emit()

    def _run(self, name: str, stop: threading.Event) -> None:
        """In a thread of its own: frame after frame, each once the one before was taken up."""
        try:
            with held(camera_kind(name)) as one:
                with one.turn:
                    self.settings = self._set = one.camera.settings
                self.camera = one
                self._opened.emit()
                while not stop.is_set():
                    started = time.monotonic()
                    if self._awaited or self.still_held:
                        time.sleep(LEAST)
                        continue
                    with one.turn:
                        frame = one.camera.picture()
                    if stop.is_set() or not shiboken6.isValid(self):
                        return
                    data = across(frame)[:, :, None]
                    self._frame = packed_colours(data) if frame.ndim == 3 else np.asfortranarray(data)
                    self._awaited = True
                    self._came.emit()
                    time.sleep(max(0.0, LEAST - (time.monotonic() - started)))
        except Exception as error:
            if not stop.is_set() and shiboken6.isValid(self):  # else the window has gone
                self._failed.emit(str(error) if isinstance(error, Trouble) else unexpected("The camera", error))

    def _begin(self) -> None:
        if self.on:
            self._look_for_calibration()
            self.renew()

    def _broken(self, words: str) -> None:
        self.stop()
        self.session.trouble.emit(words)

    # setting

    @property
    def busy(self) -> bool:
        """Whether it is being set, or takes a picture."""
        return any(job in self.session.work.jobs for job in (self._setting, self._taking) if job is not None)

    @property
    def ready(self) -> bool:
        """Whether it is set as it is wanted, and free."""
        return self.camera is not None and not self.busy and self._set == self.settings

    def set(self, **changes: Any) -> None:
        """Set part of it: objective, resolution, specimen, exposure, focus, x, y. Raises nothing: what the camera does
        not offer is said. A picture that is being taken is taken as it was begun."""
        wanted = replace(self.settings, **changes)
        if self.camera is not None and wanted != self.settings:
            self.settings = wanted
            self._soon.start()
            self._apply()
            self.changed.emit()

    def _apply(self) -> None:
        one, wanted = self.camera, self.settings
        if one is None or self._set == wanted:
            return
        if self.busy:
            QTimer.singleShot(SET_SOON, self._apply)
            return

        def work(progress):
            with one.turn:
                one.camera.set(wanted)
                return one.camera.settings

        def put(settings: CameraSettings) -> None:
            if self.camera is not one:
                return
            self._set = settings
            if self.settings == wanted:
                self.settings = settings  # in the camera's own words
                self._look_for_calibration()
                self._soon.start()
            else:
                QTimer.singleShot(0, self._apply)

        def failed(error: BaseException) -> None:
            if self.camera is one and self.settings == wanted:
                self.settings = self._set
            told = str(error) if isinstance(error, Trouble) else unexpected("The camera", error)
            self.session.trouble.emit(told)
            self.changed.emit()

        self._setting = self.session.work.start("Setting the camera", work, put, failed, "view", loud=False)

    def hold(self, on: bool) -> None:
        """Hold the picture still, as it is now, or go on."""
        if self.on and on != self.still_held:
            self.still_held = on
            if on or self.gone:
                self.renew()
            self.changed.emit()
            self.viewing.looks_changed.emit()

    def _lead(self) -> None:
        if self._stale and self.still is not None and self.viewing.leads(self.still):
            self._soon.start()
        self.changed.emit()

    def _look_for_calibration(self) -> None:
        """The newest calibration of the study that is of this set-up."""
        one, study = self.camera, self.session.study
        if one is None or self.session.closed:
            return
        setup, found = one.camera.setup, None
        for record in study.items.of_kind(CALIBRATION.name):
            with suppress(Trouble):
                made: Calibration = study.thing(record.id)
                if made.setup.words and made.setup.fits(setup):
                    found = record.id
        if found != self.calibration:
            self.calibration = found
            if self.still is not None:
                self._soon.start()
        self.changed.emit()

    # taking

    def given(self, name: str) -> dict[str, Any]:
        given = {"camera": self.kind, "name": name, **asdict(self.settings)}
        for left_out in ("objective", "resolution", "specimen"):
            given[left_out] = given[left_out] or None
        if self.calibration is not None:
            given["calibration"] = self.calibration
        return given

    def renew(self) -> None:
        """Take what leads anew, as the camera is set now."""
        if not self.on or self.camera is None:
            return
        if not self.ready:
            self._soon.start()
            return
        self._look_for_calibration()
        self._soon.stop()
        before = None if self.gone else self.still
        if before is not None and not self.viewing.leads(before):
            self._stale = True  # somebody looks at something else: it is taken anew when they come back
            return
        self._stale = False

        def taken(kept: Any) -> None:
            self._taking = None
            if not self.on or not isinstance(kept, list):
                return
            self.still = kept[-1]
            if before != self.still:
                self._drop(before)
            self.changed.emit()

        self._taking = self.session.run("take-pictures", self.given("Live"), taken, "Live picture")

    def take(self, with_marks: bool = False) -> None:
        """Take a picture that stays, with a copy of the marks that are drawn on the live one."""
        if self.camera is None:
            return
        if not self.ready:
            QTimer.singleShot(SET_SOON, lambda: self.take(with_marks))
            return
        self._look_for_calibration()
        study, still = self.session.study, self.still
        marks = study.marks.in_hand(still) if with_marks and still is not None else None

        def taken(kept: Any) -> None:
            record = study.items.get(kept[-1]) if isinstance(kept, list) else None
            if record is None:
                return
            if marks is not None:
                self.session.run("bring-marks", {"marks": marks, "onto": record.id, "by": "voxel"})
            if still is not None and still == self.still:
                self.viewing.show_image(still)  # it goes on
            self.session.said.emit(f"“{record.name}” is on the Shelf.")

        self._taking = self.session.run("take-pictures", self.given(""), taken)

    def _drop(self, key: int | None) -> None:
        """Take a live picture off the Shelf that nobody has marked or used."""
        study = self.session.study
        record = None if key is None else study.items.get(key)
        if record is None or record.removed or study.read_only:
            return
        if any(not one.removed and key in (one.of, one.made_of) for one in study.items.everything().values()):
            return
        self.session.run("take-off", {"thing": key})

    # drawing

    def _take_in(self) -> None:
        """A frame has come: it is drawn when the window gets to it, and the next one is fetched."""
        self._times.append(time.monotonic())
        self._awaited = False
        if self.showing:
            self.arrived.emit()

    def laid_over(self, parts: Parts) -> Parts:
        """What a pane shows of the image that leads, with the newest frame in place of its pixels."""
        frame, record = self._frame, self.viewing.record
        if frame is None or record is None or not self.showing or not parts.lower:
            return parts
        colour = frame.dtype == np.uint32
        if record.grid.shape != frame.shape or record.colour != colour:
            return parts  # a frame of the settings before
        if self._drawn is None or self._drawn[0] is not frame or self._drawn[1] is not record.grid:
            self._drawn = frame, record.grid, Image(frame, record.grid, record.name, colour=colour)
        first = parts.lower[0]
        return replace(parts, lower=[Drawn(self._drawn[2], first.look, first.opacity), *parts.lower[1:]])


def cameras() -> list[tuple[str, str]]:
    """Names and titles of the cameras there are."""
    return [(one.name, one.title) for one in CAMERAS]
