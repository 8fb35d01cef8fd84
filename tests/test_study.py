import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import textwrap
import time

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.study import schema
from kestrelmist.study.journal import versions
from kestrelmist.study.recipes.of_logbook import recipe_of
from kestrelmist.study.recipes.one_subject import run_recipe
from kestrelmist.study.recipes.text import as_yaml, read_recipe
from kestrelmist.study.stores.label_maps import LABELS
from kestrelmist.study.study import Study
from tests.making import PlaceCase, two_balls

GROW = {"label": "Ball", "point": (-4, 0, 0), "low": 500, "high": 2000}


class StudyTest(PlaceCase):
    def test_comes_back_as_it_was_left(self):
        with self.study_with_balls() as study:
            study.run("grow", **GROW)
            study.run("paint", label="Dab", point=(0, 6, 0), diameter=2.0)
            wanted, table = study.labels("Two balls").data.copy(), study.labels("Two balls").table
        with Study(self.place / "study") as again:
            labels = again.labels("Two balls")
            np.testing.assert_array_equal(labels.data, wanted)
            self.assertEqual(labels.table, table)
            np.testing.assert_array_equal(labels.counts[:3], np.bincount(wanted.ravel(), minlength=3))
            record = again.find("T-1/Two balls")
            self.assertEqual((record.modality, record.unit, record.space.shape), ("CT", "HU", (40, 36, 32)))
            world = two_balls().space.to_world((15, 18, 16))
            self.assertEqual(again.image(record.id).fetch(__import__("kestrelmist").Progress()).shape, (40, 36, 32))
            self.assertEqual(again.image(record.id).value_at(world), 1000)

    def test_originals_are_untouched_and_copied_whole(self):
        with self.study_with_balls() as study:
            files = sorted(p for p in (self.place / "scans").rglob("*") if p.is_file())
            copies = sorted((study.folder / "images").rglob("*.dcm"))
            self.assertEqual(sorted(p.read_bytes() for p in files), sorted(p.read_bytes() for p in copies))

    def test_left_in_place_and_gone(self):
        self.study_with_balls().close()
        with Study(self.place / "other", create=True) as study:
            study.run("gather", folder=self.place / "scans", copy=False)
            self.assertEqual(list((study.folder / "images").iterdir()), [])
        for path in (self.place / "scans").rglob("*"):
            if path.is_file():
                path.unlink()
        with Study(self.place / "other") as study, self.assertRaisesRegex(Trouble, "no longer there"):
            study.run("grow", **GROW)

    def test_the_same_scan_is_not_taken_twice(self):
        with self.study_with_balls() as study:
            with self.assertRaisesRegex(Trouble, "in the study already"):
                study.run("gather", folder=self.place / "scans")
            self.assertEqual(len(study.records()), 1)
            study.run("gather", folder=self.place / "scans", subject="Twin")
            self.assertEqual(len(study.records()), 2)
            with self.assertRaisesRegex(Trouble, "Several images"):
                study.find("Two balls")

    def test_killed_process_loses_nothing_that_was_finished(self):
        self.study_with_balls().close()
        code = textwrap.dedent(f"""
            import time
            from kestrelmist.study.study import Study
            study = Study({str(self.place / "study")!r})
            for n in range(5):
                study.run("paint", label="Ball", point=(-6 + 2 * n, 0, 0), diameter=1.5)
            print(int(study.labels("Two balls").counts[1]), flush=True)
            time.sleep(60)
        """)
        process = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
        voxels = int(process.stdout.readline())
        os.kill(process.pid, signal.SIGKILL)
        process.wait()
        process.stdout.close()
        self.assertGreater(voxels, 30)
        with Study(self.place / "study") as study:
            self.assertFalse(study.read_only)
            self.assertEqual(int(study.labels("Two balls").counts[1]), voxels)

    def test_state_before_the_last_session(self):
        study = self.study_with_balls()
        study.run("grow", **GROW)
        first = study.labels("Two balls").data.copy()
        study.close()
        with Study(self.place / "study") as study:
            study.run("erase", label="Ball", point=(-4, 0, 0), diameter=6.0)
            study.run("paint", label="Other", point=(4, 0, 0), diameter=3.0)
        with Study(self.place / "study") as study:
            labels, key = study.labels("Two balls"), study.in_hand(1)
            before = labels.data.copy()
            edit, _ = versions.edit_back(study, key, versions.before_last_session(study, key))
            np.testing.assert_array_equal(labels.data, before)
            study.maps.keep_edit(labels, edit)
            np.testing.assert_array_equal(labels.data, first)
            self.assertEqual([row.name for row in labels.table], ["Ball"])
            study.history.undo()
            np.testing.assert_array_equal(labels.data, before)

    def test_second_window_reads_only_and_says_so(self):
        with self.study_with_balls() as first:
            first.run("grow", **GROW)
            with Study(self.place / "study") as second:
                self.assertTrue(second.read_only)
                self.assertIn("another window", second.catalogue.why_read_only)
                self.assertEqual(int(second.labels("Two balls").counts[1]), int(first.labels("Two balls").counts[1]))
                with self.assertRaisesRegex(Trouble, "only be read here"):
                    second.run("grow", **GROW)
        with Study(self.place / "study") as third:
            self.assertFalse(third.read_only)

    def test_no_write_permission(self):
        self.study_with_balls().close()
        folder = self.place / "study"
        os.chmod(folder / "study.db", 0o444)
        os.chmod(folder, 0o555)
        os.chmod(self.place, 0o755)
        before = (folder / "study.db").read_bytes()
        code = textwrap.dedent(f"""
            import os, pydicom
            from kestrelmist.core.errors import Trouble
            from kestrelmist.core.operation import all_operations
            from kestrelmist.study import keeping
            from kestrelmist.study.store import STORES
            from kestrelmist.study.study import Study
            all_operations()
            STORES.discover()
            if os.geteuid() == 0:
                os.setgid(65534); os.setuid(65534)
            study = Study({str(folder)!r})
            print(len(study.records()))
            try:
                study.set_removed(1, True)
            except Trouble as trouble:
                print(trouble)
            try:
                Study({str(self.place / "study" / "new")!r}, create=True)
            except Trouble as trouble:
                print(trouble)
        """)
        # whoever runs the tests: the process above gives up its rights before it touches the study
        ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        os.chmod(folder, 0o755)
        lines = ran.stdout.splitlines()
        self.assertEqual(len(lines), 3, ran.stderr)
        self.assertEqual(lines[0], "1")
        self.assertIn("no permission", lines[1])
        self.assertIn("cannot be made here", lines[2])
        self.assertEqual((folder / "study.db").read_bytes(), before)

    def test_full_disk_while_saving(self):
        with self.study_with_balls() as study:
            study.run("grow", **GROW)
            labels = study.labels("Two balls")
            before = labels.data.copy()
            pages = study.catalogue.rows("PRAGMA page_count")[0][0]
            study.catalogue.db.execute(f"PRAGMA max_page_count = {pages}")
            noise = np.random.default_rng(0).integers(0, 2, labels.kji.shape).astype(np.uint8)
            from kestrelmist.core.patch import LabelEdit, patch_from_mask

            edit = LabelEdit("Noise", patch_from_mask(labels, noise, 1))
            for applied in (False, True):
                if applied:
                    edit.apply(labels)
                with self.assertRaisesRegex(Trouble, "disk is full"):
                    study.maps.keep_edit(labels, edit, applied)
                np.testing.assert_array_equal(labels.data, before)
            study.catalogue.db.execute(f"PRAGMA max_page_count = {pages + 100000}")
            study.maps.keep_edit(labels, edit)
        with Study(self.place / "study") as study:
            np.testing.assert_array_equal(study.labels("Two balls").kji[noise > 0], 1)

    def test_newer_version_is_left_alone(self):
        self.study_with_balls().close()
        with sqlite3.connect(self.place / "study" / "study.db") as db:
            db.execute(f"PRAGMA user_version = {schema.CURRENT + 7}")
        db.close()
        before = (self.place / "study" / "study.db").read_bytes()
        with self.assertRaisesRegex(Trouble, "newer version.*nothing was changed"):
            Study(self.place / "study")
        self.assertEqual((self.place / "study" / "study.db").read_bytes(), before)

    def test_older_version_is_brought_up_to_date(self):
        self.study_with_balls().close()
        with sqlite3.connect(self.place / "study" / "study.db") as db:
            for table in ("item", "step", "change", "version", "view", "session", "subject", "study"):
                db.execute(f"DROP TABLE {table}")
            db.executescript(schema.VERSION_1 + "PRAGMA user_version = 1;")
        db.close()
        with Study(self.place / "study") as study:
            self.assertEqual(schema.version_of(study.catalogue.db), schema.CURRENT)
            shutil.rmtree(study.folder / "images")
            study.run("gather", folder=self.place / "scans")
            study.run("grow", **GROW)
            study.run("measure-labels")
            self.assertEqual(len(study.tables()), 1)

    def test_damaged_catalogue_and_missing_study(self):
        folder = self.place / "broken"
        folder.mkdir()
        (folder / "study.db").write_bytes(b"this is no database" * 100)
        with self.assertRaisesRegex(Trouble, "damaged"):
            Study(folder)
        with self.assertRaisesRegex(Trouble, "no study"):
            Study(self.place / "nowhere")

    def test_the_journal_is_folded_and_nothing_changes(self):
        with self.study_with_balls() as study:
            for n in range(6):
                study.run("paint", label="Ball", point=(n, 0, 0), diameter=1.0)
            labels = study.labels("Two balls")
            key = study.in_hand(1)
            self.assertEqual(LABELS.waiting(study, study.items.get(key)), 6)
            LABELS.fold(study, study.items.get(key), labels)
            self.assertEqual(LABELS.waiting(study, study.items.get(key)), 0)
            study.run("erase", label="Ball", point=(3, 0, 0), diameter=1.0)
            np.testing.assert_array_equal(LABELS.open(study, study.items.get(key)).data, labels.data)
            self.assertEqual(len(list((study.folder / "labels").rglob("*.nii.gz"))), 1)


class LogbookTest(PlaceCase):
    def test_every_step_is_written_and_runs_again_on_the_next_subject(self):
        with self.study_with_balls() as study:
            study.run("grow", **GROW)
            study.run("measure-labels")
            entries = study.logbook.entries()
            self.assertEqual([e.operation for e in entries], ["gather", "grow", "measure-labels"])
            self.assertEqual(entries[1].settings["low"], 500)
            (image,) = entries[1].inputs["image"]
            self.assertTrue(image.hash.startswith(study.find(1).hash))
            self.assertEqual((image.name, image.subject, image.item), ("Two balls", "T-1", 1))
            recipe = self.place / "recipe.yaml"
            recipe.write_text(as_yaml(recipe_of(entries[1:])))
            study.run("gather", folder=self.place / "scans", subject="T-2")
            first = study.labels("T-1/Two balls").counts[1]
            made = run_recipe(study, read_recipe(recipe), "T-2")
            self.assertEqual(made[1].result.column("voxels"), [int(first)])
            self.assertEqual(made[1].result.column("subject"), ["T-2"])

    def test_wrong_recipes(self):
        path = self.place / "r.yaml"
        for text, words in (
            ("recipe: 2", "not a recipe"),
            ("a: [", "cannot be read"),
            ("recipe: 1\nsteps:\n- operation: nonsense", "“nonsense”, which this version does not know"),
        ):
            path.write_text(text)
            with self.assertRaisesRegex(Trouble, words):
                read_recipe(path)
        with self.assertRaisesRegex(Trouble, "does not exist"):
            read_recipe(self.place / "none.yaml")

    def test_new_images_are_kept_with_their_place(self):
        with self.study_with_balls() as study:
            (key,) = study.run("smooth", fwhm=1.0)
            started = time.monotonic()
            study.run("set-origin", image=1, point=(-4, 0, 0))
            self.assertLess(time.monotonic() - started, 30)
            self.assertEqual(study.image(1).value_at((0, 0, 0)), 1000)
            self.assertEqual(study.find(key).unit, "HU")
        with Study(self.place / "study") as study:
            self.assertAlmostEqual(float(study.image(key).data.mean()), float(study.image(1).data.mean()), delta=0.02)
            self.assertEqual(study.image(1).data.dtype, np.int16)
            np.testing.assert_allclose(study.image(1).space.affine[:3, 3], two_balls().space.affine[:3, 3] + (4, 0, 0))
