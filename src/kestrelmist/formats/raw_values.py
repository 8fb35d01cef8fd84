"""Arrays that lie in a file as plain numbers, packed or not: memory-mapped where possible, unpacked once where not."""

from __future__ import annotations

import tempfile
import threading
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ..core.errors import Trouble
from ..core.memory import fits
from ..core.progress import Progress
from ..core.regular import require_regular

BLOCK = 4 << 20
MOST_PACKED = 1100
"""No file of this kind shrinks further than about a thousandfold: a header that asks for more is not to be trusted."""


@dataclass
class RawValues:
    """Numbers in a file, first axis running fastest.

    Parameters
    ----------
    path : path
        File that holds them.
    offset : int
        First byte, counted in the unpacked stream.
    dtype : numpy type, byte order included
    shape : tuple of int
    packing : "", "gzip", "bz2" or "zlib"
    start : int
        Byte of the file at which a packed stream begins.
    """

    path: Path
    offset: int
    dtype: np.dtype
    shape: tuple[int, ...]
    packing: str = ""
    start: int = 0
    _whole: np.ndarray | None = field(default=None, repr=False)
    _lock: threading.Lock = field(default_factory=threading.Lock, repr=False)

    @property
    def bytes_needed(self) -> int:
        needed = self.dtype.itemsize
        for n in self.shape:
            needed *= int(n)
        return needed

    def require_whole(self) -> None:
        """Raises Trouble when the file cannot hold what its header promises."""
        if not self.shape or min(self.shape) < 1:
            raise Trouble(
                "The header of this file gives no sensible size", "copy it again or convert it anew", self.path
            )
        require_regular(self.path)
        try:
            there = self.path.stat().st_size
        except OSError:
            raise Trouble("The file that holds the values is missing", "put it beside its header", self.path) from None
        needed = self.bytes_needed + self.offset
        if not self.packing and there < needed:
            raise Trouble(f"This file is cut short: {there} of {needed} bytes are there", "copy it again", self.path)
        if self.packing and needed > MOST_PACKED * max(there, 64):
            raise Trouble("The header of this file promises more values than it can hold", "copy it again", self.path)

    def whole(self, progress: Progress) -> np.ndarray:
        """The array, first axis fastest in memory; a memory map of plain files, unpacked on the first call
        otherwise."""
        with self._lock:
            if self._whole is None:
                self.require_whole()
                flat = (
                    self._unpacked(progress)
                    if self.packing
                    else np.memmap(self.path, self.dtype, "r", self.offset, (int(np.prod(self.shape, dtype=np.int64)),))
                )
                self._whole = flat.reshape(self.shape, order="F")
            return self._whole

    def _unpacked(self, progress: Progress) -> np.ndarray:
        needed = self.bytes_needed
        with open(self.path, "rb") as raw:
            size = max(1, raw.seek(0, 2))
            raw.seek(self.start)
            # a header may lie: memory is taken as the values arrive, not as they are promised
            room = needed if needed <= 64 * size else min(needed, 16 * size + BLOCK)
            store = _room_for(room) if fits(needed) else _on_disk(needed)
            done = 0
            try:
                with _opened(raw, self.packing) as stream:
                    _skip(stream, self.offset)
                    while done < needed:
                        progress.at(raw.tell() / size, "Unpacking")
                        block = stream.read(min(BLOCK, needed - done))
                        if not block:
                            break
                        if done + len(block) > store.size:
                            store = np.concatenate(
                                [store[:done], np.empty(min(needed - done, max(done, len(block))), np.uint8)]
                            )
                        store[done : done + len(block)] = np.frombuffer(block, np.uint8)
                        done += len(block)
            except (OSError, EOFError, ValueError, *_packing_errors()) as error:
                raise Trouble(
                    "The values of this file cannot be unpacked; it is damaged or cut short", "copy it again", self.path
                ) from error
        if done < needed:
            raise Trouble(f"This file is cut short: {done} of {needed} bytes are there", "copy it again", self.path)
        progress.at(1.0, "Unpacking")
        return store[:needed].view(self.dtype)


def _room_for(size: int) -> np.ndarray:
    return np.empty(size, np.uint8)


def _on_disk(size: int) -> np.ndarray:
    """Room in a file without a name, for what does not fit in memory; gone when nobody uses it any more."""
    with tempfile.TemporaryFile(prefix="kestrelmist-") as stream:
        stream.truncate(size)
        return np.memmap(stream, np.uint8, "r+", 0, (size,))


def _opened(raw, packing: str):
    if packing == "gzip":
        from isal import igzip

        return igzip.GzipFile(fileobj=raw, mode="rb")
    if packing == "bz2":
        import bz2

        return bz2.BZ2File(raw)
    return _ZlibStream(raw)


def _packing_errors() -> tuple:
    import zlib

    from isal import isal_zlib

    return zlib.error, isal_zlib.error


def _skip(stream, count: int) -> None:
    while count > 0:
        got = len(stream.read(min(BLOCK, count)))
        if not got:
            return
        count -= got


class _ZlibStream:
    """A bare zlib stream as a file to read from."""

    def __init__(self, raw):
        import zlib

        self.raw, self.unpacker, self.ahead = raw, zlib.decompressobj(), b""

    def read(self, count: int) -> bytes:
        while not self.ahead and not self.unpacker.eof:
            packed = self.unpacker.unconsumed_tail or self.raw.read(1 << 18)
            if not packed:
                break
            self.ahead = self.unpacker.decompress(packed, BLOCK)
        got, self.ahead = self.ahead[:count], self.ahead[count:]
        return got

    def __enter__(self):
        return self

    def __exit__(self, *_):
        pass
