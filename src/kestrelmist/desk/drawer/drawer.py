"""The Drawer above the Readout: tables of results, courses through time, and the logbook."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QApplication,
    QComboBox,
    QFileDialog,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QStackedWidget,
    QTableView,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...core.cells import harmless
from ...core.errors import Trouble
from ...core.table import Column, Table
from ...study.recipes.of_logbook import recipe_of
from ...study.recipes.text import as_yaml
from ..models.desk_model import Desk
from ..theme.theme import icon
from ..widgets.folding_row import FoldingRow
from .courses_page import CoursesPage
from .marks_page import MarksPage
from .results_page import ResultsPage
from .sections_page import SectionsPage
from .subjects_page import SubjectsPage
from .table_model import TableModel
from .table_view import plain_view

PAGES = ("tables", "logbook", "courses", "sections", "subjects", "marks")
LOW, MIDDLE, HIGH, MORE = 208, 262, 340, 32
"""Height in pixels; facts, of which there are many, get more; and what a second row of buttons takes."""
LINES = 2000
"""Lines of the logbook that are shown; the command `logbook` gives all."""


def _table_view(model: TableModel) -> QTableView:
    """A view of a table, sorted by a click on a heading; Ctrl+C copies the chosen rows."""
    view = plain_view(24)
    view.setModel(model)
    header = view.horizontalHeader()
    header.setSectionsClickable(True)
    header.setSortIndicatorClearable(True)
    header.setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
    view.setSortingEnabled(True)
    header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
    header.setResizeContentsPrecision(40)  # a look at some rows tells enough, however many there are
    header.setStretchLastSection(True)
    copy = QShortcut(QKeySequence.StandardKey.Copy, view)
    copy.setContext(Qt.ShortcutContext.WidgetShortcut)
    copy.activated.connect(lambda: copy_rows(view))
    return view


def copy_rows(view: QTableView) -> None:
    """Put the chosen rows, or all that are shown, on the clipboard as lines with tabs."""
    model = view.model()
    rows = sorted({i.row() for i in view.selectedIndexes()}) or range(model.rowCount())
    columns = range(model.columnCount())
    QApplication.clipboard().setText(
        "\n".join("\t".join(str(harmless(model.index(r, c).data())) for c in columns) for r in rows)
    )


class Drawer(QWidget):
    """Closed until there is something to show. Tables are read when they are looked at."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("drawer")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(LOW)
        self.desk, self.session = desk, desk.session
        self._fresh: list[Table] = []
        self.tables = ResultsPage(desk, _table_view)
        self.results, self.result_view = self.tables.model, self.tables.view
        self.logbook = TableModel()
        self.logbook_view = _table_view(self.logbook)
        self.logbook_view.setAccessibleName("Logbook")
        self.pages = QStackedWidget()
        self.pages.addWidget(self.tables)
        self.pages.addWidget(self.logbook_view)
        self.courses = CoursesPage(desk)
        self.pages.addWidget(self.courses)
        self.sections = SectionsPage(desk)
        self.pages.addWidget(self.sections)
        self.subjects = SubjectsPage(desk)
        self.pages.addWidget(self.subjects)
        self.marks = MarksPage(desk, _table_view)
        self.pages.addWidget(self.marks)
        self.which = QComboBox()
        self.which.setMinimumWidth(230)
        self.which.setMaximumWidth(330)
        self.which.setAccessibleName("Table to show")
        self.show_tables, self.show_logbook = QPushButton("Tables"), QPushButton("Logbook")
        self.show_courses, self.show_sections = QPushButton("Courses"), QPushButton("Sections")
        self.show_subjects, self.show_marks = QPushButton("Subjects"), QPushButton("Marks")
        self.save, self.copy = QPushButton("Save…"), QPushButton("Copy as YAML")
        self.plot = QPushButton("Plot")
        self.plot.setCheckable(True)
        self.plot.setToolTip("Histogram or points of the table's columns, and gates on them")
        self.save.setToolTip("Save the table as CSV or Parquet, with its units")
        self.shut = QToolButton()
        self.shut.setToolTip("Close the Drawer")
        self.shut.setAccessibleName("Close the Drawer")
        self.top = top = FoldingRow()
        buttons = (self.show_tables, self.show_courses, self.show_sections, self.show_marks, self.show_subjects)
        for button in (*buttons, self.show_logbook):
            button.setCheckable(True)
            button.setProperty("kind", "small")
            top.first.addWidget(button)
        top.first.addStretch()
        top.second.addWidget(self.which)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search")
        self.search.setAccessibleName("Search in the table")
        self.search.setClearButtonEnabled(True)
        self.search.setMaximumWidth(170)
        self.search.textChanged.connect(self._search)
        top.second.addWidget(self.search)
        top.second.addStretch()
        for button in (self.plot, self.save, self.copy):
            button.setProperty("kind", "small")
            top.second.addWidget(button)
        top.second.addWidget(self.shut)
        top.folded.connect(lambda _: self._fit_height())
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 6, 10, 8)
        column.setSpacing(6)
        column.addWidget(top)
        column.addWidget(self.pages, 1)
        self.show_tables.clicked.connect(lambda: self.open_page("tables"))
        self.show_courses.clicked.connect(lambda: self.open_page("courses"))
        self.show_sections.clicked.connect(lambda: self.open_page("sections"))
        self.show_subjects.clicked.connect(lambda: self.open_page("subjects"))
        self.show_marks.clicked.connect(lambda: self.open_page("marks"))
        self.show_logbook.clicked.connect(lambda: self.open_page("logbook"))
        self.shut.clicked.connect(self.hide)
        self.which.activated.connect(self._show)
        self.save.clicked.connect(self.ask_and_save)
        self.copy.clicked.connect(self.copy_yaml)
        self.plot.toggled.connect(self._plot)
        self.session.table_made.connect(self.add_table)
        self.session.logbook_changed.connect(self._logbook_moved)
        self.dress()
        self.hide()

    def dress(self) -> None:
        self.shut.setIcon(icon("x", 16))
        self.courses.dress()
        self.sections.dress()

    @property
    def page(self) -> str:
        return PAGES[self.pages.currentIndex()]

    @staticmethod
    def page_names() -> tuple[str, ...]:
        """Pages that can be opened."""
        return PAGES

    def open_page(self, page: str) -> None:
        """Open the Drawer on one of PAGES."""
        tables = page == "tables"
        if tables and not self._fresh and not self.which.count():
            self.list_tables()
            if self.which.count():
                self._show(0, open_it=False)
        self.pages.setCurrentIndex(PAGES.index(page))
        for button, name in (
            (self.show_tables, "tables"),
            (self.show_logbook, "logbook"),
            (self.show_courses, "courses"),
            (self.show_sections, "sections"),
            (self.show_subjects, "subjects"),
            (self.show_marks, "marks"),
        ):
            button.setChecked(page == name)
        self.search.setVisible(page in ("tables", "logbook"))
        self.which.setVisible(tables)
        self.save.setVisible(tables)
        self.plot.setVisible(tables)
        self.save.setEnabled(bool(self.which.count()))
        self.copy.setVisible(page == "logbook")
        self.top.fit()
        self._fit_height()
        self.show()
        fills = {"logbook": self.fill_logbook, "subjects": self.subjects.fill, "marks": self.marks.fill}
        fills.get(page, lambda: None)()

    def _fit_height(self) -> None:
        facts = self.page == "tables" and self.results.table.title.startswith("Facts")
        plotted = self.page == "tables" and self.tables.plotted
        height = HIGH if facts or plotted else MIDDLE if self.page in ("courses", "sections") else LOW
        self.setFixedHeight(height + (MORE if self.top.is_folded else 0))

    # tables

    def list_tables(self) -> None:
        """The study's tables by their titles, the newest first."""
        self.which.clear()
        for record in self.desk.study.tables():
            self.which.addItem(record.name, record.id)

    def add_table(self, table: Table) -> None:
        """A new result: listed first and shown."""
        self.list_tables()
        if self.desk.study.read_only:  # it is not kept, so it is not among them
            self._fresh.append(table)
            self.which.insertItem(0, table.title, -len(self._fresh))
        self.which.setCurrentIndex(0)
        self._put(table, self.which.currentData())
        self.open_page("tables")

    def _plot(self, on: bool) -> None:
        self.tables.set_plotted(on)
        self._fit_height()

    def _show(self, n: int, open_it: bool = True) -> None:
        key = self.which.itemData(n)
        table = self._fresh[-key - 1] if key < 0 else self.session.guarded(lambda: self.desk.study.table(key))
        if table is not None:
            self._put(table, key)
            if open_it:
                self.open_page("tables")

    def _put(self, table: Table, key: int | None) -> None:
        self.search.blockSignals(True)
        self.search.clear()
        self.search.blockSignals(False)
        self.tables.put(table, key if key is not None and key > 0 else None)
        if self.results.large:
            self._prepare_search(table)

    def _prepare_search(self, table: Table) -> None:
        """Make the texts that a large table is searched by, beside the window."""
        from ...formats.table_files import search_texts

        def made(texts) -> None:
            if self.results.table is table:
                self.results.texts = texts
                self._search(self.search.text())

        self.session.work.start("Preparing the search", lambda progress: search_texts(table), made, lane="preview")

    def _search(self, word: str) -> None:
        self.logbook.search(word)
        if not self.results.large or self.results.texts is not None or not word:
            self.results.search(word)

    def ask_and_save(self) -> None:
        start = str(Path.home() / f"{self.results.table.title.replace('/', '-')}.csv")
        name, _ = QFileDialog.getSaveFileName(self, "Save the table", start, "Table (*.csv *.parquet)")
        if name:
            self.save_table(Path(name))

    def save_table(self, path: Path) -> None:
        """Write the table shown, as CSV or Parquet by the name's ending, with its units."""
        from ...formats.saving import save_thing

        path = path if path.suffix.lower() in (".csv", ".parquet") else path.with_name(f"{path.name}.csv")
        table = self.results.table

        def saved(_) -> None:
            self.session.said.emit(f"Saved: {path.name}")

        def failed(error: BaseException) -> None:
            self.session.trouble.emit(str(error if isinstance(error, Trouble) else Trouble(str(error))))

        if table.count * len(table.columns) <= 20_000:
            try:
                save_thing(path, table)
            except Trouble as trouble:
                failed(trouble)
            else:
                saved(None)
            return
        self.session.work.start(
            f"Saving {path.name}", lambda progress: save_thing(path, table, progress), saved, failed
        )

    # the logbook

    def _logbook_moved(self) -> None:
        if self.isVisible() and self.page == "logbook":
            self.fill_logbook()

    def fill_logbook(self) -> None:
        table = Table("Logbook", [Column("when"), Column("took", "s", 1), Column("step")])
        for entry in self.desk.study.logbook.last(LINES):
            table.rows.append((entry.made[:16].replace("T", " "), entry.seconds, entry.sentence))
        self.logbook.show(table)
        self.logbook_view.resizeColumnsToContents()

    def copy_yaml(self) -> None:
        """Put the logbook on the clipboard as a recipe."""
        QApplication.clipboard().setText(as_yaml(recipe_of(self.desk.study.logbook.entries())))
        self.session.said.emit("The logbook is on the clipboard as a recipe.")
