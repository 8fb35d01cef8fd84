"""What happens to a study when its files are lost, cut, flipped or taken away, and how it comes back."""

import gc
import json
import random
import shutil
import sqlite3
import unittest
from unittest import mock

import numpy as np

from kestrelmist.core.errors import Asks, Trouble
from kestrelmist.scene.thumbnail import thumbnail
from kestrelmist.study.catalogue_trouble import Damaged, Gone, Remains, trouble_of
from kestrelmist.study.elsewhere import save_elsewhere
from kestrelmist.study.rebuild import rebuild
from kestrelmist.study.salvage import TYPES, _sound
from kestrelmist.study.schema import CURRENT
from kestrelmist.study.study import Study
from tests.making import PlaceCase, two_balls

BONE = {"image": "balls", "low": 500.0, "high": 2000.0}


class DamageCase(PlaceCase):
    def setUp(self):
        super().setUp()
        self.folder = self.place / "study"
        source = self.nifti(two_balls())
        with Study(self.folder, create=True) as study:
            study.run("gather", folder=source, subject="HM-07")
            study.run("threshold", label="Bone", **BONE)
            study.run("erase", image="balls", label="Bone", point=(4.0, 0.0, 0.0), diameter=2.0)
            self.truth = study.labels("balls").data.copy()
        self.assertGreater(int((self.truth == 1).sum()), 1000)

    def whole(self, study: Study) -> None:
        (record,) = study.records()
        self.assertEqual((record.name, record.subject), ("balls", "HM-07"))
        np.testing.assert_array_equal(study.image("balls").data, two_balls().data)
        labels = study.labels("balls")
        np.testing.assert_array_equal(labels.data, self.truth)
        self.assertEqual([label.name for label in labels.table], ["Bone"])


class MissingTest(DamageCase):
    def test_remains_are_no_free_folder(self):
        before = sorted(p.read_bytes() for p in (self.folder / "images").rglob("*") if p.is_file())
        for empty in (False, True):
            (self.folder / "study.db").unlink(missing_ok=True)
            if empty:
                (self.folder / "study.db").touch()
            for create in (True, False):
                with self.assertRaisesRegex(Remains, "1 image and 1 label map lie in its folder.*rebuild"):
                    Study(self.folder, create=create)
            after = sorted(p.read_bytes() for p in (self.folder / "images").rglob("*") if p.is_file())
            self.assertEqual(before, after)

    def test_rebuilt_from_the_copy_of_the_shelf(self):
        (self.folder / "study.db").unlink()
        with self.assertRaisesRegex(Asks, "would be lost"):
            rebuild(self.folder)
        table = rebuild(self.folder, "accept")
        self.assertIn(("images", "from the copy of the Shelf", 1), list(table.rows))
        with Study(self.folder) as study:
            self.whole(study)
            self.assertEqual(study.thumbnail(study.records()[0].id), thumbnail(two_balls()))

    def test_rebuilt_from_the_files_alone(self):
        (self.folder / "study.db").unlink()
        (self.folder / "shelf.json").write_text("[{}, 3")
        rebuild(self.folder, "accept")
        with Study(self.folder) as study:
            (record,) = study.records()
            np.testing.assert_array_equal(study.image(record.id).data, two_balls().data)
            self.assertEqual(study.thumbnail(record.id), thumbnail(two_balls()))
            labels = study.labels(record.id)
            np.testing.assert_array_equal(labels.data, self.truth)
            self.assertEqual([label.name for label in labels.table], ["Bone"])

    def test_nothing_to_rebuild_and_open_elsewhere(self):
        (self.place / "empty").mkdir()
        with self.assertRaisesRegex(Trouble, "nothing of a study"):
            rebuild(self.place / "empty")
        with Study(self.folder), self.assertRaisesRegex(Trouble, "open in another window"):
            rebuild(self.folder)


class DamagedTest(DamageCase):
    def test_bytes_flipped_or_cut_end_in_a_sentence_and_come_back(self):
        whole = (self.folder / "study.db").read_bytes()
        rng = random.Random(11)
        told = 0
        for n in range(16):
            damaged = bytearray(whole)
            if n % 4 == 3:
                damaged = damaged[: rng.randrange(1, len(whole))]
            else:
                for _ in range(rng.choice((1, 20, 400))):
                    damaged[rng.randrange(len(damaged))] = rng.randrange(256)
            folder = self.place / f"copy-{n}"
            shutil.copytree(self.folder, folder)
            (folder / "study.db").write_bytes(damaged)
            try:
                with Study(folder) as study:
                    for record in study.records():
                        study.labels(record.id)
                        np.asarray(study.image(record.id).data)
                    study.logbook.entries()
                    study.history.to_undo()
            except Trouble:
                told += 1
            rebuild(folder, "accept")
            kept = list(folder.glob("study.damaged-*.db"))
            self.assertEqual(len(kept), 1)
            with Study(folder) as study:
                (record,) = study.records()
                np.testing.assert_array_equal(study.image(record.id).data, two_balls().data)
                self.assertEqual(len(study.label_maps(record.id)), 1)
                study.labels(record.id)
        self.assertGreater(told, 4)

    def test_a_table_that_cannot_be_taken_apart(self):
        db = sqlite3.connect(self.folder / "study.db")
        db.execute("UPDATE item SET space = '{\"shape\": 3}' WHERE kind = 'image'")
        db.commit()
        db.close()
        gc.disable()  # it is closed at once, not when somebody tidies up
        try:
            with self.assertRaisesRegex(Damaged, "damaged.*rebuild"):
                Study(self.folder)
            rebuild(self.folder, "accept")
        finally:
            gc.enable()

    def test_rows_without_what_tells_them_apart_are_left(self):
        with Study(self.folder):
            pass
        with sqlite3.connect(self.folder / "study.db") as db:
            db.row_factory = sqlite3.Row
            for table, keys in TYPES.items():
                for row in db.execute(f"SELECT * FROM {table} LIMIT 3").fetchall():
                    self.assertTrue(_sound(table, dict(row)), (table, dict(row)))
                    for key in keys:
                        self.assertFalse(_sound(table, {**dict(row), key: None}), (table, key))
        db.close()

    def test_causes_are_told_apart(self):
        for code, words in (
            (sqlite3.SQLITE_FULL, "disk is full; this step was not kept"),
            (sqlite3.SQLITE_BUSY, "Another program is writing"),
            (sqlite3.SQLITE_READONLY, "no permission"),
            (sqlite3.SQLITE_CORRUPT, "damaged"),
            (sqlite3.SQLITE_NOTADB, "damaged or is not a study"),
            (sqlite3.SQLITE_IOERR | (3 << 8), "disk or the folder does not let"),
        ):
            error = sqlite3.OperationalError("x")
            error.sqlite_errorcode = code
            self.assertIn(words, str(trouble_of(error, self.folder / "study.db", "write")))
        error.sqlite_errorcode = sqlite3.SQLITE_IOERR
        self.assertIsInstance(trouble_of(error, self.place / "gone" / "study.db"), Gone)


class GoneTest(DamageCase):
    def test_a_step_after_the_folder_went_is_refused_and_the_rest_saved_elsewhere(self):
        study = Study(self.folder)
        study.labels("balls"), study.image("balls").data
        shutil.rmtree(self.folder)
        for _ in range(2):
            with self.assertRaisesRegex(Gone, "no longer where it was opened; this step was not kept"):
                study.run("paint", image="balls", label="Bone", point=(0.0, 4.0, 0.0), diameter=3.0)
        np.testing.assert_array_equal(study.labels("balls").data, self.truth)
        with self.assertRaisesRegex(Trouble, "taken"):
            save_elsewhere(study, self.place)
        self.assertEqual(save_elsewhere(study, self.place / "saved"), [])
        with self.assertRaises(Gone):
            study.close()
        self.assertTrue(study.catalogue.closed)
        with Study(self.place / "saved") as saved:
            self.whole(saved)
            saved.history.undo()
            self.assertGreater(int((saved.labels("balls").data == 1).sum()), int((self.truth == 1).sum()))

    def test_another_study_in_its_place_is_not_written_to(self):
        study = Study(self.folder)
        self.folder.rename(self.place / "moved")
        shutil.copytree(self.place / "moved", self.folder)
        with self.assertRaises(Gone):
            study.rename(study.records()[0].id, "other")
        with self.assertRaises(Gone):
            study.close()


class LabelFileTest(DamageCase):
    def file(self):
        (path,) = (self.folder / "labels").glob("*/map-*.nii.gz")
        return path

    def test_a_lost_or_damaged_file_comes_back_from_the_journal(self):
        whole = self.file().read_bytes()
        for damage in (None, b"", whole[: len(whole) // 2], b"\x00" * 400, whole[:-9] + b"\x01" * 9):
            path = self.file()
            path.unlink() if damage is None else path.write_bytes(damage)
            with Study(self.folder) as study:
                self.whole(study)
                self.assertEqual(len(study.notices), 1)
                self.assertIn("made anew from the journal, from 20", study.notices[0])
                self.assertNotIn("not in the journal", study.notices[0])
            if damage is not None:
                self.assertEqual(path.with_name(f"{path.name}.damaged").read_bytes(), damage)
            with Study(self.folder) as study:
                self.whole(study)
                self.assertEqual(study.notices, [])

    def test_what_began_from_a_file_is_kept_as_far_as_the_journal_reaches(self):
        with Study(self.folder) as study:
            copy = study.run("new-labels", image="balls", name="Copy", copy="balls#Labels")
            study.run("paint", image="balls", label="Bone", point=(0.0, 5.0, 0.0), diameter=3.0)
            grown = int((study.label_map(copy).data == 1).sum() - (self.truth == 1).sum())
            self.assertGreater(grown, 50)
        (path,) = (self.folder / "labels" / str(copy)).glob("map*.nii.gz")
        path.unlink()
        with Study(self.folder) as study:
            labels = study.label_map(copy)
            self.assertEqual(int(labels.counts[1]), grown)
            self.assertEqual(int(labels.counts.sum()), labels.kji.size)
            self.assertIn("what it held before that is not in the journal", study.notices[0])

    def test_a_full_disk_while_a_file_is_made_loses_no_step(self):
        study = Study(self.folder)
        study.run("paint", image="balls", label="Bone", point=(0.0, 5.0, 0.0), diameter=3.0)
        after = study.labels("balls").data.copy()
        full = OSError(28, "No space left on device")
        with mock.patch("kestrelmist.study.stores.label_maps.write_nifti", side_effect=full):
            with self.assertRaisesRegex(Trouble, "All steps are kept.*disk is full"):
                study.close()
        with Study(self.folder) as study:  # the lock was let go of
            self.assertFalse(study.read_only)
            np.testing.assert_array_equal(study.labels("balls").data, after)


class ReadOnlyTest(DamageCase):
    def test_the_last_gestures_in_the_log_are_read_where_nothing_can_be_written(self):
        study = Study(self.folder)
        study.run("paint", image="balls", label="Bone", point=(0.0, 5.0, 0.0), diameter=3.0)
        after = study.labels("balls").data.copy()
        copy = self.place / "backup"
        shutil.copytree(self.folder, copy, ignore=shutil.ignore_patterns("*-shm", "study.lock"))
        study.close()
        self.assertGreater((copy / "study.db-wal").stat().st_size, 0)
        before = {p.name: p.read_bytes() for p in copy.glob("study.db*")}
        refused = sqlite3.OperationalError("unable to open database file")
        with mock.patch("kestrelmist.study.catalogue.version_of", side_effect=[refused, CURRENT]):
            with Study(copy, read_only=True) as study:  # as a folder without permission answers
                np.testing.assert_array_equal(study.labels("balls").data, after)
        self.assertEqual({p.name: p.read_bytes() for p in copy.glob("study.db*") if p.suffix != ".db-shm"}, before)


class ShelfCopyTest(DamageCase):
    def test_follows_names(self):
        with Study(self.folder) as study:
            study.rename(study.records()[0].id, "Two balls")
        rows = json.loads((self.folder / "shelf.json").read_text())
        self.assertEqual([r["name"] for r in rows if r["kind"] == "image"], ["Two balls"])


if __name__ == "__main__":
    unittest.main()
