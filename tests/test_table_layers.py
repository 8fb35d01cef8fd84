"""Layers on the table, in the window: laid over, hidden, faded, moved, taken away, kept."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.desk.widgets.plain_text import Words
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.scene.colours import colour_table
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import straight_space


class LayersTest(DeskCase):
    def setUp(self):
        super().setUp()
        head = np.zeros((60, 50, 40), np.int16)
        head[10:50, 10:40, 5:35] = 500
        self.head = Image(np.asfortranarray(head), straight_space((60, 50, 40), 0.5))
        response = np.zeros((12, 10, 8), np.float32)
        response[6:9, 4:7, 3:6], response[3:6, 4:7, 3:6] = 8.0, -8.0
        self.response = Image(response, straight_space((12, 10, 8), 2.5))
        far = np.eye(4)
        far[:3, 3] = (200, 0, 0)
        sources = self.place / "in"
        sources.mkdir()
        for name, values, space in (
            ("Head", self.head.data, self.head.space),
            ("Response", response, self.response.space),
            ("Far", np.ones((5, 5, 5), np.int16), Space((5, 5, 5), far)),
            ("Other", np.full((30, 25, 20), 7, np.int16), straight_space((30, 25, 20), 1.0)),
        ):
            write_nifti(sources / f"{name}.nii.gz", values, space)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=sources, subject="T-1")
            self.ids = {r.name: r.id for r in study.records()}
        self.window = self.open(self.place / "study")
        self.viewing, self.layers = self.window.desk.viewing, self.window.desk.layers
        self.viewing.show_image(self.ids["Head"])
        self.settle(self.window)
        self.peak = self.response.space.to_world((7, 5, 4))
        self.trough = self.response.space.to_world((4, 5, 4))
        self.viewing.go_to(self.peak)
        self.settle(self.window)

    def lay(self, name: str) -> int:
        self.layers.lay_over(self.ids[name])
        self.settle(self.window)
        return self.ids[name]

    def colour(self, world) -> np.ndarray:
        canvas = self.window.table.lead.canvas
        x, y = (round(v) for v in canvas.current_view().to_pixel(world))
        pixel = int(canvas.render_pixels()[y, x])
        return np.array([(pixel >> shift) & 255 for shift in (16, 8, 0)])

    def test_a_map_over_an_anatomy_by_world_position(self):
        grey = self.colour(self.peak)
        self.assertEqual(len(set(grey)), 1)
        key = self.lay("Response")
        self.assertEqual(self.troubles, [])
        top = colour_table("Ember")[255]
        np.testing.assert_allclose(self.colour(self.peak), [(top >> s) & 255 for s in (16, 8, 0)], atol=12)
        self.viewing.go_to(self.trough)
        top = colour_table("Deep water")[255]  # below zero it has colours of its own
        np.testing.assert_allclose(self.colour(self.trough), [(top >> s) & 255 for s in (16, 8, 0)], atol=12)
        between = (self.peak + self.trough) / 2
        np.testing.assert_array_equal(self.colour(between), grey)  # near to zero it is clear
        self.assertEqual([row.record.name for row in self.layers.rows], ["Response", "Head"])
        self.assertEqual(self.layers.chosen, key)
        for pane in self.window.table.slices[1:]:
            self.assertGreater(len(np.unique(pane.canvas.render_pixels())), 5)

    def test_every_layers_value_is_read(self):
        self.lay("Response")
        self.lay("Other")
        self.viewing.go_to(self.peak)
        told = [("Other", "7"), ("Response", "8"), ("Head", "500"), ("Voxel in Other", "18 13 11")]
        self.assertEqual(self.window.bench.here.told, told)
        self.window.bench.here.point(self.trough)
        self.assertEqual(self.window.bench.here.told[1], ("Response", "−8"))
        self.layers.take_all_away()
        self.settle(self.window)
        self.assertEqual((self.window.bench.here.told, len(self.layers.rows)), ([], 1))

    def test_eye_opacity_order_and_cross(self):
        before = self.colour(self.peak)
        self.lay("Response")
        self.lay("Other")
        cards = self.window.on_table.cards
        self.assertEqual([c.row.record.name for c in cards], ["Other", "Response", "Head"])
        for card in cards:
            for words in card.findChildren(Words):  # none is cut at its end
                self.assertLessEqual(words.fontMetrics().horizontalAdvance(words.text()), words.width(), words.text())
        covered = self.colour(self.peak)
        QTest.mouseClick(cards[0].eye, Qt.MouseButton.LeftButton)
        pause(30)
        self.assertFalse(np.array_equal(self.colour(self.peak), covered))
        shown = self.colour(self.peak)
        cards = self.window.on_table.cards
        cards[1].opacity.setValue(0)
        np.testing.assert_array_equal(self.colour(self.peak), before)
        cards[1].opacity.setValue(100)
        np.testing.assert_array_equal(self.colour(self.peak), shown)
        QTest.keyClick(cards[1], Qt.Key.Key_PageUp)
        pause(30)
        self.assertEqual([r.record.name for r in self.layers.rows], ["Response", "Other", "Head"])
        self.layers.move(self.ids["Response"], -5)
        self.assertEqual([r.record.name for r in self.layers.rows], ["Other", "Response", "Head"])  # the lead stays low
        self.layers.set_shown(self.ids["Other"], True)
        self.layers.show_only(self.ids["Response"])
        self.assertEqual([r.layer.shown for r in self.layers.rows], [False, True, True])
        self.layers.show_only(self.ids["Response"])
        self.assertEqual([r.layer.shown for r in self.layers.rows], [True, True, True])
        QTest.mouseClick(self.window.on_table.cards[0].away, Qt.MouseButton.LeftButton)
        pause(30)
        self.assertEqual([r.record.name for r in self.layers.rows], ["Response", "Head"])

    def test_the_look_is_that_of_the_layer_that_is_chosen(self):
        lead = self.viewing.look
        self.lay("Response")
        panel = self.window.bench.look
        self.assertIn("Response", panel.head.text())
        panel.low.setValue(9.0)  # above the peak: nothing of it is left
        self.assertEqual(len(set(self.colour(self.peak))), 1)
        panel.low.setValue(2.0)
        panel.high.setValue(4.0)
        panel.colours.setCurrentText("Meadow")
        panel.colours.textActivated.emit("Meadow")
        self.assertEqual((self.layers.look.low, self.layers.look.high), (2.0, 4.0))
        top = colour_table("Meadow")[255]
        np.testing.assert_allclose(self.colour(self.peak), [(top >> s) & 255 for s in (16, 8, 0)], atol=3)
        self.assertEqual(self.viewing.look, lead)
        self.press(panel.reset)
        self.assertEqual(self.layers.look.colour_map, "Ember")
        card = next(c for c in self.window.on_table.cards if c.row.leads)
        QTest.mouseClick(card, Qt.MouseButton.LeftButton)
        panel.high.setValue(900.0)
        self.assertEqual((self.viewing.look.high, self.layers.look.high), (900.0, 900.0))

    def test_a_limit_that_hides_goes_along_with_the_range(self):
        self.viewing.show_image(self.ids["Response"])
        self.settle(self.window)
        self.lay("Head")
        hidden = self.layers.look.hide_below
        self.assertEqual(hidden, self.layers.look.low)
        self.assertGreater(hidden, 0)
        self.drag(self.window, 0, (0.0, 0.0, 0.0), (5.0, 0.0, 3.0), Qt.MouseButton.RightButton)
        self.assertNotEqual(self.layers.look.low, hidden)
        self.assertEqual(self.layers.look.hide_below, self.layers.look.low)
        self.window.bench.look.low.setValue(123.0)
        self.assertEqual((self.layers.look.low, self.layers.look.hide_below), (123.0, 123.0))

    def test_the_finder_lays_an_image_over(self):
        entry = next(do for line, do in self.window.findable.images() if line.name == "Lay over: T-1 · Response")
        entry()
        self.settle(self.window)
        self.assertEqual([row.record.name for row in self.layers.rows], ["Response", "Head"])

    def test_compared_in_five_ways(self):
        plain = self.window.table.lead.canvas.render_pixels().copy()
        strip = self.window.strip
        self.assertFalse(any(button.isVisible() for button in strip.buttons.values()))
        self.lay("Other")
        self.layers.set_opacity(self.ids["Other"], 1.0)
        self.assertTrue(all(button.isVisible() for button in strip.buttons.values()))
        pictures = {}
        for way in ("over", "fade", "swipe", "squares", "edges"):
            QTest.mouseClick(strip.buttons[way], Qt.MouseButton.LeftButton)
            self.assertEqual((self.layers.comparison.way, strip.buttons[way].isChecked()), (way, True))
            self.assertEqual(strip.share.isVisible(), way in ("fade", "swipe"))
            self.assertEqual(strip.square.isVisible(), way == "squares")
            self.settle(self.window)
            pictures[way] = self.window.table.lead.canvas.render_pixels().copy()
        self.assertEqual(len({p.tobytes() for p in pictures.values()}), 5)
        strip.buttons["fade"].click()
        strip.share.setValue(0)
        self.settle(self.window)
        now = self.window.table.lead.canvas.render_pixels()
        if now.shape == plain.shape:
            np.testing.assert_array_equal(now, plain)
        seen = self.colour(self.peak)
        self.layers.take_all_away()
        self.settle(self.window)
        np.testing.assert_array_equal(self.colour(self.peak), seen)  # nothing of what lay above is left
        self.assertFalse(any(button.isVisible() for button in strip.buttons.values()))

    def test_what_does_not_overlap_is_refused_with_the_distance(self):
        self.lay("Far")
        self.assertRegex(self.troubles[-1], "“Far” does not overlap “Head”: 18[0-9] mm lie between")
        self.assertEqual(len(self.layers.rows), 1)
        self.assertEqual(self.window.on_table.cards, [])
        can, cannot = self.window.on_table.offers()
        self.assertEqual(sorted(words for words, _ in can), ["T-1 · Other", "T-1 · Response"])
        self.assertEqual([words for words, *_ in cannot], ["T-1 · Far"])
        self.assertRegex(cannot[0][2].short, "^18[0-9] mm away$")
        self.assertEqual(str(cannot[0][2]), self.troubles[-1])  # what the menu says is what is said

    def test_it_is_there_again_the_next_time_and_after_another_image(self):
        key = self.lay("Response")
        self.layers.set_look(low=3.0)
        self.layers.set_opacity(key, 0.5)
        self.viewing.show_image(self.ids["Other"])
        self.settle(self.window)
        self.assertEqual([r.record.name for r in self.layers.rows], ["Other"])
        self.viewing.show_image(self.ids["Head"])
        self.settle(self.window)
        seen = self.colour(self.peak)
        self.assertEqual([r.record.name for r in self.layers.rows], ["Response", "Head"])
        self.assertTrue(self.window.close())
        again = self.open(self.place / "study")
        self.settle(again)
        rows = again.desk.layers.rows
        self.assertEqual([(r.record.name, r.layer.opacity) for r in rows], [("Response", 0.5), ("Head", 1.0)])
        self.assertEqual(rows[0].layer.look.low, 3.0)
        self.window = again
        np.testing.assert_array_equal(self.colour(self.peak), seen)

    def test_a_layer_that_goes_moves_or_comes_late(self):
        session = self.window.desk.session
        self.layers.lay_over(self.ids["Response"])
        self.viewing.show_image(self.ids["Other"])  # before its values have come
        self.settle(self.window)
        self.assertEqual([r.record.name for r in self.layers.rows], ["Other"])
        self.viewing.show_image(self.ids["Head"])
        self.settle(self.window)
        key = self.lay("Response")
        self.viewing.go_to(self.peak)
        session.run("set-origin", {"image": key, "point": (0.0, 0.0, 5.0)})  # it is moved under the eyes
        self.settle(self.window)
        moved = self.peak - (0.0, 0.0, 5.0)
        self.viewing.go_to(moved)
        self.assertGreater(np.ptp(self.colour(moved)), 20)
        session.undo()
        self.settle(self.window)
        session.run("take-off", {"thing": key})
        self.settle(self.window)
        self.assertEqual([r.record.name for r in self.layers.rows], ["Head"])
        session.undo()
        self.settle(self.window)
        self.assertEqual(len(self.layers.rows), 2)
        self.layers.lay_over(self.ids["Other"])
        self.assertTrue(self.window.close())  # while it is read
        self.assertEqual(self.troubles, [])
