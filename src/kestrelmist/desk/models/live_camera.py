"""A camera that is live: frames are pulled by a thread and shown in place of the picture they will become.

What leads while it is live is an image of the study like any other, taken with the camera as it is set: marks are drawn
on it, lengths have its scale, operations are given it. Frames are laid over its pixels. When the camera is set
otherwise a new one is taken; the one before goes off the Shelf again unless somebody has marked or used it.
"""

from __future__ import annotations

from contextlib import suppress
from dataclasses import asdict, replace
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from ...core.calibration import Calibration, Setup
from ...core.camera import CAMERAS, CameraSettings, HeldCamera, setup_of
from ...core.errors import Trouble
from ...core.image import Image
from ...core.kinds.calibration import CALIBRATION
from ...core.space import Space
from ...scene.layer_type import Drawn
from .camera_frames import CameraFrames, Frame
from .sight import Parts
from .viewing import Viewing
from .work import Job, unexpected

REST = 400
"""Milliseconds without another change of settings until what leads is taken anew."""
SET_SOON = 50
"""Milliseconds between looks at whether the camera is set as it is wanted."""


class LiveCamera(QObject):
    """The camera of a window. `showing` says whether frames are seen: they are taken with the set-up of the picture
    that leads, so that its scale is theirs."""

    changed = Signal()
    """It was opened, closed, held or set, or what leads was taken anew."""
    arrived = Signal()
    """There is another frame to draw."""

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
        self.setup = Setup()
        """The optical set-up as it is set."""
        self.frames = CameraFrames(self)
        self._drawn: tuple[Frame, Space, Image] | None = None
        self._taking: Job | None = None
        self._setting: Job | None = None
        self._stale = False
        """Whether the camera was set otherwise while somebody looked at something else."""
        self._soon = QTimer(self, singleShot=True, interval=REST)
        self._soon.timeout.connect(self.renew)
        self.frames.came.connect(self._take_in)
        self.frames.opened.connect(self._begin)
        self.frames.failed.connect(self._broken)
        viewing.lead_changed.connect(self._lead)
        viewing.session.shelf_changed.connect(self._look_for_calibration)

    # opening and closing

    @property
    def on(self) -> bool:
        """Whether a camera is open or being opened."""
        return self.frames.on

    @property
    def showing(self) -> bool:
        frame, record = self.frames.newest, self.viewing.record
        if frame is None or record is None or self.still_held or self.still != record.id:
            return False
        alike = record.grid.shape == frame.values.shape and record.colour == (frame.values.dtype == np.uint32)
        return alike and setup_of(record) == frame.setup

    @property
    def behind(self) -> bool:
        """Whether the picture that leads is still the one of before, while frames show what comes next: nothing is to
        be drawn on it or made of it until it is taken anew."""
        if not self.on or self.still is None or not self.viewing.leads(self.still):
            return False
        return self._stale or self._soon.isActive() or not self.ready

    def says_wait(self) -> bool:
        """Whether that is so; a person is told."""
        if self.behind:
            self.session.trouble.emit("The live picture is being taken anew: wait a moment, then do it again.")
            return True
        return False

    @property
    def gone(self) -> bool:
        """Whether the picture that led was taken off the Shelf, as by undo: it is taken anew when the camera is set
        or held."""
        record = None if self.still is None else self.session.study.items.get(self.still)
        return self.still is not None and (record is None or record.removed)

    def start(self, name: str) -> None:
        """Open a camera and show what it sees."""
        self.stop()
        if self.session.study.read_only:
            self.session.trouble.emit("This study is open in another window: pictures cannot be taken into it here.")
            return
        self.kind, self.still_held = name, False
        self.frames.start(name)
        self.changed.emit()

    def stop(self) -> None:
        """Let the camera go. What was taken and not used goes off the Shelf."""
        if self.on:
            self.frames.stop()
            self._end()

    def _end(self) -> None:
        self.camera = self._drawn = None
        self._soon.stop()
        before, self.still = self.still, None
        if not self.session.closed:
            self._drop(before)
            self.viewing.looks_changed.emit()
        self.changed.emit()

    def _begin(self, one: HeldCamera, settings: CameraSettings, setup: Setup) -> None:
        self.camera, self.settings, self._set, self.setup = one, settings, settings, setup
        self._look_for_calibration()
        self.renew()

    def _broken(self, words: str) -> None:
        self._end()
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
                return one.camera.settings, one.camera.setup

        def put(found: tuple[CameraSettings, Setup]) -> None:
            if self.camera is not one:
                return
            settings, self.setup = found
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
            self.still_held = self.frames.paused = on
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
        study, found = self.session.study, None
        if self.camera is None or self.session.closed:
            return
        for record in study.items.of_kind(CALIBRATION.name):
            with suppress(Trouble):
                made: Calibration = study.thing(record.id)
                if made.setup.words and made.setup.fits(self.setup):
                    found = record.id
        if found != self.calibration:
            self.calibration = found
            if self.still is not None:
                self._soon.start()
        self.changed.emit()

    # taking

    def given(self, name: str) -> dict[str, Any]:
        """Settings of the operation that takes a picture, as the camera is set."""
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
        if self.showing:
            self.arrived.emit()

    def laid_over(self, parts: Parts) -> Parts:
        """What a pane shows of the image that leads, with the newest frame in place of its pixels while it shows."""
        frame, record = self.frames.newest, self.viewing.record
        if frame is None or record is None or not self.showing or not parts.lower:
            return parts
        if self._drawn is None or self._drawn[0] is not frame or self._drawn[1] is not record.grid:
            self._drawn = frame, record.grid, Image(frame.values, record.grid, record.name, colour=record.colour)
        first = parts.lower[0]
        return replace(parts, lower=[Drawn(self._drawn[2], first.look, first.opacity), *parts.lower[1:]])


def cameras() -> list[tuple[str, str]]:
    """Names and titles of the cameras there are."""
    return [(one.name, one.title) for one in CAMERAS]
