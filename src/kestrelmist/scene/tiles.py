"""Large pictures looked at piece by piece: a coarse version at once, finer pieces when they have been read."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass

import numpy as np

from ..core.image import Image
from .sampling import sample_values
from .showing import value_text
from .view import View

SIDE = 512
"""Pixels along a piece, without its border."""
MEMORY = 256 << 20
"""Bytes of pieces of one picture that are kept; those looked at longest ago go first."""
BASE = 64 << 20
"""Bytes of the coarse version that is always there."""
FINEST = 0.75
"""A level is fine enough when this many of its pixels lie under one of the screen, in each direction."""


@dataclass(frozen=True)
class Key:
    """A piece: how many levels above the finest, and its column and row."""

    level: int
    column: int
    row: int


class Tiles:
    """The pieces of one picture, read from any thread.

    Parameters
    ----------
    image : Image
        The picture in full, one volume, with coarser levels, parts of which can be read.
    base : Image
        The level that is drawn where nothing finer has been read.
    """

    def __init__(self, image: Image, base: Image):
        self.levels = [one for one in (image, *image.levels) if one.part is not None]
        self.base, self.revision = base, 0
        self._kept: OrderedDict[Key, Image] = OrderedDict()
        self._wanted: list[Key] = []
        self._failed: set[Key] = set()
        self._bytes = 0
        self._lock = threading.Lock()

    @property
    def memory(self) -> int:
        """Bytes of the pieces that are kept."""
        return self._bytes

    def level_for(self, pixel: float) -> int | None:
        """The coarsest level that is fine enough for a view of `pixel` mm a pixel; None when the base is."""
        if min(self.base.space.spacing[:2]) * FINEST <= pixel:
            return None
        fits = [n for n, one in enumerate(self.levels) if min(one.space.spacing[:2]) * FINEST <= pixel]
        return fits[-1] if fits else 0

    def keys_in(self, view: View, level: int) -> list[Key]:
        """Pieces of a level that a view shows, those in its middle first."""
        space = self.levels[level].space
        ends = np.array([view.to_world(x, y) for x in (-0.5, view.width - 0.5) for y in (-0.5, view.height - 0.5)])
        at = space.to_voxel(ends)[:, :2]
        low, high = np.floor(at.min(0) / SIDE), np.floor(at.max(0) / SIDE)
        most = (np.array(space.shape[:2]) - 1) // SIDE
        low, high = np.maximum(low, 0).astype(int), np.minimum(high, most).astype(int)
        middle = at.mean(0) / SIDE - 0.5
        keys = [Key(level, a, b) for b in range(low[1], high[1] + 1) for a in range(low[0], high[0] + 1)]
        return sorted(keys, key=lambda k: (k.column - middle[0]) ** 2 + (k.row - middle[1]) ** 2)

    def want(self, view: View) -> bool:
        """Say what is looked at: its pieces are read next, and no others. Returns whether any are missing."""
        level = self.level_for(view.pixel)
        keys = [] if level is None else self.keys_in(view, level)
        with self._lock:
            self._wanted = [key for key in keys if key not in self._kept and key not in self._failed]
            return bool(self._wanted)

    def want_value(self, world) -> bool:
        """Say that the value at a world position is wanted; returns whether it has to be read."""
        key = self._key_at(world)
        with self._lock:
            if key is None or key in self._kept or key in self._failed:
                return False
            self._wanted.append(key)
            return True

    def read_next(self) -> bool:
        """Read the next piece that is wanted; False when there is none. Raises Trouble when it cannot be read; it is
        not tried again."""
        with self._lock:
            if not self._wanted:
                return False
            key = self._wanted.pop(0)
        try:
            piece = self._read(key)
        except BaseException:
            self._failed.add(key)
            raise
        with self._lock:
            self._kept[key] = piece
            self._bytes += piece.data.nbytes
            while self._bytes > MEMORY and len(self._kept) > 1:
                _, old = self._kept.popitem(last=False)
                self._bytes -= old.data.nbytes
            self.revision += 1
        return True

    def _read(self, key: Key) -> Image:
        level = self.levels[key.level]
        columns, rows, _ = level.space.shape
        i0, j0 = max(key.column * SIDE - 1, 0), max(key.row * SIDE - 1, 0)
        i1, j1 = min((key.column + 1) * SIDE + 1, columns), min((key.row + 1) * SIDE + 1, rows)
        assert level.part is not None
        values = level.part((), (i0, i1, j0, j1))
        affine = level.space.affine.copy()
        affine[:3, 3] = level.space.to_world((i0, j0, 0))
        space = level.space.__class__((i1 - i0, j1 - j0, 1), affine, level.space.unit, level.space.world)
        return Image(values, space, unit=level.unit, colour=level.colour)

    def pieces(self, view: View) -> list[tuple[Image, tuple[int, int, int, int]]]:
        """What has been read for a view: pieces with the pixels (left, top, right, bottom) that are theirs, the coarse
        ones first."""
        level = self.level_for(view.pixel)
        if level is None:
            return []
        found: list[tuple[Image, tuple[int, int, int, int]]] = []
        fine = self.keys_in(view, level)
        with self._lock:
            missing = any(key not in self._kept for key in fine)
            keys = [k for k in self._kept if k.level > level] if missing else []
            keys = sorted(keys, key=lambda k: -k.level) + [k for k in fine if k in self._kept]
            for key in keys:
                box = self._pixels_of(view, key)
                if box is not None:
                    found.append((self._kept[key], box))
                    self._kept.move_to_end(key)
        return found

    def whole(self, view: View) -> bool:
        """Whether all that a view shows has been read."""
        level = self.level_for(view.pixel)
        if level is None:
            return False
        with self._lock:
            return all(key in self._kept for key in self.keys_in(view, level))

    def _pixels_of(self, view: View, key: Key) -> tuple[int, int, int, int] | None:
        """Pixels of a view whose middles lie on a piece, without its border."""
        space = self.levels[key.level].space
        a, b = np.array((key.column, key.row)) * SIDE, (np.array((key.column, key.row)) + 1) * SIDE
        b = np.minimum(b, space.shape[:2])
        corners = [view.to_pixel(space.to_world((*one, 0))) for one in (a - 0.5, b - 0.5)]
        (x0, y0), (x1, y1) = corners
        left, right = sorted((x0, x1))
        top, bottom = sorted((y0, y1))
        box = (
            max(0, int(np.ceil(left))),
            max(0, int(np.ceil(top))),
            min(view.width, int(np.ceil(right))),
            min(view.height, int(np.ceil(bottom))),
        )
        return box if box[2] > box[0] and box[3] > box[1] else None

    def _key_at(self, world) -> Key | None:
        voxel = self.levels[0].space.nearest_voxel(world)
        return None if voxel is None else Key(0, voxel[0] // SIDE, voxel[1] // SIDE)

    def value_text(self, world) -> str | None:
        """The value at full resolution as a person reads it; None while its piece has not been read."""
        key = self._key_at(world)
        if key is None:
            return "–"
        with self._lock:
            piece = self._kept.get(key)
        return None if piece is None else value_text(piece, world)


def tiles_of(image: Image) -> Tiles | None:
    """The pieces of the picture that an image is shown in place of; None for what is shown as it is, and for pictures
    that are not read piece by piece."""
    whole = image.finer
    if whole is None or whole.part is None or whole.axes:
        return None
    with _making:
        found = getattr(image, "_tiles", None)
        if found is None:
            found = image._tiles = Tiles(whole, image)  # type: ignore[attr-defined]
    return found


_making = threading.Lock()


def inner(view: View, box: tuple[int, int, int, int]) -> View:
    """The part of a view with some of its pixels."""
    left, top, right, bottom = box
    middle = view.to_world((left + right - 1) / 2, (top + bottom - 1) / 2)
    return view.moved(centre=tuple(middle.tolist()), width=right - left, height=bottom - top)


def finest_values(view: View, image: Image) -> np.ndarray:
    """Values under a view's pixels, float32 (height, width), as fine as the file holds them: of a picture that is shown
    by a coarse level, the pieces that the view needs are read. NaN where there are none.

    Raises
    ------
    Trouble
        When a piece cannot be read.
    """
    if tiles_of(image) is None:
        return sample_values(view, image.grey(), True)
    assert image.finer is not None
    own = Tiles(image.finer, image)  # not those of a pane, which would stop reading what it shows
    own.want(view)
    while own.read_next():
        pass
    found = sample_values(view, image.grey(), True)
    for piece, box in own.pieces(view):
        left, top, right, bottom = box
        found[top:bottom, left:right] = sample_values(inner(view, box), piece.grey(), True)
    return found
