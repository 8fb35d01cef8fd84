"""Every page, form and dialog, in both themes, at 1280 × 800 and with letters a quarter larger: nothing is cut or lies
over something else, every control is reached by Tab and has a name, and words are dark enough."""

import numpy as np
from PySide6.QtWidgets import QLineEdit, QPushButton, QVBoxLayout, QWidget

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Asks
from kestrelmist.core.image import Image
from kestrelmist.core.operation import all_operations
from kestrelmist.core.table import Column, Table
from kestrelmist.desk.app import application
from kestrelmist.desk.drawer.drawer import PAGES
from kestrelmist.desk.models.desk_model import STAGES
from kestrelmist.desk.shell.review import Review
from kestrelmist.desk.widgets.plain_text import Words
from kestrelmist.formats.saving import save_image
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import two_balls
from tests.walking import faults

USUAL, LARGER = (1280, 800), (1024, 640)
"""A window of 1280 × 800, and what is left of one when everything is drawn a quarter larger."""
COLOURED = 9
"""Of so many forms one is looked at for the contrast of its words."""


class WalkTest(DeskCase):
    def study_to_walk(self) -> None:
        """An image with labels and marks, a series, a second subject, curves, a table."""
        balls = two_balls()
        values = np.stack([balls.data.astype(np.float32) + n for n in range(4)], axis=3)
        run = Image(values, balls.space, "Run", "T-1", axes=(Axis.even("time", 4, 2.0, "s"),))
        with Study(self.place / "study", create=True) as study:
            for image, subject in ((balls, "T-1"), (run, "T-1"), (two_balls(), "A subject with a long name")):
                path = self.place / f"{image.name}.nii.gz"
                save_image(path, image)
                study.run("gather", folder=path, subject=subject)
            first = study.records()[0].id
            study.run("threshold", image=first, label="A label with a long name", low=500.0, high=2000.0)
            study.run("profile", image=first, from_=(-5, 0, 0), to=(5, 0, 0), name="Across")
            study.run("measure-labels", labels=study.in_hand(first))

    def walk(self, size: tuple[int, int], theme: str) -> None:
        self.study_to_walk()
        window = self.open(self.place / "study")
        window.set_theme(theme)
        window.resize(*size)
        self.addCleanup(window.set_theme, "mist")
        self.settle(window)
        self.assertEqual((window.width(), window.height()), size)
        found: dict[str, str] = {}

        def look(where: str, colours: bool = True, root=None) -> None:
            seen = faults(root or window, colours)
            for _ in range(
                12
            ):  # what is still being laid out lies right in a moment, on a busy machine in a longer one
                if not seen:
                    break
                pause(120)
                seen = [fault for fault in faults(root or window, colours) if fault in seen]
            for fault in seen:
                found.setdefault(fault, where)

        desk = window.desk
        for stage in STAGES:
            desk.viewing.set_stage(stage)
            self.settle(window)
            look(f"page {stage}")
        for page in PAGES:
            window.drawer.open_page(page)
            pause(30)
            look(f"drawer {page}")
        window.drawer.hide()
        for part in (window.finder, window.sheet):
            part.open()
            pause(60)
            look(type(part).__name__, root=part)
            part.hide()
        for n, (name, operation) in enumerate(all_operations().items()):
            desk.viewing.set_stage(operation.stage.capitalize())
            window.bench.open_operation(operation)
            pause(20)
            look(f"form {name}", n % COLOURED == 0)
        self.assertEqual(found, {}, "\n".join(f"{where}: {fault}" for fault, where in found.items()))
        table = Table("Texts", [Column("file"), Column("text")], [("a.dcm", "A. Person")])
        asks = Asks("Texts stay", "look through them", None, table=table, setting="texts", answer="kept", more="words")
        review = Review(asks, lambda more: None, {}, window)
        review.show()
        pause(30)
        self.assertEqual(faults(review), [])
        review.close()

    def test_in_mist_at_the_usual_size(self):
        self.walk(USUAL, "mist")

    def test_in_dusk_with_larger_letters(self):
        self.walk(LARGER, "dusk")

    def test_what_is_wrong_is_found(self):
        """The walk itself: a window with one of each fault."""
        application()
        window = QWidget()
        self.addCleanup(window.deleteLater)
        window.resize(300, 200)
        cut, over, pale = Words("Words that have no room at all"), QPushButton("Over it"), Words("pale words")
        unnamed, outside = QLineEdit(), QPushButton("Outside")
        for n, one in enumerate((cut, over, unnamed, outside, pale)):
            one.setParent(window)
            one.setGeometry(10, 10 + 35 * n, 90, 28)
        over.setGeometry(60, 10, 90, 28)
        outside.setGeometry(260, 115, 90, 28)
        pale.setStyleSheet("color: #9aa5aa; background: #e4e9ea;")
        window.show()
        pause(30)
        said = "\n".join(faults(window))
        for words in ("needs", "lies over", "has no accessible name", "too wide", "has a contrast of"):
            self.assertIn(words, said)
        tidy = QWidget()
        self.addCleanup(tidy.deleteLater)
        column = QVBoxLayout(tidy)
        column.addWidget(Words("Words with room"))
        column.addWidget(QPushButton("A button"))
        tidy.show()
        pause(30)
        self.assertEqual(faults(tidy), [])
