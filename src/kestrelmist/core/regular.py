"""Only ordinary files are read: a pipe, a socket or a device can give nothing for ever, or without end."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from .errors import Trouble
from .waiting import reading


def require_regular(path: str | Path) -> None:
    """Raises Trouble when something that is no ordinary file stands where a file should; what is missing is left to
    whoever opens it, and folders pass."""
    try:
        with reading(path):
            mode = os.stat(path).st_mode
    except (OSError, ValueError):
        return
    if not stat.S_ISREG(mode) and not stat.S_ISDIR(mode):
        raise Trouble("This is no ordinary file but a pipe, a socket or a device", "choose the file itself", path)
