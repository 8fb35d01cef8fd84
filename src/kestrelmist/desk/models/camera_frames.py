"""Frames of an open camera, pulled by a thread: the newest is kept, and the next fetched once it was taken up."""

from __future__ import annotations

import threading
import time
from collections import deque
from dataclasses import dataclass

import numpy as np
import shiboken6
from PySide6.QtCore import QObject, Signal

from ...core.calibration import Setup
from ...core.camera import HeldCamera, camera_kind, held
from ...core.errors import Trouble
from ...core.values import packed_colours
from ...measure.camera.take_pictures import across
from .work import unexpected

LEAST = 0.005
"""Seconds between two frames, however fast a camera is."""
FEW = 25
"""Frames over which the rate is told."""


@dataclass(frozen=True, eq=False)
class Frame:
    """Values as an image has them, [i, j, 1], packed where they are colours; and the set-up they were taken with."""

    values: np.ndarray
    setup: Setup


class CameraFrames(QObject):
    """One camera at a time. All that its thread tells of a camera that was let go meanwhile is passed over."""

    opened = Signal(object, object, object)
    """It is open: the camera, its settings and its set-up."""
    came = Signal()
    """There is a newer frame."""
    failed = Signal(str)
    """It cannot be opened, or has broken; it is let go."""
    _told = Signal(object, str, object)

    def __init__(self, parent: QObject):
        super().__init__(parent)
        self.newest: Frame | None = None
        self.paused = False
        self._stop: threading.Event | None = None
        """Of the thread that counts."""
        self._awaited = False
        self._times: deque[float] = deque(maxlen=FEW)
        self._told.connect(self._hear)

    @property
    def on(self) -> bool:
        """Whether a camera is open or being opened."""
        return self._stop is not None

    @property
    def rate(self) -> float:
        """Frames a second, 0 while there are none."""
        if len(self._times) < 2 or time.monotonic() - self._times[-1] > 2:
            return 0.0
        return (len(self._times) - 1) / max(1e-6, self._times[-1] - self._times[0])

    def start(self, name: str) -> None:
        """Open a camera of a name."""
        self.stop()
        self.paused = self._awaited = False
        self._stop = stop = threading.Event()
        threading.Thread(target=self._run, args=(name, stop), name="camera", daemon=True).start()

    def stop(self) -> None:
        """Let it go."""
        if self._stop is not None:
            self._stop.set()
        self._stop = self.newest = None
        self._times.clear()

    def _run(self, name: str, stop: threading.Event) -> None:
        """In the thread."""
        try:
            with held(camera_kind(name)) as one:
                with one.turn:
                    told = one, one.camera.settings, one.camera.setup
                self._tell(stop, "opened", told)
                while not stop.is_set():
                    started = time.monotonic()
                    if self._awaited or self.paused:
                        time.sleep(LEAST)
                        continue
                    self._pull(one, stop)
                    time.sleep(max(0.0, LEAST - (time.monotonic() - started)))
        except Exception as error:
            self._tell(stop, "failed", str(error) if isinstance(error, Trouble) else unexpected("The camera", error))

    def _pull(self, one: HeldCamera, stop: threading.Event) -> None:
        with one.turn:
            setup, taken = one.camera.setup, one.camera.picture()
        data = across(taken)[:, :, None]
        values = packed_colours(data) if taken.ndim == 3 else np.asfortranarray(data)
        self._awaited = True
        self._tell(stop, "came", Frame(values, setup))

    def _tell(self, stop: threading.Event, what: str, told: object) -> None:
        if not stop.is_set() and shiboken6.isValid(self):  # else the window has gone
            self._told.emit(stop, what, told)

    def _hear(self, stop: threading.Event, what: str, told) -> None:
        """In the window's thread."""
        if stop is not self._stop:
            return
        if what == "came":
            self._awaited, self.newest = False, told
            self._times.append(time.monotonic())
            self.came.emit()
        elif what == "opened":
            self.opened.emit(*told)
        else:
            self.stop()
            self.failed.emit(told)
