"""Figures of the study on the Report stage: their panels, in which order, how many beside each other, and writing."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QPixmap
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QHBoxLayout,
    QListWidget,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from ....core.figure import Figure
from ....report.figure_page import letter
from ....scene.painting import write_page
from ....study.operations.figures import drawn_figure, figures
from ...widgets.plain_text import Words, plain_tip
from ..page import GROUPS, BenchContext, Group
from ..rows import Shaded, quietly, row, section, soft
from ..to_figure import put_panes_on_figure

PREVIEW = 150.0
"""Dots an inch of a preview."""
EMPTY = "Open the form of a picture, a contact sheet, the solid view or a plot, and add it to a figure there."


class FiguresGroup(Shaded):
    """A list of panels, and what can be done with them."""

    def __init__(self, context: BenchContext):
        super().__init__()
        self.context, self.desk, self.study = context, context.desk, context.desk.study
        self.which, self.panels, self.columns = QComboBox(), QListWidget(), QSpinBox()
        self.which.setAccessibleName("Figures of the study")
        self.panels.setAccessibleName("Panels of the figure")
        self.panels.setFixedHeight(116)
        self.panels.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.columns.setRange(1, 12)
        self.columns.setAccessibleName("Panels beside each other")
        self.empty = soft(EMPTY)
        self.up, self.down, self.away = (QPushButton(w) for w in ("Up", "Down", "Leave out"))
        self.preview, self.write = QPushButton("Preview"), QPushButton("Write …")
        self.shown: QDialog | None = None
        self.column.addWidget(section("Figures"))
        self.panes = QPushButton("Put these panes on a figure …")
        self.panes.setProperty("kind", "link")
        self.panes.setToolTip(
            plain_tip("Planes and solid view as they are seen; drawn anew when the figure is written")
        )
        self.panes.clicked.connect(lambda: put_panes_on_figure(self, self.desk))
        self.column.addWidget(self.panes)
        self.column.addWidget(self.empty)
        self.rest = QWidget()
        self.column.addWidget(self.rest)
        rest = QVBoxLayout(self.rest)
        rest.setContentsMargins(0, 0, 0, 0)
        rest.addLayout(row("Figure", self.which, width=66))
        rest.addWidget(self.panels)
        rest.addLayout(row("Beside", self.columns, width=66))
        line = QHBoxLayout()
        for button, tip in (
            (self.up, "The chosen panel comes before the one over it"),
            (self.down, "The chosen panel comes behind the one below it"),
            (self.away, "Leave the chosen panel out; undo brings it back"),
        ):
            button.setProperty("kind", "small")
            button.setToolTip(plain_tip(tip))
            line.addWidget(button)
        rest.addLayout(line)
        out = QHBoxLayout()
        for button, tip in (
            (self.preview, "See the figure as it would be written"),
            (self.write, "Write the figure, its panels drawn anew"),
        ):
            button.setToolTip(plain_tip(tip))
            out.addWidget(button)
        rest.addLayout(out)
        self.which.activated.connect(lambda _: self.follow())
        self.columns.valueChanged.connect(lambda n: self._change({"columns": n}))
        self.up.clicked.connect(lambda: self._move(-1))
        self.down.clicked.connect(lambda: self._move(1))
        self.away.clicked.connect(self._leave_out)
        self.write.clicked.connect(self._write)
        self.preview.clicked.connect(self._preview)
        self.desk.session.things_changed.connect(lambda _: self.follow())
        self.desk.session.history_changed.connect(self.follow)
        self.follow()

    @property
    def figure(self) -> Figure | None:
        """The one that is chosen."""
        key = self.which.currentData()
        record = None if key is None else self.study.items.get(key)
        return None if record is None or record.removed else self.study.thing(record.id)

    def follow(self) -> None:
        chosen, at = self.which.currentData(), self.panels.currentRow()
        known = figures(self.study)
        with quietly(self.which, self.panels, self.columns):
            self.which.clear()
            for one in known:
                self.which.addItem(one.name, one.id)
            last = self.which.count() - 1
            found = self.which.findData(chosen)
            self.which.setCurrentIndex(found if found >= 0 else last)
            figure = self.figure
            self.panels.clear()
            for n, panel in enumerate(figure.panels if figure is not None else ()):
                names = [self.study.items.get(k) for keys in panel.inputs.values() for k in keys]
                of = ", ".join(dict.fromkeys(one.name for one in names if one is not None))
                plane = f", {panel.settings['plane']}" if panel.settings.get("plane") else ""
                self.panels.addItem(f"{letter(n)}   {panel.operation.replace('-', ' ')}{plane}: {of}")
                self.panels.item(n).setToolTip(plain_tip(of))
            self.panels.setCurrentRow(min(at, self.panels.count() - 1))
            self.columns.setValue(figure.columns if figure is not None else 2)
        self.rest.setVisible(bool(known))
        self.empty.setVisible(not known)

    def _change(self, given: dict) -> None:
        if self.figure is not None:
            self.desk.run("change-figure", {"figure": self.figure.name, **given})

    def _move(self, by: int) -> None:
        at, count = self.panels.currentRow(), self.panels.count()
        if at < 0 or not 0 <= at + by < count:
            return
        order = list(range(1, count + 1))
        order[at], order[at + by] = order[at + by], order[at]
        self._change({"order": ", ".join(map(str, order))})
        self.panels.setCurrentRow(at + by)

    def _leave_out(self) -> None:
        at, count = self.panels.currentRow(), self.panels.count()
        if at >= 0 and count > 1:
            self._change({"order": ", ".join(str(n) for n in range(1, count + 1) if n != at + 1)})

    def _preview(self) -> None:
        """Draw the figure as it would be written, and show it."""
        figure = self.figure
        if figure is None:
            return
        name, study = figure.name, self.study

        def work(progress):
            page = drawn_figure(study, name, dpi=PREVIEW, progress=progress)
            with TemporaryDirectory() as place:
                write_page(page, Path(place) / "figure.png")
                return (Path(place) / "figure.png").read_bytes()

        def show(data: bytes) -> None:
            picture = QPixmap()
            picture.loadFromData(data)
            sheet, room = QDialog(self.window()), self.window().size()
            sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
            sheet.setWindowTitle(name)
            seen, column = Words(), QVBoxLayout(sheet)
            small = QSize(round(room.width() * 0.8), round(room.height() * 0.8))
            smooth = Qt.TransformationMode.SmoothTransformation
            if picture.width() > small.width() or picture.height() > small.height():
                picture = picture.scaled(small, Qt.AspectRatioMode.KeepAspectRatio, smooth)
            seen.setPixmap(picture)
            seen.setAccessibleName("Preview of the figure")
            column.addWidget(seen)
            sheet.open()
            self.shown = sheet

        self.desk.session.work.start(
            f"Drawing {name}", work, show, lambda error: self.desk.session.trouble.emit(str(error)), "batch"
        )

    def _write(self) -> None:
        from ....core.operation import operation_called

        operation = operation_called("figure")
        if self.figure is not None and operation is not None:
            self.context.open_operation(operation).fill({"figure": self.figure.name})


GROUPS.add("figures", Group("figures", "Report", FiguresGroup, 30))
