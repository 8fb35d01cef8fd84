"""The Bench, the Shelf, the Drawer and the panes in detail."""

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QCheckBox, QComboBox, QDoubleSpinBox, QLineEdit, QPushButton

from kestrelmist.core.geometry.grid_box import box_round
from kestrelmist.core.operation import all_operations, find_operation
from kestrelmist.core.quantity import short_size, suited
from kestrelmist.desk.bench.fields import ByHandField, PathField, ThingField, ThingsField
from kestrelmist.desk.bench.rows import soft
from kestrelmist.desk.shelf.cards import two_lines
from kestrelmist.desk.solid.feed import RESTARTS
from kestrelmist.desk.theme.theme import Theme
from kestrelmist.desk.theme.tokens import DUSK
from kestrelmist.desk.tools.framing import axis_across
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.scene.pieces import round_length
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause, with_solid_view
from tests.making import straight_space

LEFT = Qt.MouseButton.LeftButton


class BenchTest(DeskCase):
    def setUp(self):
        super().setUp()
        self.study_with_balls().close()
        self.window = self.open(self.place / "study")
        self.desk = self.window.desk
        self.desk.viewing.set_stage("Outline")
        self.desk.run_now("add-label", {"label": "Ball"})
        self.desk.hand.set_settings(low=500.0, high=2000.0)
        self.outline = self.window.bench.outline

    # forms

    def test_every_operation_has_a_form_made_from_its_signature(self):
        kinds = {"number": QDoubleSpinBox, "numbers": QLineEdit, "choice": QComboBox, "path": PathField}
        for operation in all_operations().values():
            self.window.bench.open_operation(operation)
            form = self.window.bench.page(operation.stage.capitalize()).form
            led = {operation.lead, operation.on_lead}
            shown = [p for p in operation.parameters if p.kind.family != "study" and not (p in led and p.required)]
            shown = [p for p in shown if p.role != "mark"]
            self.assertEqual(sorted(form.fields), sorted(p.name for p in shown))
            for p in shown:
                wanted = (
                    (ThingsField if p.many else ThingField)
                    if p.is_input
                    else QComboBox
                    if p.role == "label" or p.choices or (p.kind.name == "yes or no" and p.optional)
                    else ByHandField
                    if p.role in ("area", "box", "points")
                    else QCheckBox
                    if p.kind.name == "yes or no"
                    else QLineEdit
                    if (p.optional or (p.required and p.low > 0 and p.kind.type is float)) and p.kind.field != "path"
                    else kinds.get(p.kind.field, QLineEdit)
                )
                self.assertIsInstance(form.fields[p.name], wanted, f"{operation.name}: {p.name}")
            self.assertTrue(form.isVisible())

    def test_a_form_runs_what_it_shows_and_says_what_is_wrong(self):
        self.window.bench.open_operation(find_operation("threshold"))
        form = self.outline.form
        self.assertEqual((form.fields["low"].value(), form.fields["label"].currentText()), (500.0, "Ball"))
        self.assertEqual(form.fields["label"].lineEdit().cursorPosition(), 0)  # a long name shows how it begins
        self.assertEqual(form.fields["low"].suffix(), " HU")
        self.press(form.apply)
        self.settle(self.window)
        self.assertEqual(int(self.desk.viewing.maps.labels.counts[1]), int((self.desk.viewing.image.data >= 500).sum()))
        form.fields["low"].setValue(3000.0)
        self.press(form.apply)
        self.settle(self.window)
        self.assertIn("lower value first", self.troubles[-1])
        self.window.bench.open_operation(find_operation("set-origin"))
        form = self.window.bench.page("Align").form
        field = form.fields["point"]
        self.desk.viewing.go_to((1.25, -2.0, 3.5))  # the place is the crosshair's, until another one is typed
        self.assertEqual(form.values()["point"], (1.25, -2.0, 3.5))
        field.selectAll()
        QTest.keyClicks(field, "one, two")
        self.desk.viewing.go_to((0.0, 0.0, 0.0))
        self.assertEqual(field.text(), "one, two")
        self.press(form.apply)
        self.assertIn("give 3 numbers in mm", form.trouble.text())
        back = next(b for b in form.findChildren(QPushButton) if b.text() == "Back")
        self.press(back)
        self.assertIsNone(self.window.bench.page("Align").form)

    def test_a_label_that_an_operation_names_itself_is_not_the_one_in_hand(self):
        self.window.bench.open_operation(find_operation("take-out-brain"))
        form = self.window.bench.page("Prepare").form
        self.assertEqual(self.desk.hand.label.name, "Ball")
        self.assertEqual((form.values()["label"], form.values()["start"]), ("Brain", None))
        self.press(form.apply)
        self.settle(self.window)
        self.assertIn("No brain was found", self.troubles[-1])
        self.assertEqual([row.name for row in self.desk.viewing.maps.labels.table], ["Ball"])

    def test_a_box_is_drawn_and_dragged_on_the_panes(self):
        viewing, hand, asked = self.desk.viewing, self.desk.hand, self.desk.asked
        viewing.go_to((-4.0, 0.0, 0.0))
        self.window.bench.open_operation(find_operation("crop"))
        form = self.window.bench.page("Prepare").form
        field = form.fields["voxels"]
        self.press(field.button)
        self.assertEqual(hand.tool, "frame")
        space = viewing.record.grid
        planes = {axis_across(space, s.canvas.current_view()): n for n, s in enumerate(self.window.table.slices)}
        across = int(planes[2])  # the pane in which i and j are seen

        def between(a, b, pane):
            self.drag(self.window, pane, space.to_world(a), space.to_world(b))

        here = space.to_voxel(viewing.crosshair)
        between((6.0, 8.0, here[2]), (18.0, 20.0, here[2]), across)
        self.assertEqual((asked.framed.first[2], asked.framed.last[2]), (0, space.shape[2] - 1))
        for n, (low, high) in enumerate(((6, 18), (8, 20))):
            self.assertAlmostEqual(asked.framed.first[n], low, delta=1)
            self.assertAlmostEqual(asked.framed.last[n], high, delta=1)
        self.assertEqual(field.text(), asked.framed.voxels)
        first = asked.framed
        # an edge alone, in another pane: the upper end of k
        between((here[0], 12.0, first.last[2] + 0.5), (here[0], 12.0, 20.0), planes[0])
        self.assertEqual(asked.framed.first, first.first)
        self.assertEqual(asked.framed.last[:2], first.last[:2])
        self.assertAlmostEqual(asked.framed.last[2], 20, delta=1)
        framed = asked.framed
        # Esc in the middle of a drag gives the box back as it was
        canvas = self.window.table.slices[across].canvas
        QTest.mousePress(canvas, LEFT, Qt.KeyboardModifier.NoModifier, QPoint(20, 20))
        QTest.mouseMove(canvas, QPoint(60, 70))
        QTest.keyClick(canvas, Qt.Key.Key_Escape)
        QTest.mouseRelease(canvas, LEFT, Qt.KeyboardModifier.NoModifier, QPoint(60, 70))
        self.assertEqual(asked.framed, framed)
        # the box is a mark: undone like one, and the field follows it
        (mark,) = self.desk.marks.marks
        self.assertEqual((mark.shape, mark.name), ("box", "Frame"))
        self.assertEqual(box_round(mark, space), framed)
        self.desk.undoing.undo()
        self.settle(self.window)
        self.assertEqual((asked.framed, field.text()), (first, first.voxels))
        self.desk.undoing.undo()
        self.settle(self.window)
        self.assertEqual((asked.framed, field.text()), (None, ""))
        for _ in range(2):
            self.desk.undoing.redo()
            self.settle(self.window)
        self.assertEqual(field.text(), framed.voxels)
        # when its form is closed the mark stays, and the next form that asks has it again
        self.window.bench.page("Prepare").close_form()
        self.assertIsNone(asked.framed)
        self.window.bench.open_operation(find_operation("crop"))
        form = self.window.bench.page("Prepare").form
        field = form.fields["voxels"]
        self.assertEqual(field.text(), "")
        self.press(field.button)
        self.assertEqual(field.text(), framed.voxels)
        self.press(form.apply)
        self.settle(self.window)
        self.assertEqual(viewing.record.grid.shape, tuple(b - a + 1 for a, b in zip(framed.first, framed.last)))
        np.testing.assert_allclose(viewing.record.grid.to_world((0, 0, 0)), space.to_world(framed.first), atol=1e-6)
        self.assertIsNone(asked.framed)  # it was of the image that led
        self.assertEqual(field.text(), "")
        field.field.setText("1, 2, 3, 4, 5, 6")
        viewing.show_image(1)
        self.settle(self.window)
        self.assertEqual(field.text(), "1, 2, 3, 4, 5, 6")  # what was typed stays
        # another image, tool or stage in the middle of it leaves nothing behind
        self.window.bench.page("Prepare").close_form()
        self.assertEqual(hand.tool, "point")

    def test_labels_come_along_and_others_are_done_too(self):
        self.desk.study.run("smooth", image=self.desk.viewing.record.id, fwhm=1.0)
        other = max(r.id for r in self.desk.study.records())
        before = {r.id for r in self.desk.study.records()}
        self.desk.session.run("threshold", {"label": "Ball", "low": 500, "high": 2000, "image": 1})
        self.settle(self.window)
        self.window.bench.open_operation(find_operation("resample"))
        form = self.window.bench.page("Prepare").form
        form.fields["spacing"].setText("1, 1, 1")
        form.along.setChecked(True)
        self.press(form.more)
        self.assertFalse(form.more.isVisible())
        form.others.tick(other)
        volume = float(self.desk.viewing.maps.labels.counts[1]) * self.desk.viewing.maps.labels.space.voxel_volume
        self.press(form.apply)
        self.settle(self.window)
        made = {r.id: r for r in self.desk.study.records() if r.id not in before}
        self.assertEqual(len(made), 2)
        first = self.desk.study.labels(min(made))
        self.assertEqual([row.name for row in first.table], ["Ball"])
        self.assertAlmostEqual(float(first.counts[1]) * first.space.voxel_volume / volume, 1.0, delta=0.15)
        self.assertEqual(int(self.desk.study.labels(max(made)).counts[1:].sum()), 0)

    def test_the_crosshair_goes_along_with_what_is_placed(self):
        self.window.bench.open_operation(find_operation("set-origin"))
        form = self.window.bench.page("Align").form
        self.desk.viewing.go_to((1.25, -2.0, 3.5))
        voxel = self.desk.viewing.record.grid.nearest_voxel((1.25, -2.0, 3.5))
        self.press(form.apply)
        self.settle(self.window)
        np.testing.assert_allclose(self.desk.viewing.crosshair, (0, 0, 0), atol=1e-9)
        self.assertEqual(self.desk.viewing.record.grid.nearest_voxel((0, 0, 0)), voxel)
        self.desk.session.undo()
        self.settle(self.window)
        np.testing.assert_allclose(self.desk.viewing.crosshair, (1.25, -2.0, 3.5), atol=1e-9)

    # labels

    def test_rename_hide_lock_and_recolour_in_the_list(self):
        row = self.outline.groups["labels"].rows[1]
        row.setFocus()
        QTest.keyClick(row, Qt.Key.Key_F2)
        field = next(f for f in row.findChildren(QLineEdit))
        field.setText("Large ball")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertEqual(self.desk.viewing.maps.labels.table[1].name, "Large ball")
        self.press(row.eye)
        self.assertTrue(self.desk.viewing.maps.labels.table[1].hidden)
        self.press(row.lock)
        self.assertTrue(self.desk.viewing.maps.labels.table[1].locked)
        self.assertIn("Unlock", row.lock.toolTip())
        row._change(colour="#00FF00")
        self.assertEqual(self.desk.viewing.maps.labels.table[1].colour, "#00FF00")
        for _ in range(4):
            self.desk.session.undo()
        label = self.desk.viewing.maps.labels.table[1]
        self.assertEqual((label.name, label.hidden, label.locked), ("Ball", False, False))
        self.outline.groups["labels"].new.setText("ball")
        QTest.keyClick(self.outline.groups["labels"].new, Qt.Key.Key_Return)
        self.assertIn("already", self.troubles[-1])
        self.assertEqual(self.outline.groups["labels"].new.text(), "ball")

    def test_volumes_are_written_to_fit(self):
        for value, text in (
            (0, "0 mm³"),
            (0.0123, "0.0123 mm³"),
            (24.81, "24.8 mm³"),
            (4038.4, "4038 mm³"),
            (1.5e6, "1500 cm³"),
        ):
            self.assertEqual(short_size(value, "mm3"), text)

    # range

    def test_histogram_ends_can_be_dragged(self):
        self.press(self.outline.groups["tools"].buttons["grow"])
        histogram = self.outline.groups["range"].histogram
        self.settle(self.window)
        start, target = histogram.x_of(500.0), histogram.x_of(300.0)
        QTest.mousePress(histogram, LEFT, Qt.KeyboardModifier.NoModifier, QPoint(round(start), 30))
        QTest.mouseMove(histogram, QPoint(round(target), 30))
        from PySide6.QtCore import QEvent
        from PySide6.QtGui import QMouseEvent

        at = QPointF(target, 30)
        QApplication.sendEvent(
            histogram,
            QMouseEvent(
                QEvent.Type.MouseMove, at, histogram.mapToGlobal(at), LEFT, LEFT, Qt.KeyboardModifier.NoModifier
            ),
        )
        QTest.mouseRelease(histogram, LEFT, Qt.KeyboardModifier.NoModifier, QPoint(round(target), 30))
        self.assertAlmostEqual(self.desk.hand.settings.low, 300, delta=10)
        self.assertAlmostEqual(self.outline.groups["range"].low.value(), self.desk.hand.settings.low, delta=0.06)

    def test_range_is_shown_live_on_the_image(self):
        self.press(self.outline.groups["tools"].buttons["grow"])
        canvas = self.window.table.slices[0].canvas
        self.desk.viewing.go_to((-4.25, 0.25, 0.25))
        before = canvas.render_pixels().copy()
        self.press(self.outline.groups["range"].live)
        after = canvas.render_pixels()
        x, y = canvas.current_view().to_pixel((-4.25, 0.25, 0.25))
        self.assertNotEqual(int(before[round(y), round(x)]), int(after[round(y), round(x)]))
        self.assertEqual(int(before[5, 5]), int(after[5, 5]))
        self.desk.viewing.set_stage("Measure")
        np.testing.assert_array_equal(canvas.render_pixels(), before)

    # panes

    def test_disc_paints_in_the_plane_of_each_pane(self):
        self.press(self.outline.groups["tools"].buttons["brush"])
        self.desk.hand.set_settings(size=3.0, shape="disc")
        for pane, axis in ((0, 1), (1, 2), (2, 0)):
            before = self.desk.viewing.maps.labels.data.copy()
            point = np.array([2.25, 4.25, -3.75])
            self.desk.viewing.go_to(point)
            self.click(self.window, pane, point)
            changed = np.argwhere(self.desk.viewing.maps.labels.data != before)
            world = self.desk.viewing.record.space.to_world(changed)
            self.assertGreater(len(changed), 15)
            self.assertLess(np.ptp(world[:, axis]), 0.01)
            self.desk.session.undo()

    def test_tools_from_the_keyboard(self):
        self.press(self.outline.groups["tools"].buttons["brush"])
        self.desk.hand.set_settings(size=2.0)
        canvas = self.window.table.slices[0].canvas
        self.desk.viewing.go_to((0.25, 5.25, 0.25))
        canvas.setFocus()
        QTest.keyClick(canvas, Qt.Key.Key_Return)
        self.settle(self.window)
        self.assertGreater(int(self.desk.viewing.maps.labels.counts[1]), 20)
        pixel = canvas.current_view().pixel
        QTest.keyClick(canvas, Qt.Key.Key_Plus)
        self.assertLess(canvas.current_view().pixel, pixel)
        QTest.keyClick(canvas, Qt.Key.Key_0)
        self.assertAlmostEqual(canvas.current_view().pixel, pixel)
        path = self.window.path.stages
        path.setFocus()
        QTest.keyClick(path, Qt.Key.Key_Right)
        self.assertEqual(self.desk.viewing.stage, "Measure")
        self.assertEqual(self.desk.hand.tool, "point")  # a brush in hand does not follow into another stage

    def test_shift_click_moves_the_crosshair_whatever_the_tool(self):
        self.press(self.outline.groups["tools"].buttons["eraser"])
        canvas = self.window.table.slices[0].canvas
        QTest.mouseClick(canvas, LEFT, Qt.KeyboardModifier.ShiftModifier, self.pixel(canvas, (3.0, 0, -2.0)))
        np.testing.assert_allclose(self.desk.viewing.crosshair[[0, 2]], (3, -2), atol=0.06)
        self.assertEqual(self.desk.session.undo_title, "New label “Ball”")

    def test_one_pane_and_back(self):
        self.window.table.set_alone(True)
        self.assertEqual([p.isVisible() for p in self.window.table.panes], [True, False, False, False])
        self.window.table.set_alone(False)
        self.assertEqual([p.isVisible() for p in self.window.table.panes], [True] * 4)

    def test_scale_bar_is_a_round_length_that_fits(self):
        for pixel, room, wanted in (
            (0.06, 100, "5 mm"),
            (0.001, 100, "0.1 mm"),
            (0.00005, 100, "5 µm"),
            (1.0, 90, "50 mm"),
        ):
            length = round_length(pixel, room)
            self.assertEqual(suited(length, "mm"), wanted)
            self.assertLessEqual(length / pixel, room)

    @with_solid_view
    def test_solid_view_turns_and_survives_its_process(self):
        self.press(self.outline.groups["tools"].buttons["grow"])
        self.desk.viewing.go_to((-4.25, 0.25, 0.25))
        self.click(self.window, 0, (-4.25, 0.25, 0.25))
        canvas = self.window.table.solid.canvas
        before = canvas.picture.copy()
        QTest.keyClick(canvas, Qt.Key.Key_Left)
        self.settle(self.window)
        self.assertEqual(self.desk.solid.camera.turn, 25.0)
        self.assertNotEqual(before, canvas.picture)
        shown = dict(canvas.triangles)
        self.assertGreater(len(shown), 1)

        def end() -> None:
            old = canvas.process.process
            old.kill()
            old.wait()
            canvas.feed.ask()
            for _ in range(200):
                if canvas.trouble or (canvas.process and canvas.process.process is not old and canvas.settled):
                    return
                pause(50)

        for _ in range(RESTARTS):  # it comes back by itself, with all that it drew
            end()
            self.settle(self.window)
            self.assertEqual((canvas.triangles, canvas.trouble), (shown, ""))
        end()
        self.assertRegex(canvas.trouble, "stops again and again; the rest goes on. Click to try again")
        self.assertTrue(canvas.settled)
        QTest.mouseClick(canvas, Qt.MouseButton.LeftButton)
        self.settle(self.window)
        self.assertEqual((canvas.triangles, canvas.trouble), (shown, ""))
        self.click(self.window, 1, self.desk.viewing.crosshair)
        self.assertTrue(self.desk.viewing.ready)

    # the rest of the window

    def test_pictures_are_saved_with_what_the_pane_shows(self):
        path = self.place / "lead.png"
        self.window.save_lead_picture(path)
        image = QImage(str(path))
        self.assertEqual(
            (image.width(), image.height()),
            (self.window.table.lead.canvas.width(), self.window.table.lead.canvas.height()),
        )
        self.window.save_lead_picture(self.place / "no" / "lead.png")
        self.assertIn("could not be written", self.troubles[-1])

    def test_dusk_dresses_every_part(self):
        self.window.set_theme("dusk")
        try:
            picture = self.window.grab().toImage()
            for x, y, colour in ((5, 300, DUSK.panel), (1276, 300, DUSK.panel), (5, 796, DUSK.bar)):
                self.assertEqual(picture.pixelColor(x, y).name().upper(), colour)
            self.assertIs(Theme.tokens, DUSK)
        finally:
            self.window.set_theme("mist")

    def test_shelf_takes_off_and_undo_puts_back(self):
        self.desk.session.run("take-off", {"thing": self.desk.viewing.record.id})
        self.assertEqual((self.window.shelf.cards, self.desk.viewing.record), ({}, None))
        self.assertFalse(self.desk.viewing.ready)
        self.desk.session.undo()
        (card,) = self.window.shelf.cards.values()
        QTest.mouseClick(card, LEFT)
        self.settle(self.window)
        self.assertTrue(self.desk.viewing.ready)
        self.assertIn("0.5 × 0.5 × 0.5 mm", card.toolTip())

    def test_a_name_on_two_lines_keeps_both_its_ends(self):
        metrics = self.window.fontMetrics()
        for name, lines in (
            ("Head CT", ["Head CT"]),
            ("Enamel, etched window, level, level", ["Enamel,", "…level, level"]),
            ("W" * 300, ["WWWW…WWWW"]),
            ("", [""]),
            ("<b>bold</b> and more of it, smooth 1 mm", ["<b>bold</b>", "…smooth 1 mm"]),
        ):
            got = two_lines(name, metrics, 96).split("\n")
            self.assertEqual(len(got), len(lines), name)
            self.assertTrue(all(metrics.horizontalAdvance(line) <= 96 for line in got), got)
            self.assertEqual((got[0][:3], got[-1][-3:]), (lines[0][:3], lines[-1][-3:]))

    def test_the_card_of_what_leads_is_in_sight(self):
        for _ in range(12):
            self.desk.session.run("turn-values", {"image": self.desk.viewing.record.id})
            self.settle(self.window)
        scroll, cards = self.window.shelf.column, list(self.window.shelf.cards.values())
        for card in (cards[-1], cards[0]):
            self.desk.viewing.show_image(card.record.id)
            self.settle(self.window)
            top = card.mapTo(scroll.viewport(), QPoint()).y()
            self.assertGreaterEqual(top, 0)
            self.assertLessEqual(top + card.height(), scroll.viewport().height())

    def test_look_panel_sets_range_colours_and_labels(self):
        look = self.window.bench.look
        look.low.setValue(-200.0)
        look.colours.setCurrentText("Ember")
        look.colours.textActivated.emit("Ember")
        look.labels.setCurrentIndex(1)
        look.labels.activated.emit(1)
        self.assertEqual((self.desk.viewing.look.low, self.desk.viewing.look.colour_map), (-200.0, "Ember"))
        self.assertEqual((self.desk.viewing.maps.look.fill, self.desk.viewing.maps.look.edges), (0.0, True))


class RoomTest(DeskCase):
    """What is made comes into sight, and fields have the height that they need."""

    def test_the_card_of_a_result_and_the_rows_of_a_long_form(self):
        source = self.place / "scans"
        source.mkdir()
        for n in range(14):
            values = np.random.default_rng(n).normal(100, 10, (12, 12, 12)).astype(np.float32)
            write_nifti(source / f"Scan {n}.nii", values, straight_space((12, 12, 12), 0.4))
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=source, subject="HM-07")
        window = self.open(self.place / "study")
        desk = window.desk
        for key in [desk.study.records()[n].id for n in (2, 13)]:
            desk.session.run("smooth", {"image": key, "fwhm": 1.0})
            self.settle(window)
            pause(50)
            card = window.shelf.cards[desk.viewing.record.id]
            self.assertIn("smooth", desk.viewing.record.name)
            self.assertEqual(card.visibleRegion().boundingRect().height(), card.height())
        words = soft("one two three four five six seven eight nine ten")
        words.resize(60, 100)
        words.setText("one two three four five six seven eight nine ten eleven")
        tall = words.minimumHeight()
        words.setText("one")  # and what it has asked for is given back
        self.assertTrue(0 < 3 * words.minimumHeight() < tall)
        window.bench.open_operation(find_operation("undistort"))
        self.settle(window)
        pause(200)
        form = window.bench.page("Prepare").form
        form.folded.open()
        pause(200)
        top = lambda field: field.mapTo(form, field.rect().topLeft()).y()  # noqa: E731
        fields = sorted(form.fields.values(), key=top)
        self.assertGreater(len(fields), 8)
        for above, below in zip(fields, fields[1:]):
            self.assertGreaterEqual(top(below), top(above) + above.height(), below.accessibleName())
