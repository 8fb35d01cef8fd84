"""Calibrations as JSON, one a file."""

from __future__ import annotations

import json
from pathlib import Path

from ..core.calibration import Calibration
from ..core.errors import Trouble
from ..core.progress import Progress
from ..core.safe_write import written_whole
from .format import Format, register

KEY = "kestrelmist_calibration"
LAYOUT = 1
LARGEST = 1 << 20


def write_calibration(path: Path, calibration: Calibration, progress: Progress | None = None) -> None:
    """Write a calibration."""
    with written_whole(path) as stream:
        facts = {KEY: LAYOUT, **calibration.as_dict()}
        stream.write((json.dumps(facts, ensure_ascii=False, indent=1) + "\n").encode())


def read_calibration(path: Path) -> Calibration:
    """A calibration from a file.

    Raises
    ------
    Trouble
        When it is damaged or none, or was written by a later version of the program.
    """
    try:
        facts = json.loads(path.read_text(encoding="utf-8")) if path.stat().st_size <= LARGEST else None
    except (OSError, ValueError) as error:
        raise Trouble("This file is damaged, or no calibration", "choose a calibration that was saved", path) from error
    if not isinstance(facts, dict) or KEY not in facts:
        raise Trouble("This file holds no calibration", "choose a calibration that was saved", path)
    if facts[KEY] != LAYOUT:
        raise Trouble("This calibration is of a later version of the program", "use that version", path)
    try:
        return Calibration.from_dict(facts)
    except Trouble as trouble:
        raise Trouble(trouble.what, trouble.do, path) from trouble


register(Format("calibration", (".json",), read_calibration, write_calibration, holds=("calibration",), listed=False))
