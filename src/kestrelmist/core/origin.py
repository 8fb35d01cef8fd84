"""Where an image came from."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path


@dataclass
class Origin:
    """Where an image came from: its files, and whether a study keeps copies of them.

    `reading` says how the same image is found again in those files (which part of a file, a spacing given by hand).
    """

    format: str = ""
    files: list[Path] = field(default_factory=list)
    copy: bool = True
    reading: dict = field(default_factory=dict)
    layout: object = None
    """Where the values lie in a plain file, when that is all it takes to read them again (`formats.layout`)."""
    holder: object = None
    """Keeps files that are there for a while only (a temporary folder) as long as they are needed."""
