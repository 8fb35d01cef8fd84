"""A window that is outlined in by every tool, and killed in the middle of it: what was finished is there again."""

from __future__ import annotations

import os
import random
import subprocess
import sys
import time
from pathlib import Path

from kestrelmist.study.study import Study

from .case import case, require
from .studies import made

WINDOW = """
import math, random, sys
from PySide6.QtCore import QEvent, QPoint, Qt, QTimer
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from kestrelmist.desk import app
rng = random.Random(int(sys.argv[2]))
program = app.application()
window = app.open_window(sys.argv[1])
window.resize(1000, 700)
window.show()
window.start()
desk, study = window.desk, window.desk.study
desk.viewing.show_image(study.records()[0].id)
LEFT, NONE, ALT = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.AltModifier

def at(x, y):
    canvas = window.table.panes[0].canvas
    return canvas, QPoint(canvas.width() // 2 + round(x), canvas.height() // 2 + round(y))

def drag(places, keys=NONE):
    canvas, first = at(*places[0])
    QTest.mousePress(canvas, LEFT, keys, first)
    for place in places[1:]:
        to = at(*place)[1].toPointF()
        QApplication.sendEvent(canvas, QMouseEvent(QEvent.Type.MouseMove, to, canvas.mapToGlobal(to), LEFT, LEFT, keys))
        QApplication.processEvents()
    QTest.mouseRelease(canvas, LEFT, keys, at(*places[-1])[1])

def ring():
    r, x, y = rng.uniform(15, 90), rng.uniform(-60, 60), rng.uniform(-60, 60)
    return [(x + r * math.cos(t / 4), y + r * math.sin(t / 4)) for t in range(25)]

def line():
    a, b = [(rng.uniform(-90, 90), rng.uniform(-90, 90)) for _ in range(2)]
    return [(a[0] + s / 8 * (b[0] - a[0]), a[1] + s / 8 * (b[1] - a[1])) for s in range(9)]

def one():
    tool = rng.choice(["freehand", "strokes", "strokes", "touch-up", "edge-line", "vessel", "brush"])
    desk.hand.set_tool(tool)
    if tool == "freehand":
        drag(ring() if rng.random() < 0.7 else line())
        if rng.random() < 0.5:
            QTest.keyClick(window.table.panes[0].canvas, Qt.Key.Key_F)
    elif tool == "strokes":
        drag(line(), ALT if rng.random() < 0.5 else NONE)
    elif tool in ("touch-up", "brush"):
        drag(line())
    else:
        for x, y in rng.sample(ring(), 3):
            canvas, place = at(x, y)
            QTest.mouseClick(canvas, LEFT, NONE, place)
        QTest.keyClick(window.table.panes[0].canvas, Qt.Key.Key_Return)

def next_one():
    if window.settled:
        rows = study.catalogue.rows("SELECT 1 FROM change WHERE kind IN ('labels', 'marks')")
        print(len(rows), flush=True)
        one()

def ready():
    if window.settled:
        waiting.stop()
        desk.viewing.set_stage("Outline")
        desk.run_now("add-label", {"label": "Thing"})
        going.start(30)

waiting, going = QTimer(interval=50), QTimer()
waiting.timeout.connect(ready)
going.timeout.connect(next_one)
waiting.start()
program.exec()
"""


@case("kills: a window that is outlined in by every tool", long=True)
def outlined(rng: random.Random, place: Path) -> str:
    folder = made(place)
    words = [sys.executable, "-c", WINDOW, str(folder), str(rng.randrange(1 << 30))]
    unseen = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    run = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=unseen)
    assert run.stdout is not None and run.stderr is not None
    first = run.stdout.readline().strip()
    time.sleep(rng.uniform(0.5, 6.0))
    run.kill()
    said = [first, *(line for line in run.stdout.read().split("\n") if line.isdecimal())]
    wrong = run.stderr.read()
    run.wait()
    run.stdout.close()
    run.stderr.close()
    require(said[0].isdecimal(), f"the window did not begin: {wrong[-200:]}")
    require("Traceback" not in wrong, f"the window told of a fault: {wrong[-400:]}")
    with Study(folder) as study:
        kept = len(study.catalogue.rows("SELECT 1 FROM change WHERE kind IN ('labels', 'marks')"))
        image = study.records()[0].id
        labels, marks = study.labels("balls"), study.marks.on(image)
        counts, drawn = labels.counts.copy(), len(marks)
        labels.recount()
        require((labels.counts == counts).all(), "the counts of the labels are not those of their voxels")
        study.history.undo()
        study.history.redo()
        require((study.labels("balls").counts == counts).all(), "undo and redo do not come back to the same labels")
        require(len(study.marks.on(image)) == drawn, "undo and redo do not come back to the same marks")
    require(kept >= int(said[-1]), f"{said[-1]} gestures were said to be kept, {kept} are")
    return f"{len(said)} gestures, nothing lost"
