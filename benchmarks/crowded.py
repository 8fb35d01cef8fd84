"""A window full of things: how late its heart beats when one of hundreds changes, how soon cancelled work is left, and
what switching from image to image keeps in memory."""

from __future__ import annotations

import gc
import os
import tempfile
import time
from pathlib import Path

import numpy as np

from .row import Row

BEAT = 0.002
IMAGES, LABELS, MAPS, SWITCHES, SIDE = 300, 500, 20, 120, 64
KILOBYTES = 1024


def _resident() -> float:
    """Megabytes of memory that this process has."""
    gc.collect()
    for line in Path("/proc/self/status").read_text().split("\n"):
        if line.startswith("VmRSS"):
            return int(line.split()[1]) / KILOBYTES
    return 0.0


def rows() -> list[Row]:
    """Against the cards of all images, against the work that was cancelled, and against the images' own bytes."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from kestrelmist.core.image import Image
    from kestrelmist.core.progress import Progress
    from kestrelmist.core.space import Space
    from kestrelmist.desk.app import application, open_window
    from kestrelmist.desk.shelf.cards import ImageCard
    from kestrelmist.formats.saving import save_image
    from kestrelmist.study.study import Study
    from kestrelmist.warm import load_drawing

    app, rng = application(), np.random.default_rng(2)
    found: list[Row] = []
    with tempfile.TemporaryDirectory() as place:
        source = Path(place) / "scans"
        source.mkdir()
        space = Space((SIDE,) * 3, np.diag([0.5, 0.5, 0.5, 1.0]))
        for n in range(IMAGES):
            values = rng.integers(0, 1000, space.shape).astype(np.int16)
            save_image(source / f"scan {n:03d}.nii", Image(values, space))
        with Study(Path(place) / "study", create=True) as study:
            study.run("gather", folder=source, subject="S-1")
            first = study.records()[0].id
            for n in range(LABELS):
                study.run("add-label", labels=first, label=f"Part {n}")
            for n in range(MAPS):
                study.run("new-labels", image=first, name=f"Map {n}")
                ball: dict = {"label": "One", "point": (0.3 * n - 3.0, 1.0, 1.0), "diameter": 6.0}
                study.run("add-label", labels=f"{study.records()[0].name}#Map {n}", label="One")
                study.run("paint", labels=f"{study.records()[0].name}#Map {n}", **ball)
        window = open_window(Path(place) / "study")
        window.resize(1280, 800)
        window.show()
        window.start()
        desk, session = window.desk, window.desk.session

        def settle(seconds: float = 0.3) -> float:
            """Let the window work; the longest that it did not answer."""
            worst, last, end = 0.0, time.perf_counter(), time.perf_counter() + seconds
            while time.perf_counter() < end or not session.work.idle:
                app.processEvents()
                now = time.perf_counter()
                worst, last = max(worst, now - last), now
                time.sleep(BEAT)
            return worst

        def late(act) -> float:
            """The best of three: how long the window did not answer."""
            times = []
            for n in range(3):
                began = time.perf_counter()
                act(n)
                times.append(max(time.perf_counter() - began, settle()))
            return min(times)

        load_drawing(Progress())
        settle(6.0)
        key = desk.study.records()[5].id

        renamed = late(lambda n: session.run("rename", {"thing": key, "name": f"other {n}"}))
        dressed = late(lambda n: window.set_theme(("dusk", "mist", "dusk")[n]))
        began = time.perf_counter()
        cards = [ImageCard(desk, record) for record in desk.study.records()]
        all_cards = time.perf_counter() - began
        for card in cards:
            card.deleteLater()
        settle(1.0)
        desk.viewing.set_stage("Outline")
        settle(1.0)
        maps = [one.id for one in desk.study.label_maps(desk.study.records()[0].id)]
        desk.viewing.show_image(desk.study.records()[0].id)
        settle(1.0)
        desk.viewing.maps.choose(maps[0])
        settle(1.0)
        painted = late(lambda n: desk.run("paint", {"label": f"Part {n}", "point": (1.0, 1.0, 1.0), "diameter": 3.0}))
        desk.viewing.maps.show_others(True)
        settle(1.0)
        in_hand = late(lambda n: desk.viewing.maps.choose(maps[(0, 5, 0)[n]]))
        for what, took, most in (
            (f"window's rest while one of {IMAGES} images is renamed", renamed, 0.05),
            (f"window's rest while one of {LABELS} labels is painted by its form", painted, 0.05),
            (f"window's rest while another of {MAPS} label maps is taken in hand, all shown", in_hand, 0.05),
            (f"window's rest while another theme comes over {IMAGES} images and {LABELS} labels", dressed, 0.25),
        ):
            words = f"at most {most} s"
            found.append(Row(what, took, all_cards, f"the cards of {IMAGES} images made", words, met=took <= most))
        found += _cancelled(window, settle)
        found.append(_switched(window, settle))
        window.close()
    return found


def _cancelled(window, settle) -> list[Row]:
    """From cancel to an idle window, against the whole of the work."""
    session, key = window.desk.session, window.desk.study.records()[0].id
    found = []
    for name, settings in (
        ("reduce-noise", {"how": "median"}),
        ("reduce-noise", {"how": "total variation"}),
        ("resample", {"how": "sinc", "spacing": (0.2, 0.2, 0.2)}),
        ("number-type", {"type": "float32"}),
    ):
        whole = stopped = 0.0
        for stop in (False, True):
            began = time.perf_counter()
            job = session.run(name, {"image": key, **settings})
            if job is None:
                continue
            if stop:
                time.sleep(0.02)
                began = time.perf_counter()
                job.progress.cancel()
            settle(0.0)
            took = time.perf_counter() - began
            whole, stopped = (whole, took) if stop else (took, stopped)
        words = f"{name}, {settings['how']}" if "how" in settings else name
        found.append(
            Row(f"cancel of {words}", stopped, whole, "the whole of the work", "at most 1 s", met=stopped <= 1.0)
        )
    return found


def _switched(window, settle) -> Row:
    """What stays in memory after many switches, against the bytes of the images that were shown."""
    records = window.desk.study.records()[:IMAGES]
    for record in records[:5]:
        window.desk.viewing.show_image(record.id)
        settle(0.05)
    before = _resident()
    for n in range(SWITCHES):
        window.desk.viewing.show_image(records[5 + n].id)
        settle(0.03)
    own = SWITCHES * SIDE**3 * 2 / KILOBYTES**2
    kept = _resident() - before
    return Row(
        f"memory that {SWITCHES} switches keep",
        kept,
        own,
        "the values of the images shown",
        "at most twice theirs",
        unit="MB",
        met=kept <= 2 * own + 20,
    )
