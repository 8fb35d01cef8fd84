"""The Shelf of many: what stands under what, folded, filtered, chosen together."""

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrelmist.core.operation import find_operation
from kestrelmist.desk.bench.fields import ThingsField
from kestrelmist.desk.shelf.rows import LOW, Heading, ImageCard
from kestrelmist.desk.shelf.tree import Stand, Subject, added, stands
from kestrelmist.study.items import Record
from kestrelmist.study.subjects import subject_of
from tests.desk_case import DeskCase
from tests.making import PlaceCase


def record(key: int, name: str, made_of: int | None = None, subject: str = "A", kind: str = "image") -> Record:
    return Record(key, kind, subject, name, made_of=made_of)


class TreeTest(PlaceCase):
    RECORDS = (
        record(1, "Run"), record(2, "Head"), record(3, "Run, still", 1), record(4, "Run, still, smooth 1 mm", 3),
        record(5, "To atlas", 2, kind="transform"), record(6, "Run, mean", 1), record(7, "Other", subject="B"),
    )  # fmt: skip

    def lines(self, *args, **kwargs) -> list[tuple[int, str]]:
        found = stands(self.RECORDS, *args, **kwargs)
        return [(one.depth, one.label) if isinstance(one, Stand) else (-1, f"{one.name} {one.count}") for one in found]

    def test_what_was_made_of_an_image_stands_under_it_with_what_it_adds(self):
        self.assertEqual(self.lines(), [
            (-1, "A 6"), (0, "Run"), (1, "still"), (2, "smooth 1 mm"), (1, "mean"), (0, "Head"), (1, "To atlas"),
            (-1, "B 1"), (0, "Other"),
        ])  # fmt: skip
        self.assertEqual([r.record.id for r in stands(self.RECORDS) if isinstance(r, Stand)], [1, 3, 4, 6, 2, 5, 7])

    def test_folded_and_filtered(self):
        self.assertEqual(self.lines(frozenset({"A"})), [(-1, "A 6"), (-1, "B 1"), (0, "Other")])
        # what fits stands by itself where what it was made of does not fit, and nothing is folded
        self.assertEqual(self.lines(frozenset({"A"}), "smooth"), [(-1, "A 1"), (0, "Run, still, smooth 1 mm")])
        self.assertEqual(self.lines(frozenset(), "b other"), [(-1, "B 1"), (0, "Other")])
        self.assertEqual(self.lines(frozenset(), "transform"), [(-1, "A 1"), (0, "To atlas")])
        self.assertEqual(self.lines(frozenset(), "nothing of it"), [])
        self.assertEqual(self.lines(on_shelf=lambda kind: kind == "transform")[1], (0, "To atlas"))

    def test_deep_and_odd_relations(self):
        chain = [record(n, "x" + ", y" * n, n - 1 if n > 1 else None) for n in range(1, 3001)]
        found = [one for one in stands(chain) if isinstance(one, Stand)]
        self.assertEqual((len(found), max(one.depth for one in found)), (3000, 4))
        ring = [record(1, "a", 2), record(2, "b", 1), record(3, "c", 99)]
        self.assertEqual([one.record.id for one in stands(ring) if isinstance(one, Stand)], [1, 2, 3])
        self.assertEqual(added("Head, T1", "Head"), "T1")
        self.assertEqual((added("Heading", "Head"), added("Head, ", "Head"), added("", "")), ("Heading", "Head, ", ""))


class InTheWindowTest(DeskCase):
    def setUp(self):
        super().setUp()
        with self.study_with_balls() as study:
            (self.smooth,) = study.run("smooth", image=1, fwhm=1.0)
            (self.clipped,) = study.run("clip", image=self.smooth, high=500.0)
        self.window = self.open(self.place / "study")
        self.shelf, self.desk = self.window.shelf, self.window.desk

    def test_relations_are_kept_and_known_of_older_studies(self):
        self.assertEqual([self.desk.study.items.get(k).made_of for k in (1, self.smooth, self.clipped)], [None, 1, 2])
        with self.desk.study.catalogue.change() as db:
            db.execute("UPDATE item SET made_of = NULL")
        from kestrelmist.study.schema import _made_of_from_steps

        with self.desk.study.catalogue.change() as db:
            _made_of_from_steps(db)
        self.desk.study.look_again()
        self.assertEqual([self.desk.study.items.get(k).made_of for k in (1, self.smooth, self.clipped)], [None, 1, 2])

    def test_rows_below_their_image_lead_like_cards(self):
        rows = self.shelf.cards
        self.assertEqual([rows[k].height() > LOW for k in (1, self.smooth, self.clipped)], [True, False, False])
        self.assertEqual(rows[self.clipped].name.text(), "clipped")
        QTest.mouseClick(rows[self.clipped], Qt.MouseButton.LeftButton)
        self.settle(self.window)
        self.assertEqual(self.desk.viewing.record.id, self.clipped)
        self.assertEqual(self.shelf.cards[self.clipped].objectName(), "cardchosen")

    def test_low_rows_of_a_kind_are_of_one_class(self):
        low = [type(self.shelf.cards[key]) for key in (self.smooth, self.clipped)]
        self.assertIs(*low)
        for _ in range(4):
            self.shelf.fold("T-1")
        self.assertIs(type(self.shelf.cards[self.clipped]), low[0])
        self.assertEqual([kind for kind in ImageCard.__subclasses__() if kind.__name__ == "Made"], low[:1])

    def test_a_subject_folds_and_stays_so(self):
        heading = self.shelf.findChild(Heading)
        self.assertEqual(heading.accessibleName(), "T-1, 3, unfolded")
        QTest.mouseClick(heading, Qt.MouseButton.LeftButton)
        self.settle(self.window)
        self.assertEqual(self.shelf.cards, {})
        self.window.close()
        again = self.open(self.place / "study")
        self.assertEqual(again.shelf.cards, {})
        again.shelf.fold("T-1")
        self.assertEqual(len(again.shelf.cards), 3)

    def test_the_filter_follows_what_is_typed(self):
        QTest.keyClicks(self.shelf.filter, "clip")
        self.settle(self.window)
        self.assertEqual((list(self.shelf.cards), self.shelf.told.text()), ([self.clipped], "1 found"))
        self.shelf.filter.clear()
        self.settle(self.window)
        self.assertEqual((len(self.shelf.cards), self.shelf.told.text()), (3, ""))

    def test_several_are_chosen_and_taken_off_as_one_step(self):
        self.desk.viewing.show_image(1)
        self.settle(self.window)
        QTest.mouseClick(self.shelf.cards[self.smooth], Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual((self.shelf.chosen, self.desk.viewing.record.id), ([1, self.smooth], 1))
        self.assertEqual(self.shelf.cards[self.smooth].several(), [1, self.smooth])
        QTest.mouseClick(self.shelf.cards[self.clipped], Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier)
        self.assertEqual(self.shelf.chosen, [1, self.smooth, self.clipped])
        self.desk.session.run("set-visit", {"image": 1, "others": [self.smooth], "visit": "late"})
        self.settle(self.window)
        self.assertIn("late", [v.name for v in subject_of(self.desk.study, "T-1").visits])
        self.desk.session.take_off([self.smooth, self.clipped])
        self.settle(self.window)
        self.assertEqual((list(self.shelf.cards), self.shelf.chosen), ([1], [1]))
        self.desk.session.undo()
        self.settle(self.window)
        self.assertEqual(len(self.shelf.cards), 3)
        heading = next(one for one in self.shelf._rows.values())
        self.assertNotIsInstance(heading.shows, Subject)

    def test_lists_of_a_form_follow_the_shelf(self):
        desk, bench = self.window.desk, self.window.bench
        desk.viewing.show_image(self.clipped)
        self.settle(self.window)
        bench.open_operation(find_operation("merge-channels"))
        several = next(f for f in bench.page("Prepare").form.fields.values() if isinstance(f, ThingsField))
        several.tick(self.smooth)
        for name in ("7", "<b>x</b>"):
            desk.run_now("rename", {"thing": self.smooth, "name": name})
            self.settle(self.window)
            shown = several.item(ids_of(several).index(self.smooth)).text()
            self.assertEqual(shown, str(desk.study.items.get(self.smooth).reference))
            self.assertIn(name, shown)
            self.assertEqual(several.value(), [self.smooth])
        bench.open_operation(find_operation("resample"))
        one = bench.page("Prepare").form.fields["onto"]
        one.setCurrentIndex(one.findData(self.smooth))
        desk.run_now("rename", {"thing": self.smooth, "name": "again"})
        self.settle(self.window)
        self.assertTrue(one.currentText().endswith("/again"))
        changed = []
        one.currentIndexChanged.connect(changed.append)
        desk.run_now("take-off", {"thing": self.smooth})
        self.settle(self.window)
        self.assertEqual((one.value(), one.currentText(), changed), (None, "None", [0]))
        self.assertEqual(one.findData(self.smooth), -1)
        desk.undoing.undo()
        self.settle(self.window)
        self.assertEqual((one.value(), one.findData(self.smooth) > 0), (None, True))


def ids_of(field: ThingsField) -> list[int]:
    return [field.item(n).data(Qt.ItemDataRole.UserRole) for n in range(field.count())]
