"""Grow from point on 400 × 512 × 512: time and memory."""

from __future__ import annotations

import resource
import subprocess
import sys
from typing import Any

import numpy as np
from scipy import ndimage

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.outline.flood import flood
from kestrelmist.outline.grow import grow

from .row import Row, in_turn

SHAPE = (400, 512, 512)


def volume() -> np.ndarray:
    """Shells, struts and noise: a bone-like network that is joined throughout."""
    rng = np.random.default_rng(5)
    k, j, i = np.ogrid[: SHAPE[0], : SHAPE[1], : SHAPE[2]]
    field = (
        np.sin(i / 21) * np.cos(j / 21) + np.sin(j / 21) * np.cos(k / 21) + np.sin(k / 21) * np.cos(i / 21)
    ).astype(np.float32)
    values = (1300 * np.exp(-((field / 0.35) ** 2))).astype(np.int16)
    values += rng.integers(-60, 60, SHAPE, np.int16)
    return values


def rows() -> list[Row]:
    values = volume()
    k, j, i = (int(v) for v in np.unravel_index(np.argmax(values), SHAPE))
    seed = (k, j, i)
    found: dict[str, Any] = {}

    def ours():
        found["ours"] = flood(values, seed, 650, 3000)[1]

    def baseline():
        found["labels"] = ndimage.label((values >= 650) & (values <= 3000))[0]

    ours()
    mine, theirs = in_turn(ours, baseline, 3)
    assert found["ours"] == np.count_nonzero(found["labels"] == found["labels"][seed])
    peak = float(
        subprocess.run([sys.executable, "-m", "benchmarks.growing"], capture_output=True, text=True, check=True).stdout
    )
    return [
        Row(
            "grow from point, 400 × 512 × 512",
            mine,
            theirs,
            "scipy.ndimage.label on the thresholded array",
            "ratio ≤ 0.7",
            met=mine <= 0.7 * theirs,
        ),
        Row(
            "grow from point, peak memory above image",
            peak,
            3.0,
            "3 bytes a voxel",
            "ratio ≤ 1",
            "bytes a voxel",
            met=peak <= 3.0,
        ),
    ]


def _peak() -> float:
    """Bytes a voxel that the whole operation takes at its peak above the image, in a process of its own."""
    image = Image(volume().T, Space(SHAPE[::-1], np.diag([0.1, 0.1, 0.1, 1.0])))
    small = Image(np.asfortranarray(image.data[:8, :8, :8]), Space((8, 8, 8), image.space.affine))
    for one in (small, image):
        seed = np.unravel_index(np.argmax(one.data), one.space.shape)
        labels = LabelMap(one.space, table=LabelTable())
        # the high-water mark only rises: what making the volume took has to be passed over
        before = _resident()
        hook = _Peak(before)
        point = tuple(float(v) for v in one.space.to_world(seed))
        try:
            grow(one, labels, "Bench", point, low=650, high=3000, progress=hook.progress).apply(labels)
        finally:
            peak = hook.end()
    return peak / image.kji.size


class _Peak:
    """Highest resident memory above a start, watched from a thread (kernels let it run)."""

    def __init__(self, start: int):
        import threading

        from kestrelmist.core.progress import Progress

        self.start, self.most, self.on, self.progress = start, start, True, Progress()
        self.thread = threading.Thread(target=self._watch)
        self.thread.start()

    def _watch(self) -> None:
        import time

        while self.on:
            self.most = max(self.most, _resident())
            time.sleep(0.002)

    def end(self) -> int:
        self.on = False
        self.thread.join()
        return max(self.most, _resident()) - self.start


def _resident() -> int:
    with open("/proc/self/statm") as stream:
        return int(stream.read().split()[1]) * resource.getpagesize()


if __name__ == "__main__":
    print(_peak())
