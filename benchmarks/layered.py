"""Four panes of a window of 1280 × 800 with a volume of 512³, a map on another grid over it and labels; stepping."""

from __future__ import annotations

import os
import subprocess
import sys
import time

import numpy as np

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space
from kestrelmist.desk.light_table.picture import Picture
from kestrelmist.desk.models.sight import Parts
from kestrelmist.scene.drawing import warm
from kestrelmist.scene.layer import ImageLook, LabelLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.view import AXIAL, CORONAL, SAGITTAL, fitted, through
from kestrelmist.warm import load_drawing

from . import panes
from .row import Row

LEAD, SIDE = (552, 658), (258, 200)
"""Pixels of the lead pane and of a side pane."""
STEPS = 60
OVER = ImageLook(1.5, 6.0, "Ember", below_map="Deep water")
BASE = ImageLook(-1500, 1500)


def over_map() -> Image:
    """A map of positive and negative values on a coarser grid with another spacing."""
    rng = np.random.default_rng(8)
    shape = (200, 180, 160)
    k, j, i = (np.linspace(0, 9, n)[:, None, None].swapaxes(0, a) for a, n in enumerate(shape[::-1]))
    values = (5 * np.sin(i) * np.cos(j) * np.sin(k) + rng.normal(0, 0.4, shape[::-1])).astype(np.float32)
    affine = np.diag([0.26, 0.29, 0.33, 1.0])
    affine[:3, 3] = -0.4
    return Image(values.T, Space(shape, affine))


def parts_of(image: Image, labels: LabelMap, over: Image) -> Parts:
    return Parts([Drawn(image, BASE)], [Drawn(over, OVER)], labels=[Drawn(labels, LabelLook())])


def stepping(parts: Parts, space: Space, plane) -> float:
    """Median time of a step through slices in the lead pane, with the two other planes beside it, s."""
    others = [p for p in (AXIAL, CORONAL, SAGITTAL) if p is not plane]
    views = [fitted(plane, space, *LEAD), *(fitted(p, space, *SIDE) for p in others)]
    pictures, middle = [Picture() for _ in views], space.centre
    times = []
    for n in range(STEPS):
        place = middle.copy()
        place[plane.across] += 0.1 * (n - STEPS / 2)
        started = time.perf_counter()
        for view, picture, one in zip(views, pictures, (plane, *others)):
            picture.stale = True
            picture.pixels(through(view, one, place), parts)
        times.append(time.perf_counter() - started)
    return float(np.median(times[5:]))


def rows() -> list[Row]:
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    load_drawing(Progress())
    warm()
    image, labels = panes.scene()
    over = over_map()
    parts, found = parts_of(image, labels, over), []
    baseline = _image_items(image, labels, over)
    for plane in (AXIAL, CORONAL, SAGITTAL):
        took = stepping(parts, image.space, plane)
        name = f"four panes, volume + two-sided map + labels, step {plane.name.lower()}"
        met = took <= 1 / 60 and took / baseline <= 1.2
        said = "pyqtgraph image items fed NumPy slices"
        found.append(Row(name, took, baseline, said, "≥ 60 frames/s, ratio ≤ 1.2", met=met))
    a = np.radians(9.0)
    turn = np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]])
    affine = np.eye(4)
    affine[:3, :3] = turn * 0.1
    tilted = Space(image.space.shape, affine)
    slanted = parts_of(Image(image.data, tilted), LabelMap(tilted, labels.data, labels.table), over)
    took = stepping(slanted, tilted, AXIAL)
    found.append(Row("the same, the volume tilted", took, None, "", "≥ 40 frames/s", met=took <= 1 / 40))
    found.append(_memory())
    return found


def _image_items(image: Image, labels: LabelMap, over: Image) -> float:
    """The same layers in the same three panes by the library's own items, axial; a step, s."""
    import pyqtgraph as pg
    from PySide6.QtGui import QImage, QPainter, QTransform
    from PySide6.QtWidgets import QApplication

    app = QApplication.instance() or QApplication([])
    pg.setConfigOption("imageAxisOrder", "row-major")
    lut = np.zeros((256, 4), np.uint8)
    lut[128 + 30 :] = (220, 120, 40, 255)
    lut[: 128 - 30] = (40, 120, 220, 255)
    label_lut = np.array([(0, 0, 0, 0), (220, 180, 60, 90)], np.uint8)
    shown = []
    for size in (LEAD, SIDE, SIDE):
        view, box, items = pg.GraphicsView(), pg.ViewBox(), [pg.ImageItem() for _ in range(3)]
        view.resize(*size)
        for item in items:
            box.addItem(item)
        items[1].setTransform(QTransform.fromScale(2.6, 2.9))
        view.setCentralItem(box)
        view.show()
        shown.append((view, items, QImage(*size, QImage.Format.Format_RGB32)))
    times = []
    for n in range(30):
        started = time.perf_counter()
        for pane, (view, items, target) in enumerate(shown):
            pick = (
                180 + n if pane == 0 else slice(None),
                256 if pane == 1 else slice(None),
                256 if pane == 2 else slice(None),
            )
            coarse = (
                60 + n if pane == 0 else slice(None),
                90 if pane == 1 else slice(None),
                90 if pane == 2 else slice(None),
            )
            if pane == 0 or n == 0:  # a step changes one plane; the others are painted again
                items[0].setImage(image.kji[pick], levels=(-1500, 1500), autoLevels=False)
                items[1].setImage(over.kji[coarse], levels=(-6, 6), lut=lut, autoLevels=False)
                items[2].setImage(labels.kji[pick], levels=(0, 1), lut=label_lut, autoLevels=False)
            with QPainter(target) as painter:
                view.render(painter)
        times.append(time.perf_counter() - started)
    for view, _, _ in shown:
        view.close()
    app.processEvents()
    return float(np.median(times[5:]))


def _memory() -> Row:
    """What a process takes more with the stack open and drawn, beside the bytes of its data."""
    ran = subprocess.run(
        [sys.executable, "-m", "benchmarks.layered"], capture_output=True, text=True, check=True, env=os.environ
    )
    grown, data = map(float, ran.stdout.split()[-2:])
    name = "resident memory with that stack open, more than before"
    return Row(name, grown / 1e6, data / 1e6, "bytes of the data", "ratio ≤ 1.15", "MB", met=grown / data <= 1.15)


def _resident() -> int:
    with open("/proc/self/statm") as stream:
        return int(stream.read().split()[1]) * os.sysconf("SC_PAGE_SIZE")


def _measure() -> None:
    import gc

    load_drawing(Progress())
    warm()
    image, labels = panes.scene()
    over = over_map()
    stepping(parts_of(image, labels, over), image.space, AXIAL)
    gc.collect()
    with_it, data = _resident(), image.data.nbytes + labels.data.nbytes + over.data.nbytes
    del image, labels, over
    gc.collect()
    print(with_it - _resident(), data)


if __name__ == "__main__":
    _measure()
