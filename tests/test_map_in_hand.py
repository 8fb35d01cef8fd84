"""Which label map is in hand, and that an edit goes to the map it was made on, whatever is chosen meanwhile."""

import functools
import time
from unittest import mock

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.operation import find_operation
from kestrelmist.core.patch import LabelEdit, patch_from_indices
from kestrelmist.core.progress import silent
from kestrelmist.study.inputs import pinned, settle
from kestrelmist.study.journal.history import Stale
from kestrelmist.study.keeping import keep
from kestrelmist.study.label_maps import LabelMaps
from kestrelmist.study.study import Study
from kestrelmist.study.task import compute
from tests.making import PlaceCase
from tests.test_strokes import StrokeCase

GROW = {"label": "Ball", "point": (-4.0, 0.0, 0.0), "low": 500.0, "high": 2000.0}


class ChoiceTest(PlaceCase):
    def maps(self, study: Study) -> dict[str, int]:
        return {m.name: m.id for m in study.label_maps(1)}

    def test_the_one_chosen_last_that_is_there(self):
        with self.study_with_balls() as study:
            for name in ("A", "B", "C"):
                study.run("new-labels", image=1, name=name)
            maps = self.maps(study)
            self.assertEqual(study.in_hand(1), maps["C"])
            study.run("choose-labels", labels="Two balls#A")
            study.run("new-labels", image=1, name="D")
            study.history.undo()  # the one chosen before is in hand again, not the newest
            self.assertEqual(study.in_hand(1), maps["A"])
            study.history.redo()
            self.assertEqual(study.in_hand(1), self.maps(study)["D"])
            study.run("take-off", thing=self.maps(study)["D"])
            study.run("take-off", thing=maps["A"])
            self.assertEqual(study.in_hand(1), maps["C"])
        with Study(self.place / "study") as study:
            self.assertEqual(study.in_hand(1), maps["C"])

    def test_a_task_holds_the_blank_map_it_was_settled_on(self):
        """Whoever asks for the image's blank map while that is becoming one, such as a worker before it is on disk."""
        with self.study_with_balls() as study:
            task = settle(study, "grow", {"image": 1, **GROW})
            study.run("add-label", label="Early")
            study.maps.blank(1)
            with self.assertRaises(Stale):
                keep(study, task, compute(study, task, silent()))
            again = settle(study, "grow", {"image": 1, **GROW} | pinned(study, task))
            keep(study, again, compute(study, again, silent()))
            (only,) = study.label_maps(1)
            self.assertEqual([row.name for row in study.label_map(only.id).table], ["Early", "Ball"])

    def test_listeners_are_told_once_it_is_so(self):
        with self.study_with_balls() as study:
            for name in ("A", "B"):
                study.run("new-labels", image=1, name=name)
            maps, told = self.maps(study), []
            study.maps.listeners.append(lambda image: told.append((image, study.in_hand(image))))
            study.history.listeners.append(lambda items: told.append((items, study.in_hand(1))))
            study.run("choose-labels", labels="Two balls#A")
            self.assertEqual(told, [(1, maps["A"])])
            study.run("new-labels", image=1, name="C")
            key = self.maps(study)["C"]
            self.assertEqual(told[1:], [((key,), key)])

    def test_what_older_and_damaged_studies_remember(self):
        with self.study_with_balls() as study:
            for name in ("A", "B"):
                study.run("new-labels", image=1, name=name)
            maps = self.maps(study)
            study.catalogue.remember(LabelMaps.remembered, {"1": maps["A"]})
        with Study(self.place / "study") as study:
            self.assertEqual(study.in_hand(1), maps["A"])
            for damaged in ([1, 2], "x", 7, None, {"1": "x"}, {"a": 3}, {"1": [None, {}]}, {"1": {"2": 3}}):
                study.catalogue.remember(LabelMaps.remembered, damaged)
                study.maps.forget()
                self.assertEqual(study.in_hand(1), maps["B"], damaged)

    def test_a_window_that_only_reads_chooses_for_itself(self):
        with self.study_with_balls() as study:
            for name in ("A", "B"):
                study.run("new-labels", image=1, name=name)
            maps = self.maps(study)
            with Study(self.place / "study") as second:
                second.maps.take_in_hand(maps["A"])
                self.assertEqual(second.in_hand(1), maps["A"])
            self.assertEqual(study.in_hand(1), maps["B"])
            with self.assertRaisesRegex(Trouble, "no label map"):
                study.maps.take_in_hand(1)
            study.run("take-off", thing=maps["A"])
            with self.assertRaisesRegex(Trouble, "off the Shelf"):
                study.maps.take_in_hand(maps["A"])


class EditTest(PlaceCase):
    def edit(self, labels, first: int) -> LabelEdit:
        index = np.arange(first, first + 30, dtype=np.int64)
        return LabelEdit("Stroke", patch_from_indices(index, labels.flat[index].copy(), 1))

    def test_it_goes_to_the_map_it_was_made_on(self):
        with self.study_with_balls() as study:
            first = study.labels(1)  # blank as yet
            edit = self.edit(first, 100)
            edit.apply(first)
            study.run("new-labels", image=1, name="Other")  # taken in hand in the middle of it
            other = study.labels(1)
            study.maps.keep_edit(first, edit, applied=True)
            key = study.maps.key_of(first)
            self.assertEqual(study.items.get(key).name, "Labels")
            self.assertEqual((int(first.counts[1]), int(other.counts[1])), (30, 0))
            study.maps.take_in_hand(study.maps.key_of(other))
            study.maps.keep_edit(first, self.edit(first, 400))
            self.assertEqual((int(first.counts[1]), int(other.counts[1])), (60, 0))
        with Study(self.place / "study") as study:
            held = {m.name: int(study.label_map(m.id).counts[1]) for m in study.label_maps(1)}
            self.assertEqual(held, {"Labels": 60, "Other": 0})

    def test_a_map_that_was_deleted_takes_nothing_more(self):
        with self.study_with_balls() as study:
            study.run("new-labels", image=1, name="Gone")
            labels, key = study.labels(1), study.in_hand(1)
            edit = self.edit(labels, 100)
            edit.apply(labels)
            study.delete(key, "Gone")
            with self.assertRaisesRegex(Trouble, "“Gone” has been deleted"):
                study.maps.keep_edit(labels, edit, applied=True)
            self.assertEqual(int(labels.counts[1]), 0)
            self.assertEqual(study.label_maps(1), [])

    def test_a_first_stroke_that_cannot_be_written_is_taken_back(self):
        with self.study_with_balls() as study:
            labels = study.labels(1)
            for broken in ("change", None):
                edit = self.edit(labels, 100)
                edit.apply(labels)
                if broken:  # not even begun
                    trouble = mock.patch.object(study.catalogue, broken, side_effect=Trouble("The disk is full", ""))
                else:
                    trouble = mock.patch.object(study.history, "_journal", side_effect=Trouble("The disk is full", ""))
                with trouble, self.assertRaisesRegex(Trouble, "disk is full"):
                    study.maps.keep_edit(labels, edit, applied=True)
                self.assertEqual(int(labels.counts[1]), 0)
                self.assertIs(study.labels(1), labels)
                self.assertEqual(study.label_maps(1), [])
            study.maps.keep_edit(labels, self.edit(labels, 100))
            self.assertEqual(int(study.labels(1).counts[1]), 30)
            self.assertIs(study.labels(1), labels)


class InTheWindowTest(StrokeCase):
    def key(self, name: str) -> int:
        return next(m.id for m in self.desk.study.label_maps(1) if m.name == name)

    def count(self, name: str) -> int:
        return int(self.desk.study.label_map(self.key(name)).counts[1:].sum())

    def dawdling(self, name: str, seconds: float) -> None:
        """Have an operation take its time."""
        about = find_operation(name)
        operation = about.function

        @functools.wraps(operation)
        def dawdle(*args, **kwargs):
            made = operation(*args, **kwargs)
            time.sleep(seconds)
            return made

        object.__setattr__(about, "function", dawdle)
        self.addCleanup(object.__setattr__, about, "function", operation)

    def test_strokes_after_new_copy_choose_and_take_off(self):
        self.desk.session.run_now("new-labels", {"image": 1, "name": "Second"})
        self.desk.run_now("add-label", {"label": "Mark"})
        self.half_on("Second")
        second = self.count("Second")
        self.assertGreater(second, 50)
        self.desk.session.run("choose-labels", {"labels": self.key("First")})  # as the Finder does it
        self.half_on("First")
        first = self.count("First")
        self.assertEqual((self.count("Second"), first > 50), (second, True))
        self.desk.session.run("new-labels", {"image": 1, "name": "Third", "copy": self.key("First")})
        self.settle(self.window)
        self.half_on("Third", z=2.0)
        self.assertEqual((self.count("Second"), self.count("First")), (second, first))
        third = self.count("Third")
        self.assertGreater(third, first + 50)
        self.desk.session.run("take-off", {"thing": self.key("Third")})
        self.half_on("First", z=2.0)
        self.assertEqual(self.count("Second"), second)
        more = self.count("First")
        self.assertGreater(more, first)
        self.window.close()
        with Study(self.place / "study") as study:
            held = {m.name: int(study.label_map(m.id).counts[1:].sum()) for m in study.label_maps(1)}
        self.assertEqual(held, {"First": more, "Second": second})

    def half_on(self, name: str, z: float = 5.0) -> None:
        """A stroke at once, without waiting for anything; the map's name is to be read in the list."""
        self.assertEqual(self.desk.viewing.maps.map.name, name)
        self.labels = self.desk.viewing.maps.labels
        self.desk.viewing.go_to((0.25, 8.0, z))
        self.press()
        self.move(0.0)
        self.release()

    def test_no_stroke_while_another_map_is_opened(self):
        self.desk.session.run_now("new-labels", {"image": 1, "name": "Second"})
        self.desk.run_now("add-label", {"label": "Mark"})
        self.desk.study.maps.forget(self.key("First"))  # so that it has to be read
        self.labels = None
        self.desk.viewing.maps.choose(self.key("First"))
        self.assertTrue(self.desk.viewing.maps.opening)
        self.press()
        self.release()
        self.assertIn("still being opened", self.troubles[-1])
        self.settle(self.window)
        self.assertEqual((self.count("First"), self.count("Second")), (0, 0))
        self.assertFalse(self.desk.viewing.maps.opening)
        self.assertEqual(self.desk.viewing.maps.map.name, "First")

    def test_a_map_that_cannot_be_opened_leaves_the_one_shown_in_hand(self):
        first = self.key("First")
        self.half_a_stroke()
        self.release()
        painted = self.count("First")
        self.desk.session.run_now("new-labels", {"image": 1, "name": "Second"})
        second = self.key("Second")
        self.desk.study.maps.take_in_hand(first)
        self.settle(self.window)
        self.desk.study.maps.forget(second)
        broken = Trouble("The file of “Second” is damaged", "bring back a copy")
        with mock.patch("kestrelmist.study.label_maps.LABELS.open", side_effect=broken):
            self.desk.viewing.maps.choose(second)
            self.settle(self.window)
        self.assertIn("“Second” is damaged", self.troubles[-1])
        self.assertEqual(self.desk.study.in_hand(1), first)
        self.assertEqual(self.desk.viewing.maps.map.id, first)
        self.half_on("First", z=2.0)
        self.assertGreater(self.count("First"), painted)

    def test_no_stroke_while_a_copy_is_made(self):
        self.half_a_stroke()
        self.release()
        painted = self.count("First")
        self.dawdling("new-labels", 0.3)
        self.desk.session.run("new-labels", {"image": 1, "name": "Copy", "copy": self.key("First")})
        self.desk.viewing.go_to((0.25, 8.0, 2.0))
        self.press()
        self.release()
        self.assertIn("still at work on the labels", self.troubles[-1])
        self.settle(self.window)
        self.assertEqual((self.count("First"), self.count("Copy")), (painted, painted))

    def test_what_is_measured_is_a_state_that_there_was(self):
        """Painted on while it was measured: it is measured again, and no stroke comes between a second time."""
        self.half_a_stroke()
        self.release()
        self.dawdling("measure-labels", 0.3)
        tables = []
        self.desk.session.table_made.connect(tables.append)
        self.desk.run("measure-labels", {})
        self.desk.viewing.go_to((0.25, 8.0, 2.0))
        self.press()
        self.move(0.0)
        self.release()
        self.settle(self.window)
        (table,) = tables
        self.assertEqual(sum(table.column("voxels")), self.count("First"))

    def test_work_begun_on_the_blank_map_goes_on_where_that_became_one(self):
        for one in self.desk.study.label_maps(1):
            self.desk.session.delete(one.id, one.name)
        self.settle(self.window)
        self.assertIsNone(self.desk.viewing.maps.map)
        blank = self.desk.viewing.maps.labels
        self.dawdling("grow", 0.3)
        self.desk.run("grow", {"image": 1, **GROW})
        self.desk.run_now("add-label", {"label": "Early"})
        self.assertIs(self.desk.viewing.maps.labels, blank)
        self.settle(self.window)
        (only,) = self.desk.study.label_maps(1)
        self.assertEqual([row.name for row in self.desk.study.label_map(only.id).table], ["Early", "Ball"])
        self.assertIs(self.desk.study.label_map(only.id), blank)
        self.assertEqual(self.desk.viewing.maps.map.id, only.id)
