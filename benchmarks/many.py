"""Thousands of small images: taken in, with and without a window, cancelled, undone, and a study of many opened."""

from __future__ import annotations

import gc
import hashlib
import os
import shutil
import tempfile
import time
from pathlib import Path

import numpy as np

from .row import Row

COUNT, BEAT, LEAST = 2000, 0.002, 100
MOST = 0.05
"""Seconds that the window may not answer."""


def rows() -> list[Row]:
    """Against a plain loop that reads each file, works out its hash and copies it."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from kestrelmist.core.image import Image
    from kestrelmist.core.space import Space
    from kestrelmist.formats.opening import open_image
    from kestrelmist.formats.saving import save_image
    from kestrelmist.gather.plan import plan_folder
    from kestrelmist.study.gathering import take_lines
    from kestrelmist.study.study import Study

    random, space = np.random.default_rng(5), Space((16, 16, 8), np.diag([0.5, 0.5, 1.0, 1.0]))
    with tempfile.TemporaryDirectory() as place:
        source, copies = Path(place) / "scans", Path(place) / "copies"
        source.mkdir()
        copies.mkdir()
        for n in range(COUNT):
            values = random.integers(0, 1000, space.shape).astype(np.int16)
            save_image(source / f"scan {n:05d}.nii", Image(values, space))
        began = time.perf_counter()
        for path in sorted(source.iterdir()):
            hashlib.sha256(open_image(path).data.tobytes()).hexdigest()
            with open(shutil.copyfile(path, copies / path.name), "rb+") as copy:
                os.fsync(copy.fileno())
        plain = time.perf_counter() - began
        lines = plan_folder(source)
        for n, line in enumerate(lines):
            line.subject = f"S-{n % 100:03d}"
        times = []

        def told(line, words: str) -> None:
            if words == "taken in":
                times.append(time.perf_counter())

        with Study(Path(place) / "study", create=True) as study:
            began = time.perf_counter()
            take_lines(study, lines, told=told, folder=source)
            took = time.perf_counter() - began
        last = (times[-1] - times[-COUNT // 10]) / (times[COUNT // 10] - times[0])
        rate = COUNT / took
        against = f"{COUNT} files read, hashed and copied by a plain loop"
        found = [
            Row(
                f"{COUNT} images taken in ({rate:.0f} a second)",
                took,
                plain,
                against,
                f"at least {LEAST} a second",
                met=rate >= LEAST,
            ),
            Row("the last tenth of them", last, 1.0, "the first tenth", "at most 1.5", met=last <= 1.5, unit=""),
        ]
        found += _in_a_window(Path(place), source, plain, against)
    return found


def _in_a_window(place: Path, source: Path, plain: float, against: str) -> list[Row]:
    from kestrelmist.core.progress import Progress
    from kestrelmist.desk.app import application, open_window
    from kestrelmist.study.study import Study
    from kestrelmist.warm import load_drawing

    app = application()
    Study(place / "looked at", create=True).close()
    window = open_window(place / "looked at")
    window.resize(1280, 800)
    window.show()
    window.start()
    load_drawing(Progress())
    gc.collect()
    gc.freeze()  # as the program does when it is loaded
    desk, work = window.desk, window.desk.session.work

    def until(done, worst: float = 0.0) -> tuple[float, float]:
        """Let the window work until it is done; how long that took, and the longest that it did not answer."""
        began = last = time.perf_counter()
        while not done():
            app.processEvents()
            now = time.perf_counter()
            worst, last = max(worst, now - last), now
            time.sleep(BEAT)
        return time.perf_counter() - began, worst

    def rest() -> bool:
        return window.settled

    until(rest)
    desk.viewing.set_stage("Gather")
    window.gather([source])
    _, scanned = until(rest)
    window.bench.gather.take_in()
    took, late = until(rest)
    _, undone = until(rest, _timed(desk.undoing.undo))
    window.gather([source])
    until(rest)
    window.bench.gather.take_in()
    until(lambda: len(desk.study.records()) > 20)
    began = time.perf_counter()
    job = work.current
    assert job is not None
    job.progress.cancel()
    until(lambda: work.current is None)
    stopped = time.perf_counter() - began
    window.close()
    gc.unfreeze()
    rate = COUNT / took
    found = [
        Row(
            f"the same in the window ({rate:.0f} a second)",
            took,
            plain,
            against,
            f"at least {LEAST} a second",
            met=rate >= LEAST,
        )
    ]
    for what, rested in (("looked through", scanned), ("taken in", late), ("taken back", undone)):
        words = f"window's rest while {COUNT} images are {what}"
        found.append(Row(words, rested, plain, against, f"at most {MOST} s", met=rested <= MOST))
    found.append(Row("cancel of taking in", stopped, plain, against, "at most 1 s", met=stopped <= 1.0))
    return found


def _timed(act) -> float:
    began = time.perf_counter()
    act()
    return time.perf_counter() - began
