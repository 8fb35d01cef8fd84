"""Random walks of a hand over a window: strokes, and everything that may come between two of them."""

from __future__ import annotations

import os
import random
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np

from kestrelmist.study.study import Study

from .case import case, require
from .studies import made

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

LABEL = "Mark"


class Walk:
    """A window, and what its label maps have to hold: every stroke is in the map whose name was to be read when it
    began, and in no other."""

    def __init__(self, rng: random.Random, place: Path):
        from unittest import mock

        from kestrelmist.desk.app import application
        from kestrelmist.desk.shell.window import Window
        from kestrelmist.desk.solid.feed import SolidFeed

        self.rng, self.place = rng, place
        application()
        with mock.patch.object(SolidFeed, "build", lambda feed: None):
            self.window = Window(Study(made(place)))
            self.window.resize(1280, 800)
            self.window.show()
            self.window.start()
        self.desk, self.study = self.window.desk, self.window.desk.study
        self.desk.viewing.show_image(self.study.records()[0].id)
        self.settle()
        self.image = self.study.records()[0].id
        self.desk.viewing.set_stage("Outline")
        self.settle()
        self.desk.hand.set_tool("brush")
        self.desk.hand.set_settings(size=2.0, shape="ball", only_in_range=False)
        self.said: list[str] = []
        self.desk.session.trouble.connect(self.said.append)
        from kestrelmist.desk.bench.groups.label_maps import LabelMapsGroup

        self.group = self.window.bench.findChild(LabelMapsGroup) or self._group(LabelMapsGroup)
        self.names = 0
        last = self.study.history.to_undo()
        self.first, self.begun = self.maps(), 0 if last is None else last.id

    def _group(self, kind):
        return next(w for w in self.window.findChildren(kind))

    # what there is

    def settle(self, seconds: float = 60.0) -> None:
        import time

        from PySide6.QtCore import QEventLoop, QTimer

        end, calm = time.monotonic() + seconds, 0
        while calm < 3:
            loop = QEventLoop()
            QTimer.singleShot(4, loop.quit)
            loop.exec()
            calm = calm + 1 if self.window.settled else 0
            require(time.monotonic() < end, "the window did not settle")

    def maps(self) -> dict[int, tuple[str, bytes]]:
        """Name and numbers of every label map, by id."""
        return {m.id: (m.name, self.study.label_map(m.id).data.tobytes()) for m in self.study.label_maps(self.image)}

    @staticmethod
    def _told(maps: dict[int, tuple[str, bytes]]) -> dict[int, tuple[str, int]]:
        return {key: (name, hash(numbers)) for key, (name, numbers) in maps.items()}

    def compare_with_disk(self) -> None:
        """A copy of the study as it lies there, opened anew, holds what is in memory; and the window shows what the
        study calls in hand."""
        copy = self.place / "copy"
        shutil.rmtree(copy, ignore_errors=True)
        shutil.copytree(self.study.folder, copy, ignore=shutil.ignore_patterns("images", "study.lock"))
        with Study(copy) as there:
            kept = {m.id: (m.name, there.label_map(m.id).data.tobytes()) for m in there.label_maps(self.image)}
        told, mine = self._told(kept), self._told(self.maps())
        require(told == mine, f"the maps on the disk are others than those in memory: {told} and {mine}")
        for key in kept:
            labels = self.study.label_map(key)
            counts = np.bincount(labels.kji.ravel(), minlength=labels.counts.size)
            require(bool(np.array_equal(counts, labels.counts)), "the counts are wrong")
        hand, shown = self.study.in_hand(self.image), self.desk.viewing.maps.map
        require((None if shown is None else shown.id) == hand, "another map is shown than the one in hand")
        require(shown is None or self.group.choice.currentText() == shown.name, "the list shows another map")
        seen = self.desk.viewing.maps.labels
        require(shown is None or seen is self.study.label_map(shown.id), "two objects of one map")

    # what the hand does

    def stroke(self) -> bool:
        """Paint on the axial pane; returns whether anything was drawn."""
        from PySide6.QtCore import QPoint, QPointF, Qt
        from PySide6.QtGui import QMouseEvent
        from PySide6.QtTest import QTest
        from PySide6.QtWidgets import QApplication

        viewing, rng = self.desk.viewing, self.rng
        if viewing.maps.labels is None or not viewing.ready:
            self.settle()
        if self.desk.hand.label is None:
            self.desk.run_now("add-label", {"label": LABEL})
            self.settle()
        before, name = self.maps(), self.group.choice.currentText()
        key = self.group.choice.currentData()
        canvas, none = self.window.table.slices[1].canvas, Qt.KeyboardModifier.NoModifier

        def spot() -> QPoint:
            x, y = canvas.current_view().to_pixel((rng.uniform(-8, 8), rng.uniform(-7, 7), viewing.crosshair[2]))
            return QPoint(round(x), round(y))

        QTest.mousePress(canvas, Qt.MouseButton.LeftButton, none, spot())
        for _ in range(rng.randrange(3)):
            at = QPointF(spot())
            held = Qt.MouseButton.LeftButton
            move = QMouseEvent(
                QMouseEvent.Type.MouseMove, at, canvas.mapToGlobal(at), Qt.MouseButton.NoButton, held, none
            )
            QApplication.sendEvent(canvas, move)
            if rng.random() < 0.15:
                self.between()
        QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, none, spot())
        if rng.random() < 0.5:
            self.settle()
        after = self.maps()
        if not self.quiet:  # something else was done in the middle of it
            return True
        changed = [one for one in after if one in before and after[one][1] != before[one][1]]
        new = [one for one in after if one not in before]
        # a map that was asked for before may come meanwhile; those that are there hold what they held
        require(set(changed) <= {key}, f"painted on “{name}”, changed {changed}, new {new}")
        return bool(changed or new)

    quiet = True

    def between(self) -> None:
        """Something else in the middle of a stroke."""
        self.quiet = False
        self.rng.choice(self.others())()

    def others(self) -> list[Callable[[], None]]:
        """What may be done between two strokes."""
        return [
            self.new, self.copy, self.choose, self.choose_by_name, self.take_off, self.delete,
            self.undo, self.undo, self.redo, self.rename, self.other_label, self.stage, self.elsewhere,
        ]  # fmt: skip

    def _name(self) -> str:
        self.names += 1
        return f"Map {self.names}"

    def new(self) -> None:
        self.group.make(self._name())

    def copy(self) -> None:
        current = self.desk.viewing.maps.map
        if current is not None:
            self.group.make(self._name(), current.id)

    def choose(self) -> None:
        if self.group.choice.count() > 1:
            self.group.choice.setCurrentIndex(self.rng.randrange(self.group.choice.count()))
            self.group.choice.activated.emit(self.group.choice.currentIndex())

    def choose_by_name(self) -> None:
        maps = self.study.label_maps(self.image)
        if maps:
            self.desk.session.run("choose-labels", {"labels": self.rng.choice(maps).id})

    def take_off(self) -> None:
        current = self.desk.viewing.maps.map
        if current is not None and self.rng.random() < 0.5:
            self.desk.session.run("take-off", {"thing": current.id})

    def delete(self) -> None:
        maps = self.study.label_maps(self.image)
        if len(maps) > 3:
            gone = self.rng.choice(maps)
            self.desk.session.delete(gone.id, gone.name)
            self.first.pop(gone.id, None)

    @property
    def at_the_beginning(self) -> bool:
        """Whether all that this walk has done is undone."""
        last = self.study.history.to_undo()
        return last is None or last.id <= self.begun

    def undo(self) -> None:
        if not self.at_the_beginning:
            self.desk.session.undo()

    def redo(self) -> None:
        self.desk.session.redo()

    def rename(self) -> None:
        current = self.desk.viewing.maps.map
        if current is not None:
            self.desk.session.run("rename", {"thing": current.id, "name": self._name()})

    def other_label(self) -> None:
        self.desk.run_now("add-label", {"label": f"Label {self._name()}"})

    def stage(self) -> None:
        self.desk.viewing.set_stage("Measure")
        self.desk.viewing.set_stage("Outline")
        self.desk.hand.set_tool("brush")

    def elsewhere(self) -> None:
        self.desk.viewing.go_to((0.25, 0.25, self.rng.uniform(-6, 6)))

    def turn_all(self) -> None:
        """Undo everything and do it again: the beginning and the end are as they were."""
        self.settle()
        end, undone = self.maps(), 0
        while not self.at_the_beginning:
            self.study.history.undo()
            undone += 1
        self.settle()
        begun = {key: numbers for key, (_, numbers) in self.maps().items() if any(numbers)}
        first = {key: numbers for key, (_, numbers) in self.first.items()}
        require(begun == first, f"undo leaves voxels in {sorted(begun)}, of {sorted(first)}")
        for _ in range(undone):  # what had been undone before stays so
            self.study.history.redo()
        self.settle()
        now = self.maps()
        others = {key: (now.get(key), end.get(key)) for key in {*now, *end} if now.get(key) != end.get(key)}
        require(not others, f"redo gives others: {str(others)[:2000]}")
        self.compare_with_disk()

    def close(self) -> None:
        from PySide6.QtCore import QEvent
        from PySide6.QtWidgets import QApplication

        self.window.close()
        self.window.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        QApplication.processEvents()


def walk(hand: Walk, gestures: int) -> int:
    """So many gestures, with something between most of them; every third time all is compared with the disk. Returns
    how many drew something."""
    drawn = 0
    try:
        for n in range(gestures):
            for _ in range(hand.rng.randrange(3)):
                hand.rng.choice(hand.others())()
                if hand.rng.random() < 0.5:
                    hand.settle()
            hand.quiet = True
            drawn += hand.stroke()
            if n % 3 == 2:
                hand.settle()
                hand.compare_with_disk()
        hand.turn_all()
    finally:
        hand.close()
    unexpected = [said for said in hand.said if "unexpectedly" in said]
    require(not unexpected, str(unexpected[:2]))
    return drawn


@case("walks: strokes on label maps that come and go", long=True)
def label_maps(rng: random.Random, place: Path) -> str:
    drawn = walk(Walk(rng, place), 7)
    require(drawn > 2, f"only {drawn} strokes drew anything")
    return "held"
