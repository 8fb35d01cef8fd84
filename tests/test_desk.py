import os
import subprocess
import sys
import time
from unittest import mock

import numpy as np
from PySide6.QtCore import QMimeData, QPointF, Qt, QTimer, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton

from kestrelmist.core.image import Image
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space
from kestrelmist.desk.light_table.plan_table import TAKE
from kestrelmist.desk.theme.tokens import DUSK, MIST, contrast
from kestrelmist.desk.theme.type_size import scale_for
from kestrelmist.formats.saving import save_image
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause, with_solid_view
from tests.making import dicom_folder, two_balls

TRUTH = int((two_balls().data > 0).sum())


class EmptyDeskTest(DeskCase):
    def test_drop_a_folder_see_its_series_take_one_in(self):
        dicom_folder(self.place / "scans", two_balls())
        window = self.open(self.place / "study")
        mime = QMimeData()
        mime.setUrls([QUrl.fromLocalFile(str(self.place / "scans"))])
        window.dropEvent(
            QDropEvent(
                QPointF(400, 400),
                Qt.DropAction.CopyAction,
                mime,
                Qt.MouseButton.LeftButton,
                Qt.KeyboardModifier.NoModifier,
            )
        )
        self.settle(window)
        model = window.plan.model
        self.assertIs(window.middle.currentWidget(), window.plan)
        shown = [str(model.index(0, c).data()) for c in range(model.columnCount())]
        self.assertEqual(
            shown, ["", "Two balls", "CT volume\n2031-02-14", "T-1", "40×36×32\n0.5×0.5×0.5 mm", "", "ready"]
        )
        self.assertIn("Nothing is wrong", window.plan.words.text())
        self.assertEqual(window.shelf.cards, {})
        self.press(window.bench.gather.take)
        self.settle(window)
        self.assertIs(window.middle.currentWidget(), window.table)
        self.assertEqual([c.record.name for c in window.shelf.cards.values()], ["Two balls"])
        self.assertTrue(window.desk.viewing.ready)
        self.press(window.path.undo)
        self.assertEqual(window.shelf.cards, {})
        self.assertIsNone(window.desk.viewing.record)
        self.press(window.path.redo)
        self.assertEqual(len(window.shelf.cards), 1)

    def test_wrong_folders_say_so_and_lose_nothing(self):
        window = self.open(self.place / "study")
        (self.place / "empty").mkdir()
        window.gather([self.place / "empty"])
        self.settle(window)
        self.assertIn("nothing in this folder that can be read", self.troubles[-1])
        self.assertTrue(window.message.isVisible())
        files = dicom_folder(self.place / "scans", two_balls())
        files[9].unlink()
        window.gather([self.place / "scans"])
        self.settle(window)
        model, gather = window.plan.model, window.bench.gather
        self.assertEqual((model.lines[0].take, model.state(0), gather.take.isEnabled()), (False, "not whole", False))
        self.assertIn("1 slice is missing in the stack", window.plan.words.text())
        model.setData(model.index(0, TAKE), Qt.CheckState.Checked, Qt.ItemDataRole.CheckStateRole)
        self.assertEqual(model.state(0), "will be mended")
        self.press(gather.take)
        self.settle(window)
        self.assertEqual(len(window.shelf.cards), 1)
        self.assertIn("missing", window.bench.checks.notices[0].sentence)
        data = files[3].read_bytes()
        files[3].write_bytes(data[: len(data) // 2])
        window.gather([self.place / "scans"])
        self.settle(window)
        self.assertEqual((model.state(0), gather.take.isEnabled()), ("cannot be read", False))
        self.assertIn("cut short", window.plan.words.text())
        self.assertFalse(model.flags(model.index(0, TAKE)) & Qt.ItemFlag.ItemIsUserCheckable)


class DeskTest(DeskCase):
    def setUp(self):
        super().setUp()
        self.study_with_balls().close()
        self.window = self.open(self.place / "study")
        self.desk = self.window.desk

    def outline(self, name="Ball"):
        self.desk.viewing.set_stage("Outline")
        field = self.window.bench.outline.groups["labels"].new
        QTest.keyClicks(field, name)
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.desk.hand.set_settings(low=500.0, high=2000.0)

    def name_of(self, number: int) -> str:
        return self.desk.viewing.maps.labels.table[number].name

    def volume(self, number=1) -> float:
        return int(self.desk.viewing.maps.labels.counts[number]) * 0.125

    def test_crosshair_by_click_wheel_keys_and_typing(self):
        self.click(self.window, 0, (-3.0, 0.25, 2.0))
        np.testing.assert_allclose(self.desk.viewing.crosshair[[0, 2]], (-3.0, 2.0), atol=0.06)
        y = self.desk.viewing.crosshair[1]
        canvas = self.window.table.slices[0].canvas
        self.wheel(canvas, 1)
        step = self.desk.viewing.crosshair[1]
        self.assertAlmostEqual(self.desk.viewing.record.space.to_voxel(self.desk.viewing.crosshair)[1] % 1, 0, places=6)
        self.assertGreater(step, y - 0.26)
        self.wheel(canvas, -2)
        self.assertAlmostEqual(self.desk.viewing.crosshair[1], step - 1.0)
        QTest.keyClick(canvas, Qt.Key.Key_Right)
        self.assertAlmostEqual(self.desk.viewing.record.space.to_voxel(self.desk.viewing.crosshair)[0] % 1, 0, places=6)
        field = self.window.bench.look.go
        QTest.keyClicks(field, "1.5, -2; 3")
        QTest.keyClick(field, Qt.Key.Key_Return)
        np.testing.assert_allclose(self.desk.viewing.crosshair, (1.5, -2, 3))
        field.setText("1, 2")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertIn("three numbers", self.troubles[-1])
        self.assertEqual(self.window.table.slices[0].header.place.text(), "y −2.00 mm")

    def test_a_position_is_typed_in_the_unit_of_the_image(self):
        field = self.window.bench.look.go
        self.assertEqual(field.placeholderText(), "x, y, z in mm")
        space = Space((30, 20, 1), np.diag([0.0005, 0.0005, 0.001, 1.0]))
        section = self.place / "section.ome.tif"
        save_image(section, Image(np.asfortranarray(np.arange(600, dtype=np.uint16).reshape(30, 20, 1)), space))
        self.desk.study.run("gather", folder=section)
        (record,) = [r for r in self.desk.study.records() if r.name == "section"]
        self.desk.viewing.show_image(record.id)
        self.settle(self.window)
        self.assertEqual(field.placeholderText(), "x, y, z in µm")
        field.setText("4.5, 2, 0")
        QTest.keyClick(field, Qt.Key.Key_Return)
        np.testing.assert_allclose(self.desk.viewing.crosshair[:2], (0.0045, 0.002), atol=1e-5)
        self.assertRegex(self.window.readout.fields["World"].text(), r"^ *\+4.50 +\+2.00 .* µm$")

    def test_readout_tells_place_value_label_side_and_scale(self):
        self.outline()
        self.desk.hand.set_tool("grow")
        self.desk.viewing.go_to((-4.25, 0.25, 0.25))
        self.click(self.window, 0, (-4.25, 0.25, 0.25))
        readout = self.window.readout
        readout.point(None)
        self.assertEqual(readout.fields["World"].text().split(), ["−4.25", "+0.25", "+0.25", "mm"])
        voxel = self.desk.viewing.record.space.nearest_voxel((-4.25, 0.25, 0.25))
        self.assertEqual(tuple(map(int, readout.fields["Voxel"].text().split())), voxel)
        self.assertEqual(readout.fields["Value"].text(), "1000 HU")
        self.assertEqual(readout.fields["Label"].text(), "1 Ball")
        self.assertEqual(readout.scale.text(), "header scale, 0.5 mm")
        self.assertEqual(readout.side.text(), "Left shown on left (from above)")
        before = self.window.table.slices[0].canvas.render_pixels().copy()
        self.press(readout.side)
        self.assertEqual(readout.side.text(), "Left shown on right (from the feet)")
        after = self.window.table.slices[0].canvas.render_pixels()
        self.assertGreater((before != after).sum(), 500)
        np.testing.assert_array_equal(after[:, ::-1][50:-50, 50:-50] >> 28, before[50:-50, 50:-50] >> 28)
        self.assertEqual(self.window.table.slices[0].canvas.view.letters()["left"], "R")

    def test_readout_follows_the_slice_under_a_resting_pointer(self):
        canvas = self.window.table.slices[0].canvas
        self.drag(self.window, 0, (-4.0, 0, 0), (-3.0, 0, 1.0))
        self.wheel(canvas, 3)
        shown = [float(v.replace("−", "-")) for v in self.window.readout.fields["World"].text().split()[:3]]
        self.assertAlmostEqual(shown[1], self.desk.viewing.crosshair[1], places=2)
        np.testing.assert_allclose((shown[0], shown[2]), (-3.0, 1.0), atol=0.1)

    def test_display_range_zoom_and_swap(self):
        look = self.desk.viewing.look
        self.drag(self.window, 0, (0, 0, 0), (4, 0, 0), Qt.MouseButton.RightButton)
        self.assertGreater(self.desk.viewing.look.high - self.desk.viewing.look.low, look.high - look.low)
        self.press(self.window.bench.look.reset)
        self.assertAlmostEqual(self.desk.viewing.look.high, look.high)
        canvas = self.window.table.slices[0].canvas
        pixel = canvas.current_view().pixel
        corner = canvas.world_at(QPointF(canvas.width() / 2, canvas.height() / 2))
        self.wheel(canvas, 3, Qt.KeyboardModifier.ControlModifier)
        self.assertAlmostEqual(canvas.current_view().pixel, pixel / 1.2**3)
        np.testing.assert_allclose(canvas.world_at(QPointF(canvas.width() / 2, canvas.height() / 2)), corner, atol=1e-9)
        self.drag(self.window, 0, (0, 0, 0), (2, 0, 1), Qt.MouseButton.MiddleButton)
        moved = canvas.world_at(QPointF(canvas.width() / 2, canvas.height() / 2))
        np.testing.assert_allclose((corner - moved)[[0, 2]], (2, 1), atol=0.1)
        axial = self.window.table.slices[1]
        self.press(axial.header)
        self.assertIs(self.window.table.lead, axial)
        self.assertGreater(axial.width(), 400)

    @with_solid_view
    def test_the_whole_task(self):
        """Grow, take the bridge away, grow again, touch up, lock, measure, save."""
        self.outline()
        window, bench = self.window, self.window.bench
        self.press(bench.outline.groups["tools"].buttons["grow"])
        self.desk.viewing.go_to((-4.0, 0.25, 0.25))
        self.click(window, 0, (-4.0, 0.25, 0.25))
        self.assertEqual(int(self.desk.viewing.maps.labels.counts[1]), TRUTH)
        key = self.desk.viewing.maps.map.id, 1
        self.assertEqual(
            window.table.solid.canvas.feed.known[key][0][1], int(self.desk.viewing.maps.labels.revision[1])
        )
        self.assertGreater(window.table.solid.canvas.triangles[key], 500)
        self.press(bench.outline.groups["tools"].buttons["eraser"])
        self.desk.hand.set_settings(size=2.4)
        self.drag(window, 0, (0.25, 0.25, 0.25), (0.75, 0.25, 0.25))
        self.assertLess(int(self.desk.viewing.maps.labels.counts[1]), TRUTH)
        self.press(bench.outline.groups["tools"].buttons["grow"])
        self.click(window, 0, (-4.0, 0.25, 0.25))
        left = self.volume()
        self.assertAlmostEqual(left, 4 / 3 * np.pi * 64, delta=0.02 * left)
        self.press(bench.outline.groups["tools"].buttons["brush"])
        self.press(bench.outline.groups["size"].only)
        self.assertTrue(self.desk.hand.settings.only_in_range)
        self.drag(window, 0, (4.0, 0.25, 0.25), (4.5, 0.25, 0.25))
        self.assertGreater(self.volume(), left)
        painted = self.desk.viewing.maps.labels.data == 1
        self.assertTrue((self.desk.viewing.image.data[painted] == 1000).all())
        row = bench.outline.groups["labels"].rows[1]
        self.press(row.lock)
        before = self.desk.viewing.maps.labels.data.copy()
        for tool in ("brush", "eraser", "grow"):
            self.press(bench.outline.groups["tools"].buttons[tool])
            self.click(window, 0, (-4.0, 0.25, 0.25))
            self.assertIn("“Ball” is locked", self.troubles[-1])
        self.desk.run("remove-pieces", {"label": "Ball"})
        self.settle(window)
        np.testing.assert_array_equal(self.desk.viewing.maps.labels.data, before)
        self.desk.session.trouble.emit("An old sentence.")
        self.assertTrue(window.message.isVisible())
        self.press(bench.go_measure)
        self.assertFalse(window.message.isVisible())
        self.settle(window)
        self.assertIs(QApplication.focusWidget(), window.table.lead.canvas)  # Space would swap the sides else
        table = window.drawer.results.table
        self.assertEqual(table.column("voxels"), [int(painted.sum())])
        self.assertAlmostEqual(table.column("volume")[0], self.volume())
        self.assertEqual(table.column("mean"), [1000.0])
        window.drawer.save_table(self.place / "volumes.csv")
        head, line = (self.place / "volumes.csv").read_text().splitlines()
        self.assertIn("volume,volume_unit", head)
        self.assertIn(",mm3,", line)
        self.press(window.drawer.show_logbook)
        window.drawer.copy_yaml()
        text = QApplication.clipboard().text()
        self.assertIn("operation: grow", text)
        self.assertIn("low: 500.0", text)

    def test_labels_are_not_changed_from_two_sides_at_once(self):
        self.outline()
        self.desk.hand.set_tool("brush")
        self.desk.hand.set_settings(size=3.0)
        self.desk.viewing.go_to((0.25, 0.25, 5.25))
        self.click(self.window, 0, self.desk.viewing.crosshair)
        dab = int(self.desk.viewing.maps.labels.counts[1])
        grow = {"label": "Other", "point": (-4.0, 0.0, 0.0), "low": 500.0, "high": 2000.0}
        self.desk.run("grow", grow)
        canvas = self.window.table.slices[0].canvas
        QTest.mouseClick(
            canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, self.pixel(canvas, (6.0, 0.25, 5.25))
        )
        self.assertIn("still at work on the labels", self.troubles[-1])
        self.assertEqual(int(self.desk.viewing.maps.labels.counts[1]), dab)
        # the dab goes while the worker computes; what it made must fit the labels as they are now
        self.desk.session.undo()
        self.settle(self.window)
        labels = self.desk.viewing.maps.labels
        self.assertEqual((int(labels.counts[1]), int(labels.counts[2])), (0, TRUTH))
        np.testing.assert_array_equal(labels.counts[:3], np.bincount(labels.data.ravel(), minlength=3))
        self.desk.session.undo()
        np.testing.assert_array_equal(labels.counts[1:3], (0, 0))
        # a lock put on meanwhile holds
        self.desk.run("threshold", {"label": "Ball", "low": 500.0, "high": 2000.0})
        self.desk.run_now("change-label", {"label": self.name_of(1), "locked": True})
        self.settle(self.window)
        self.assertIn("“Ball” is locked", self.troubles[-1])
        self.assertEqual(int(labels.counts[1]), 0)

    def test_undo_and_redo_reach_everything(self):
        self.outline()
        session, labels = self.desk.session, self.desk.viewing.maps.labels
        self.desk.hand.set_tool("brush")
        self.desk.hand.set_settings(size=3.0)
        self.desk.viewing.go_to((0.25, 0.25, 5.25))
        self.click(self.window, 0, (0.25, 0.25, 5.25))
        self.desk.run("threshold", {"label": "Bone", "low": 500.0, "high": 2000.0})
        self.settle(self.window)
        self.desk.run_now("change-label", {"label": self.name_of(1), "name": "Renamed"})
        self.desk.run_now("change-label", {"label": self.name_of(1), "colour": "#123456"})
        self.desk.run_now("change-label", {"label": self.name_of(2), "hidden": True})
        self.desk.run_now("change-label", {"label": self.name_of(1), "locked": True})
        states = [(labels.data.copy(), labels.table)]
        while not session.undo_title.startswith("Gather"):
            session.undo()
            states.append((labels.data.copy(), labels.table))
        self.assertEqual(len(states), 8)
        self.assertEqual((int(labels.counts[1:].sum()), len(labels.table)), (0, 0))
        for data, table in states[-2::-1]:
            session.redo()
            np.testing.assert_array_equal(labels.data, data)
            self.assertEqual(labels.table, table)
        np.testing.assert_array_equal(labels.counts[:3], np.bincount(labels.data.ravel(), minlength=3))
        self.window.close()
        with Study(self.place / "study") as study:
            np.testing.assert_array_equal(study.labels(1).data, states[0][0])

    def test_comes_back_at_the_same_place_and_offers_the_state_before(self):
        self.outline()
        self.desk.hand.set_tool("grow")
        self.desk.viewing.go_to((-4.25, 1.25, 0.75))
        self.click(self.window, 0, (-4.25, 1.25, 0.75))
        self.desk.viewing.set_look(low=-100.0, high=1700.0)
        self.window.set_theme("dusk")
        pause(500)
        # as a kill leaves it: nothing is closed, only what is in the study counts
        self.desk.study.catalogue.close()
        self.desk.study.close = lambda: None
        self.desk.save_view = lambda: None
        with mock.patch("kestrelmist.desk.shell.as_left.remember"):
            self.window.close()
        again = self.open(self.place / "study")
        self.assertEqual((again.desk.viewing.stage, again.desk.hand.label.name), ("Outline", "Ball"))
        self.assertEqual(again.path.stages.stage, "Outline")
        self.assertTrue(again.bench.outline.isVisible())
        np.testing.assert_allclose(again.desk.viewing.crosshair, (-4.25, 1.25, 0.75))
        self.assertEqual((again.desk.viewing.look.low, again.desk.viewing.look.high), (-100.0, 1700.0))
        self.assertEqual(again.desk.study.catalogue.recall("theme"), "dusk")
        self.assertEqual(int(again.desk.viewing.maps.labels.counts[1]), TRUTH)
        before = again.bench.outline.groups["label maps"].before
        self.assertTrue(before.isVisible())
        self.press(before)
        self.settle(again)
        self.assertEqual(
            (int(again.desk.viewing.maps.labels.counts[1:].sum()), len(again.desk.viewing.maps.labels.table)), (0, 0)
        )
        again.desk.session.undo()
        self.assertEqual(int(again.desk.viewing.maps.labels.counts[1]), TRUTH)
        again.set_theme("mist")

    def test_second_window_reads_only(self):
        second = self.open(self.place / "study")
        self.assertIn("open in another window", self.troubles[-1])
        self.assertIn("read only: it is open in another window", second.path.state.text())
        second.desk.viewing.set_stage("Outline")
        second.bench.outline.groups["labels"].new.setText("X")
        QTest.keyClick(second.bench.outline.groups["labels"].new, Qt.Key.Key_Return)
        self.assertIn("only be read", self.troubles[-1])
        self.assertEqual(len(second.desk.viewing.maps.labels.table), 0)

    def test_full_disk_keeps_what_was_there(self):
        self.outline()
        pages = self.desk.study.catalogue.rows("PRAGMA page_count")[0][0]
        self.desk.study.catalogue.db.execute(f"PRAGMA max_page_count = {pages}")
        self.desk.hand.set_tool("brush")
        self.desk.hand.set_settings(size=9.0)
        for n in range(40):  # fill the pages that are still free
            self.desk.viewing.go_to((-6.0 + 0.3 * n, 0.25, 0.25))
            counts = self.desk.viewing.maps.labels.counts.copy()
            self.click(self.window, 0, self.desk.viewing.crosshair)
            if self.troubles:
                break
        self.assertIn("disk is full", self.troubles[-1])
        np.testing.assert_array_equal(self.desk.viewing.maps.labels.counts, counts)
        self.desk.study.catalogue.db.execute(f"PRAGMA max_page_count = {pages + 10000}")

    def test_finder_reaches_tools_images_and_settings(self):
        def find(text):
            self.window.finder.open()
            QTest.keyClicks(self.window.finder.field, text)
            QTest.keyClick(self.window.finder.field, Qt.Key.Key_Return)
            self.settle(self.window)

        find("eras")
        self.assertEqual((self.desk.viewing.stage, self.desk.hand.tool), ("Outline", "eraser"))
        find("blur")
        self.assertEqual(self.desk.viewing.stage, "Prepare")
        form = self.window.bench.page("Prepare").form
        self.assertEqual(form.operation.name, "smooth")
        form.fields["fwhm"].setValue(1.5)
        self.press(form.apply)
        self.settle(self.window)
        self.assertEqual(self.desk.viewing.record.name, "Two balls, smooth 1.5 mm")
        find("two balls of")
        self.assertEqual(self.desk.viewing.record.name, "Two balls")
        find("swap left")
        self.assertFalse(self.desk.viewing.left_on_left)
        find("facts")
        self.press(self.window.bench.page("Gather").form.apply)
        self.settle(self.window)
        self.assertIn("Voxel size (mm)", self.window.drawer.results.table.column("fact"))

    def test_checks_show_and_mend(self):
        for name in ("A", "B", "C"):
            self.outline(name)
        labels = self.desk.viewing.maps.labels
        from kestrelmist.core.patch import LabelEdit

        self.desk.study.maps.keep_edit(labels, LabelEdit("Drop", None, labels.table, labels.table.without(2)))
        self.settle(self.window)
        checks = self.window.bench.checks
        self.assertEqual([n.sentence for n in checks.notices], ["Label 2 is not used."])
        (button,) = checks.findChildren(QPushButton)
        self.press(button)
        self.settle(self.window)
        self.assertEqual([row.number for row in self.desk.viewing.maps.labels.table], [1, 2])
        self.assertEqual(checks.notices[0].level, "fine")

    def test_long_work_shows_time_left_and_can_be_cancelled(self):
        done = []

        def work(progress: Progress):
            for n in range(400):
                progress.at(n / 400, "Counting")
                time.sleep(0.01)
            done.append(True)

        self.desk.session.work.start("Counting", work)
        pause(500)
        bar = self.window.path.work
        self.assertTrue(bar.bar.isVisible())
        self.assertRegex(bar.title.toolTip(), r"Counting · \d+ s left")
        self.assertGreater(bar.bar.value(), 20)
        self.press(bar.cancel)
        self.settle(self.window)
        self.assertEqual(done, [])
        self.assertFalse(bar.bar.isVisible())
        self.assertEqual(self.troubles, [])

    def test_the_window_answers_while_work_goes_on(self):
        """Work on a large volume may not keep the event loop from turning."""
        noise = np.random.default_rng(0).integers(0, 3, (160, 256, 256)).astype(np.int16)
        from kestrelmist.outline.flood import flood
        from kestrelmist.outline.runs import find_runs

        beats = []
        timer = QTimer(interval=5)
        timer.timeout.connect(lambda: beats.append(time.monotonic()))
        timer.start()
        self.desk.session.work.start(
            "Work", lambda progress: [(flood(noise, (0, 0, 0), 0, 2), find_runs(noise, 1, 2, 26)) for _ in range(3)]
        )
        self.settle(self.window)
        timer.stop()
        # kernels hold no lock: the loop goes on turning, however slow the machine (a held lock would leave a handful of
        # beats)
        self.assertGreater(len(beats), 20)


class ThemeTest(DeskCase):
    def test_contrast_of_words_on_their_grounds(self):
        for t in (MIST, DUSK):
            grounds = (t.ground, t.panel, t.field, t.rust_tint)
            inks = (t.ink, t.soft, t.rust, t.red, t.amber, t.moss)
            pairs = [(ink, ground) for ink in inks for ground in grounds]
            pairs += [(t.on_rust, t.rust), (t.bar_ink, t.bar), (t.bar_soft, t.bar), (t.lit, t.night)]
            for ink, ground in pairs:
                self.assertGreaterEqual(contrast(ink, ground), 4.5, (ink, ground))
            for ground in (t.ground, t.panel, t.field):  # what can be worked has an edge that is seen
                self.assertGreaterEqual(contrast(t.edge, ground), 3.0, ground)
        self.assertAlmostEqual(contrast("#000000", "#FFFFFF"), 21)


class RoomTest(DeskCase):
    def test_numbers_of_the_readout_stand_beside_each_other(self):
        """At every width, on either side of a small screen's, whichever way the system writes."""
        with self.study_with_balls() as study:
            study.run("paint", image=study.records()[0].id, label="Hippocampus", point=(0.0, 0.0, 0.0), diameter=4.0)
        window = self.open(self.place / "study")
        readout = window.readout
        for direction in (Qt.LayoutDirection.LeftToRight, Qt.LayoutDirection.RightToLeft):
            self.app.setLayoutDirection(direction)
            self.addCleanup(self.app.setLayoutDirection, Qt.LayoutDirection.LeftToRight)
            for width in (1600, 1280, 1024, 1000):
                window.resize(width, 768)
                window.desk.viewing.go_to((0.0, 0.0, 0.0))
                self.settle(window)
                shown = (*readout.heads.values(), *readout.fields.values(), readout.side, readout.scale)
                shown = sorted((w for w in shown if w.isVisible()), key=lambda w: w.x())
                for one, next_ in zip(shown, shown[1:]):
                    self.assertLessEqual(one.geometry().right(), next_.x(), (width, one.text(), next_.text()))
                self.assertGreaterEqual(shown[0].x(), 0)
                self.assertLessEqual(shown[-1].geometry().right(), readout.width())
                for one in (*readout.fields.values(), readout.scale):
                    self.assertLessEqual(one.fontMetrics().horizontalAdvance(one.text()), one.width(), one.text())
                self.assertEqual(readout.fields["Label"].text(), "1 Hippocampus")
                self.assertIn("0.5 mm", readout.scale.text())
            self.assertIn("header scale, 0.5 mm", readout.scale.toolTip())

    def test_large_letters_of_the_system_are_large_here(self):
        for points, scale in ((9, 1), (10, 1), (11, 1), (11.5, 1), (13, 1.15), (18, 1.55), (40, 2), (0, 1), (-1, 1)):
            self.assertAlmostEqual(scale_for(points), scale)
        code = (
            "import os; from kestrelmist.desk.theme import type_size; type_size.system_points = lambda: 17.0;"
            "from kestrelmist.desk.app import application; app = application(); print(app.devicePixelRatio())"
        )
        for more, said in (({"QT_QPA_PLATFORM": "minimal"}, "1.5"), ({"QT_SCALE_FACTOR": "1.25"}, "1.25")):
            env = {**os.environ, "QT_QPA_PLATFORM": "minimal"} | more
            ran = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True)
            self.assertEqual((ran.stdout.strip(), ran.returncode), (said, 0), ran.stderr)
