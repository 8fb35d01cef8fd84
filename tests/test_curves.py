"""Courses that are held: as things of a study, in the Drawer, as seeds, and outside the program."""

import csv

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrelmist.core.axis import Axis
from kestrelmist.core.curve import Curve
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.progress import silent
from kestrelmist.formats.curve_files import curve_table, read_curve
from kestrelmist.formats.saving import save_image, save_thing
from kestrelmist.measure.correlate import correlate
from kestrelmist.measure.hold_course import hold_course
from kestrelmist.measure.seed import seed_at
from kestrelmist.measure.timeline import Timeline
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.desk_case import DeskCase, pause
from tests.making import PlaceCase, straight_space

COUNT, STEP, SHAPE = 40, 1.5, (10, 9, 8)
WAVE = np.sin(2 * np.pi * 4 * np.arange(COUNT) / COUNT)
SLOW = np.linspace(-1, 1, COUNT)


def run() -> Image:
    """1000 and noise; a wave in the left half, a slow rise everywhere."""
    data = 1000 + np.random.default_rng(4).normal(0, 2, (*SHAPE, COUNT)) + 30 * SLOW
    data[:5] += 20 * WAVE
    axes = (Axis.even("time", COUNT, STEP, "s"),)
    data = np.asfortranarray(data.astype(np.float32))
    return Image(data, straight_space(SHAPE, 1.0), "Run", "T-1", axes=axes)


class CurveTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.image = run()
        self.labels = LabelMap(self.image.space)
        self.place3 = tuple(self.image.space.to_world((2, 4, 3)))

    def test_what_is_held_is_the_course(self):
        curve = hold_course(self.image, self.labels, self.place3, name="Left", dashes="dashed")
        np.testing.assert_allclose(curve.values, self.image.data[2, 4, 3])
        np.testing.assert_allclose(curve.along, STEP * np.arange(COUNT))
        self.assertEqual((curve.along_unit, curve.step, curve.dashes, curve.name), ("s", STEP, "dashed", "Left"))
        seed = seed_at(self.image, self.labels, self.place3, 3.0, "")
        timeline = Timeline(self.image)
        self.assertFalse(timeline.ready)
        slow = timeline.course(seed, silent())
        timeline.load(silent())
        self.assertTrue(timeline.ready and timeline.quick(len(seed.voxels)))
        np.testing.assert_allclose(timeline.course(seed, silent()), slow, rtol=1e-6)

    def test_a_course_lies_at_one_place_of_the_other_axes(self):
        data = np.stack([self.image.data, self.image.data * 2], -1)
        axes = (*self.image.axes, Axis("echo", 2))
        image = Image(lambda index, progress: data[..., index[0], index[1]], self.image.space, "Run", "T-1", axes=axes)
        seed = seed_at(image, self.labels, self.place3, 0.0, "")
        for echo in (0, 1):
            timeline = Timeline(image, (5, echo))
            self.assertFalse(timeline.ready)
            for _ in range(2):  # read one by one, then from memory
                np.testing.assert_allclose(timeline.course(seed, silent()), data[2, 4, 3, :, echo], rtol=1e-6)
                timeline.load(silent())
        self.assertEqual(timeline.others, (0, 1))

    def test_written_and_read_again(self):
        curve = Curve(np.array([1.5, np.nan, 3.0]), np.array([0.0, 2.0, 4.0]), "s", "HU", name="=1+1")
        path = self.place / "curve.csv"
        save_thing(path, curve)
        again = read_curve(path)
        np.testing.assert_allclose(again.values, curve.values)
        np.testing.assert_allclose(again.along, curve.along)
        self.assertEqual((again.along_unit, again.unit), ("s", "HU"))
        bare = Curve(np.arange(4.0), name="n")
        table = curve_table([bare, bare])
        self.assertEqual([c.name for c in table.columns], ["volume", "n", "n 2"])
        with self.assertRaisesRegex(Trouble, "do not have the same times"):
            curve_table([bare, curve])
        (self.place / "words.csv").write_text("a,b\nx,y\n")
        with self.assertRaisesRegex(Trouble, "no column of numbers"):
            read_curve(self.place / "words.csv")

    def test_wrong_styles_are_refused(self):
        for more in ({"colour": "red"}, {"colour": "#12345G"}, {"width": 0}, {"width": 99.0}, {"dashes": "wavy"}):
            with self.assertRaises(Trouble):
                Curve(np.arange(3.0), **more)
        with self.assertRaises(Trouble):
            Curve(np.array([]))
        again = Curve.from_dict({"values": [1.0, None], "colour": "later", "width": None, "glow": 3}, "n")
        self.assertTrue(np.isnan(again.values[1]))
        self.assertEqual(again.dashes, "solid")

    def test_correlated_with_a_curve_and_others_taken_out(self):
        wave = Curve(WAVE, name="wave")
        slow = Curve(SLOW, name="slow")
        found = correlate(self.image, self.labels, curve=wave).data
        data = self.image.data.astype(float)
        for at in ((1, 2, 3), (8, 2, 3)):
            self.assertAlmostEqual(found[at], np.corrcoef(data[at], WAVE)[0, 1], places=4)
        cleaned = correlate(self.image, self.labels, curve=wave, without=[slow]).data
        self.assertGreater(np.median(cleaned[:5]), 0.98)
        design = np.stack([np.ones(COUNT), SLOW], 1)
        left = [v - design @ np.linalg.lstsq(design, v, rcond=None)[0] for v in (data[1, 2, 3], WAVE)]
        self.assertAlmostEqual(cleaned[1, 2, 3], np.corrcoef(*left)[0, 1], places=4)
        with self.assertRaisesRegex(Trouble, "“short” has 3 values and “Run” 40 volumes"):
            correlate(self.image, self.labels, curve=Curve(np.arange(3.0), name="short"))
        with self.assertRaisesRegex(Trouble, "Nothing is left of the course of “wave”"):
            correlate(self.image, self.labels, curve=wave, without=[wave])


class StudyTest(PlaceCase):
    def test_from_the_command_line_and_in_a_recipe(self):
        save_image(self.place / "Run.nii.gz", run())
        study = self.place / "study"
        kestrelmist("gather", self.place / "Run.nii.gz", "--subject", "T-1", "--study", study)
        kestrelmist("hold-course", "Run", "--point", "-2,0,0", "--name", "<b>Left</b>", "--study", study)
        kestrelmist("hold-course", "Run", "--point", "3,0,0", "--name", "<b>Left</b>", "--study", study)
        kestrelmist("style-curve", 'T-1/"<b>Left</b>"', "--colour", "#112233", "--study", study)
        kestrelmist("style-curve", 'T-1/"<b>Left</b>"', "--dashes", "dotted", "--study", study)
        with Study(study) as opened:
            first, second = opened.items.of_kind("curve")
            self.assertEqual((first.name, second.name), ("<b>Left</b>", "<b>Left</b> (2)"))
            curve = opened.thing(first.id)
            self.assertEqual((curve.colour, curve.dashes), ("#112233", "dotted"))
            opened.history.undo()
            self.assertEqual(opened.thing(first.id).dashes, "solid")
            opened.run("correlate", image="Run", curve=first.id, without=[second.id])
        out = self.place / "r.nii.gz"
        kestrelmist("correlate", self.place / "Run.nii.gz", "--point", "-2,0,0", "--ball", "2", "--out", out)
        self.assertTrue(out.exists())
        refused = kestrelmist("style-curve", 'T-1/"<b>Left</b>"', "--width", "99", "--study", study, code=1)
        self.assertIn("99 pixels wide is not drawn", refused.stderr)


class CoursesPageTest(DeskCase):
    def setUp(self):
        super().setUp()
        save_image(self.place / "Run.nii", run())
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "Run.nii", subject="T-1")
        self.window = self.open(self.place / "study")
        self.desk, self.viewing = self.window.desk, self.window.desk.viewing
        self.courses, self.page = self.desk.courses, self.window.drawer.courses
        self.space = self.viewing.record.grid
        self.truth = run().data
        self.go((2, 4, 3))
        self.window.activateWindow()
        self.settle(self.window)
        QTest.keyClick(self.window, Qt.Key.Key_J, Qt.KeyboardModifier.ControlModifier)
        self.settle(self.window)

    def go(self, voxel) -> None:
        self.viewing.go_to(self.space.to_world(voxel))
        self.settle(self.window)

    def drawn(self, key: int) -> tuple[np.ndarray, np.ndarray]:
        """What the plot shows of a curve."""
        return self.page.lines[key].getData()

    def test_of_another_echo_it_is_drawn_and_held_only_when_it_is_kept(self):
        data = np.stack([self.truth, 2 * self.truth], -1)
        axes = (Axis.even("time", COUNT, STEP, "s"), Axis("echo", 2))
        save_image(self.place / "Echoes.nii", Image(np.asfortranarray(data), self.space, "Echoes", axes=axes))
        self.desk.run_now("gather", {"folder": str(self.place / "Echoes.nii"), "subject": "T-1"})
        echoes = self.desk.study.find("T-1/Echoes")
        self.viewing.show_image(echoes.id)
        self.settle(self.window)
        along = [axis.name for axis in echoes.axes].index(next(a.name for a in echoes.axes if a.size == 2))
        self.go((2, 4, 3))
        np.testing.assert_allclose(self.drawn(0)[1], self.truth[2, 4, 3], rtol=1e-6)
        self.viewing.go_along(along, 1)
        self.settle(self.window)
        np.testing.assert_allclose(self.drawn(0)[1], 2 * self.truth[2, 4, 3], rtol=1e-6)
        before = len(self.courses.held())
        for do in (self.courses.hold, lambda: self.courses.correlate(None)):
            do()
            self.settle(self.window)
            self.assertIn("One place along an axis", self.troubles[-1])
        self.assertEqual(len(self.courses.held()), before)
        self.desk.run("one-place", {"axis": echoes.axes[along].name, "number": 2})
        self.settle(self.window)
        self.viewing.show_image(max(record.id for record in self.desk.study.records()))
        self.settle(self.window)
        self.go((2, 4, 3))
        self.courses.hold()
        self.settle(self.window)
        np.testing.assert_allclose(self.courses.held()[-1][1].values, 2 * self.truth[2, 4, 3], rtol=1e-6)

    def test_it_follows_the_crosshair_in_every_mode(self):
        self.assertEqual(self.window.drawer.page, "courses")
        x, y = self.drawn(0)
        np.testing.assert_allclose(y, self.truth[2, 4, 3], rtol=1e-6)
        np.testing.assert_allclose(x, STEP * np.arange(COUNT))
        self.go((7, 1, 2))
        raw = self.truth[7, 1, 2].astype(float)
        np.testing.assert_allclose(self.drawn(0)[1], raw, rtol=1e-6)
        wanted = {
            "mean removed": raw - raw.mean(),
            "z-score": (raw - raw.mean()) / raw.std(ddof=1),
            "scaled": 2 * (raw - raw.min()) / np.ptp(raw) - 1,
            "percent": 100 * (raw / raw.mean() - 1),
        }
        for mode, values in wanted.items():
            self.page.mode.setCurrentIndex(self.page.mode.findData(mode))
            self.page.mode.activated.emit(self.page.mode.currentIndex())
            np.testing.assert_allclose(self.drawn(0)[1], values, rtol=1e-4, atol=1e-5)
        self.courses.set_mode("spectrum")
        frequencies, power = self.drawn(0)
        self.assertAlmostEqual(power.sum(), 100, places=3)
        self.assertAlmostEqual(frequencies[3], 4 / (COUNT * STEP))
        self.courses.set_mode("raw")
        self.page.volumes.setChecked(True)
        np.testing.assert_allclose(self.drawn(0)[0], np.arange(1, COUNT + 1))
        self.viewing.go_to((900, 0, 0))
        self.settle(self.window)
        self.assertNotIn(0, self.page.lines)
        self.assertIn("outside “Run”", self.page.said.text())

    def test_a_ball_and_a_label(self):
        self.page.place.setCurrentIndex(self.page.place.findData("ball"))
        self.page.place.activated.emit(self.page.place.currentIndex())
        self.page.ball.setValue(2.0)
        self.settle(self.window)
        near = [(2, 4, 3), (1, 4, 3), (3, 4, 3), (2, 3, 3), (2, 5, 3), (2, 4, 2), (2, 4, 4)]
        np.testing.assert_allclose(self.drawn(0)[1], np.mean([self.truth[v] for v in near], 0), rtol=1e-6)
        self.page.place.setCurrentIndex(self.page.place.findData("label"))
        self.page.place.activated.emit(self.page.place.currentIndex())
        self.settle(self.window)
        self.assertIn("There is no label in hand", self.page.said.text())
        point = tuple(self.space.to_world((7, 4, 3)))
        self.desk.run("paint", {"label": "Spot", "point": point, "diameter": 1.2})
        self.settle(self.window)
        self.assertEqual(self.troubles, [])
        self.desk.hand.choose_label(1)
        self.settle(self.window)
        np.testing.assert_allclose(self.drawn(0)[1], self.truth[7, 4, 3], rtol=1e-6)

    def test_held_styled_let_go_and_back(self):
        canvas = self.window.table.lead.canvas
        QTest.keyClick(canvas, Qt.Key.Key_K)
        self.settle(self.window)
        self.go((8, 4, 3))
        self.press(self.page.hold)
        self.settle(self.window)
        (first, one), (_, two) = self.courses.held()
        self.assertNotEqual(one.colour, two.colour)
        np.testing.assert_allclose(self.drawn(first)[1], self.truth[2, 4, 3], rtol=1e-6)
        row = self.page.rows[0]
        menu = {action.text(): action for action in row.style_menu().actions()}
        menu["Dashed"].trigger()
        self.settle(self.window)
        menu["3 pixels wide"].trigger()
        self.settle(self.window)
        pen = self.page.lines[first].opts["pen"]
        self.assertEqual((pen.style(), pen.widthF()), (Qt.PenStyle.DashLine, 3.0))
        row.shown.setChecked(False)
        self.assertNotIn(first, self.page.lines)
        row.shown.setChecked(True)
        self.courses.rename(first, "Front <b>")
        self.settle(self.window)
        self.assertEqual(self.page.rows[0].shown.text(), "Front <b>")
        self.press(self.page.rows[0].away)
        self.settle(self.window)
        self.assertEqual(len(self.page.rows), 1)
        self.desk.session.undo()
        self.settle(self.window)
        self.assertEqual(len(self.page.rows), 2)
        self.window.close()
        window = self.open(self.place / "study")
        self.assertEqual([c.name for _, c in window.desk.courses.held()][0], "Front <b>")
        self.assertNotIn("curve", [card.record.kind for card in window.shelf.cards.values()])

    def test_curves_of_several_units_are_drawn_one_unit_at_a_time(self):
        self.desk.run("correct-motion", {"reference": "first"})
        self.settle(self.window)
        self.assertEqual(self.viewing.record.name, "Run, still")
        held = {curve.name: key for key, curve in self.courses.held()}
        self.assertEqual(len(held), 10)
        self.assertEqual(self.window.drawer.page, "tables")  # its numbers come first
        self.window.drawer.open_page("courses")
        self.settle(self.window)
        self.assertTrue(self.page.unit.isVisible())
        choices = [self.page.unit.itemData(n) for n in range(self.page.unit.count())]
        self.assertEqual(choices, ["mm", "rad", "%", ""])
        self.assertEqual(
            {k for k in self.page.lines if k}, {k for n, k in held.items() if "trans" in n or "displacement" in n}
        )
        self.page.unit.setCurrentIndex(1)
        self.page.unit.activated.emit(1)
        self.assertEqual(set(self.page.lines), {k for n, k in held.items() if "rot" in n})

    def test_the_mark_is_dragged_and_the_film_runs(self):
        self.page.mark.setValue(STEP * 12.2)
        self.settle(self.window)
        self.assertEqual(self.viewing.place, (12,))
        self.viewing.go_along(0, 30)
        self.settle(self.window)
        self.assertEqual(self.page.mark.value(), STEP * 30)
        self.desk.film.set_rate(60)
        QTest.keyClick(self.window.table.lead.canvas, Qt.Key.Key_P)
        self.assertTrue(self.desk.film.playing)
        seen = set()
        for _ in range(30):
            pause(20)
            seen.add(self.viewing.place[0])
        self.press(self.window.strip.play)
        self.assertFalse(self.desk.film.playing)
        self.assertGreater(len(seen), 8)
        self.assertTrue(any(n < 30 for n in seen), "it begins again at its end")

    def test_saved_as_it_is_drawn_and_as_a_picture(self):
        self.courses.hold()
        self.settle(self.window)
        self.courses.set_mode("percent")
        self.go((8, 4, 3))
        self.page.save_csv(self.place / "courses.csv")
        rows = list(csv.DictReader((self.place / "courses.csv").open()))
        self.assertEqual(len(rows), COUNT)
        raw = self.truth[8, 4, 3].astype(float)
        self.assertAlmostEqual(float(rows[5]["at the crosshair"]), 100 * (raw[5] / raw.mean() - 1), places=3)
        self.assertEqual((float(rows[5]["time"]), rows[5]["time_unit"]), (5 * STEP, "s"))
        self.page.save_csv(self.place / "bare", times=False)
        self.assertNotIn("time", (self.place / "bare.csv").read_text().splitlines()[0])
        self.page.plot.save_picture(self.place / "courses")
        from PIL import Image as Picture

        with Picture.open(self.place / "courses.png") as picture:
            self.assertGreater(picture.width, 900)
            self.assertGreater(len(picture.getcolors(1 << 20)), 20)
        self.page.save_csv(self.place / "no" / "courses.csv")
        self.assertEqual(len(self.troubles), 1)

    def test_a_seed_map_is_laid_over_its_series(self):
        self.courses.hold()
        self.settle(self.window)
        menu = {action.text(): action for action in self.page.correlate_menu().actions()}
        (held,) = self.courses.held()
        menu[f"With “{held[1].name}”"].trigger()
        self.settle(self.window)
        rows = self.desk.layers.rows
        self.assertEqual([row.leads for row in rows], [False, True])
        self.assertEqual(self.viewing.record.name, "Run")
        self.assertIsNotNone(rows[0].layer.look.below_map)
        value = self.desk.layers.image(rows[0].record.id).value_at(self.space.to_world((1, 1, 1)))
        wanted = np.corrcoef(self.truth[2, 4, 3], self.truth[1, 1, 1])[0, 1]
        self.assertAlmostEqual(value, wanted, places=3)
        entry = next(e for e in self.desk.study.logbook.last(5) if e.operation == "correlate")
        self.assertIn("curve", entry.inputs)
        self.viewing.show_image(rows[0].record.id)
        self.settle(self.window)
        self.courses.correlate(None)
        self.assertIn("one volume", self.troubles[-1])
