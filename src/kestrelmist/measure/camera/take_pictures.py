"""Take pictures with a camera: one, or several through time, with set-up and calibration."""

from __future__ import annotations

import json
import time
from dataclasses import asdict
from datetime import datetime
from typing import Annotated

import numpy as np

from ...core.axis import Axis
from ...core.calibration import Calibration
from ...core.camera import SETUP, Camera, CameraSettings, camera_kind, held
from ...core.errors import Trouble
from ...core.image import Image
from ...core.left_out import LeftOut
from ...core.operation import operation
from ...core.parameter import Between, Unit
from ...core.progress import Progress, silent
from ...core.space import picture_space
from ..calibrating.use_calibration import use_calibration

TICK = 0.05
"""Seconds between looks at whether somebody has cancelled."""
MOST = 2_000_000_000
"""Bytes that pictures through time may take."""


@operation(
    "gather",
    "Take pictures",
    name="take-pictures",
    keywords="camera acquire capture snap live microscope time lapse grab frame image acquisition",
    called={"exposure": "Exposure", "every": "One each", "count": "Pictures", "x": "Stage x", "y": "Stage y"},
    rare="focus x y specimen subject",
    group="Camera",
    methods="Pictures were taken with a camera on a microscope",
)
def take_pictures(
    camera: str = "stand-in",
    objective: Annotated[str | None, LeftOut("as it is set")] = None,
    *,
    resolution: Annotated[str | None, LeftOut("as it is set")] = None,
    exposure: Annotated[float, Unit("ms"), Between(0.05, 10_000)] = 20.0,
    focus: Annotated[float, Unit("um"), Between(-1e5, 1e5)] = 0.0,
    x: Annotated[float, Unit("mm"), Between(-1e3, 1e3)] = 0.0,
    y: Annotated[float, Unit("mm"), Between(-1e3, 1e3)] = 0.0,
    specimen: Annotated[str | None, LeftOut("as it is set")] = None,
    count: Annotated[int, Between(1, 100_000)] = 1,
    every: Annotated[float, Unit("s"), Between(0, 1e6)] = 0.0,
    calibration: Calibration | None = None,
    name: str = "",
    subject: str = "",
    progress: Progress = silent(),
) -> Image:
    """Take a picture with a camera, or several through time; each says with which set-up it was taken.

    With a calibration that fits the set-up it has a scale; one of another objective or resolution is refused.

    Parameters
    ----------
    camera : text
        Its name; "stand-in" is a simulated microscope that comes with the program.
    objective, resolution, specimen : text
        One of those that the camera offers.
    exposure : ms
        How long light is gathered.
    focus : µm
        Above the stage's zero.
    x, y : mm
        Where on the stage the middle of the picture lies.
    count : number
        How many.
    every : s
        From one to the next.
    calibration : calibration
        Of this set-up.
    name, subject : text
        What the picture is called, and whose it is.

    Raises
    ------
    Trouble
        When there is no such camera, it does not offer what is asked for, or the calibration is of another set-up.
    """
    with held(camera_kind(camera)) as one, one.turn:
        opened = one.camera
        opened.set(CameraSettings(objective or "", resolution or "", specimen or "", exposure, focus, x, y))
        setup, lies = opened.setup, opened.settings.specimen
        if calibration is not None and not calibration.setup.fits(setup):
            raise Trouble(
                f"Calibration {calibration.called} is of {calibration.setup.words or 'another set-up'}, and the camera"
                f" is set to {setup.words}",
                "calibrate this set-up, or choose its calibration",
            )
        frames, times = _frames(opened, count, every, progress)
    facts = {
        SETUP: json.dumps(asdict(setup), ensure_ascii=False),
        "Taken": datetime.now().isoformat(timespec="seconds"),
    }
    facts |= {"Exposure (ms)": f"{exposure:g}", "Stage (mm)": f"{x:g}, {y:g}", "Focus (um)": f"{focus:g}"}
    called = name or f"{lies or 'Picture'}, {setup.objective or camera}"
    return _image(frames, times, facts, called, subject, calibration)


def _frames(camera: Camera, count: int, every: float, progress: Progress) -> tuple[list[np.ndarray], list[float]]:
    """Pictures, and when each was begun, s; as long as nobody cancels."""
    frames: list[np.ndarray] = []
    times: list[float] = []
    started = time.monotonic()
    for n in range(count):
        while (left := started + n * every - time.monotonic()) > 0:
            progress.at(n / count, "Waiting for the next picture")
            time.sleep(min(left, TICK))
        progress.at(n / count, "Taking pictures")
        times.append(time.monotonic() - started)
        frames.append(camera.picture())
        if frames[0].nbytes * count > MOST:
            most = MOST // frames[0].nbytes
            raise Trouble(f"{count} pictures of this size do not fit into memory", f"take at most {most}")
    return frames, times


def _image(
    frames: list[np.ndarray], times: list[float], facts: dict, name: str, subject: str, calibration: Calibration | None
) -> Image:
    rows, columns = frames[0].shape[:2]
    colour = frames[0].ndim == 3
    data = np.stack([across(frame) for frame in frames], 2)  # i, j, time
    axes = []
    if len(frames) > 1:
        axes = [Axis("time", len(frames), "s", tuple(round(t, 3) for t in times))]
        data = data[:, :, None]
    image = Image(data, picture_space(columns, rows, None), name, subject, facts=facts, axes=axes, colour=colour)
    return image if calibration is None else image.placed(use_calibration(calibration, image))


def across(frame: np.ndarray) -> np.ndarray:
    """A picture of a camera, (rows, columns) with or without colours, as images are indexed: [i, j]."""
    return frame.transpose(1, 0, 2) if frame.ndim == 3 else frame.T
