"""Random walks of a hand that draws marks, and everything that may come between two gestures."""

from __future__ import annotations

import json
import random
import shutil
from collections.abc import Callable
from pathlib import Path

from kestrelmist.core.operation import find_operation
from kestrelmist.study.study import Study

from .case import case, require
from .walks import Walk, walk

TYPED = "typed"


class MarkWalk(Walk):
    """A window, and what its sets of marks have to hold: a gesture changes the one that it was begun on."""

    def __init__(self, rng: random.Random, place: Path):
        super().__init__(rng, place)
        self.desk.viewing.set_stage("Measure")
        self.settle()

    def maps(self) -> dict[int, tuple[str, bytes]]:
        """Name and marks of every set, by id."""
        return {r.id: (r.name, told(self.study.marks.open(r.id))) for r in self.study.marks.of(self.image)}

    def drawn(self) -> dict[int, list[dict]]:
        """The marks of every set that a hand has drawn: typed ones come when their worker is done."""
        sets = {r.id: self.study.marks.open(r.id) for r in self.study.marks.of(self.image)}
        return {key: [m.as_dict() for m in one if m.text != TYPED] for key, one in sets.items()}

    def compare_with_disk(self) -> None:
        """A copy of the study as it lies there, opened anew, holds what is in memory; and the window shows it."""
        copy = self.place / "copy"
        shutil.rmtree(copy, ignore_errors=True)
        shutil.copytree(self.study.folder, copy, ignore=shutil.ignore_patterns("images", "study.lock"))
        with Study(copy) as there:
            kept = {r.id: (r.name, told(there.marks.open(r.id))) for r in there.marks.of(self.image)}
        mine = self.maps()
        require(kept == mine, f"the marks on the disk are others than those in memory: {kept} and {mine}")
        hand, marks = self.study.marks.in_hand(self.image), self.desk.marks
        require(marks.key == hand, "other marks are shown than those in hand")
        require(hand is None or marks.marks is self.study.marks.open(hand), "two objects of one set")
        require(marks.chosen is None or marks.chosen in (marks.marks or ()), "a mark is chosen that is not there")
        require(marks.live is None, "something is still being drawn")

    def stroke(self) -> bool:
        """Draw or pull something on the axial pane; returns whether anything was kept."""
        from PySide6.QtCore import QPoint, QPointF, Qt
        from PySide6.QtGui import QMouseEvent
        from PySide6.QtTest import QTest
        from PySide6.QtWidgets import QApplication

        from kestrelmist.desk.tool import TOOLS

        rng, hand = self.rng, self.desk.hand
        if self.desk.marks.marks is None:
            self.settle()
        tools = [tool.name for tool in TOOLS if tool.name.startswith("mark-")]
        hand.set_tool(rng.choice([*tools, "frame", "frame", "pick"]))
        before, keys = self.drawn(), {self.desk.marks.key}
        canvas, none = self.window.table.slices[1].canvas, Qt.KeyboardModifier.NoModifier
        left = Qt.MouseButton.LeftButton

        def spot() -> QPoint:
            x, y = canvas.current_view().to_pixel(
                (rng.uniform(-8, 8), rng.uniform(-7, 7), self.desk.viewing.crosshair[2])
            )
            return QPoint(round(x), round(y))

        def over(at: QPoint) -> None:
            to = QPointF(at)
            move = QMouseEvent(
                QMouseEvent.Type.MouseMove, to, canvas.mapToGlobal(to), Qt.MouseButton.NoButton, left, none
            )
            QApplication.sendEvent(canvas, move)

        for _ in range(rng.randrange(1, 5)):
            keys.add(self.desk.marks.key)  # what was asked for before may come meanwhile
            QTest.mousePress(canvas, left, none, spot())
            for _ in range(rng.randrange(3)):
                over(spot())
                if rng.random() < 0.1:
                    self.between()
            QTest.mouseRelease(canvas, left, none, spot())
            if rng.random() < 0.1:
                self.between()
        keys.add(self.desk.marks.key)
        ending = rng.choice((Qt.Key.Key_Return, Qt.Key.Key_Return, Qt.Key.Key_Escape, Qt.Key.Key_Backspace))
        QTest.keyClick(canvas, ending)
        if rng.random() < 0.3:
            QTest.keyClick(canvas, rng.choice((Qt.Key.Key_Left, Qt.Key.Key_Up, Qt.Key.Key_Delete)))
        hand.end_gesture()
        if rng.random() < 0.5:
            self.settle()
        after = self.drawn()
        if not self.quiet:
            return True
        changed = [one for one in after if one in before and after[one] != before[one]]
        new = [one for one in after if one not in before]
        require(set(changed) <= keys, f"drew on {keys}, changed {changed}, new {new}")
        require(set(before) <= set(after), "a set is gone")
        return bool(changed or new)

    def others(self) -> list[Callable[[], None]]:
        """What may be done between two gestures."""
        return [
            self.new, self.choose, self.take_off, self.delete, self.by_number, self.by_number, self.undo, self.undo,
            self.redo, self.rename, self.stage, self.elsewhere, self.change, self.resize, self.pick, self.theme,
            self.form, self.ask,
        ]  # fmt: skip

    def form(self) -> None:
        """Open a form that asks for a frame, or close the one that is open."""
        page = self.window.bench.page("Prepare")
        if page.form is not None:
            page.close_form()
            return
        self.window.bench.open_operation(find_operation("crop"))

    def ask(self) -> None:
        """Take the frame in hand, or let go of it."""
        form = self.window.bench.page("Prepare").form
        if form is not None:
            form.fields["voxels"].button.toggle()

    def new(self) -> None:
        self.desk.session.run("new-marks", {"image": self.image, "name": self._name()})

    def choose(self) -> None:
        there = self.study.marks.of(self.image)
        if there:
            self.desk.session.run("choose-marks", {"marks": self.rng.choice(there).id})

    def take_off(self) -> None:
        key = self.desk.marks.key
        if key is not None and self.rng.random() < 0.3:
            self.desk.session.run("take-off", {"thing": key})

    def delete(self) -> None:
        there = self.study.marks.of(self.image)
        if len(there) > 3:
            gone = self.rng.choice(there)
            self.desk.session.delete(gone.id, gone.name)

    def by_number(self) -> None:
        """A point through the operation, as the command line does it."""
        at = ", ".join(f"{self.rng.uniform(-5, 5):.2f}" for _ in range(3))
        self.desk.session.run("mark", {"marks": self.image, "text": TYPED, "points": at})

    def rename(self) -> None:
        key = self.desk.marks.key
        if key is not None:
            self.desk.session.run("rename", {"thing": key, "name": self._name()})

    def stage(self) -> None:
        self.desk.viewing.set_stage(self.rng.choice(("Outline", "Align", "Gather", "Measure")))
        self.desk.viewing.set_stage("Measure")

    def pick(self) -> None:
        marks = self.desk.marks.marks
        if marks is not None and len(marks):
            self.desk.marks.go_to(self.rng.choice(list(marks)).id)

    def change(self) -> None:
        self.desk.marks.change_chosen("Name", name=self.rng.choice(("a", "<b>", "=1+1", "é" * 300, "")))

    def resize(self) -> None:
        from kestrelmist.core.geometry.shape import shape_named

        marks = self.desk.marks
        mark = marks.marks[marks.chosen] if marks.marks is not None and marks.chosen is not None else None
        sizes = list(shape_named(mark.shape).sizes(mark.array)) if mark is not None else []
        if sizes:
            marks.resize_chosen(self.rng.choice(sizes), self.rng.uniform(0.1, 9))

    def theme(self) -> None:
        self.window.set_theme(self.rng.choice(("mist", "dusk")))


def told(marks) -> bytes:
    """All that marks hold, as bytes; none of nothing."""
    return json.dumps([mark.as_dict() for mark in marks], sort_keys=True).encode() if len(marks) else b""


@case("walks: marks that are drawn, pulled, come and go", long=True)
def marks(rng: random.Random, place: Path) -> str:
    drawn = walk(MarkWalk(rng, place), 10)
    require(drawn > 2, f"only {drawn} gestures kept anything")
    return "held"
