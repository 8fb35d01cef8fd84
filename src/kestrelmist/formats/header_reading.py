"""Read the headers of many files, on two cores when there are thousands.

The second core is a process of its own, started with nothing but this module: threads would share one interpreter, and
the window's process must not be forked. Run as `python -m kestrelmist.formats.header_reading` it takes file names on
its input, one a line, and answers with pickled headers, a block at a time.
"""

from __future__ import annotations

import os
import pickle
import sys
import time
from collections.abc import Iterator
from pathlib import Path

from ..core.progress import Progress
from ..core.waiting import reading
from .dicom.header import Slice, read_header

MANY = 1500
"""Files from which a second process is worth its start."""
BLOCK = 200


def headers_of(files: list[Path], progress: Progress) -> Iterator[tuple[Path, Slice | None]]:
    """Each file with its header, None for files that are not DICOM; in the order given."""
    if len(files) < MANY or (os.cpu_count() or 1) < 2:
        for path in progress.over(files, what="Reading headers"):
            yield path, read_header(path)
        return
    half = len(files) * 11 // 20  # the other process takes a moment to start, so this one does a little more
    with _Helper(files[half:]) as helper:
        own = []
        for n, path in enumerate(files[:half]):
            if n % 50 == 0:
                progress.at(n / len(files) + 0.5 * n / len(files), "Reading headers")
            own.append((path, read_header(path)))
        yield from own
        at = half
        for block in helper.blocks(progress):
            progress.at(0.8 + 0.2 * (at - half) / max(1, len(files) - half), "Reading headers")
            for found in block:
                yield files[at], found
                at += 1
        for path in files[at:]:  # the helper has died: the rest is read here
            yield path, read_header(path)
    progress.at(1.0, "Reading headers")


class _Helper:
    """The other process; ends with the block, whatever happens in it."""

    def __init__(self, files: list[Path]):
        self.files = files

    def __enter__(self) -> _Helper:
        import subprocess
        import tempfile

        self.names, self.answers = tempfile.TemporaryFile(), tempfile.TemporaryFile()
        self.names.write(b"\0".join(os.fsencode(p) for p in self.files))
        self.names.seek(0)
        root = str(Path(__file__).resolve().parents[2])
        environment = os.environ | {"PYTHONPATH": os.pathsep.join(filter(None, (root, os.environ.get("PYTHONPATH"))))}
        # answers go to a file: a pipe that nobody empties yet would make the process wait
        self.process = subprocess.Popen(
            [sys.executable, "-m", __name__],
            stdin=self.names,
            stdout=self.answers,
            stderr=subprocess.DEVNULL,
            env=environment,
        )
        return self

    def blocks(self, progress: Progress) -> Iterator[list[Slice | None]]:
        read = -1
        while self.process.poll() is None:
            read, before = os.fstat(self.answers.fileno()).st_size, read
            with reading(self.files[0].parent):
                while read == before and self.process.poll() is None:
                    progress.at(progress.fraction, "Reading headers")
                    time.sleep(0.02)
                    read = os.fstat(self.answers.fileno()).st_size
        self.answers.seek(0)
        while True:
            try:
                yield pickle.load(self.answers)
            except (EOFError, pickle.UnpicklingError):
                return

    def __exit__(self, *_) -> None:
        self.process.kill()
        self.process.wait()
        self.names.close()
        self.answers.close()


def main() -> None:
    """Read the headers of the files named on the input."""
    names = sys.stdin.buffer.read().split(b"\0")
    out = sys.stdout.buffer
    for n in range(0, len(names), BLOCK):
        pickle.dump(
            [read_header(Path(os.fsdecode(name))) for name in names[n : n + BLOCK]], out, pickle.HIGHEST_PROTOCOL
        )
    out.flush()


if __name__ == "__main__":
    main()
