"""The folder in which the program keeps what belongs to no study."""

from __future__ import annotations

import os
from pathlib import Path

import platformdirs


def home() -> Path:
    """Where studies without a place of their own and the demo are kept; the variable KESTRELMIST_HOME moves it."""
    return Path(os.environ.get("KESTRELMIST_HOME") or platformdirs.user_data_dir("kestrelmist"))


def identity_key() -> bytes:
    """A secret of this person's, made once, that turns old identifiers into new ones the same way each time."""
    path = home() / "identity.key"
    try:
        return path.read_bytes()
    except FileNotFoundError:
        path.parent.mkdir(parents=True, exist_ok=True)
        beside = path.with_name(f".identity.{os.getpid()}.part")
        beside.touch(0o600)
        beside.write_bytes(os.urandom(32))
        try:
            os.link(beside, path)  # of two programs that start at once, the first wins
        except FileExistsError:
            pass
        beside.unlink()
        return path.read_bytes()
