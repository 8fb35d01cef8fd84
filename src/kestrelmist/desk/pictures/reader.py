"""Pictures of the grid, read beside the window: small ones by what is in view, one whole when it is looked at."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from ...prepare.sets.picture_fit import fit_of, resized, scaled
from ...prepare.sets.set_reading import read_picture

SIDE = 138
"""Pixels of a small picture's longer side."""
KEPT = 2500


@dataclass(frozen=True)
class Small:
    """A picture as it is drawn, and the columns and rows of the one it was made from."""

    image: QImage
    columns: int
    rows: int


class PictureReader(QObject):
    """One thread; what was wanted last is read first."""

    sized = Signal(str, int, int)
    """A picture was read, with its columns and rows."""
    arrived = Signal(str)
    failed = Signal(str, str)

    def __init__(self, parent=None):
        super().__init__(parent)
        self._known: OrderedDict[str, Small] = OrderedDict()
        self._wanted: list[tuple[str, Path, int]] = []
        self._wrong: set[str] = set()
        self._busy, self._closed = False, False
        self._there = threading.Condition()
        self._thread: threading.Thread | None = None

    def small(self, name: str, side: int = SIDE) -> Small | None:
        """A picture when it has been read at that size."""
        with self._there:
            found = self._known.get(f"{side} {name}")
            if found is not None:
                self._known.move_to_end(f"{side} {name}")
            return found

    def want(self, pictures: list[tuple[str, Path]], side: int = SIDE) -> None:
        """Read these, the first one first; what was wanted before and is not among them is forgotten."""
        with self._there:
            fresh = [(n, p, side) for n, p in pictures if f"{side} {n}" not in self._known and n not in self._wrong]
            self._wanted = fresh
            self._there.notify()
        if fresh and self._thread is None:
            self._thread = threading.Thread(target=self._run, name="Pictures", daemon=True)
            self._thread.start()

    @property
    def idle(self) -> bool:
        with self._there:
            return not self._wanted and not self._busy

    def forget(self) -> None:
        """Another folder: names mean other pictures now."""
        with self._there:
            self._known.clear()
            self._wanted.clear()
            self._wrong.clear()

    def close(self) -> None:
        with self._there:
            self._closed = True
            self._wanted.clear()
            self._there.notify()
        if self._thread is not None:  # nobody is told anything by a reader that goes
            self._thread.join(5)

    def _run(self) -> None:
        while True:
            with self._there:
                while not self._wanted and not self._closed:
                    self._there.wait()
                if self._closed:
                    return
                name, path, side = self._wanted.pop(0)
                self._busy = True
            try:
                made = drawn(path, side)
            except Exception as error:  # told of beside the picture
                with self._there:
                    self._wrong.add(name)
                    self._busy = False
                self._say(self.failed, name, str(error))
                continue
            with self._there:
                self._known[f"{side} {name}"] = made
                while len(self._known) > KEPT:
                    self._known.popitem(last=False)
                self._busy = False
            self._say(self.sized, name, made.columns, made.rows)
            self._say(self.arrived, name)

    def _say(self, signal, *words: str | int) -> None:
        if not self._closed:
            signal.emit(*words)


def drawn(path: Path, side: int) -> Small:
    """A picture in grey, its 1st to 99.8th percentile from black to white, at most `side` pixels long."""
    read = read_picture(path)
    rows, columns = read.values.shape
    share = min(1.0, side / max(rows, columns))
    size = max(1, round(columns * share)), max(1, round(rows * share))
    small = resized(read.values, fit_of(columns, rows, size, "stretch"), read.span[0])
    grey = np.ascontiguousarray(scaled(small, "percentiles", (1.0, 99.8), read.span, "uint8"))
    image = QImage(grey.data, size[0], size[1], size[0], QImage.Format.Format_Grayscale8).copy()
    return Small(image, columns, rows)
