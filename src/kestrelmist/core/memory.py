"""How much memory there is for one piece of work."""

from __future__ import annotations

import os
from pathlib import Path

from .errors import Trouble

SHARE = 0.6
"""Part of the free memory one array may take."""


def free_bytes() -> int:
    """Memory that can be taken without pushing others out."""
    try:
        for line in Path("/proc/meminfo").read_text().splitlines():
            if line.startswith("MemAvailable:"):
                return int(line.split()[1]) * 1024
    except OSError:
        pass
    return 4 << 30


def fits(wanted: int) -> bool:
    """Whether so many bytes may be asked for now."""
    return wanted <= SHARE * free_bytes()


def require_room(wanted: int, what: str, file=None) -> None:
    """Raises Trouble when an array of `wanted` bytes would not fit."""
    if not fits(wanted):
        raise Trouble(
            f"{what} needs {wanted / 1e9:.1f} GB of memory, and this machine has {free_bytes() / 1e9:.1f} GB free",
            "close other programs, or take a part of it",
            file,
        )


def total_bytes() -> int:
    """All memory of the machine."""
    try:
        return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    except (ValueError, OSError):
        return 8 << 30
