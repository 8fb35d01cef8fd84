"""The light table while other things go on: images come and go, workers run, windows close, names are odd."""

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from kestrelmist.core.axis import Axis
from kestrelmist.core.image import Image
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.formats.saving import save_image
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import straight_space

ODD = ("", "  ", "../up", "<b>bold</b>", '"quoted"', "=1+1", "7", "名前", "x" * 300, "a/b#c@3")


class InterleavedTest(DeskCase):
    def setUp(self):
        super().setUp()
        sources = self.place / "in"
        sources.mkdir()
        rng = np.random.default_rng(1)
        for name in ("One", "Two"):
            values = rng.normal(100, 20, (24, 22, 20)).astype(np.float32)
            write_nifti(sources / f"{name}.nii", np.asfortranarray(values), straight_space((24, 22, 20), 1.0))
        run = np.asfortranarray(rng.normal(500, 5, (12, 11, 10, 700)).astype(np.float32))
        save_image(
            sources / "Run.nii", Image(run, straight_space((12, 11, 10), 2.0), axes=(Axis.even("time", 700, 1.1, "s"),))
        )
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=sources, subject="T-1")
            self.ids = {r.name: r.id for r in study.records()}
        self.window = self.open(self.place / "study")
        self.desk, self.viewing = self.window.desk, self.window.desk.viewing
        self.table, self.courses = self.window.table, self.window.desk.courses

    def show(self, name: str, settled: bool = True) -> None:
        self.viewing.show_image(self.ids[name])
        if settled:
            self.settle(self.window)

    def test_another_image_while_a_map_is_made(self):
        self.show("Run")
        self.viewing.go_to((0, 0, 0))
        self.courses.correlate(None)
        self.show("One", settled=False)
        self.desk.layers.lay_over(self.ids["Two"])
        self.settle(self.window)
        self.assertEqual(self.viewing.record.name, "One")  # the map is on the Shelf, and nothing has jumped
        made = [r.name for r in self.desk.study.records() if r.name.startswith("Run, r with")]
        self.assertEqual(len(made), 1)
        self.show("Run")
        self.courses.correlate(None)
        self.courses.hold()
        self.window.close()
        with Study(self.place / "study") as study:
            self.assertGreaterEqual(len(study.records()), 4)
        self.assertEqual(self.troubles, [])

    def test_a_film_while_images_go(self):
        self.show("Run")
        self.desk.film.set_rate(60)
        self.desk.film.start()
        pause(100)
        self.viewing.arrange(times=True)
        pause(60)
        self.desk.session.run("take-off", {"thing": self.ids["Run"]})
        pause(60)
        self.assertFalse(self.desk.film.playing)
        self.settle(self.window)
        self.desk.session.undo()
        self.show("Run")
        self.desk.film.start()
        pause(40)
        self.window.close()
        pause(60)
        self.assertEqual(self.troubles, [])

    def test_seven_hundred_volumes_on_one_sheet(self):
        self.show("Run")
        self.table.set_times(True)
        sheet = self.table.times.sheet
        self.settle(self.window)
        self.assertEqual(sheet.count, 700)
        self.assertGreaterEqual(sheet.side, 100)
        drawn = len(sheet._pictures)
        self.assertLess(drawn, 100)  # those in view, and no others
        self.table.times.bar.setValue(self.table.times.bar.maximum())
        self.settle(self.window)
        self.assertGreater(len(sheet._pictures), drawn)
        last = sheet.box(699)
        self.assertLessEqual(last.bottom(), sheet.height() + 1)
        QTest.keyClick(sheet, Qt.Key.Key_Right)
        self.settle(self.window)
        self.assertEqual(self.viewing.place, (1,))
        QTest.keyClick(sheet, Qt.Key.Key_Escape)
        self.assertFalse(sheet.isVisible())

    def test_a_stroke_ends_when_another_image_takes_the_lead(self):
        self.show("One")
        self.viewing.set_stage("Outline")
        outline = self.window.bench.outline
        QTest.keyClicks(outline.groups["labels"].new, "Spot")
        QTest.keyClick(outline.groups["labels"].new, Qt.Key.Key_Return)
        self.desk.beside.show([self.ids["One"], self.ids["Two"]])
        self.settle(self.window)
        self.desk.hand.set_tool("brush")
        self.desk.hand.set_settings(size=4.0)
        first, second = (pane.canvas for pane in self.table.beside)
        middle = QPoint(first.width() // 2, first.height() // 2)
        QTest.mousePress(first, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, middle)
        self.assertIsNotNone(self.desk.hand.gesture)
        self.desk.beside.make_lead(self.ids["Two"])
        self.assertIsNone(self.desk.hand.gesture)
        QTest.mouseMove(first, middle + QPoint(30, 0))
        QTest.mouseRelease(first, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, middle)
        self.settle(self.window)
        labels = self.desk.study.labels(self.ids["One"])
        painted = int(labels.counts[1])
        self.assertGreater(painted, 20)
        self.assertEqual(int(self.desk.study.labels(self.ids["Two"]).counts[1:].sum()), 0)
        # a press in a pane whose image does not lead makes it lead, and paints nothing
        QTest.mouseClick(first, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, middle + QPoint(40, 0))
        self.settle(self.window)
        self.assertEqual(self.viewing.record.name, "One")
        self.assertEqual(int(self.viewing.maps.labels.counts[1]), painted)
        self.desk.session.undo()
        self.settle(self.window)
        self.assertEqual(int(self.viewing.maps.labels.counts[1]), 0)
        self.assertTrue(second.isVisible())

    def test_changed_quickly_again_and_again(self):
        names = ("One", "Two", "Run")
        for n in range(12):
            self.viewing.show_image(self.ids[names[n % 3]])
            self.desk.beside.show([self.ids[names[(n + k) % 3]] for k in range(n % 4)])
            self.viewing.arrange(three=n % 2 == 0, own_axes=n % 5 == 0)
            self.desk.layers.lay_over(self.ids[names[(n + 1) % 3]])
            self.viewing.go_along(0, n)
            self.window.fold(n % 6 == 1)
            self.window.set_theme(("mist", "dusk")[n % 2])
            if n % 3 == 0:
                pause(15)
        self.settle(self.window)
        self.assertEqual(self.troubles, [])
        self.assertIsNotNone(self.table.working.canvas.render_pixels())

    def test_names_of_curves_and_stacks(self):
        self.show("Run")
        self.viewing.go_to((0, 0, 0))
        for name in ODD:
            before = len(self.troubles)
            self.desk.session.run("hold-course", {"image": self.ids["Run"], "point": (0.0, 0.0, 0.0), "name": name})
            self.settle(self.window)
            self.window.on_table.save(name)
            self.settle(self.window)
            if not name.strip():
                self.assertIn("A stack needs a name", self.troubles[-1])
            else:
                self.assertEqual(self.troubles[before:], [])
        held = [curve.name for _, curve in self.courses.held()]
        self.assertEqual(len(held), len(ODD))
        self.assertTrue(all(name.strip() for name in held))
        self.assertIn("<b>bold</b>", held)
        stacks = [words for words, _ in self.window.on_table.stacks()]
        self.assertEqual(len(stacks), len([n for n in ODD if n.strip()]))
        self.window.drawer.open_page("courses")
        self.settle(self.window)
        self.assertEqual(len(self.window.drawer.courses.rows), len(ODD))
        self.window.drawer.courses.save_csv(self.place / "odd.csv")
        head = (self.place / "odd.csv").read_text().splitlines()[0]
        self.assertIn("'=1+1", head)

    def test_in_a_window_that_may_only_read(self):
        self.show("Run")
        self.courses.hold()
        self.settle(self.window)
        other = self.open(self.place / "study")
        other.desk.viewing.show_image(self.ids["Run"])
        self.settle(other)
        troubles = []
        other.desk.session.trouble.connect(troubles.append)
        other.drawer.open_page("courses")
        self.settle(other)
        self.assertEqual(len(other.drawer.courses.rows), 1)  # it is seen and drawn
        for do in (
            other.desk.courses.hold,
            lambda: other.desk.courses.style(other.desk.courses.held()[0][0], width=3.0),
            lambda: other.on_table.save("Mine"),
        ):
            before = len(troubles)
            do()
            self.settle(other)
            self.assertEqual(len(troubles) - before, 1)
        other.desk.beside.show([self.ids["One"], self.ids["Two"]])
        self.settle(other)
        self.assertEqual(len(other.table.beside), 2)
        self.assertEqual(len(self.courses.held()), 1)
