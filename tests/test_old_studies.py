"""Studies of every older layout: opened, read where nothing may be written, upgraded on a full disk, rebuilt."""

import errno
import fcntl
import shutil
import sqlite3
import tarfile
import threading
from pathlib import Path
from unittest import mock

import numpy as np

from kestrelmist.core.errors import Asks, DiskFull, Trouble
from kestrelmist.study import catalogue
from kestrelmist.study import rebuild as rebuilding
from kestrelmist.study.rebuild import rebuild
from kestrelmist.study.recipes.of_logbook import recipe_of
from kestrelmist.study.recipes.text import recipe_from
from kestrelmist.study.schema import CURRENT, bring_up_to_date, version_of
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase
from tests.making import PlaceCase

DATA = Path(__file__).parent / "data"


def unpacked(layout: int, place: Path) -> Path:
    """A study of an older layout: two subjects, each with an image “Head”, labels on it, a smooth copy, a table."""
    with tarfile.open(DATA / f"study-layout-{max(2, layout)}.tar.gz") as packed:
        packed.extractall(place, filter="data")
    folder = place / "Old study"
    if layout == 1:  # which had no tables
        with sqlite3.connect(folder / "study.db") as db:
            db.execute("DROP TABLE result")
            db.execute("PRAGMA user_version = 1")
        db.close()
    return folder


def layout_of(path: Path) -> int:
    db = sqlite3.connect(path)
    try:
        return version_of(db)
    finally:
        db.close()


def contents(folder: Path) -> dict[str, bytes]:
    beside = ("study.db-wal", "study.db-shm")  # which reading makes
    found = {str(p.relative_to(folder)): p.read_bytes() for p in folder.rglob("*") if p.is_file()}
    return {name: held for name, held in found.items() if name not in beside}


class OldCase(PlaceCase):
    def whole(self, study: Study, tables: int = 2) -> None:
        heads = [r for r in study.records() if r.name == "Head"]
        self.assertEqual([r.subject for r in heads], ["T-1", "T-2"])
        self.assertEqual(len(study.records()), 4)
        for head in heads:
            self.assertEqual(int(study.image(head.id).data[3, 3, 3]), 900)
            labels = study.labels(head.id)
            counts = {row.name: int(labels.counts[row.number]) for row in labels.table}
            self.assertEqual(set(counts), {"Bone", "Dab"})
            self.assertEqual(counts["Bone"] + counts["Dab"], int((study.image(head.id).data == 900).sum()) + self.more)
        self.assertEqual(len(study.tables()), tables)

    def setUp(self):
        super().setUp()
        self.more = 0
        with Study(unpacked(4, self.place / "known")) as study:
            labels = study.labels("T-1/Head")
            self.more = int(labels.counts[1:].sum()) - int((study.image("T-1/Head").data == 900).sum())


class OpenedTest(OldCase):
    def test_nothing_is_lost(self):
        for layout in (1, 2, 4):
            with self.subTest(layout):
                folder = unpacked(layout, self.place / str(layout))
                with Study(folder) as study:
                    self.whole(study, tables=0 if layout == 1 else 2)
                    self.assertEqual(layout_of(folder / f"study.layout-{layout}.db"), layout)
                    steps = [s.operation for s in study.logbook.entries()]
                    self.assertEqual(steps[:2] + steps[2:5], ["gather", "gather", "threshold", "smooth", "paint"])
                    slots = recipe_of(study.logbook.entries()).slots
                    self.assertEqual([(s.pattern, s.subject) for s in slots], [("Head", "T-1"), ("Head", "T-2")])
                    painted = study.labels("T-2/Head")
                    before = painted.data.copy()
                    study.history.undo()
                    study.history.redo()
                    np.testing.assert_array_equal(painted.data, before)
                    if layout == 4:
                        self.assertEqual([r.of for r in study.items.of_kind("curve")], [1, 2])
                        marks = [curve.mark for _, curve in study.curves()]
                        self.assertEqual([(m.shape, len(m.points)) for m in marks], [("section", 2)] * 2)
                        self.assertEqual([r.name for r in study.items.of_kind("stack")], ["Kept", "Kept"])
                with Study(folder) as study:  # and once more
                    self.whole(study, tables=0 if layout == 1 else 2)

    def test_one_that_may_only_be_read_is_read(self):
        for layout in (1, 2, 3, 4):
            folder = unpacked(layout, self.place / str(layout))
            before = contents(folder)
            with Study(folder, read_only=True) as study:
                if layout != 3:
                    self.whole(study, tables=0 if layout == 1 else 2)
                self.assertGreater(len(study.records()), 3)
                with self.assertRaisesRegex(Trouble, "can only be read here"):
                    study.run("rename", thing=study.records()[0].id, name="Other")
            self.assertEqual(contents(folder), before)

    def test_a_copy_that_cannot_be_brought_up_to_date_leaves_nothing(self):
        folder, temporary = unpacked(3, self.place / "no room"), self.place / "temporary"
        temporary.mkdir()
        full = DiskFull("There is no room to bring this study up to date; it is as it was", "free some space")
        with mock.patch.object(catalogue, "bring_up_to_date", side_effect=full):
            with mock.patch.object(catalogue.tempfile, "tempdir", str(temporary)):
                with self.assertRaisesRegex(DiskFull, "it is as it was"):
                    Study(folder, read_only=True)
        self.assertEqual(list(temporary.iterdir()), [])

    def test_a_full_disk_leaves_it_as_it_is(self):
        for layout in (1, 2, 3, 4):
            folder = unpacked(layout, self.place / str(layout))
            for keep, room in ((True, 0), (False, 0), (False, 1))[: 3 if layout < 4 else 1]:
                db = sqlite3.connect(folder / "study.db", isolation_level=None)
                pages = db.execute("PRAGMA page_count").fetchone()[0]
                db.execute(f"PRAGMA max_page_count = {pages + room}")
                full = sqlite3.OperationalError("full")
                full.sqlite_errorcode = sqlite3.SQLITE_FULL
                backup = mock.Mock(side_effect=full)
                with self.assertRaisesRegex(DiskFull, "no room to bring this study up to date; it is as it was"):
                    if keep:
                        bring_up_to_date(_Backed(db, backup), folder / "study.db", keep)
                    else:
                        bring_up_to_date(db, folder / "study.db", keep)
                db.close()
                self.assertEqual(layout_of(folder / "study.db"), layout)
                self.assertEqual([p.name for p in folder.glob(".*")], [])
            with Study(folder) as study:
                self.assertGreater(len(study.records()), 3)


class _Backed:
    """A connection whose backup fails."""

    def __init__(self, db, backup):
        self._db, self.backup = db, backup

    def __getattr__(self, name):
        return getattr(self._db, name)


class RebuiltTest(OldCase):
    def damaged(self, layout: int) -> Path:
        """One whose second step cannot be taken apart."""
        folder = unpacked(layout, self.place / f"damaged {layout}")
        table = "logbook" if layout < 4 else "step"
        with sqlite3.connect(folder / "study.db") as db:
            db.execute(f"UPDATE {table} SET inputs = '{{\"image\"' WHERE id = 4")
        db.close()
        return folder

    def test_an_old_one_that_cannot_be_brought_up_to_date_keeps_what_can_be_read(self):
        for layout in (1, 2, 4):
            folder = self.damaged(layout)
            before = contents(folder)
            with self.assertRaisesRegex(Asks, "would be lost") as asked:
                rebuild(folder)
            self.assertEqual([what.split()[0] for what, _ in asked.exception.table.rows], ["1"])
            self.assertEqual(contents(folder), before)
            rebuild(folder, "accept")
            with Study(folder) as study:
                self.whole(study, tables=0 if layout == 1 else 2)
                self.assertEqual(len(study.logbook.entries()), {1: 9, 2: 9, 4: 13}[layout])
                self.assertIsNotNone(study.history.undo())

    def test_label_maps_of_older_layouts_are_found_without_a_catalogue(self):
        for layout in (2, 4):
            folder = unpacked(layout, self.place / f"bare {layout}")
            for name in ("study.db", "shelf.json"):
                (folder / name).unlink(missing_ok=True)
            with self.assertRaises(Asks) as asked:
                rebuild(folder)
            self.assertIn("logbook", asked.exception.table.rows[0][0])
            rebuild(folder, "accept")
            with Study(folder) as study:
                maps = [m for r in study.records() for m in study.label_maps(r.id)]
                self.assertEqual(len(maps), 2)
                self.assertGreater(int(study.label_map(maps[0].id).counts[1:].sum()), 0)

    def test_nothing_is_built_from_less_than_the_best_there_is(self):
        folder = unpacked(4, self.place / "twice")
        with Study(folder):
            pass
        whole = shutil.copyfile(folder / "study.db", self.place / "whole.db")
        for path in folder.glob("study.*db*"):
            path.unlink()
        rebuild(folder, "accept")  # of the copy of the Shelf
        with Study(folder) as study:
            self.assertEqual(study.logbook.entries(), [])
        shutil.copyfile(whole, folder / "study.damaged-20260101-000000.db")
        table = rebuild(folder)
        self.assertIn(("steps", "from study.damaged-20260101-000000.db", 14), list(table.rows))
        with Study(folder) as study:
            self.whole(study)
            self.assertEqual(len(study.logbook.entries()), 14)

    def test_two_rebuilds_in_one_second_leave_both_catalogues(self):
        folder = unpacked(4, self.place / "soon")
        for _ in range(3):
            rebuild(folder, "accept")
        self.assertEqual(len(list(folder.glob("study.damaged-*.db"))), 3)

    def test_what_a_copy_of_before_still_has_is_taken(self):
        folder = unpacked(4, self.place / "copy")
        with Study(folder) as study:
            study.run("paint", image="T-1/Head", label="New", point=(1.0, 1.0, 1.0), diameter=0.6)
        with sqlite3.connect(folder / "study.db") as db:
            db.execute("UPDATE change SET before = 'no', after = '{' WHERE seq <= 3")
        db.close()
        self.assertEqual(layout_of(folder / "study.layout-4.db"), 4)
        rebuild(folder, "accept")
        self.assertEqual(layout_of(folder / "study.db"), CURRENT)
        with Study(folder) as study:
            self.assertEqual(len(study.logbook.entries()), 15)
            self.assertIn("New", [row.name for row in study.labels("T-1/Head").table])
            seqs = [row["seq"] for row in study.catalogue.rows("SELECT seq FROM change ORDER BY seq")]
            self.assertEqual(seqs[:4], [1, 2, 3, 4])

    def test_a_full_disk_is_a_sentence_and_changes_nothing(self):
        folder = self.damaged(2)
        before = contents(folder)
        full = sqlite3.OperationalError("database or disk is full")
        full.sqlite_errorcode = sqlite3.SQLITE_FULL
        no_room = OSError(errno.ENOSPC, "No space left on device")
        for where, error in (
            (mock.patch.object(rebuilding.shutil, "copyfile", side_effect=no_room), no_room),
            (mock.patch.object(rebuilding, "insert_rows", side_effect=full), full),
            (mock.patch("kestrelmist.study.salvage.insert_rows", side_effect=full), full),
        ):
            with where, self.assertRaisesRegex(DiskFull, "disk is full"):
                rebuild(folder, "accept")
            self.assertEqual(contents(folder), before, error)
            self.assertEqual(list(folder.glob(".rebuild-*")), [])


class OldRecipeTest(PlaceCase):
    def steps(self, *subjects):
        steps = [{"operation": "gather", "settings": {"folder": "scans", "subject": s}} for s in subjects]
        for _ in subjects:
            steps.append({"operation": "smooth", "inputs": {"image": "Head"}, "settings": {"fwhm": 1.0}})
        return {"recipe": 1, "steps": steps}

    def test_two_subjects_with_one_name_are_not_one(self):
        self.assertEqual([s.pattern for s in recipe_from(self.steps("T-1")).slots], ["Head"])
        with self.assertRaisesRegex(Trouble, r"several subjects \(T-1, T-2\).*copy it anew from the logbook"):
            recipe_from(self.steps("T-1", "T-2"))
        with self.assertRaisesRegex(Trouble, "several subjects, and does not say"):
            recipe_from(self.steps(None, None))


class OldViewTest(DeskCase):
    def test_what_was_seen_is_seen(self):
        for layout, stage, key in ((2, "Outline", 1), (4, "Measure", 2)):
            window = self.open(unpacked(layout, self.place / str(layout)))
            viewing = window.desk.viewing
            self.assertEqual((viewing.stage, viewing.record.id), (stage, key))
            np.testing.assert_allclose(viewing.crosshair, [1.0, 1.5, 1.0])
            look = viewing.stacks[key].of(key).look
            self.assertEqual((look.low, look.high, look.colour_map), (100.0, 800.0, "grey"))
            self.assertEqual(self.troubles, [])


class BeingMadeTest(PlaceCase):
    def test_a_study_that_somebody_is_making_is_waited_for(self):
        folder = self.place / "study"
        folder.mkdir()
        with open(folder / "study.lock", "a") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            with mock.patch.object(catalogue, "PATIENCE", 0.1):
                with self.assertRaisesRegex(Trouble, "is being made or brought up to date by another"):
                    Study(folder, create=True)
            opened = []
            waiting = threading.Thread(target=lambda: opened.append(Study(folder, create=True)))
            waiting.start()
            db = sqlite3.connect(folder / "study.db", isolation_level=None)
            db.execute("PRAGMA journal_mode = WAL")
            self.assertEqual(opened, [])
            bring_up_to_date(db, folder / "study.db")
            waiting.join(20)
            db.close()
            (study,) = opened
            self.assertRegex(study.catalogue.why_read_only, "open in another window or command")
            study.close()
