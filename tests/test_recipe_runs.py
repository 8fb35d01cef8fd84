import json
import os
import shutil
import signal
import threading
import time
from dataclasses import replace

import numpy as np

from kestrelmist.core.errors import Cancelled, Partly, Trouble
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.study.recipes import editing
from kestrelmist.study.recipes.book import DONE, FAILED, FOUND, MISSING, RUNNING, begin, book, books
from kestrelmist.study.recipes.cohort import Runner, order_of
from kestrelmist.study.recipes.control import Control
from kestrelmist.study.recipes.places import Here, Processes
from kestrelmist.study.recipes.plan import plan_of
from kestrelmist.study.recipes.recipe import Expected, Recipe, Slot
from kestrelmist.study.recipes.text import as_yaml
from kestrelmist.study.study import Study
from tests.test_recipes import RecipeCase


def balls() -> Recipe:
    return balls_of("Head CT")


def balls_of(pattern: str) -> Recipe:
    made = editing.with_step(Recipe(title="Balls"), "smooth", settings={"fwhm": 1.5})
    made = editing.with_slot(made, Slot("Scan", "image", pattern), "Image")
    made = editing.with_step(made, "threshold", settings={"label": "Half", "low": 550, "high": 5000})
    return editing.with_step(made, "measure-labels")


def contents(study: Study) -> dict:
    """What a run has made, by what it is of: hashes of things, and label maps voxel by voxel."""
    found = {}
    for r in study.items.everything().values():
        if r.kind in ("image", "table") and not r.name.startswith("Recipe"):
            found[r.kind, r.subject, r.name] = r.hash
        if r.kind == "label map":
            found[r.kind, r.subject, r.name] = study.label_map(r.id).kji.tobytes()
    return found


SMOOTH = "T-1/Head CT, smooth 1.5 mm"


class RunsTest(RecipeCase):
    def ran(self, study: Study, recipe: Recipe, place=None, **more):
        made = begin(study.folder, order_of(study, recipe))
        Runner(study, made, place or Here(), **more).run()
        return book(study.folder)

    def test_processes_and_this_one_give_the_same_bit_by_bit(self):
        with self.subjects("T-1", "T-2", "T-3") as study:
            shutil.copytree(study.folder, self.place / "other")
            made = self.ran(study, balls())
            self.assertEqual([made.state(u) for u, _, _ in made.order.units], [DONE] * 3)
            here = contents(study)
        with Study(self.place / "other") as other:
            self.ran(other, balls(), Processes(2))
            self.assertEqual(contents(other), here)
            self.assertEqual(len([k for k in here if k[0] == "label map"]), 3)
            again = self.ran(other, balls())
            self.assertEqual([again.state(u) for u, _, _ in again.order.units], [FOUND] * 3)
            self.assertEqual(again.seconds, 0)
            self.assertEqual([p.name for p in other.folder.glob(".side-*")], [])

    def test_what_is_the_same_for_all_is_done_once(self):
        with self.subjects("T-1", "T-2", "T-3", "Mean") as study:
            slots = Slot("Scan", "image", "Head CT"), Slot("Template", "image", "Head CT", "Mean", always=True)
            made = editing.with_step(Recipe(slots), "smooth", settings={"fwhm": 2.0})
            made = editing.with_inputs(made, 1, "image", ["$Template"])
            made = editing.with_step(made, "threshold", settings={"label": "Half", "low": 550, "high": 5000})
            made = editing.with_step(made, "combine", at=3)
            made = editing.with_inputs(editing.with_inputs(made, 3, "image", ["$Scan"]), 3, "others", ["$1.image"])
            order = order_of(study, made, ["T-1", "T-2", "T-3"])
            done = begin(study.folder, order)
            Runner(study, done, Processes(3)).run()
            self.assertEqual([done.said(u) for u, _, _ in order.units], ["", "", ""])
            for n in (0, 1):
                states = sorted(done.cells[u][n].state for u, _, _ in order.units)
                self.assertEqual(states, [DONE, FOUND, FOUND])
            self.assertEqual(len([r for r in study.records() if r.subject == "Mean"]), 2)
            (smooth,) = [r for r in study.records() if "smooth" in r.name]
            self.assertEqual(len(study.label_maps(smooth.id)), 1)

    def test_one_setting_changed_runs_only_what_depends_on_it(self):
        with self.subjects("T-1", "T-2") as study:
            self.ran(study, balls())
            changed = editing.with_settings(balls(), 2, {"low": 900})
            made = self.ran(study, editing.with_step(changed, "turn-values"))
            states = [c.state for c in made.cells["T-1"]]
            self.assertEqual(states, [FOUND, DONE, DONE, DONE])
            shown = self.place / "both.html"
            table = study.run("compare-runs", run=1, other=2, to=shown)
            text = shown.read_text()
            self.assertIn("T-1: Threshold", text)
            self.assertNotIn("T-1: Smooth", text)  # that is one step in both
            self.assertGreaterEqual(text.count("<img "), 8)
            with self.assertRaisesRegex(Trouble, "side by side in .html"):
                study.run("compare-runs", run=1, other=2, to=self.place / "both.pdf")
            self.assertIn("Threshold: low 550.0 → 900.0", table.column("what"))
            self.assertIn("T-1", table.column("subject"))
            maps = {r.name: study.label_map(r.id).counts[1] for r in study.label_maps(study.find(SMOOTH).id)}
            self.assertEqual(list(maps), ["Labels", "Labels (2)"])  # what was tried before is left as it was
            self.assertGreater(maps["Labels"], 2 * maps["Labels (2)"])
            smooth = study.image(SMOOTH).data
            self.assertEqual(maps["Labels (2)"], ((smooth >= 900) & (smooth <= 5000)).sum())
            back = self.ran(study, balls())
            self.assertEqual([c.state for c in back.cells["T-1"]], [FOUND] * 3)
            with_holes = editing.with_step(changed, "fill-holes", at=3, settings={"label": "Half"})
            self.ran(study, with_holes)
            names = [r.name for r in study.label_maps(study.find(SMOOTH).id)]
            self.assertEqual(names, ["Labels", "Labels (2)"])  # it goes on where that has ended
            self.ran(study, changed)
            names = [r.name for r in study.label_maps(study.find(SMOOTH).id)]
            self.assertEqual(names, ["Labels", "Labels (2)", "Labels (3)"])

    def test_what_fails_stops_nobody_and_is_done_again_alone(self):
        with self.subjects("T-1", "T-2", bright=500) as study:  # nothing of T-1 is in range
            made = self.ran(study, editing.with_step(balls(), "surface"))
            self.assertEqual([made.state(u) for u, _, _ in made.order.units], [FAILED, DONE])
            cell = made.cells["T-1"][3]
            self.assertEqual((cell.state, cell.what.endswith(".")), (FAILED, True))
            self.assertIn("Traceback", cell.log)
            self.assertEqual(made.unfinished, ["T-1"])
            lower = editing.with_settings(made.order.recipe, 2, {"low": 100})
            again = begin(study.folder, replace(made.order, recipe=lower))
            Runner(study, again, Here(), only=["T-1"]).run()
            self.assertEqual(again.state("T-1"), DONE)
            self.assertEqual(again.state("T-2"), "waiting")

    def test_cancelled_paused_and_gone_on_with(self):
        with self.subjects("T-1", "T-2", "T-3") as study:
            progress, control = Progress(), Control()
            made = begin(study.folder, order_of(study, balls()))
            made.heard.append(lambda unit: progress.cancel() if made.cells["T-1"][1].state == DONE else None)
            with self.assertRaises(Cancelled):
                Runner(study, made, Here(progress), progress, control).run()
            kept = book(study.folder)
            self.assertEqual(kept.state("T-1"), "waiting")
            self.assertEqual([c.state for c in kept.cells["T-1"]], [DONE, DONE, "waiting"])
            steps = len(study.logbook.entries())
            control.pause()
            runner = threading.Thread(target=Runner(study, kept, Here(), None, control).run)
            runner.start()
            time.sleep(0.6)
            self.assertEqual(len(study.logbook.entries()), steps)  # it waits
            control.go_on()
            runner.join(60)
            self.assertEqual([kept.state(u) for u, _, _ in kept.order.units], [DONE] * 3)
            smooths = [s for s in study.logbook.entries() if s.operation == "smooth"]
            self.assertEqual(len(smooths), 3)  # nothing was done twice

    def test_a_subject_that_goes_during_the_run(self):
        with self.subjects("T-1", "T-2", "T-3") as study:
            made = begin(study.folder, order_of(study, balls()))
            gone = study.find("T-3/Head CT").id

            def hear(unit: str) -> None:
                if unit == "T-2" and study.items.get(gone) is not None:
                    study.delete(gone, "Head CT")

            made.heard.append(hear)
            Runner(study, made, Here()).run()
            self.assertEqual([made.state(u) for u, _, _ in made.order.units], [DONE, DONE, MISSING])
            self.assertRegex(made.said("T-3"), "no longer in the study|no image")

    def test_who_lacks_something_is_not_begun_through_any_door(self):
        with self.subjects("T-1", "T-2") as study:
            study.run("rename", thing="T-2/Head CT", name="Other")
            bare = editing.with_step(balls(), "threshold")  # a label and two limits are still to be typed
            path = self.place / "bare.yaml"
            path.write_text(as_yaml(bare))
            before = len(study.records())
            with self.assertRaisesRegex(Partly, "Of 2, 2 missing: .*Step 4: “Threshold” needs label"):
                study.run("recipe", recipe=path, each_subject=True, workers=0)
            self.assertEqual(len(study.records()), before)  # nothing was begun
            path.write_text(as_yaml(balls()))
            with self.assertRaisesRegex(Partly, "Of 2, 1 missing: T-2: there is no image “Head CT”"):
                study.run("recipe", recipe=path, subjects="T-1, T-2", workers=0)
            made = book(study.folder)
            self.assertEqual([made.state(u) for u, _, _ in made.order.units], [DONE, MISSING])
            study.run("rename", thing="T-2/Other", name="Head CT")
            study.run("resume-run", workers=0)
            self.assertEqual(book(study.folder).unfinished, [])
            part = study.run("recipe", recipe=path, part="2/2", workers=0)
            self.assertEqual(part.column("state"), ["was done"])
            unit = book(study.folder).order.units[0][0]
            self.assertLessEqual({u for u, _, _ in book(study.folder).order.noticed.values()}, {"", unit})

    def test_a_worker_that_is_killed_is_replaced(self):
        with self.subjects("T-1", "T-2") as study:
            place, killed = Processes(2), []
            made = begin(study.folder, order_of(study, balls()))

            def hear(unit: str) -> None:
                if not killed and place._pool is not None and place._pool._processes:
                    killed.extend(list(place._pool._processes))
                    os.kill(killed[0], signal.SIGKILL)

            made.heard.append(hear)
            Runner(study, made, place).run()
            self.assertTrue(killed)
            self.assertEqual([made.state(u) for u, _, _ in made.order.units], [DONE, DONE])

    def test_the_book_of_a_run_that_was_cut_short_is_read(self):
        with self.subjects("T-1") as study:
            made = self.ran(study, balls())
            path = made.folder / "events.jsonl"
            text = path.read_text()
            path.write_text(text[: text.rindex('"done"')])  # in the middle of the last line
            torn = book(study.folder)
            self.assertEqual([c.state for c in torn.cells["T-1"]], [DONE, DONE, "running"])
            Runner(study, torn, Here()).run()
            self.assertEqual(book(study.folder).state("T-1"), DONE)
            self.assertEqual([c.state for c in book(study.folder).cells["T-1"]], [DONE, DONE, FOUND])
            (made.folder / "order.json").write_text("{")
            self.assertEqual(books(study.folder), [])
            with self.assertRaisesRegex(Trouble, "ordered of this run is damaged"):
                book(study.folder)

    def test_a_run_that_was_killed_is_stopped_and_a_damaged_book_says_so(self):
        with self.subjects("T-1", "T-2") as study:
            made = self.ran(study, balls())
            made.step("T-1", 1, RUNNING)
            made.close()
            self.assertEqual(book(study.folder).state("T-1"), RUNNING)  # another process may be at it
            self.assertEqual(study.run("list-runs", run=1).column("state"), ["stopped", DONE])
            events, order = (made.folder / name for name in ("events.jsonl", "order.json"))
            lines = [{"unit": "T-2", "step": 0, "state": 3, "seconds": None, "line": "x"}, {"unit": []}, [], None]
            with open(events, "a") as stream:
                stream.writelines(json.dumps(line) + "\n" for line in lines)
                stream.write("[" * 100_000 + "\n")
            cell = book(study.folder).cells["T-2"][0]
            self.assertEqual((cell.state, cell.seconds, cell.step), ("3", 0.0, None))
            text = order.read_text()
            for wrong in ("", "[" * 100_000, text[:-9], json.dumps(json.loads(text) | {"use": {"T-1": [1]}}), "null"):
                order.write_text(wrong)
                for name, given in (
                    ("list-runs", {}),
                    ("resume-run", {"workers": 0}),
                    ("run-report", {"to": "r.html"}),
                ):
                    with self.assertRaisesRegex(Trouble, "ordered of this run is damaged .*order.json"):
                        study.run(name, run=1, **given)
                self.assertEqual(study.run("list-runs").count, 0)
            order.write_text(text)
            study.run("resume-run", workers=0)
            self.assertEqual(book(study.folder).unfinished, [])


class PlanTest(RecipeCase):
    def test_runs_multiply_and_what_belongs_together_is_found(self):
        with self.subjects("T-1", "T-2") as study:
            folder = self.place / "runs"
            folder.mkdir()
            for n, name in enumerate(("run 1", "run 2", "run 1, single", "run 2, single"), 1):
                values = np.full((8, 8, 8), n, np.int16)
                write_nifti(folder / f"odour {name}.nii.gz", values, Space((8, 8, 8), np.eye(4)))
            study.run("gather", folder=folder, subject="T-1")
            for n in (1, 2):
                for name in (f"odour run {n}", f"odour run {n}, single"):
                    study.run("set-visit", image=f"T-1/{name}", visit=("before", "after")[n - 1])
            slots = Slot("Run", "image", "odour run*", each=True), Slot("Single", "image", "*single")
            recipe = editing.with_step(Recipe(slots), "combine")
            self.assertEqual(recipe.steps[0].inputs, {"image": ["$Run"], "others": ["$Single"]})
            self.assertEqual(len(plan_of(study, recipe, ["T-1"]).units), 4)  # the single volumes fit this as well
            study.run("rename", thing="T-1/odour run 1", name="odour 1, run")
            study.run("rename", thing="T-1/odour run 2", name="odour 2, run")
            recipe = editing.with_slot(recipe, Slot("Run", "image", "*, run", each=True), "Run")
            plan = plan_of(study, recipe)
            self.assertEqual([u.words for u in plan.units], ["T-1 before", "T-1 after", "T-2"])
            singles = [u.filled["Single"] for u in plan.units[:2]]
            self.assertEqual([s.record.name for s in singles], ["odour run 1, single", "odour run 2, single"])
            self.assertEqual(singles[0].whence, "of the same visit")
            self.assertEqual([n.check for n in plan.notices], ["what comes in"] * 2)  # T-2 has neither
            study.run("take-off", thing="T-1/odour run 1, single")
            (notice,) = [n for n in plan_of(study, recipe, ["T-1"]).notices if n.check == "belongs together"]
            self.assertEqual(
                notice.sentence,
                "T-1 before: “odour run 2, single” (Single) is of the visit “after”, and the run of “before”.",
            )

    def test_notices_are_mended_and_waived(self):
        with self.subjects("T-1", "T-2") as study:
            study.run("take-off", thing="T-2/Head CT")
            study.run("gather", folder=self.place / "files" / "T-1", subject="T-2")
            recipe = editing.expecting(balls(), Expected(structure=1.0))
            plan = plan_of(study, recipe)
            (wide,) = [n for n in plan.notices if n.check == "width of smoothing"]
            self.assertEqual(wide.sentence, "“Smooth” with 1.5 mm is wider than what is looked at (1 mm).")
            (mend,) = wide.mends
            mended = editing.with_settings(recipe, mend.step, {mend.name: mend.value})
            self.assertEqual([n for n in plan_of(study, mended).notices if n.check == "width of smoothing"], [])
            along = editing.with_settings(recipe, 1, {"along": "0.5, 2, 0.5"})  # in place of the one width
            (wide_along,) = [n for n in plan_of(study, along).notices if n.check == "width of smoothing"]
            self.assertIn("with 2 mm", wide_along.sentence)
            self.assertEqual(wide_along.mends[0].value, [0.5, 1.0, 0.5])
            waived = plan_of(study, recipe, waived={wide.key: "the ball is large"})
            self.assertNotIn(wide, waived.open)
            wider = editing.with_settings(recipe, 1, {"fwhm": 3})
            self.assertTrue(plan_of(study, wider, waived={wide.key: "x"}).open)  # another sentence is another notice

    def test_lacking_and_several_and_left_out(self):
        with self.subjects("T-1", "T-2", "T-3") as study:
            study.run("rename", thing="T-3/Head CT", name="Other")
            plan = plan_of(study, balls())
            self.assertEqual(plan.counts, {"ready": 2, "to look at": 0, "lacks something": 1, "left out": 0})
            (notice,) = plan.open
            self.assertEqual(notice.sentence, "T-3: there is no image “Head CT”; there is “Other”.")
            self.assertEqual([m.words for m in notice.mends], ["Leave it out", "Use “Other”"])
            nobody = plan_of(study, balls_of("*MR")).open
            words = ["T-1: there is no image “*MR”; there is “Head CT”.", "It is named “Head CT”", "Head CT"]
            self.assertEqual([nobody[0].sentence, nobody[0].mends[1].words, nobody[0].mends[1].pattern], words)
            left = plan_of(study, balls(), left_out={"T-3": "no scan"})
            self.assertEqual((left.counts["left out"], left.open), (1, []))
            other = study.find("T-3/Other").id
            used = plan_of(study, balls(), use={"T-3": {"Scan": other}})
            self.assertEqual(used.counts["ready"], 3)
            self.assertEqual(used.units[2].filled["Scan"].whence, "chosen")
            self.assertGreater(used.bytes_needed, plan.bytes_needed)
            with self.assertRaisesRegex(Trouble, "switched off"):
                plan_of(study, needs_what_is_off())


def needs_what_is_off() -> Recipe:
    made = editing.with_step(editing.with_step(Recipe(), "measure-labels"), "long-table")
    return replace(made, steps=(replace(made.steps[0], off=True), made.steps[1]))
