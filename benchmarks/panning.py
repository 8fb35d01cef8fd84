"""Moving across a section of 60,000 × 40,000 pixels in a window, its pieces read meanwhile."""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np

from .row import Row

WIDE, HIGH, CHUNK = 60_000, 40_000, 512
LEVELS = 6
FRAMES = 240


def write_pyramid(path: Path) -> None:
    """A sparse OME-Zarr pyramid: one piece in three holds texture, the others are the ground and take no room."""
    import zarr

    group = zarr.open_group(path, mode="w", zarr_format=2)
    rng = np.random.default_rng(2)
    texture = rng.integers(60, 230, (CHUNK, CHUNK), np.uint8)
    datasets: list[Any] = []
    for level in range(LEVELS):
        rows, columns = HIGH >> level, WIDE >> level
        array = group.create_array(
            str(level), shape=(rows, columns), chunks=(CHUNK, CHUNK), dtype="u1", fill_value=20, compressors=None
        )
        for n in range(0, (rows // CHUNK) * (columns // CHUNK), 3):
            row, column = divmod(n, columns // CHUNK)
            if level > 0 or 30 <= row < 45:  # of the finest, the part that is moved across
                array[row * CHUNK : row * CHUNK + CHUNK, column * CHUNK : column * CHUNK + CHUNK] = texture
        scale = {"type": "scale", "scale": [0.5 * 2**level, 0.5 * 2**level]}
        datasets.append({"path": str(level), "coordinateTransformations": [scale]})
    axes: list[Any] = [{"name": name, "type": "space", "unit": "micrometer"} for name in "yx"]
    group.attrs["multiscales"] = [{"version": "0.4", "axes": axes, "datasets": datasets}]


def rows() -> list[Row]:
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtWidgets import QApplication

    from kestrelmist.core.progress import Progress
    from kestrelmist.desk.app import application
    from kestrelmist.desk.shell.window import Window
    from kestrelmist.scene.drawing import warm
    from kestrelmist.scene.tiles import MEMORY, tiles_of
    from kestrelmist.study.study import Study
    from kestrelmist.warm import load_drawing

    load_drawing(Progress())
    warm()
    with tempfile.TemporaryDirectory() as place:
        write_pyramid(Path(place) / "section.zarr")
        with Study(Path(place) / "study", create=True) as study:
            study.run("gather", folder=Path(place) / "section.zarr", subject="B-1", copy=False)
        application()
        window = Window(Study(Path(place) / "study"))
        window.resize(1280, 800)
        window.show()
        window.start()
        end = time.monotonic() + 60
        while not (window.settled and window.desk.viewing.ready) and time.monotonic() < end:
            QApplication.processEvents()
            time.sleep(0.005)
        canvas = window.table.working.canvas
        canvas.one_to_one()
        frames, last = [], time.perf_counter()
        for _ in range(FRAMES):
            canvas.pan(-23, -5)
            QApplication.processEvents()
            now = time.perf_counter()
            frames.append(now - last)
            last = now
            time.sleep(max(0.0, 1 / 60 - frames[-1]))  # a screen shows sixty a second
            last = time.perf_counter() if frames[-1] < 1 / 60 else last
        shown = window.desk.viewing.image
        tiles = None if shown is None else tiles_of(shown)
        assert tiles is not None
        kept = tiles.memory
        window.close()
    slow = float(np.percentile(frames[5:], 95))
    return [
        Row("pan across 60,000 × 40,000: 95 % of frames within", slow, 0.025, "25 ms", "ratio ≤ 1", met=slow <= 0.025),
        Row("memory of its pieces", kept / 1e6, MEMORY / 1e6, "the bound", "ratio ≤ 1", "MB", met=kept <= MEMORY),
    ]
