"""The window: Path on top, Shelf, Light table and Bench below it, Drawer and Readout at the bottom."""

from __future__ import annotations

from pathlib import Path
from weakref import WeakSet

from PySide6.QtCore import QRect, Qt, QTimer, Signal
from PySide6.QtGui import QKeySequence, QPainter, QShortcut
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ...core.errors import Trouble
from ...core.operation import Operation
from ...core.person import letters, set_letters
from ...core.registry import FAILED
from ...study.study import Study
from ..bench.bench import Bench
from ..command import COMMANDS, Command
from ..drawer.drawer import Drawer
from ..light_table.light_table import LightTable
from ..light_table.plan_table import PlanPage
from ..light_table.strip import Strip
from ..models.desk_model import Desk
from ..pictures.page import PicturesPage
from ..recipes.page import RecipePage
from ..shelf.on_table import OnTable
from ..shelf.shelf import Shelf
from ..theme.theme import THEMES, Theme, apply_theme, mark
from ..tool import Tool
from ..widgets.plain_text import Words
from . import as_left
from .findable import Findable
from .finder import Finder
from .lost_study import GoneWatch
from .path_bar import PathBar
from .readout import Readout
from .review import Review
from .sheet import Sheet
from .tidying import Tidying


class Message(Words):
    """A sentence over the Light table: a trouble stays until clicked, a notice goes by itself."""

    turned = Signal()
    """It has come or gone."""

    def __init__(self, parent):
        super().__init__(parent=parent)
        self.setObjectName("trouble")
        self.setWordWrap(True)
        self.setMargin(12)
        self.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self._timer = QTimer(self, singleShot=True)
        self._timer.timeout.connect(self.hide)
        self.hide()

    def say(self, text: str, stay: bool) -> None:
        self.setText(text)
        self.setToolTip("Click to close" if stay else "")
        width = min(560, max(240, self.parent().width() - 60))
        self.setFixedWidth(width)
        self.adjustSize()
        self.setFixedHeight(self.heightForWidth(width))
        self.move((self.parent().width() - width) // 2, self.parent().height() - self.height() - 18)
        if self.isVisible():
            self.turned.emit()  # it may be taller now
        self.show()
        self.raise_()
        self._timer.stop()
        self._timer.start(20_000 if stay else 3500)

    def mousePressEvent(self, event) -> None:
        self.hide()

    def showEvent(self, event) -> None:
        super().showEvent(event)
        self.turned.emit()

    def hideEvent(self, event) -> None:
        super().hideEvent(event)
        self.turned.emit()


class Window(QMainWindow):
    """Everything, around one Desk."""

    closed = Signal()
    study_wanted = Signal(object)
    """A folder whose study is to be opened in place of this one."""

    def __init__(self, study: Study):
        super().__init__()
        self.desk = Desk(study, self)
        self.desk.read_ahead()
        self.setWindowTitle(f"{study.name} · Kestrelmist")
        self.setWindowIcon(mark(32))
        self.setAcceptDrops(True)
        self.setMinimumSize(1000, 620)
        self.setLayoutDirection(Qt.LayoutDirection.LeftToRight)
        self.resize(1280, 800)
        self.path, self.shelf, self.table = PathBar(self.desk), Shelf(self.desk), LightTable(self.desk)
        self.drawer, self.readout = Drawer(self.desk), Readout(self.desk)
        self.plan = PlanPage()
        self.desk.viewing.stage_changed.connect(self._keep_focus)  # before the Bench shows another page
        self.bench = Bench(self.desk, self.plan, self.drawer.open_page, self.ask_and_save_picture)
        self.middle = QStackedWidget()
        self.middle.addWidget(self.table)
        self.middle.addWidget(self.plan)
        self.pictures = PicturesPage(self.desk.collection)
        self.middle.addWidget(self.pictures)
        self.recipes = RecipePage(self.desk.recipes, self.desk.viewing)
        self.middle.addWidget(self.recipes)
        self.desk.collection.opened.connect(self._lay_over)
        self.desk.recipes.opened.connect(self._lay_over)
        self.session, self.viewing, self.hand = self.desk.session, self.desk.viewing, self.desk.hand
        self.viewing.plan_shown.connect(self._lay_over)
        self.viewing.stage_changed.connect(self._lay_over)
        centre = QWidget()
        centre.setObjectName("ground")
        middle = QVBoxLayout()
        middle.setSpacing(0)
        self.strip = Strip(self.desk, self.table)
        middle.addWidget(self.strip)
        middle.addWidget(self.middle, 1)
        middle.addWidget(self.drawer)
        across = QHBoxLayout()
        across.setSpacing(0)
        self.left = QWidget()
        left = QVBoxLayout(self.left)
        left.setContentsMargins(0, 0, 0, 0)
        left.setSpacing(0)
        self.on_table = OnTable(self.desk)
        left.addWidget(self.on_table)
        left.addWidget(self.shelf, 1)
        across.addWidget(self.left)
        across.addLayout(middle, 1)
        across.addWidget(self.bench)
        column = QVBoxLayout(centre)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.path)
        column.addLayout(across, 1)
        column.addWidget(self.readout)
        self.setCentralWidget(centre)
        self.findable = Findable(
            self.desk, self.on_table, self._take_tool, self._open_form, self._do, self.study_wanted.emit
        )
        self.finder = Finder(centre, study, self.findable.fixed, self.findable.images)
        self.message = Message(self.middle)
        self.message.turned.connect(self._make_room)
        self.sheet = Sheet(centre)
        self.table.rearranged.connect(self._listen)
        self._heard: WeakSet = WeakSet()
        self._listen()
        self.session.trouble.connect(lambda text: self.message.say(text, True))
        self.session.work.begun.connect(self.message.hide)
        self.session.said.connect(lambda text: self.message.say(text, False))
        self.watch, self._leaving = GoneWatch(self.session, self), False
        self.watch.saved.connect(self._saved_elsewhere)
        self.session.asked.connect(lambda asks, again, given: Review(asks, again, given, self).open())
        self.path.find.connect(self.finder.open)
        self.on_table.find.connect(self.finder.open)
        self.bench.surfaces.clicked.connect(lambda: self.table.bring_to_lead(self.table.solid))
        self.tidying = Tidying(self.desk, self)
        self._shortcuts()
        theme = study.catalogue.recall("theme", Theme.name)
        if theme != Theme.name and theme in THEMES:
            self.set_theme(theme)

    def _listen(self) -> None:
        """The pointer over any pane is told of below and on the Bench."""
        for pane in self.table.all_slices:
            if pane.canvas not in self._heard:
                self._heard.add(pane.canvas)
                pane.canvas.pointed.connect(self.readout.point)
                pane.canvas.pointed.connect(self.bench.here.point)

    def _keep_focus(self) -> None:
        """The keyboard goes to the picture when the page it was on goes; Qt would take whatever comes next, and Space
        would press that."""
        focused = QApplication.focusWidget()
        if focused is not None and self.bench.isAncestorOf(focused):
            self.table.lead.canvas.setFocus()

    def _lay_over(self, *_) -> None:
        """The plan lies over the panes in Gather, as long as there is one; so do pictures in Prepare, a recipe in
        Report."""
        stage, over = self.viewing.stage, self.table
        if stage == "Gather" and self.plan.model.lines:
            over = self.plan
        elif stage == "Prepare" and self.desk.collection.is_open:
            over = self.pictures
        elif stage == "Report" and self.desk.recipes.is_open:
            over = self.recipes
        self.middle.setCurrentWidget(over)
        self.strip.setVisible(over is not self.recipes)
        self._make_room()

    def _make_room(self) -> None:
        """Panes have nothing to press where a sentence comes; of pages that have, it covers nothing."""
        over = self.message.isVisibleTo(self.middle) and self.middle.currentWidget() is not self.table
        self.middle.setContentsMargins(0, 0, 0, self.message.height() + 30 if over else 0)

    def start(self) -> None:
        """Show what was shown last time."""
        if self.desk.study.read_only:
            self.session.trouble.emit(f"This study can only be read here: {self.desk.study.catalogue.why_read_only}.")
        if self.desk.study.notices:
            self.session.trouble.emit("\n".join(f"{notice}." for notice in self.desk.study.notices))
        if FAILED:
            self.session.trouble.emit("\n".join(FAILED))
        self.table.lead.canvas.setFocus()
        as_left.put_back(self)
        self.desk.restore_view()

    @property
    def settled(self) -> bool:
        """Whether nothing is still being read, checked or drawn."""
        solid = self.table.solid.canvas.settled or not self.viewing.ready
        calm = self.session.work.idle and self.desk.tiles.idle and self.desk.previewing.settled
        calm = calm and self.pictures.reader.idle and self.session.following.settled
        calm = calm and self.desk.recipes.settled
        return calm and self.bench.checks.settled and solid and self.table.sheet.canvas.settled

    def _shortcuts(self) -> None:
        for one in COMMANDS:
            for keys in () if one.pane else one.keys:
                QShortcut(QKeySequence(keys), self).activated.connect(lambda one=one: one.do(self))

    def toggle_drawer(self, page: str) -> None:
        """Open the Drawer on a page, or close it when that page is seen."""
        if self.drawer.isVisible() and self.drawer.page == page:
            self.drawer.hide()
        else:
            self.drawer.open_page(page)

    @property
    def folded(self) -> bool:
        """Whether the Shelf and the Bench are folded away."""
        return self.left.isHidden()

    def fold(self, on: bool) -> None:
        """Fold the Shelf, the Bench and the Drawer away; or bring them back, with the standard arrangement."""
        if not on:
            self.table.restore()
        self.left.setVisible(not on)
        self.bench.setVisible(not on)
        self.drawer.hide()
        self.table.working.canvas.setFocus()

    def _do(self, one: Command) -> None:
        one.do(self.table.working.canvas if one.pane else self)

    def _open_form(self, operation: Operation) -> None:
        """A form that was asked for by the keyboard is filled in by it."""
        self.bench.open_operation(operation)
        form = self.bench.page(operation.stage.capitalize()).form
        if form is not None:
            form.focus_first()

    def _take_tool(self, tool: Tool) -> None:
        if tool.stages and self.viewing.stage not in tool.stages:
            self.viewing.set_stage(tool.stages[0])
        elif not tool.stages and tool.offered:
            self.viewing.set_stage("Outline")
        self.hand.set_tool(tool.name)

    def fit_all(self) -> None:
        for pane in self.table.all_slices:
            pane.canvas.fit()

    def set_theme(self, name: str) -> None:
        """Dress the whole window in "mist" or "dusk"."""
        apply_theme(QApplication.instance(), name)
        for part in (self.path, self.drawer, self.bench, self.plan, self.pictures, self.recipes, self.strip):
            part.dress()
        self.shelf.fill()
        self.on_table.dress()
        try:
            if not self.desk.study.read_only:
                self.desk.study.catalogue.remember("theme", name)
        except Trouble:
            pass  # the theme is on; only remembering it failed

    def ask_and_save_picture(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, "Save the lead picture", str(Path.home() / "picture.png"), "Picture (*.png)"
        )
        if name:
            self.save_lead_picture(Path(name))

    def save_lead_picture(self, path: Path) -> None:
        """The lead pane as PNG, with letters and scale bar."""
        pane = self.table.lead
        if not pane.canvas.grab().save(str(path)):
            self.session.trouble.emit(str(Trouble("The picture could not be written", "choose another place", path)))

    def copy_picture(self) -> None:
        """The lead pane on the clipboard, with letters and bars."""
        QApplication.clipboard().setPixmap(self.table.lead.canvas.grab())
        self.session.said.emit("The picture is on the clipboard.")

    def ask_and_print(self) -> None:
        """The lead pane on paper, as large as the page has room for."""
        from PySide6.QtPrintSupport import QPrintDialog, QPrinter

        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        dialog = QPrintDialog(printer, self)
        if dialog.exec():
            self.print_picture(printer)

    def print_picture(self, printer) -> None:
        picture = self.table.lead.canvas.grab()
        with QPainter(printer) as painter:
            room = painter.viewport()
            size = picture.size().scaled(room.size(), Qt.AspectRatioMode.KeepAspectRatio)
            painter.drawPixmap(QRect(room.topLeft(), size), picture)

    def set_letters(self, by: float | None) -> None:
        """Draw everything larger or smaller, from the next start on; the usual size for None."""
        size = set_letters(1.0 if by is None else letters() + by)
        self.session.said.emit(f"Letters of {size:.0%} of the usual size from the next start on.")

    def ask_and_open(self) -> None:
        name = QFileDialog.getExistingDirectory(
            self, "Open a study, or choose an empty folder for a new one", str(self.desk.study.folder.parent)
        )
        if name:
            self.study_wanted.emit(Path(name))

    def gather(self, places: list[Path]) -> None:
        """Bring dropped or given folders and files to the Gather Bench."""
        self.viewing.set_stage("Gather")
        self.bench.gather.scan(places)

    def dragEnterEvent(self, event) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event) -> None:
        places = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if places:
            event.acceptProposedAction()
            self.gather(places)

    def leave(self) -> None:
        """Close, whatever is lost with a study that has gone."""
        self._leaving = True
        self.close()

    def _saved_elsewhere(self, folder: Path) -> None:
        self._leaving = True
        self.study_wanted.emit(folder)

    def closeEvent(self, event) -> None:
        if self.watch.gone and not self._leaving:
            event.ignore()
            self.watch.ask(self.leave)
            return
        as_left.remember(self)
        self.table.solid.canvas.close_process()
        self.pictures.reader.close()
        for window in list(self.table.floating):
            window.hide()
            window.deleteLater()
        try:
            self.desk.close()
        except Trouble as trouble:
            # the journal holds everything; only the tidy-up at the end failed
            print(trouble)
        event.accept()
        self.closed.emit()
