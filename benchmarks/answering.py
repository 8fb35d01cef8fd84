"""How late the window's heart beats while workers are busy: a timer of 5 ms, and how long after its time it comes."""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

import numpy as np

from .row import Row

BEAT = 0.005


def rows() -> list[Row]:
    """The 95th percentile of the delay while eight images are taken in, and with nothing to do as the baseline."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from kestrelmist.core.space import Space
    from kestrelmist.demo.dicom_files import write_series
    from kestrelmist.desk.app import application, open_window
    from kestrelmist.study.gathering import take_lines

    app = application()
    rng = np.random.default_rng(2)
    with tempfile.TemporaryDirectory() as place:
        for n in range(8):
            values = rng.integers(-900, 2000, (192, 192, 96)).astype(np.int16)
            space = Space(values.shape, np.diag([0.2, 0.2, 0.3, 1.0]))
            write_series(Path(place) / "scans", values, space, f"S-{n % 3}", f"Scan {n}", n + 1)
        window = open_window(Path(place) / "study")
        window.resize(1280, 800)
        window.show()
        window.start()
        from kestrelmist.gather.plan import plan_folder

        lines = plan_folder(Path(place) / "scans")

        def watched(while_true, start) -> float:
            late: list[float] = []
            last = time.perf_counter()
            start()
            while while_true():
                app.processEvents()
                time.sleep(BEAT)
                now = time.perf_counter()
                late.append(now - last - BEAT)
                last = now
            return float(np.percentile(late, 95))

        end = time.perf_counter() + 1.0
        quiet = watched(lambda: time.perf_counter() < end, lambda: None)
        work, study = window.session.work, window.desk.study
        busy = watched(
            lambda: not work.idle, lambda: work.start("Gathering", lambda progress: take_lines(study, lines, progress))
        )
        key = study.records()[0].id
        window.viewing.show_image(key)
        while not window.viewing.ready:
            app.processEvents()
        given = [study.records()[n].id for n in range(1, 6)]
        computing = watched(
            lambda: not work.idle, lambda: window.session.run("combine", {"image": key, "others": given, "how": "sd"})
        )
        window.close()
    return [
        Row(
            f"window's beat while {what}, 95th percentile of its delay",
            took,
            quiet,
            "with nothing to do",
            "at most 0.05 s",
            met=took <= 0.05,
        )
        for what, took in (("eight images are taken in", busy), ("six images are combined", computing))
    ]
