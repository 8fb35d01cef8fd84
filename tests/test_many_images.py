"""Hundreds of images taken in: what each costs does not grow, files are let go of, the window keeps its time."""

import os
import random
import re
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from kestrelmist.core.budget import HANDLES
from kestrelmist.core.errors import Trouble
from kestrelmist.core.operation import find_operation
from kestrelmist.core.progress import Progress
from kestrelmist.desk.bench import fields
from kestrelmist.desk.models import session as session_module
from kestrelmist.desk.shell.findable import MANY
from kestrelmist.desk.shell.finder import MOST
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.gather.plan import name_subjects, plan_folder
from kestrelmist.gather.subject_rule import SubjectRule, name_finder
from kestrelmist.study.catalogue import Catalogue
from kestrelmist.study.gathering import take_lines
from kestrelmist.study.items import Record
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import PlaceCase, straight_space

COUNT = 320


def files(place: Path, count: int = COUNT) -> Path:
    """A folder of small images, ten of each subject."""
    noise, space = np.random.default_rng(3), straight_space((6, 5, 4))
    for n in range(count):
        folder = place / "scans" / f"S-{n // 10:03d}"
        folder.mkdir(parents=True, exist_ok=True)
        write_nifti(folder / f"im{n % 10}.nii", noise.integers(0, 99, space.shape).astype(np.int16), space)
    return place / "scans"


def planned(place: Path, count: int = COUNT):
    """The lines of such a folder, each with its subject."""
    lines = plan_folder(files(place, count))
    name_subjects(lines, SubjectRule("folder", r"(S-\d+)"))
    return lines


class NamesTest(unittest.TestCase):
    def test_the_longest_name_that_stands_alone_in_a_path(self):
        chance = random.Random(2)
        words = ["HM", "HM-1", "HM-12", "1", "12", "a b", "é", "x.y", "", "M-1"]
        for _ in range(400):
            names = chance.sample(words, 5)
            text = "".join(chance.choice([*words, "/", "-", " ", "z", "é"]) for _ in range(6))
            fits = [n for n in names if n and re.search(rf"(?<![0-9A-Za-z]){re.escape(n)}(?![0-9A-Za-z])", text)]
            found = name_finder(names)(text)
            self.assertEqual(len(found), max(map(len, fits), default=0), (names, text))
            self.assertTrue(found in fits or not fits)


class ManyTest(PlaceCase):
    def test_each_costs_as_much_as_the_first_ones(self):
        lines = planned(self.place)
        counts, read = [0], Catalogue.rows

        def counted(catalogue, query, *values):
            found = read(catalogue, query, *values)
            counts[-1] += len(found)
            return found

        def told(line, words):
            if words == "reading":
                counts.append(0)

        with mock.patch.object(Catalogue, "rows", counted):
            with Study(self.place / "study", create=True) as study:
                taken = take_lines(study, lines, told=told, folder=self.place / "scans")
                self.assertEqual(len(taken.keys), COUNT)
                self.assertLessEqual(max(counts[-50:]), max(counts[5:55]))  # rows read for each
                self.assertLess(max(counts[-50:]), 20)
                entry = study.history.to_undo()
                self.assertEqual(len(entry.items), COUNT)
                study.history.undo()
                self.assertEqual(study.records(), [])
                study.history.redo()
                self.assertEqual([r.id for r in study.records()], sorted(taken.keys))

    def test_files_are_let_go_of(self):
        lines = planned(self.place)
        before = len(os.listdir("/proc/self/fd"))
        with Study(self.place / "study", create=True) as study:
            take_lines(study, lines, folder=self.place / "scans")
            for record in study.records():
                self.assertEqual(study.image(record.id).data.shape, (6, 5, 4))
            self.assertLess(len(os.listdir("/proc/self/fd")), before + HANDLES.limit + 20)
            first = study.records()[0]
            self.assertGreater(study.image(first.id).data.max(), 0)  # read anew

    def test_what_is_there_already_costs_no_more(self):
        lines = planned(self.place, 60)
        counts, read = [0], Catalogue.rows

        def counted(catalogue, query, *values):
            found = read(catalogue, query, *values)
            counts[-1] += len(found)
            return found

        with Study(self.place / "study", create=True) as study:
            taken = take_lines(study, lines, folder=self.place / "scans")
            with mock.patch.object(Catalogue, "rows", counted):
                again = take_lines(
                    study, lines, told=lambda line, words: counts.append(0) if words == "reading" else None
                )
            self.assertEqual((len(taken.keys), len(again.known), again.keys), (60, 60, []))
            self.assertLess(max(counts), 20)
            self.assertEqual(sorted(study.items.everything()), sorted(taken.keys))

    def test_a_transaction_that_is_taken_back_leaves_what_was_read(self):
        with Study(self.place / "study", create=True) as study:
            take_lines(study, planned(self.place, 3), folder=self.place / "scans")
            before = {key: (r.name, r.removed) for key, r in study.items.everything().items()}
            first = min(before)
            with self.assertRaises(ZeroDivisionError), study.catalogue.change() as db:
                study.items.update(db, first, {"name": "Other", "removed": True})
                study.items.insert(db, Record(0, "image", "S-9", "New", None, study.items.get(first).space))
                self.assertEqual(study.items.get(first).name, "Other")
                self.assertEqual(len(study.items.everything()), 4)
                1 / 0
            self.assertEqual({key: (r.name, r.removed) for key, r in study.items.everything().items()}, before)
            self.assertEqual(study.items.get(first).name, before[first][0])
            self.assertEqual(study.items.free_name("New", "image", "S-9"), "New")

    def test_what_is_read_in_a_transaction_is_not_taken_for_known(self):
        with Study(self.place / "study", create=True) as study:
            take_lines(study, planned(self.place, 3), folder=self.place / "scans")
            first = min(study.items.everything())
            with study.catalogue.change() as db:
                study.items.update(db, first, {"name": "Other"})
                self.assertEqual(study.items.everything()[first].name, "Other")
            self.assertEqual(study.items.everything()[first].name, "Other")
            self.assertEqual(study.items.get(first).name, "Other")

    def test_another_entry_than_the_one_meant_is_not_turned(self):
        with Study(self.place / "study", create=True) as study:
            take_lines(study, planned(self.place, 3), folder=self.place / "scans")
            meant = study.history.to_undo()
            study.run("rename", thing=study.records()[0].id, name="Other")
            with self.assertRaisesRegex(Trouble, "Something else was done before"):
                study.history.undo(only=meant)
            self.assertIn("Other", [r.name for r in study.records()])
            study.history.undo()
            study.history.undo(only=meant)
            self.assertEqual(study.records(), [])

    def test_cancel_keeps_what_is_in_and_clears_what_is_not(self):
        lines = planned(self.place, 30)
        progress, there = Progress(), []

        def told(line, words):
            there.append(words)
            if there.count("taken in") == 7:
                progress.cancel()

        with Study(self.place / "study", create=True) as study:
            taken = take_lines(study, lines, progress, told, self.place / "scans")
            self.assertTrue(taken.stopped)
            self.assertEqual((len(taken.keys), len(study.records()), len(taken.left)), (7, 7, 23))
            kept = sorted(int(p.name) for p in (study.folder / "images").iterdir())
            self.assertEqual(kept, sorted(taken.keys))


class ManyInTheWindowTest(DeskCase):
    def test_the_window_keeps_its_time(self):
        window = self.open(self.place / "study")
        window.desk.viewing.set_stage("Gather")
        window.gather([files(self.place)])
        self.settle(window)
        filled = []
        window.desk.session.shelf_changed.connect(lambda: filled.append(len(window.desk.study.records())))
        window.bench.gather.take_in()
        self.settle(window)
        self.assertEqual(len(window.desk.study.records()), COUNT)
        self.assertLess(len(filled), COUNT / 2)  # not anew for each
        self.assertIn(COUNT, filled)
        self.assertLess(len(window.shelf.cards), 40)
        session = window.desk.session
        begun = []
        session.work.begun.connect(lambda: begun.append(session.work.current.title[:4]))
        window.desk.undoing.undo()
        self.settle(window)
        self.assertEqual((begun, window.desk.study.records()), (["Undo"], []))
        self.assertIsNotNone(window.desk.undoing.redo_title)
        window.desk.undoing.redo()
        self.settle(window)
        self.assertGreater(COUNT, session_module.MANY)
        self.assertEqual((begun, len(window.desk.study.records())), (["Undo", "Redo"], COUNT))
        self.assertIsNone(window.desk.undoing.redo_title)
        self.assertEqual(window.desk.undoing.undo_title, session.undo_title)
        self.assertEqual(self.troubles, [])

    def test_lists_have_room_for_some_and_find_all(self):
        with Study(self.place / "study", create=True) as study:
            take_lines(study, planned(self.place), folder=self.place / "scans")
        window = self.open(self.place / "study")
        self.assertGreater(COUNT, MANY)
        window.finder.open()
        self.assertLessEqual(window.finder.model.rowCount(), MOST)
        for typed in ("s-031 im9", "im9 of s-031"):
            window.finder.field.setText(typed)
            self.assertIn("im9 of ", window.finder.model.stringList()[0])
        window.finder.field.setText("lay over im7")
        self.assertTrue(window.finder.model.stringList()[0].startswith("Lay over: "))
        window.finder._do(0)
        self.settle(window)
        self.assertEqual(len(window.desk.layers.rows), 2)
        with mock.patch.object(fields, "LISTED", 40):
            lead = window.desk.viewing.record
            field = fields.ThingField(window.desk.study, find_operation("smooth").lead, lead.id)
        self.assertEqual(field.count(), 41)
        self.assertEqual(
            (field.value(), field.itemText(40)), (lead.id, f"{COUNT - 40} more: show one of their subject first")
        )
        last = [r for r in window.desk.study.records() if r.subject == lead.subject][-1]
        with mock.patch.object(fields, "LISTED", 4):  # of a subject that has more than there is room for
            self.assertEqual(
                fields.ThingField(window.desk.study, find_operation("smooth").lead, last.id).value(), last.id
            )
        pause(20)


if __name__ == "__main__":
    unittest.main()
