"""An alignment under way, at the foot of the Bench: its cost as a curve, an end to it, and what can be done with what
it found."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QToolButton, QWidget

from ..models.desk_model import Desk
from ..theme.theme import Theme, icon
from ..widgets.plain_text import plain_tip
from .rows import Shaded, section, soft


class CostCurve(QWidget):
    """How alike both are, step by step; levels stand side by side, each in a scale of its own."""

    def __init__(self):
        super().__init__()
        self.setFixedHeight(52)
        self.setAccessibleName("How alike both images are, step by step")
        self.levels: list[list[float]] = []

    def show_costs(self, costs: dict[int, list[float]], levels: int) -> None:
        """Costs by level, from 1 on, of so many."""
        self.levels = [costs.get(n, []) for n in range(1, max([levels, *costs]) + 1)]
        self.update()

    def lines(self) -> list[list[tuple[float, float]]]:
        """Points of each level in a square of side 1, (0, 0) at the upper left."""
        found = []
        for n, costs in enumerate(self.levels):
            values = -np.array(costs, float)
            low, high = (values.min(), values.max()) if len(values) else (0.0, 1.0)
            share = (values - low) / (high - low) if high > low else np.full(len(values), 0.5)
            at = (n + (np.arange(len(values)) + 0.5) / max(len(values), 1)) / len(self.levels)
            found.append(list(zip(at.tolist(), (1 - share).tolist())))
        return found

    def paintEvent(self, event) -> None:
        t, wide, high = Theme.tokens, self.width() - 1.0, self.height() - 9.0
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(QColor(t.hairline), 1))
            for n in range(1, len(self.levels)):
                x = wide * n / len(self.levels)
                painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
            painter.setPen(QPen(QColor(t.rust), 1.6))
            for line in self.lines():
                painter.drawPolyline(QPolygonF([QPointF(x * wide, 4 + y * high) for x, y in line]))


class UnderWayPanel(Shaded):
    """Hidden while nothing is aligned."""

    def __init__(self, desk: Desk):
        super().__init__(5)
        self.desk, self.alignment = desk, desk.alignment
        self.head, self.said, self.curve = section("Under way"), soft(), CostCurve()
        self.shut = QToolButton()
        self.shut.setAccessibleName("Put away what was aligned last")
        self.shut.clicked.connect(self.alignment.forget)
        names = ("Stop here", "Place it", "Judge", "How sure")
        self.stop, self.place, self.judge, self.sure = (QPushButton(w) for w in names)
        self.sure.setToolTip(plain_tip("How far it may be off, place by place: it is done three times more for that"))
        self.stop.setToolTip(plain_tip("End with what has been found by now"))
        self.judge.setToolTip(plain_tip("Likeness before and after, overlap, folding, there and back"))
        self.stop.clicked.connect(self.alignment.stop_here)
        self.place.clicked.connect(self.alignment.go_on)
        self.judge.clicked.connect(self._judge)
        self.sure.clicked.connect(self._how_sure)
        top, line = QHBoxLayout(), QHBoxLayout()
        top.addWidget(self.head, 1)
        top.addWidget(self.shut)
        for button in (self.stop, self.place, self.judge, self.sure):
            button.setProperty("kind", "primary" if button is self.place else "small")
            line.addWidget(button, 1)
        self.verdicts: dict[str, QPushButton] = {}
        verdicts = QHBoxLayout()
        for verdict in ("fine", "doubtful", "bad"):
            button = QPushButton(verdict.capitalize(), checkable=True)
            button.setProperty("kind", "small")
            button.setToolTip(plain_tip(f"Write down that you looked, and that it is {verdict}"))
            button.clicked.connect(lambda _=False, verdict=verdict: self.alignment.say(verdict))
            verdicts.addWidget(button, 1)
            self.verdicts[verdict] = button
        self.column.addLayout(top)
        self.column.addWidget(self.said)
        self.column.addWidget(self.curve)
        self.column.addLayout(line)
        self.column.addLayout(verdicts)
        self.alignment.changed.connect(self.follow)
        desk.session.work.changed.connect(self.follow)
        desk.session.history_changed.connect(self.follow)
        self.dress()
        self.follow()

    def dress(self) -> None:
        self.shut.setIcon(icon("x", 14))

    def _judge(self) -> None:
        run = self.alignment.run
        if run is not None and run.transform is not None:
            given = {"image": run.moves, "onto": run.onto, "transform": run.transform}
            self.desk.session.run("judge", given)

    def _how_sure(self) -> None:
        run = self.alignment.run
        if run is not None and run.transform is not None:
            given = {"image": run.moves, "onto": run.onto, "transform": run.transform}
            self.desk.session.run("how-sure", given, over=run.onto)

    def follow(self) -> None:
        run = self.alignment.run
        going = self.alignment.under_way
        self.setVisible(run is not None and (going or run.transform is not None))
        if run is None:
            return
        moves, onto = (self.alignment.record(key) for key in (run.moves, run.onto))
        names = [f"“{record.name}”" if record is not None else "what has gone" for record in (moves, onto)]
        self.head.setText("Aligning" if going else "Aligned")
        level = max(run.costs, default=0)
        told = f", level {level} of {max(run.levels, level)}" if going and level else ""
        self.said.setText(f"{names[0]} onto {names[1]}{told}")
        self.curve.show_costs(run.costs, run.levels)
        self.stop.setVisible(going)
        enough = run.job is not None and run.job.progress.has_enough
        self.stop.setEnabled(bool(run.costs) and not enough)
        self.curve.setVisible(going and bool(run.costs))
        said = self.alignment.verdict()
        for verdict, button in self.verdicts.items():
            button.setVisible(not going)
            button.setChecked(verdict == said)
        self.shut.setVisible(not going)
        self.judge.setVisible(not going)
        self.sure.setVisible(not going)
        self.place.setVisible(not going)
        self.place.setText("Place it" if run.by_voxels else "Bring it through")
        told = f"Move {names[0]} to where it was found; its values stay"
        if not run.by_voxels:
            told = f"Work {names[0]} out on the grid of {names[1]}, through the warp, as a new image"
        self.place.setToolTip(plain_tip(told))
