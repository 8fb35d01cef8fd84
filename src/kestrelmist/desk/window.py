"""The window: Path on top, Shelf, Light table and Bench below it, Drawer and Readout at the bottom."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QTimer, Qt, Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QApplication, QFileDialog, QHBoxLayout, QLabel, QMainWindow, QStackedWidget, QVBoxLayout, QWidget

from ..core.errors import Trouble
from ..operations import all_operations
from ..study.study import Study
from .bench.bench import Bench
from .desk_model import STAGES, Desk
from .drawer import Drawer
from .finder import Entry, Finder
from .light_table.hand_tools import TOOLS
from .light_table.light_table import LightTable
from .path_bar import PathBar
from .plan_table import PlanPage
from .readout import Readout
from .shelf import Shelf
from .theme.theme import Theme, apply_theme, mark


class Message(QLabel):
    """A sentence over the Light table: a trouble stays until clicked, a notice goes by itself."""

    def __init__(self, parent):
        super().__init__(parent)
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
        self.show()
        self.raise_()
        self._timer.stop()
        self._timer.start(20_000 if stay else 3500)

    def mousePressEvent(self, event) -> None:
        self.hide()


class Window(QMainWindow):
    """Everything, around one Desk."""

    closed = Signal()

    def __init__(self, study: Study):
        super().__init__()
        self.desk = Desk(study, self)
        self.setWindowTitle(f"{study.name} · Kestrelmist")
        self.setWindowIcon(mark(32))
        self.setAcceptDrops(True)
        self.setMinimumSize(1000, 620)
        self.resize(1280, 800)
        self.path, self.shelf, self.table = PathBar(self.desk), Shelf(self.desk), LightTable(self.desk)
        self.drawer, self.readout = Drawer(self.desk), Readout(self.desk)
        self.plan = PlanPage()
        self.bench = Bench(self.desk, self.plan, self.drawer.open_page, self.ask_and_save_picture)
        self.middle = QStackedWidget()
        self.middle.addWidget(self.table)
        self.middle.addWidget(self.plan)
        self.desk.plan_shown.connect(self._lay_over)
        self.desk.stage_changed.connect(self._lay_over)
        centre = QWidget()
        centre.setObjectName("ground")
        middle = QVBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.middle, 1)
        middle.addWidget(self.drawer)
        across = QHBoxLayout()
        across.setSpacing(0)
        across.addWidget(self.shelf)
        across.addLayout(middle, 1)
        across.addWidget(self.bench)
        column = QVBoxLayout(centre)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.path)
        column.addLayout(across, 1)
        column.addWidget(self.readout)
        self.setCentralWidget(centre)
        self.finder, self.message = Finder(centre, self._entries), Message(self.middle)
        for pane in self.table.slices:
            pane.canvas.pointed.connect(self.readout.point)
        self.desk.trouble.connect(lambda text: self.message.say(text, True))
        self.desk.said.connect(lambda text: self.message.say(text, False))
        self.path.find.connect(self.finder.open)
        self.bench.surfaces.clicked.connect(lambda: self.table.bring_to_lead(self.table.solid))
        self._shortcuts()
        theme = study.catalogue.recall("theme", Theme.name)
        if theme != Theme.name:
            self.set_theme(theme)

    def _lay_over(self, *_) -> None:
        """The plan lies over the panes in Gather, as long as there is one."""
        self.middle.setCurrentWidget(self.plan if self.desk.stage == "Gather" and self.plan.model.lines else self.table)

    def start(self) -> None:
        """Show what was shown last time."""
        if self.desk.study.read_only:
            self.desk.trouble.emit(f"This study can only be read here: {self.desk.study.catalogue.why_read_only}.")
        self.table.lead.canvas.setFocus()
        self.desk.restore_view()

    @property
    def settled(self) -> bool:
        """Whether nothing is still being read, checked or drawn."""
        return self.desk.work.idle and self.bench.checks.settled and (self.table.solid.canvas.settled or not self.desk.ready)

    def _shortcuts(self) -> None:
        stack = self.desk.undo
        for keys, do in (("Ctrl+K", self.finder.open), ("Ctrl+Z", stack.undo), ("Ctrl+Shift+Z", stack.redo), ("Ctrl+Y", stack.redo),
                         ("Ctrl+L", lambda: self._toggle_drawer("logbook")), ("Ctrl+T", lambda: self._toggle_drawer("tables")),
                         ("F11", lambda: self.table.set_alone(not self.table.alone))):
            QShortcut(QKeySequence(keys), self).activated.connect(do)
        for n, stage in enumerate(STAGES, 1):
            QShortcut(QKeySequence(f"Alt+{n}"), self).activated.connect(lambda s=stage: self.desk.set_stage(s))

    def _toggle_drawer(self, page: str) -> None:
        if self.drawer.isVisible() and self.drawer.pages.currentIndex() == (0 if page == "tables" else 1):
            self.drawer.hide()
        else:
            self.drawer.open_page(page)

    def _entries(self) -> list[Entry]:
        """All that the Finder can find."""
        desk = self.desk
        found = [Entry("tool", t.title, t.hint, lambda t=t: self._take_tool(t.name)) for t in TOOLS]
        found += [Entry("tool", o.title, f"{o.stage} {o.keywords} {o.summary}", lambda o=o: self.bench.open_operation(o))
                  for o in all_operations().values() if o.name not in ("grow", "paint", "erase")]
        found += [Entry("stage", s, "", lambda s=s: desk.set_stage(s)) for s in STAGES]
        found += [Entry("image", f"{r.name} of {r.subject}", r.short_facts, lambda r=r: desk.show_image(r.id)) for r in desk.study.records()]
        found += [
            Entry("setting", "Swap left and right", "side convention radiological neurological feet above", lambda: desk.set_left_on_left(not desk.left_on_left)),
            Entry("setting", "Theme mist", "light colours", lambda: self.set_theme("mist")),
            Entry("setting", "Theme dusk", "dark colours night", lambda: self.set_theme("dusk")),
            Entry("setting", "Smooth or true voxels", "interpolation", lambda: desk.look and desk.set_look(smooth=not desk.look.smooth)),
            Entry("setting", "One pane or four", "arrangement layout", lambda: self.table.set_alone(not self.table.alone)),
            Entry("setting", "Fit the image into the panes", "zoom reset", self.fit_all),
            Entry("setting", "Go to the origin", "crosshair zero jump", lambda: desk.go_to((0.0, 0.0, 0.0))),
            Entry("setting", "Go to the centre of the image", "crosshair middle jump", lambda: desk.record and desk.go_to(desk.record.space.centre)),
            Entry("setting", "Logbook", "history steps recipe yaml", lambda: self.drawer.open_page("logbook")),
            Entry("setting", "Tables", "results csv", lambda: self.drawer.open_page("tables")),
            Entry("setting", "Open another study…", "folder", self.ask_and_open),
        ]
        return found

    def _take_tool(self, name: str) -> None:
        self.desk.set_stage("Gather" if name == "frame" else "Outline")
        self.desk.set_tool(name)

    def fit_all(self) -> None:
        for pane in self.table.slices:
            pane.canvas.fit()

    def set_theme(self, name: str) -> None:
        """Dress the whole window in "mist" or "dusk"."""
        apply_theme(QApplication.instance(), name)
        for part in (self.path, self.drawer, self.bench, self.plan):
            part.dress()
        self.shelf.fill()
        try:
            if not self.desk.study.read_only:
                self.desk.study.catalogue.remember("theme", name)
        except Trouble:
            pass  # the theme is on; only remembering it failed

    def ask_and_save_picture(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save the lead picture", str(Path.home() / "picture.png"), "Picture (*.png)")
        if name:
            self.save_lead_picture(Path(name))

    def save_lead_picture(self, path: Path) -> None:
        """The lead pane as PNG, with letters and scale bar."""
        pane = self.table.lead
        if not pane.canvas.grab().save(str(path)):
            self.desk.trouble.emit(str(Trouble("The picture could not be written", "choose another place", path)))

    def ask_and_open(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Open a study, or choose an empty folder for a new one", str(self.desk.study.folder.parent))
        if name:
            from .app import open_window

            try:
                other = open_window(Path(name))
            except Trouble as trouble:
                self.desk.trouble.emit(str(trouble))
                return
            other.show()
            self.close()

    def gather(self, places: list[Path]) -> None:
        """Bring dropped or given folders and files to the Gather Bench."""
        self.desk.set_stage("Gather")
        self.bench.gather.scan(places)

    def dragEnterEvent(self, event) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event) -> None:
        places = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if places:
            event.acceptProposedAction()
            self.gather(places)

    def closeEvent(self, event) -> None:
        self.table.solid.canvas.close_process()
        try:
            self.desk.close()
        except Trouble as trouble:
            # the journal holds everything; only the tidy-up at the end failed
            print(trouble)
        self.desk.undo.blockSignals(True)  # the stack empties itself after the widgets that listen to it are gone
        event.accept()
        self.closed.emit()
