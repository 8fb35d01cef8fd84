"""What a camera on a microscope is for the program, and the list of cameras.

A driver is a module that registers a `CameraKind`: a name, and a function that opens it. What it opens has the few
properties and methods of `Camera`; nothing else of the program knows what lies behind.
"""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from .calibration import Setup
from .errors import Trouble
from .registry import Registry

SETUP = "Setup"
"""The fact of an image that says with which optical set-up it was taken, as JSON."""


def setup_of(image: Any) -> Setup:
    """The set-up that an image, or its row, says it was taken with; one that says nothing where it does not."""
    with suppress(ValueError, TypeError, AttributeError):
        return Setup.from_dict(json.loads(image.facts.get(SETUP, "")))
    return Setup()


@dataclass(frozen=True)
class CameraSettings:
    """What can be set.

    Parameters
    ----------
    objective, resolution, specimen : str
        One of those that the camera offers; the first when left out.
    exposure : ms
    focus : µm
        Above the stage's zero.
    x, y : mm
        Where on the stage the middle of the picture lies.
    """

    objective: str = ""
    resolution: str = ""
    specimen: str = ""
    exposure: float = 20.0
    focus: float = 0.0
    x: float = 0.0
    y: float = 0.0


class Camera(Protocol):
    """An open camera. It is used by one thread at a time."""

    objectives: tuple[str, ...]
    resolutions: tuple[str, ...]
    specimens: tuple[str, ...]
    """What lies on the stage, where it can be chosen; empty otherwise."""

    @property
    def settings(self) -> CameraSettings:
        """How it is set now, nothing left out."""
        ...

    @property
    def setup(self) -> Setup:
        """The optical set-up of the pictures it takes now."""
        ...

    def set(self, settings: CameraSettings) -> None:
        """Set it; raises Trouble for what it does not offer."""
        ...

    def picture(self) -> np.ndarray:
        """One picture, as long as the exposure takes: uint8 (rows, columns) or (rows, columns, 3)."""
        ...

    def close(self) -> None:
        """Let it go."""
        ...


@dataclass(frozen=True)
class CameraKind:
    """A camera that can be opened: its name, what a person calls it, and how; `open` raises Trouble when it cannot."""

    name: str
    title: str
    open: Callable[[], Camera]


CAMERAS: Registry[CameraKind] = Registry("camera", f"{__package__.rpartition('.')[0]}.standins")


class HeldCamera:
    """A camera that is open, for whoever wants it: drivers open a camera once, and a live view and pictures that are
    taken meanwhile both use it, one after the other."""

    def __init__(self, camera: Camera):
        self.camera, self.holders = camera, 0
        self.turn = threading.RLock()
        """Held by the one thread that uses the camera."""


_open: dict[str, HeldCamera] = {}
_door = threading.Lock()


@contextmanager
def held(kind: CameraKind) -> Iterator[HeldCamera]:
    """The camera of a kind, set as it is where somebody has it open already; closed when nobody holds it any more.
    Raises Trouble when it cannot be opened."""
    with _door:
        if kind.name not in _open:
            _open[kind.name] = HeldCamera(kind.open())
        one = _open[kind.name]
        one.holders += 1
    try:
        yield one
    finally:
        with _door:
            one.holders -= 1
            last = not one.holders
            if last:
                del _open[kind.name]
        if last:
            with one.turn:
                one.camera.close()


def camera_kind(name: str) -> CameraKind:
    """The camera of a name. Raises Trouble when there is none."""
    kind = CAMERAS.get(name.strip())
    if kind is None:
        raise Trouble(f"There is no camera “{name[:40]}”", f"there are: {', '.join(one.name for one in CAMERAS)}")
    return kind
