"""Columns of many rows, of images and of labels: widgets only where they are seen, and every thing at its place."""

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kestrelmist.desk.bench.groups.label_list import MOST, TALL
from kestrelmist.desk.shelf.cards import Card
from kestrelmist.desk.theme.theme import Theme
from kestrelmist.desk.theme.tokens import DUSK
from kestrelmist.desk.widgets.plain_text import Words
from kestrelmist.formats.nifti_write import write_nifti
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import straight_space

SUBJECTS, EACH = 4, 14


class ManyImagesTest(DeskCase):
    def setUp(self):
        super().setUp()
        for s in range(SUBJECTS):
            source = self.place / f"HM-{s:02d}"
            source.mkdir()
            for n in range(EACH):
                values = np.full((4, 4, 4), 20 * s + n, np.float32)
                write_nifti(source / f"scan {n:02d}.nii", values, straight_space((4, 4, 4)))
        flat = straight_space((512, 512, 1), 0.0001)
        write_nifti(self.place / "HM-00" / "scan 00.nii", np.zeros((512, 512, 1), np.uint8), flat)
        with Study(self.place / "study", create=True) as study:
            for s in range(SUBJECTS):
                study.run("gather", folder=self.place / f"HM-{s:02d}", subject=f"HM-{s:02d}")
        self.window = self.open(self.place / "study")
        self.shelf, self.desk = self.window.shelf, self.window.desk
        self.bar = self.shelf.column.verticalScrollBar()

    def seen(self) -> list[tuple[int, int]]:
        """The ids of the cards in sight, with their tops, from above."""
        port = self.shelf.column.viewport()
        tops = [(card.mapTo(port, QPoint()).y(), key) for key, card in self.shelf.cards.items()]
        return [(key, top) for top, key in sorted(tops) if -card_height(self.shelf) < top < port.height()]

    def check_places(self) -> None:
        """Cards in sight are of things that follow each other, each at its place, and no two overlap."""
        order = [record.id for record in self.desk.study.items.of_kind("image")]
        seen = self.seen()
        keys = [key for key, _ in seen]
        at = order.index(keys[0])
        self.assertEqual(keys, order[at : at + len(keys)])
        for (_, above), (_, below) in zip(seen, seen[1:]):
            self.assertGreaterEqual(below - above, card_height(self.shelf))
        records = {record.id: record for record in self.desk.study.records()}
        self.assertEqual([self.shelf.cards[k].record for k in keys], [records[k] for k in keys])

    def test_there_are_cards_for_what_is_seen_only_and_it_is_right_everywhere(self):
        self.assertEqual(len(self.shelf.column.rows), SUBJECTS * (EACH + 1))
        for share in (0, 0.3, 0.31, 1.0, 0.5, 0):
            self.bar.setValue(round(share * self.bar.maximum()))
            pause(20)
            self.check_places()
            self.assertLess(len(self.shelf.cards), 30)
            for words in self.shelf.findChildren(Words):  # none is cut at its end
                wide = max(map(words.fontMetrics().horizontalAdvance, words.text().split("\n")))
                self.assertLessEqual(wide, words.width(), words.text())
            self.assertLess(len(self.shelf.findChildren(Card)), 60)  # those left go at the next turn
        last = self.desk.study.records()[-1]
        self.desk.viewing.show_image(last.id)
        self.settle(self.window)
        pause(20)
        self.check_places()
        self.assertEqual(self.seen()[-1][0], last.id)
        self.assertEqual(self.shelf.cards[last.id].objectName(), "cardchosen")
        self.assertEqual(self.bar.value(), self.bar.maximum())
        self.window.shelf.go(1)  # from the last to the first
        self.settle(self.window)
        pause(20)
        self.assertEqual(self.seen()[0][0], self.desk.study.records()[0].id)

    def test_one_is_clicked_renamed_taken_off_and_others_stay(self):
        self.bar.setValue(self.bar.maximum() // 2)
        pause(20)
        key = self.seen()[2][0]
        others = {k: card for k, card in self.shelf.cards.items() if k != key}
        QTest.mouseClick(self.shelf.cards[key], Qt.MouseButton.LeftButton)
        self.settle(self.window)
        self.assertEqual(self.desk.viewing.record.id, key)
        self.desk.session.run("rename", {"thing": key, "name": "renamed"})
        self.settle(self.window)
        self.check_places()
        self.assertEqual(self.shelf.cards[key].record.name, "renamed")
        self.assertEqual({k: self.shelf.cards.get(k) for k in others}, others)  # the very same ones
        self.desk.session.run("take-off", {"thing": key})
        self.settle(self.window)
        self.assertNotIn(key, self.shelf.cards)
        self.assertEqual(len(self.shelf.column.rows), SUBJECTS * (EACH + 1) - 1)
        self.check_places()

    def test_the_keyboard_goes_on_beyond_what_is_seen(self):
        order = [record.id for record in self.desk.study.items.of_kind("image")]
        self.window.on_table.plus.setFocus()  # what comes before the Shelf
        for key in order[:30]:
            for _ in range(3):  # the filter and the heading of a subject come between
                QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
                pause(5)
                if hasattr(QApplication.focusWidget(), "record"):
                    break
            self.assertEqual(QApplication.focusWidget().record.id, key)
        self.assertIn(order[29], [key for key, _ in self.seen()])
        self.bar.setValue(self.bar.maximum())  # what has the keys is kept out of sight too
        pause(20)
        self.assertEqual(QApplication.focusWidget().record.id, order[29])

    def test_another_theme_dresses_the_cards(self):
        before = list(self.shelf.cards.values())
        self.window.set_theme("dusk")
        try:
            self.assertIs(Theme.tokens, DUSK)
            self.check_places()
            self.assertFalse(set(before) & set(self.shelf.cards.values()))
        finally:
            self.window.set_theme("mist")


class ManyLabelsTest(DeskCase):
    def setUp(self):
        super().setUp()
        write_nifti(self.place / "scan.nii", np.zeros((8, 8, 8), np.float32), straight_space((8, 8, 8)))
        few = "few" in self._testMethodName
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "scan.nii", subject="HM-07")
            for n in range(1, 6 if few else 301):
                study.run("add-label", labels=study.records()[0].id, label=f"Part {n}")
        self.window = self.open(self.place / "study")
        self.desk = self.window.desk
        self.desk.viewing.set_stage("Outline")
        self.settle(self.window)
        self.list = self.window.bench.outline.groups["labels"]

    def seen(self) -> list[int]:
        height = self.list.list.viewport().height()
        tops = {n: row.mapTo(self.list.list.viewport(), QPoint()).y() for n, row in self.list.rows.items()}
        return [n for n, top in tops.items() if 0 <= top and top + TALL <= height]

    def test_the_tools_stay_near_and_the_chosen_one_is_seen(self):
        self.assertEqual(self.seen(), list(range(1, MOST + 1)))
        self.assertLess(len(self.list.rows), 30)
        self.assertLessEqual(self.list.list.height(), MOST * (TALL + 1))
        self.desk.hand.choose_label(250)
        pause(20)
        self.assertIn(250, self.seen())
        self.assertEqual(self.list.rows[250].property("chosen"), "true")
        self.assertLess(len(self.list.rows), 60)
        self.list.rows[249].mousePressEvent(None)
        self.assertEqual((self.desk.hand.label_number, self.list.rows[250].property("chosen")), (249, "false"))
        self.list.new.setText("The last of all")
        QTest.keyClick(self.list.new, Qt.Key.Key_Return)
        self.settle(self.window)
        self.assertEqual((self.desk.hand.label_number, self.seen()[-1]), (301, 301))
        self.assertEqual(self.list.rows[301].name.text(), "The last of all")
        self.desk.run("delete-label", {"label": "The last of all"})
        self.settle(self.window)
        self.assertNotIn(301, self.list.rows)
        self.desk.hand.choose_label(1)
        self.window.set_theme("dusk")
        self.addCleanup(self.window.set_theme, "mist")
        self.assertEqual(self.seen(), list(range(1, MOST + 1)))

    def test_few_labels_have_no_bar(self):
        for n in range(4, 6):
            self.desk.run_now("delete-label", {"label": f"Part {n}"})
        self.settle(self.window)
        pause(50)
        self.assertEqual(self.seen(), [1, 2, 3])
        self.assertFalse(self.list.list.verticalScrollBar().isVisible())
        self.assertEqual(self.list.list.height(), 3 * TALL + 2)

    def test_keys_go_through_row_eye_and_lock(self):
        self.list.rows[1].setFocus()
        for n in range(1, 15):
            for wanted in (self.list.rows[n].eye, self.list.rows[n].lock):
                QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
                self.assertIs(QApplication.focusWidget(), wanted)
            QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
            self.assertIs(QApplication.focusWidget(), self.list.rows[n + 1])
        QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Return)
        self.assertEqual((self.desk.hand.label_number, 15 in self.seen()), (15, True))


def card_height(shelf) -> int:
    return next(iter(shelf.cards.values())).height()
