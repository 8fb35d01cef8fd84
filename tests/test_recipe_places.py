"""The same recipe wherever it is done: parcels, parts, a cluster."""

import json
import os
import shutil
import signal
import struct
import sys
from dataclasses import replace
from unittest import mock

from kestrelmist.core.errors import Partly, Trouble
from kestrelmist.study.inputs import settle
from kestrelmist.study.recipes import places
from kestrelmist.study.recipes.book import DONE, begin, book
from kestrelmist.study.recipes.cohort import Runner, order_of
from kestrelmist.study.recipes.parcel import done_afar, parcel_of
from kestrelmist.study.recipes.part import begin_part, parts_left, take_part
from kestrelmist.study.recipes.place import Lost
from kestrelmist.study.recipes.places import Here, Processes, place_for
from kestrelmist.study.recipes.text import as_yaml
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.test_recipe_runs import balls, contents
from tests.test_recipes import RecipeCase
from trial.local_cluster import local_cluster


def half_sent(_) -> None:
    """Ends a process of a pool in the midst of sending a result."""
    frame = sys._getframe()
    while "result_queue" not in frame.f_locals:
        frame = frame.f_back
    os.write(frame.f_locals["result_queue"]._writer.fileno(), struct.pack("!i", 1 << 20) + b"begins")
    os.kill(os.getpid(), signal.SIGKILL)


class SeveralPlacesTest(RecipeCase):
    def test_a_process_that_is_killed_while_it_sends_its_result_is_missed(self):
        place = Processes(2)
        with mock.patch.object(places, "done_afar", half_sent):
            future = place.send(None)
        for _ in range(200):
            if place.wait([future], 0.1):
                break
        with self.assertRaises(Lost):
            place.outcome(future)
        with mock.patch.object(places, "done_afar", abs):
            again = place.send(-7)
        while not place.wait([again], 0.1):
            pass
        self.assertEqual(place.outcome(again), 7)
        place.close(False)

    def test_a_parcel_is_done_without_the_catalogue(self):
        with self.subjects("T-1") as study:
            study.run("threshold", image="T-1/Head CT", label="Half", low=550, high=5000)
            task = settle(study, "measure-labels", {"image": "T-1/Head CT"})
            parcel = parcel_of(study, task)
            study.close()
            (study.folder / "study.db").rename(study.folder / "away.db")
            made = done_afar(parcel)
            self.assertEqual(made.values["table"].column("label"), ["Half"])
            with self.assertRaisesRegex(Trouble, "runs version"):
                done_afar(replace(parcel, version="0.0"))
            with self.assertRaisesRegex(Trouble, "cannot be seen from here"):
                done_afar(replace(parcel, folder=self.place / "nowhere"))

    def test_parts_are_done_beside_and_taken_in_once(self):
        with self.subjects("T-1", "T-2", "T-3", "T-4") as study:
            study.run("threshold", image="T-2/Head CT", label="Mine", low=550, high=5000)
            shutil.copytree(study.folder, self.place / "other")
        with Study(self.place / "other") as other:
            made = begin(other.folder, order_of(other, balls()))
            Runner(other, made, Here()).run()
            whole = contents(other)
        with Study(self.place / "study") as study:
            for k in (1, 2):
                order = order_of(study, balls(), part=(k, 2))
                home = begin_part(study.folder, f"{k} of 2")
                self.assertEqual(begin_part(study.folder, f"{k} of 2"), home)
                with Study(home) as beside:
                    self.assertEqual(parts_left(study.folder), [] if k == 1 else parts_left(study.folder))
                    Runner(beside, begin(home, order), Here()).run()
            before = len(study.logbook.entries())
            first, second = parts_left(study.folder)
            shutil.copytree(first, self.place / "again", symlinks=True)
            (taken,) = take_part(study, first)
            self.assertEqual([taken.state(u) for u, _, _ in taken.order.units], [DONE, DONE])
            shown = len(study.records())
            take_part(study, second)
            self.assertEqual(contents(study), whole)
            self.assertEqual(len(study.logbook.entries()), before + 12)
            self.assertEqual(study.history.undo().title, f"Take in {second.name}")  # as one
            self.assertEqual(len(study.records()), shown)
            study.history.redo()
            self.assertEqual(parts_left(study.folder), [])
            shutil.copytree(self.place / "again", first, symlinks=True)  # killed before it was thrown away
            take_part(study, first)
            self.assertEqual(contents(study), whole)

    def test_by_the_command_with_parts_runs_and_verdicts(self):
        with self.subjects("T-1", "T-2", "T-3"):
            pass
        path, where = self.place / "balls.yaml", self.place / "study"
        path.write_text(as_yaml(balls()))
        kestrelmist("recipe", path, "--part", "1/2", "--study", where)
        kestrelmist("recipe", path, "--part", "2/2", "--study", where, "--workers", 0)
        said = kestrelmist("recipe", path, "--part", "3/2", "--study", where, code=1).stderr
        self.assertIn("“3/2” is no part: write it as 3/40", said)
        rows = json.loads(kestrelmist("recipe", path, "--each-subject", "--study", where, "--json").stdout)["rows"]
        self.assertEqual([r["state"] for r in rows], ["was done"] * 3)
        runs = json.loads(kestrelmist("list-runs", "--study", where, "--json").stdout)["rows"]
        self.assertEqual([r["done"] for r in runs], [2, 1, 3])
        kestrelmist("judge-run", "--subject", "T-2", "--verdict", "doubtful", "--note", "dim", "--study", where)
        with Study(where) as study:
            self.assertEqual(book(where).verdicts["T-2"]["verdict"], "doubtful")
            with self.assertRaisesRegex(Trouble, "was not in run"):
                study.run("judge-run", subject="T-9", verdict="bad")
            with self.assertRaisesRegex(Trouble, "No cluster answers at “tcp://127.0.0.1:9”"):
                study.run("recipe", recipe=path, each_subject=True, cluster="tcp://127.0.0.1:9")
            study.run("rename", thing="T-3/Head CT", name="Other")
            with self.assertRaisesRegex(Partly, "Of 3, 1 missing: .*resume run"):
                study.run("recipe", recipe=path, each_subject=True)
            with self.assertRaisesRegex(Trouble, "no subject “T-9”"):
                study.run("check-recipe", recipe=path, subjects="T-9")
        told = kestrelmist("check-recipe", path, "--study", where).stdout
        self.assertIn("1 lacks something", told)


class ClusterTest(RecipeCase):
    def test_a_cluster_of_two_workers_gives_the_same(self):

        with self.subjects("T-1", "T-2") as study:
            shutil.copytree(study.folder, self.place / "other")
            made = begin(study.folder, order_of(study, balls()))
            Runner(study, made, Here()).run()
            here = contents(study)
        with (
            local_cluster() as cluster,
            Study(self.place / "other") as other,
        ):
            other.run("recipe", recipe=self.written(), each_subject=True, cluster=cluster.scheduler_address)
            self.assertEqual(contents(other), here)
            self.assertIn("2 at a time", book(other.folder).order.where)
            self.assertEqual(list(other.folder.glob(".seen-*")), [])
            with (
                mock.patch("kestrelmist.study.recipes.cluster.VERSION", "9.9"),
                self.assertRaisesRegex(Trouble, r"The worker .* runs version .*, and this is 9\.9: install the same"),
            ):
                place_for(0, cluster.scheduler_address, other.folder)
            unseen = mock.patch("kestrelmist.study.recipes.cluster.TOKEN", "elsewhere/{}")
            with unseen, self.assertRaisesRegex(Trouble, "cannot see the folder of the study .*: share the folder"):
                place_for(0, cluster.scheduler_address, other.folder)

    def written(self):
        path = self.place / "balls.yaml"
        path.write_text(as_yaml(balls()))
        return path
