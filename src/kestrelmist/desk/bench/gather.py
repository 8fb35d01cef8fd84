"""The Gather stage: choose or drop a folder, see its series, take them in."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import QCheckBox, QFileDialog, QFrame, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ...core.errors import Trouble
from ...core.image import Image
from ...formats.dicom_scan import Series, scan_folder
from ...formats.dicom_series import thumbnail_values
from ...formats.nifti import read_nifti
from ...formats.nifti import is_nifti
from ...gather.gather import gather_series
from ...operations import find_operation
from ...study.run import Call, keep
from ..desk_model import Desk
from .operation_list import OperationPages
from .rows import page, row, section, soft, title


class SeriesCard(QFrame):
    """One series before it is taken in: thumbnail, facts, problems, and the button that takes it."""

    def __init__(self, bench: GatherBench, series: Series, picture: QPixmap | None):
        super().__init__()
        self.setObjectName("card")
        self.bench, self.series = bench, series
        head = QHBoxLayout()
        thumb = QLabel()
        thumb.setFixedSize(58, 58)
        if picture:
            thumb.setPixmap(picture)
        name = QLabel(f"<b>{series.description}</b>")
        facts = soft()
        spacing = " × ".join(f"{s:.3g}" for s in series.spacing) + " mm" if series.spacing else "no spacing given"
        columns, rows = series.matrix
        facts.setText(f"{series.subject or 'no subject'} · {series.modality} · {series.date}<br>{columns} × {rows}, {series.depth} slices<br>{spacing}")
        words = QVBoxLayout()
        words.setSpacing(1)
        words.addWidget(name)
        words.addWidget(facts)
        head.addWidget(thumb, 0, Qt.AlignmentFlag.AlignTop)
        head.addLayout(words, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        column.setSpacing(6)
        column.addLayout(head)
        for problem in series.problems:
            line = QLabel(f"▲ {problem}.")
            line.setWordWrap(True)
            line.setProperty("kind", "soft")
            column.addWidget(line)
        buttons = QHBoxLayout()
        buttons.addStretch()
        self.mend = QPushButton("Take in, mended")
        self.mend.setToolTip("Missing slices are left blank, and the first of doubled ones is taken; both are noted")
        self.mend.setVisible(bool(series.missing or series.doubled))
        self.take = QPushButton("Take in")
        self.take.setProperty("kind", "primary")
        buttons.addWidget(self.mend)
        buttons.addWidget(self.take)
        column.addLayout(buttons)
        self.take.clicked.connect(lambda: bench.take([self.series], "refuse"))
        self.mend.clicked.connect(lambda: bench.take([self.series], "mend"))


class GatherBench(OperationPages):
    """Folder in, images out."""

    def __init__(self, desk: Desk):
        home, column = page()
        super().__init__(desk, home)
        self.folder: Path | None = None
        self.cards: list[SeriesCard] = []
        self.choose = QPushButton("Choose a folder…")
        self.choose.clicked.connect(self._ask)
        self.waiting = QPushButton()
        self.waiting.setProperty("kind", "link")
        self.waiting.clicked.connect(lambda: self.scan(Path(self.waiting.toolTip())))
        self.where = soft()
        self.subject, self.copy = QLineEdit(), QCheckBox("Copy the files into the study")
        self.subject.setPlaceholderText("as the files say")
        self.subject.setAccessibleName("Subject")
        self.copy.setChecked(True)
        self.copy.setToolTip("Otherwise the files stay where they are, and must stay there")
        column.addWidget(title("Gather"))
        column.addWidget(soft("Bring scans into the study. Drop a folder or a file anywhere in the window, or choose one."))
        column.addWidget(self.choose)
        column.addWidget(self.waiting)
        column.addWidget(self.where)
        self.options = QWidget()
        inner = QVBoxLayout(self.options)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.addLayout(row("Subject", self.subject, width=60))
        inner.addWidget(self.copy)
        column.addWidget(self.options)
        self.heading = section("Series found")
        column.addWidget(self.heading)
        self.list = QVBoxLayout()
        self.list.setSpacing(8)
        column.addLayout(self.list)
        self.facts = QPushButton("Facts of the image in the lead pane")
        self.facts.setProperty("kind", "link")
        self.facts.clicked.connect(lambda: desk.run("facts", {}))
        column.addWidget(self.facts)
        place = desk.study.catalogue.recall("waiting folder")
        self.waiting.setVisible(bool(place) and Path(place).exists())
        if place:
            self.waiting.setText("Look through the waiting scans")
            self.waiting.setToolTip(place)
        self.clear()
        desk.image_changed.connect(lambda: self.facts.setVisible(desk.record is not None))
        self.facts.setVisible(False)

    def clear(self) -> None:
        for card in self.cards:
            card.hide()
            card.deleteLater()
        self.cards = []
        self.heading.hide()
        self.options.hide()
        self.where.hide()

    def _ask(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Choose a folder with scans", str(self.folder or Path.home()))
        if name:
            self.scan(Path(name))

    def scan(self, folder: Path, done=None) -> None:
        """Look through a folder in a worker and lay out what it holds; a NIfTI file is taken in at once."""
        self.clear()
        self.folder = folder
        if folder.is_file() and is_nifti(folder):
            self.take([folder], "refuse", done)
            return
        self.where.setText(f"Looking through “{folder.name}” …")
        self.where.show()

        def look(progress):
            found = scan_folder(folder, progress)
            return found, [thumbnail_values(s) for s in found]

        def found(result):
            self._lay_out(folder, *result)
            if done:
                done()

        def failed(error):
            self.clear()
            self.desk.trouble.emit(str(error))

        self.desk.work.start(f"Looking through {folder.name}", look, found, failed)

    def _lay_out(self, folder: Path, series: list[Series], pictures) -> None:
        self.clear()
        self.where.setText(f"“{folder.name}” holds {len(series)} series.")
        for widget in (self.where, self.heading, self.options):
            widget.show()
        for one, values in zip(series, pictures):
            card = SeriesCard(self, one, None if values is None else _picture(values, 58))
            self.cards.append(card)
            self.list.addWidget(card)

    def take(self, what: list, uneven: str, done=None) -> None:
        """Take series or NIfTI files into the study, in a worker."""
        desk = self.desk
        subject, copy = self.subject.text().strip(), self.copy.isChecked()
        try:
            desk.require_writable()
        except Trouble as trouble:
            desk.trouble.emit(str(trouble))
            return
        names = [s.description if isinstance(s, Series) else s.name for s in what]

        def image_of(one) -> Image:
            if isinstance(one, Series):
                return gather_series(one, uneven, subject, copy)
            image = read_nifti(one)
            image.subject, image.origin.copy = subject or "Unnamed subject", copy
            return image

        def work(progress):
            images = [image_of(one) for one in what]
            folder = self.folder if self.folder else Path(what[0])
            call = Call(find_operation("gather"), {"folder": str(folder), "series": names[0] if len(what) == 1 and isinstance(what[0], Series) else None,
                                                   "subject": subject or None, "copy": copy, "uneven": uneven, "spacing": None})
            return keep(desk.study, call, images, progress)

        def kept(keys):
            desk.took_in(keys, f"Gather {names[0]}")
            if done:
                done()

        desk.work.start(f"Taking in {names[0]}", work, kept)


def _picture(values: np.ndarray, size: int) -> QPixmap:
    low, high = np.percentile(values, (2, 99.5))
    grey = np.ascontiguousarray(np.clip((values - low) / max(high - low, 1e-9) * 255, 0, 255).astype(np.uint8))
    image = QImage(grey.data, grey.shape[1], grey.shape[0], grey.shape[1], QImage.Format.Format_Grayscale8)
    pixmap = QPixmap.fromImage(image.scaled(size * 2, size * 2, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation))
    pixmap.setDevicePixelRatio(2)
    return pixmap
