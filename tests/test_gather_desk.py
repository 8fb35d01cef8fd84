"""Gather in the window: the plan, series and pictures, facts, identity, checks."""

import json
import shutil
import time
from unittest import mock

import imagecodecs
import numpy as np
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kestrelmist.core.operation import find_operation
from kestrelmist.demo.scenes.heart_clip import write_clip
from kestrelmist.demo.scenes.planar_pair import write_planar_pair
from kestrelmist.desk.bench.pages import gather as gather_bench
from kestrelmist.desk.light_table.plan_table import COPY, IMAGE, SUBJECT, TAKE
from kestrelmist.desk.shelf.cards import short_facts
from kestrelmist.desk.shell.review import Review
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.dicom_making import segmentation, stack
from tests.making import dicom_folder, two_balls

RNG = np.random.default_rng(51)


class PlanDeskTest(DeskCase):
    def setUp(self):
        super().setUp()
        self.folder = self.place / "scans"
        dicom_folder(self.folder, two_balls())
        values = RNG.integers(0, 999, (8, 7, 5)).astype(np.uint16)
        for t in range(3):
            self.space = stack(
                self.folder,
                values + t,
                start=100 * t,
                TemporalPositionIdentifier=t + 1,
                RepetitionTime="2000",
                EchoTime="30",
                description="Run",
                number=6,
            )
        (self.folder / "photo.png").write_bytes(
            imagecodecs.png_encode(RNG.integers(0, 255, (30, 40, 3)).astype(np.uint8))
        )
        self.window = self.open(self.place / "study")
        self.desk, self.model, self.gather = self.window.desk, self.window.plan.model, self.window.bench.gather

    def scan(self):
        self.window.gather([self.folder])
        self.settle(self.window)
        return {line.name: n for n, line in enumerate(self.model.lines)}

    def test_edit_the_plan_in_place_and_take_it_in(self):
        rows = self.scan()
        self.assertEqual(sorted(rows), ["Run", "Two balls", "photo"])
        self.model.setData(self.model.index(rows["photo"], IMAGE), "Cradle")
        self.model.setData(self.model.index(rows["photo"], SUBJECT), "T-1")
        self.model.setData(
            self.model.index(rows["photo"], COPY), Qt.CheckState.Unchecked, Qt.ItemDataRole.CheckStateRole
        )
        self.model.setData(
            self.model.index(rows["Two balls"], TAKE), Qt.CheckState.Unchecked, Qt.ItemDataRole.CheckStateRole
        )
        self.assertEqual(self.gather.take.text(), "Take in 2 images")
        states = []
        self.gather.line_moved.connect(lambda line, words: states.append(words))
        self.press(self.gather.take)
        self.settle(self.window)
        self.assertEqual([(r.subject, r.name) for r in self.desk.study.records()], [("T-1", "Cradle"), ("T-5", "Run")])
        for state in ("waiting", "reading", "taken in"):
            self.assertIn(state, states)
        self.assertIs(self.window.middle.currentWidget(), self.window.table)
        self.assertEqual(len(list((self.place / "study" / "images").iterdir())), 1)  # the photo was left where it is
        self.assertEqual(self.troubles, [])

    def test_a_click_ticks_and_the_subject_pattern_is_followed(self):
        rows = self.scan()
        view = self.window.plan.view
        index = self.model.index(rows["Run"], TAKE)
        box = view.visualRect(view.model().index(index.row(), TAKE))
        QTest.mouseClick(
            view.viewport(),
            Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
            QPoint(box.left() + 14, box.center().y()),
        )
        self.assertFalse(self.model.lines[rows["Run"]].take)
        self.gather.pattern.setText(r"(\d)")
        self.gather.pattern.editingFinished.emit()
        self.settle(self.window)
        self.assertFalse({line.name: line.take for line in self.model.lines}["Run"])  # the tick stays as it was put
        self.assertEqual({line.name: line.subject for line in self.model.lines}["Run"], "5")
        self.gather.pattern.setText("(")
        self.gather.pattern.editingFinished.emit()
        self.assertIn("not a regular expression", self.troubles[-1])
        self.gather.subject.setText("All")
        self.gather.subject.editingFinished.emit()
        self.assertEqual({line.subject for line in self.model.lines}, {"All"})
        self.press(self.gather.away)
        self.assertIs(self.window.middle.currentWidget(), self.window.table)

    def test_a_look_that_is_cancelled_leaves_nothing_behind(self):
        def endless(*_, progress, **__):
            while True:
                progress.at(0.1, "Reading headers")
                time.sleep(0.005)

        with mock.patch.object(gather_bench, "plan_folder", endless):
            self.window.gather([self.folder])
            pause(60)
            self.assertTrue(self.gather.where.isVisible())
            self.window.path.work.cancel.click()
            self.settle(self.window)
        self.assertEqual((self.model.lines, self.gather.where.isVisible(), self.troubles), ([], False, []))

    def test_files_dropped_on_the_window(self):
        mime = QMimeData()
        mime.setUrls(
            [QUrl.fromLocalFile(str(self.folder / "photo.png")), QUrl.fromLocalFile(str(self.folder / "0001"))]
        )
        self.desk.viewing.set_stage("Measure")
        self.window.dropEvent(
            QDropEvent(
                QPointF(100, 400),
                Qt.DropAction.CopyAction,
                mime,
                Qt.MouseButton.LeftButton,
                Qt.KeyboardModifier.NoModifier,
            )
        )
        self.settle(self.window)
        self.assertEqual(
            (self.desk.viewing.stage, sorted(line.name for line in self.model.lines)), ("Gather", ["Run", "photo"])
        )

    def test_a_doubled_one_is_refused_and_stays_in_sight(self):
        self.scan()
        self.press(self.gather.take)
        self.settle(self.window)
        self.scan()
        self.press(self.gather.take)
        self.settle(self.window)
        self.assertIn("in the study already", self.troubles[-1])
        self.assertEqual(len(self.desk.study.records()), 3)
        self.assertEqual(len(self.model.lines), 3)

    def test_what_there_was_no_room_for_stays_ticked(self):
        names = list(self.scan())
        copy = shutil.copyfile

        def until_full(source, target):
            if len(self.desk.study.records()) == 1:
                raise OSError(28, "No space left on device")
            return copy(source, target)

        with mock.patch.object(shutil, "copyfile", until_full):
            self.press(self.gather.take)
            self.settle(self.window)
        self.assertIn(f"1 image is in the study: “{names[0]}”. Not taken in: “{names[1]}”", self.troubles[-1])
        self.assertEqual([(line.name, line.take) for line in self.model.lines], [(n, True) for n in names[1:]])
        self.assertEqual((self.gather.take.text(), self.gather.take.isEnabled()), ("Take in 2 images", True))
        self.press(self.gather.take)  # room was made
        self.settle(self.window)
        self.assertEqual(len(self.desk.study.records()), 3)

    def take_all(self):
        self.scan()
        self.press(self.gather.take)
        self.settle(self.window)

    def show(self, name):
        self.desk.viewing.show_image(self.desk.study.find(name).id)
        self.settle(self.window)

    def test_a_series_is_looked_through_volume_by_volume(self):
        self.take_all()
        self.show("Run")
        world = self.space.to_world((3, 4, 2))
        self.desk.viewing.go_to(world)
        first = int(self.desk.viewing.image.value_at(world))
        (slider,) = self.window.bench.look.places.findChildren(type(self.window.bench.look.places.sliders[0]))
        slider.setValue(3)
        self.settle(self.window)
        self.assertEqual(self.desk.viewing.place, (2,))
        self.assertEqual(int(self.desk.viewing.image.value_at(world)), first + 2)
        self.assertEqual(self.window.readout.fields["Value"].text(), str(first + 2))
        self.assertEqual(self.window.bench.look.places.words[0].text(), "3 · 4 s")
        canvas = self.window.table.lead.canvas
        before = canvas.render_pixels().copy()
        QTest.keyClick(canvas, Qt.Key.Key_Comma)
        self.settle(self.window)
        self.assertEqual(self.desk.viewing.place, (1,))
        self.assertTrue(np.any(canvas.render_pixels() != before))
        self.desk.run("scale", {})
        self.settle(self.window)
        self.assertEqual(self.desk.viewing.record.name, "Run, time 2 s, scaled")  # one volume only, the one in sight
        self.desk.save_view()
        self.window.close()
        with Study(self.place / "study") as study:
            self.assertEqual(study.catalogue.recall("view")["places"][str(study.find("Run").id)], [1])

    def test_a_picture_is_shown_face_on_without_sides(self):
        self.take_all()
        lead = self.window.table.slices[0]
        self.show("photo")
        self.assertTrue(self.window.table.alone)
        self.assertEqual(self.window.table.lead.header.name.text(), "Picture")
        self.assertEqual(self.window.readout.side.text(), "Sides unknown")
        self.assertEqual(self.window.readout.scale.text(), "no scale, px")
        notices = [n.sentence for n in self.window.bench.checks.notices]
        self.assertIn("No scale is known: lengths on this image are in pixels.", notices)
        self.desk.viewing.go_to(self.desk.viewing.record.space.to_world((10, 12, 0)))
        red, green, blue = self.desk.viewing.image.rgb()[10, 12, 0]
        self.assertEqual(self.window.readout.fields["Value"].text(), f"{red} {green} {blue}")
        self.desk.viewing.arrange(left_on_left=False)
        self.assertTrue(
            self.window.table.lead.canvas.current_view().rightward[0] > 0
        )  # nothing to swap where no side is known
        self.desk.viewing.arrange(left_on_left=True)
        self.show("Run")
        self.assertFalse(self.window.table.alone)
        self.assertIs(self.window.table.lead, lead)

    def test_facts_are_searched_and_copied(self):
        self.take_all()
        self.show("Run")
        self.press(self.gather.facts)
        self.settle(self.window)
        drawer = self.window.drawer
        self.assertGreater(drawer.height(), 300)
        everything = drawer.result_view.model().rowCount()
        QTest.keyClicks(drawer.search, "echotime")
        found = drawer.result_view.model().rowCount()
        self.assertTrue(0 < found < everything)
        drawer.result_view.setFocus()
        QTest.keyClick(drawer.result_view, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
        self.assertIn("Acquisition: EchoTime\t0.03", QApplication.clipboard().text())
        words = short_facts(self.desk.viewing.record)
        for part in (
            "8 × 7 × 5 voxels",
            "3 times, 2 s apart",
            "Repetition time 2 s",
            "Echo time 30 ms",
            "Taken on 2031-02-14",
        ):
            self.assertIn(part, words)

    def test_labels_are_drawn_and_measured_on_series_and_colours(self):
        self.take_all()
        self.desk.viewing.set_stage("Outline")
        for name, place, wanted in (("Run", (1,), None), ("photo", (), "brightness")):
            self.show(name)
            if place:
                self.desk.viewing.go_along(0, place[0])
                self.settle(self.window)
            self.desk.run_now("add-label", {"label": "Spot"})
            self.desk.hand.set_settings(size=3 * self.desk.viewing.record.space.spacing[0], only_in_range=False)
            self.press(self.window.bench.outline.groups["tools"].buttons["brush"])
            centre = self.desk.viewing.record.space.to_world((4, 3, 0 if wanted else 2))
            self.desk.viewing.go_to(centre)
            canvas = self.window.table.lead.canvas
            QTest.mouseClick(
                canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, self.pixel(canvas, centre)
            )
            self.settle(self.window)
            inside = self.desk.viewing.maps.labels.data == 1
            self.assertGreater(int(inside.sum()), 2, name)
            self.desk.run("measure-labels", {})
            self.settle(self.window)
            values = self.desk.viewing.image.grey().data
            self.assertAlmostEqual(
                self.window.drawer.results.table.column("mean")[0], float(values[inside].mean()), places=3
            )
        self.assertEqual(self.troubles, [])
        measured = [e for e in self.desk.study.logbook.entries() if e.operation == "measure-labels"]
        self.assertEqual([e.inputs["image"][0].place for e in measured], [(2,), ()])

    def test_a_radiograph_of_the_other_kind_is_shown_the_right_way(self):
        from tests.dicom_making import one

        dark = np.full((30, 40), 3900, np.uint16)
        dark[10:20, 10:30] = 100  # bone, stored low
        one(
            self.place / "x" / "ray",
            dark,
            "DX",
            "1.2.840.10008.5.1.4.1.1.1.1",
            "MONOCHROME1",
            ImagerPixelSpacing=["0.1", "0.1"],
            PatientOrientation=["R", "F"],
            description="Ray",
        )
        self.window.gather([self.place / "x"])
        self.settle(self.window)
        self.press(self.gather.take)
        self.settle(self.window)
        self.assertEqual(
            (self.desk.viewing.look.colour_map, self.window.table.lead.plane.name), ("Grey, inverted", "Coronal")
        )
        canvas = self.window.table.lead.canvas
        pixels = canvas.render_pixels()
        at = [
            canvas.current_view().to_pixel(self.desk.viewing.record.space.to_world(v)) for v in ((20, 15, 0), (3, 3, 0))
        ]
        bone, air = (int(pixels[round(y), round(x)]) & 255 for x, y in at)
        self.assertGreater(bone, air + 150)
        self.assertEqual(canvas.current_view().letters()["right"], "R")
        self.assertIn("at the detector", " ".join(c.sentence for c in self.desk.viewing.record.caveats))

    def test_the_whole_study_is_converted(self):
        self.take_all()
        self.desk.run("convert-study", {"to": self.place / "bids"})
        self.settle(self.window)
        self.assertEqual(self.window.drawer.results.table.column("problem").count(""), 2)
        self.assertTrue((self.place / "bids/sub-T5/func/sub-T5_task-Run_bold.nii.gz").exists())
        self.assertEqual(
            json.loads((self.place / "bids/sub-T5/func/sub-T5_task-Run_bold.json").read_text())["RepetitionTime"], 2.0
        )

    def test_delete_for_good_asks_for_the_name(self):
        self.take_all()
        record = self.desk.study.find("photo")
        card = self.window.shelf.cards[record.id]
        with mock.patch("kestrelmist.desk.shelf.cards.ask_text", return_value="foto"):
            card.ask_and_delete()
        self.assertIn("not the name of this image", self.troubles[-1])
        self.assertIn(record.id, self.window.shelf.cards)
        with mock.patch("kestrelmist.desk.shelf.cards.ask_text", return_value="photo"):
            card.ask_and_delete()
        self.assertNotIn(record.id, self.window.shelf.cards)
        self.assertFalse((self.place / "study" / "images" / str(record.id)).exists())


class IdentityDeskTest(DeskCase):
    def test_frame_keep_and_take_the_original_away(self):
        write_clip(self.place / "scans", "T-7", frames=6)
        window = self.open(self.place / "study")
        desk, gather = window.desk, window.bench.gather
        window.gather([self.place / "scans"])
        self.settle(window)
        self.press(gather.take)
        self.settle(window)
        sentences = [n.sentence for n in window.bench.checks.notices]
        self.assertIn("Its header says that words are burned into the picture.", sentences)
        self.assertIn("The header still holds name and institution.", sentences)
        window.bench.checks.mend(next(n for n in window.bench.checks.notices if "burned" in n.sentence).mend)
        form = gather.form
        self.assertEqual(form.operation.name, "deidentify-image")
        self.press(form.fields["area"].button)
        self.assertEqual(desk.hand.tool, "frame")
        canvas, space = window.table.lead.canvas, desk.viewing.record.space
        a, b = (self.pixel(canvas, space.to_world(v)) for v in ((0.2, 55.2, 0), (465.8, 358.8, 0)))
        QTest.mousePress(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, a)
        at = QPointF(b)
        QApplication.sendEvent(
            canvas,
            QMouseEvent(
                QMouseEvent.Type.MouseMove,
                at,
                canvas.mapToGlobal(at),
                Qt.MouseButton.NoButton,
                Qt.MouseButton.LeftButton,
                Qt.KeyboardModifier.NoModifier,
            ),
        )
        QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, b)
        column, row, columns, rows = (int(v) for v in form.fields["area"].text().split(","))
        for found, wanted in zip((column, row, column + columns, row + rows), (0, 55, 467, 360)):
            self.assertAlmostEqual(found, wanted, delta=2)
        form.fields["subject"].setText("Animal 7")
        self.assertEqual(form.fields["pixels"].currentText(), "keep the area")  # who frames an area wants it used
        self.press(form.apply)
        self.settle(window)
        self.assertEqual(self.troubles, [])
        self.assertEqual(
            (desk.viewing.record.subject, desk.viewing.record.name), ("Animal 7", "Series 5, without identity")
        )
        self.assertEqual(int(desk.viewing.image.rgb()[:, :row].max()), 0)
        self.assertTrue(desk.viewing.image.rgb()[:, row:].max() > 100)
        self.assertEqual(window.drawer.results.table.rows[0][2], "blanked")
        self.assertFalse(
            [n for n in window.bench.checks.notices if n.check in ("words_in_pixels", "identity_in_header")]
        )
        gather.close_form()
        self.assertEqual((desk.hand.tool, desk.asked.framed), ("point", None))

    def test_texts_that_stay_are_looked_through_first(self):
        values = RNG.integers(0, 99, (12, 14, 8)).astype(np.uint16)
        stack(self.place / "scans", values, description="Chest <b>Wren</b> thin", ProtocolName="Lung 1 mm")
        window = self.open(self.place / "study")
        window.gather([self.place / "scans"])
        self.settle(window)
        self.press(window.bench.gather.take)
        self.settle(window)
        window.bench.gather.open(find_operation("deidentify-image"))
        form = window.bench.gather.form
        self.assertNotIn("reviewed", form.fields)
        form.fields["keep_descriptions"].setChecked(True)

        def review():
            self.settle(window)
            (found,) = window.findChildren(Review)
            self.assertTrue(found.isVisible())
            rows = range(found.model.rowCount())
            return found, [found.model.data(found.model.index(n, 0)) for n in rows]

        self.press(form.apply)
        asked, texts = review()
        self.assertEqual((len(window.desk.study.records()), self.troubles), (1, []))
        self.assertTrue({"Chest <b>Wren</b> thin", "Lung 1 mm"} <= set(texts))
        self.assertFalse(asked.take_out.isEnabled())
        asked.words.setText("wren")
        self.press(asked.take_out)
        pause(50)
        asked, texts = review()
        self.assertTrue("Lung 1 mm" in texts and "Wren" not in str(texts))
        self.press(asked.keep)
        self.settle(window)
        self.assertEqual(self.troubles, [])
        made = window.desk.viewing.record
        self.assertEqual(made.facts["ProtocolName"], "Lung 1 mm")
        self.assertNotIn("Wren", str(made.facts))
        self.assertNotIn("wren", str([e.settings for e in window.desk.study.logbook.entries()]))

    def test_labels_of_another_animal_are_noticed(self):
        values = RNG.integers(0, 99, (12, 14, 8)).astype(np.uint16)
        space = stack(self.place / "scans", values)
        mask = np.zeros(space.shape, bool)
        mask[4:8, 4:9, 2:5] = True
        segmentation(self.place / "seg.dcm", {"Left": mask}, space, "1.2.3", "1.2.4")  # its header says T-5
        window = self.open(self.place / "study")
        window.gather([self.place / "scans"])
        self.settle(window)
        window.bench.gather.subject.setText("T-6")
        window.bench.gather.subject.editingFinished.emit()
        self.press(window.bench.gather.take)
        self.settle(window)
        window.bench.open_operation(find_operation("open-labels"))
        window.bench.gather.form.fields["file"].field.setText(str(self.place / "seg.dcm"))
        self.press(window.bench.gather.form.apply)
        self.settle(window)
        notice = next(n for n in window.bench.checks.notices if n.check == "labels_of_another")
        self.assertEqual((notice.level, notice.sentence), ("wrong", "“Left” came from T-5, and this image is of T-6."))
        window.bench.checks.mend(notice.mend)
        self.settle(window)
        self.assertFalse([n for n in window.bench.checks.notices if n.check == "labels_of_another"])
        self.press(window.path.undo)
        self.settle(window)
        self.assertTrue([n for n in window.bench.checks.notices if n.check == "labels_of_another"])

    def test_the_same_series_twice_is_noticed(self):
        write_planar_pair(self.place / "scans", "T-8")
        window = self.open(self.place / "study")
        for subject in ("A", "B"):
            window.gather([self.place / "scans"])
            self.settle(window)
            window.bench.gather.subject.setText(subject)
            window.bench.gather.subject.editingFinished.emit()
            self.press(window.bench.gather.take)
            self.settle(window)
        notice = window.bench.checks.notices[0]
        self.assertEqual(
            (notice.level, notice.sentence), ("wrong", "The same series is in the study as “Tracer, whole body” of A.")
        )
        window.bench.checks.mend(notice.mend)
        pause(50)
        self.assertEqual([r.subject for r in window.desk.study.records()], ["A"])
