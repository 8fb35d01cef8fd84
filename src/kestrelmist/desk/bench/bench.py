"""The Bench itself: one page a stage, and the Checks at its foot."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from ...core.operation import Operation
from ...operations import all_operations
from ...scene.colours import MAPS, first_map
from ..desk_model import Desk
from ..plan_table import PlanPage
from ..readout import GoTo
from .checks import ChecksList
from .gather import GatherBench
from .measure import MeasureBench
from .operation_list import OperationPages, plain_stage
from .outline import OutlineBench
from .places import PlacesPanel
from .report import ReportBench
from .rows import OnePage, number, row, section

WIDTH = 296


class LookPanel(QWidget):
    """Display range, colour map, labels, and where the crosshair is: the same in every stage."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk = desk
        self.low, self.high = number(-1e9, 1e9, 1, "", "Display range from"), number(-1e9, 1e9, 1, "", "Display range to")
        self.colours = QComboBox()
        self.colours.addItems(list(MAPS))
        self.colours.setAccessibleName("Colour map")
        self.reset = QPushButton("Reset")
        self.reset.setProperty("kind", "small")
        self.labels = QComboBox()
        self.labels.setAccessibleName("How labels are drawn")
        for words, look in (("Filled with edges", (0.35, True)), ("Edges only", (0.0, True)), ("Filled, strong", (0.7, False)), ("Off", (0.0, False))):
            self.labels.addItem(words, look)
        self.go = GoTo(desk)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        column.addWidget(section("Look"))
        self.places = PlacesPanel(desk)
        column.addWidget(self.places)
        column.addLayout(row("Range", self.low, self.high, width=56))
        line = row("Colours", self.colours, width=56)
        line.addWidget(self.reset)
        column.addLayout(line)
        column.addLayout(row("Labels", self.labels, width=56))
        column.addLayout(row("Go to", self.go, width=56))
        self.low.valueChanged.connect(lambda v: desk.set_look(low=v))
        self.high.valueChanged.connect(lambda v: desk.set_look(high=v))
        self.colours.textActivated.connect(lambda name: desk.set_look(colour_map=name))
        self.reset.clicked.connect(self._reset)
        self.labels.activated.connect(lambda _: desk.set_label_look(fill=self.labels.currentData()[0], edges=self.labels.currentData()[1]))
        desk.look_changed.connect(self._follow)
        desk.image_changed.connect(self._follow)

    def _reset(self) -> None:
        if self.desk.ready:
            low, high = self.desk.image.display_range()
            self.desk.set_look(low=low, high=high, colour_map=first_map(self.desk.image), smooth=True)

    def _follow(self) -> None:
        look = self.desk.look
        self.setVisible(look is not None)
        if look is None:
            return
        for field, value in ((self.low, look.low), (self.high, look.high)):
            field.blockSignals(True)
            field.setValue(value)
            field.blockSignals(False)
        self.colours.setCurrentText(look.colour_map)
        index = next((n for n in range(self.labels.count()) if self.labels.itemData(n) == (self.desk.label_look.fill, self.desk.label_look.edges)), 0)
        self.labels.setCurrentIndex(index)


class Bench(QWidget):
    """About 290 px on the right."""

    def __init__(self, desk: Desk, plan: PlanPage, open_drawer, save_picture, parent=None):
        super().__init__(parent)
        self.setObjectName("bench")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(WIDTH)
        self.desk = desk
        operations = list(all_operations().values())
        of = lambda stage: [o for o in operations if o.stage == stage]  # noqa: E731
        self.gather, self.outline, self.measure = GatherBench(desk, plan, of("gather")), OutlineBench(desk), MeasureBench(desk)
        self.pages: dict[str, OperationPages] = {
            "Gather": self.gather,
            "Prepare": plain_stage(desk, "Prepare", "Make new images from the one in the lead pane. The original stays.", of("prepare")),
            "Align": plain_stage(desk, "Align", "Place images in the world.", of("align")),
            "Outline": self.outline, "Measure": self.measure,
            "Report": ReportBench(desk, open_drawer, save_picture)}
        self.stack = OnePage()
        for widget in self.pages.values():
            self.stack.add(widget)
        self.look, self.checks = LookPanel(desk), ChecksList(desk, self.open_operation)
        inside = QWidget()
        inside.setProperty("kind", "scrolled")
        inner = QVBoxLayout(inside)
        inner.setContentsMargins(0, 0, 10, 0)
        inner.setSpacing(10)
        inner.addWidget(self.stack)
        inner.addWidget(self.look)
        inner.addStretch(1)
        inside.setFixedWidth(WIDTH - 26)
        scroll = QScrollArea(widgetResizable=True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFrameShape(QFrame.Shape.NoFrame)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidget(inside)
        column = QVBoxLayout(self)
        column.setContentsMargins(13, 10, 5, 10)
        column.setSpacing(8)
        column.addWidget(scroll, 1)
        foot = QVBoxLayout()
        foot.setContentsMargins(0, 0, 8, 0)
        foot.setSpacing(8)
        foot.addWidget(self.checks)
        self.surfaces, self.go_measure = QPushButton("Solid view large"), QPushButton("Measure these")
        self.go_measure.setProperty("kind", "primary")
        buttons = QHBoxLayout()
        buttons.addWidget(self.surfaces)
        buttons.addWidget(self.go_measure)
        self.outline_buttons = QWidget()
        self.outline_buttons.setLayout(buttons)
        buttons.setContentsMargins(0, 0, 0, 0)
        foot.addWidget(self.outline_buttons)
        column.addLayout(foot)
        self.go_measure.clicked.connect(self._measure)
        desk.stage_changed.connect(self._stage)
        desk.plan_shown.connect(lambda on: self.look.setVisible(not on and desk.look is not None))
        self._stage()

    def dress(self) -> None:
        self.outline.dress()

    def _stage(self) -> None:
        self.stack.show_page(self.pages[self.desk.stage])
        self.outline_buttons.setVisible(self.desk.stage == "Outline")

    def _measure(self) -> None:
        self.desk.set_stage("Measure")
        self.desk.run("measure labels", {})

    def open_operation(self, operation: Operation) -> None:
        """Go to an operation's stage and open its form."""
        stage = operation.stage.capitalize()
        self.desk.set_stage(stage)
        self.pages[stage].open(operation)
