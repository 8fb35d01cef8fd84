"""Test files in several processes side by side."""

import contextlib
import faulthandler
import io
import multiprocessing
import os
import sys
import time
import unittest
from multiprocessing.connection import wait
from pathlib import Path

LONGEST = (
    *("demo", "habits", "walk_pages", "trial", "bench", "functional_run", "tissues", "wheel", "docs", "pictures_desk"),
    *("preview_desk", "gather_desk", "desk", "table_interleaved", "cancel", "brain", "fuzz", "odd_images"),
    *("many_images", "strokes", "real_window", "doors", "label_maps", "recovery"),
    *("guides", "alignment_files", "align", "alignment_run"),
)
"""Files that are begun first, so that none of them is left for the end."""
STUCK = 600.0
"""Seconds after which a file that has not ended will not: its process says where it is and ends, which is a failure."""


def modules(package: str = "tests") -> list[str]:
    names = sorted(path.stem for path in (Path(__file__).parent.parent / package).glob("test_*.py"))
    first = [f"test_{name}" for name in LONGEST if f"test_{name}" in names]
    return [f"{package}.{name}" for name in first + [n for n in names if n not in first]]


def run(names: list[str], stream) -> tuple[int, int, int]:
    """How many of these tests ran, failed and were skipped."""
    suite = unittest.defaultTestLoader.loadTestsFromNames(names)
    result = unittest.TextTestRunner(stream=stream, verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return result.testsRun, failed, len(result.skipped)


def work(to_main) -> None:
    """One process: run the files it is sent, one after the other, until the other end is closed."""
    faulthandler.enable()  # a process that ends in the middle says where
    with contextlib.suppress(EOFError):
        while True:
            name, said, started = to_main.recv(), io.StringIO(), time.monotonic()
            faulthandler.dump_traceback_later(STUCK, exit=True)
            counts = run([name], said)
            faulthandler.cancel_dump_traceback_later()
            said.write(f"In {time.monotonic() - started:.0f} s.\n")
            to_main.send((counts, said.getvalue()))
    leave(0)


def run_side_by_side(names: list[str], workers: int) -> tuple[int, int, int]:
    """Counts of all files; a process that dies counts as a failure of the file it was at, and is replaced."""
    spawn = multiprocessing.get_context("spawn")
    waiting, at = list(names), {}
    counts: list[tuple[int, int, int]] = []

    def begin(connection=None) -> None:
        if connection is None:
            connection, end = spawn.Pipe()
            spawn.Process(target=work, args=(end,), daemon=False).start()
            end.close()
        at[connection] = waiting.pop(0)
        connection.send(at[connection])

    while waiting or at:
        while waiting and len(at) < workers:
            begin()
        for connection in wait(list(at)):
            name = at.pop(connection)
            try:
                count, said = connection.recv()
            except (EOFError, OSError):
                count, said, connection = (1, 1, 0), "The process ended in the middle of this file.", None
            counts.append(count)
            tell(name, count, said)
            if waiting:
                begin(connection)
            elif connection is not None:
                connection.close()
    ran, failed, skipped = (sum(column) for column in zip(*counts))
    return ran, failed, skipped


def tell(name: str, count: tuple[int, int, int], said: str) -> None:
    ran, failed, skipped = count
    seconds = said.rstrip().rpartition("\n")[2]
    print(f"{name}: {ran} run" + (f", {skipped} skipped" if skipped else "") + f". {seconds}", flush=True)
    if failed or not ran:
        print(said, flush=True)


def leave(code: int) -> None:
    """End at once: threads of Qt and of the pools must not keep a finished run alive."""
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)
