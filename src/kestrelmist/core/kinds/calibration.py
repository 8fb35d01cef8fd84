"""Calibrations as things of a study."""

from __future__ import annotations

from ..calibration import Calibration
from ..kind import Kind, register

CALIBRATION = register(
    Kind(
        "calibration",
        Calibration,
        "thing",
        wanted=lambda p: "name a .json file, or a calibration of the study",
        field="thing",
        metavar=lambda p: "CALIBRATION",
        on_shelf=False,
        ending=".json",
    )
)
