"""Whether there is a display that answers: Qt ends the program with a list of its own when there is none."""

from __future__ import annotations

import os
import re
import socket
from pathlib import Path

from ...core.errors import Trouble

PATIENCE = 2.0
"""Seconds that a display on another machine is given."""


def require_display() -> None:
    """Take the display that answers, of those that the environment names.

    Raises Trouble when none does. A platform that is chosen outright is left alone.
    """
    if os.environ.get("QT_QPA_PLATFORM"):
        return
    wayland, x11 = os.environ.get("WAYLAND_DISPLAY", ""), os.environ.get("DISPLAY", "")
    if wayland and wayland_answers(wayland):
        return
    if x11 and x11_answers(x11):
        if wayland:  # which Qt would ask first
            os.environ["QT_QPA_PLATFORM"] = "xcb"
        return
    named = [f"{name} is “{value}”" for name, value in (("WAYLAND_DISPLAY", wayland), ("DISPLAY", x11)) if value]
    why = f": {' and '.join(named)}, where nobody answers" if named else ""
    raise Trouble(
        f"There is no display to open a window on{why}",
        "start it on a desktop, under a virtual display with ./kestrel, or give --picture",
    )


def wayland_answers(name: str) -> bool:
    """Whether a server listens at a Wayland socket, by its name or its path."""
    return _answers(socket.AF_UNIX, str(Path(os.environ.get("XDG_RUNTIME_DIR", "/")) / name))


def x11_answers(name: str) -> bool:
    """Whether a server listens at an X display such as ":0" or "host:1.0"; one that is named in another way is taken to
    be there."""
    found = re.fullmatch(r"(?:unix)?(?:([^:/]*)/unix)?([^:/]*):(\d+)(?:\.\d+)?", name)
    if found is None:
        return True
    host, number = found.group(2), int(found.group(3))
    if host in ("", "localhost") and _answers(socket.AF_UNIX, f"/tmp/.X11-unix/X{number}"):
        return True
    if host == "" and _answers(socket.AF_UNIX, f"\0/tmp/.X11-unix/X{number}"):
        return True
    return host != "" and _answers(socket.AF_INET, (host, 6000 + number))


def _answers(family: socket.AddressFamily, address) -> bool:
    try:
        with socket.socket(family, socket.SOCK_STREAM) as asked:
            asked.settimeout(PATIENCE)
            asked.connect(address)
    except (OSError, ValueError):
        return False
    return True
