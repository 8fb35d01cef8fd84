"""Files that hold the same, whatever they are called."""

from __future__ import annotations

import hashlib
from collections import defaultdict
from collections.abc import Iterable
from pathlib import Path

from ...core.progress import Progress, silent

PROBE = 1 << 12
"""Bytes at the beginning and at the end of a file by which most that differ are told apart."""


def same_content(files: Iterable[Path], progress: Progress | None = None) -> list[list[Path]]:
    """Groups of two or more files with the same bytes, in the order given. Only files of one size whose beginnings and
    ends are alike are read whole; what cannot be read is in no group."""
    progress = progress or silent()
    alike: dict[tuple, list[Path]] = defaultdict(list)
    by_size: dict[int, list[Path]] = defaultdict(list)
    for path in files:
        try:
            by_size[path.stat().st_size].append(path)
        except OSError:
            continue
    several = [(size, path) for size, paths in by_size.items() if len(paths) > 1 for path in paths]
    for size, path in progress.over(several, what="Looking for the same picture twice"):
        probe = _probe(path, size)
        if probe is not None:
            alike[size, probe].append(path)
    whole: dict[tuple, list[Path]] = defaultdict(list)
    for (size, probe), paths in alike.items():
        for path in paths if len(paths) > 1 else ():
            progress.at(progress.fraction)
            whole[probe if size <= 2 * PROBE else _digest(path)].append(path)
    return [paths for paths in whole.values() if len(paths) > 1]


def _probe(path: Path, size: int) -> tuple | None:
    try:
        with open(path, "rb") as stream:
            start = stream.read(PROBE)
            stream.seek(max(PROBE, size - PROBE))
            return hashlib.sha256(start).digest(), hashlib.sha256(stream.read(PROBE)).digest()
    except OSError:
        return None


def _digest(path: Path) -> tuple:
    try:
        with open(path, "rb") as stream:
            return (hashlib.file_digest(stream, "sha256").digest(),)
    except OSError:
        return (str(path),)


class Joined:
    """Names that belong together, as far as is known: those that were joined, directly or through others, are one
    group, called by the first of them in order."""

    def __init__(self) -> None:
        self._of: dict[str, str] = {}

    def group(self, name: str) -> str:
        """What the group of a name is called."""
        while self._of.get(name, name) != name:
            name = self._of[name]
        return name

    def join(self, one: str, other: str) -> None:
        """Say that two belong together."""
        first, second = sorted((self.group(one), self.group(other)))
        self._of[second] = first
