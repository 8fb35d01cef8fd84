import json
import unittest
from dataclasses import replace

import numpy as np
import yaml

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.operation import OPERATIONS, operation
from kestrelmist.core.table import Column, Table
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.study.items import Record
from kestrelmist.study.recipes.cohort import run_cohort
from kestrelmist.study.recipes.of_logbook import recipe_of
from kestrelmist.study.recipes.one_subject import run_recipe
from kestrelmist.study.recipes.slot_pattern import fitting, pattern_of
from kestrelmist.study.recipes.text import as_yaml, read_recipe
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, two_balls

GROW = {"label": "Ball", "point": (-4, 0, 0), "low": 500, "high": 2000}


class RecipeCase(PlaceCase):
    """A study of subjects whose scans have one name and different values."""

    def subjects(self, *names: str, bright=1000) -> Study:
        study = Study(self.place / "study", create=True)
        for n, name in enumerate(names):
            image = two_balls()
            values = np.where(image.data > 0, bright + 100 * n, 0).astype(np.int16)
            folder = self.place / "files" / name
            folder.mkdir(parents=True)
            write_nifti(folder / "Head CT.nii.gz", values, image.space)
            study.run("gather", folder=folder, subject=name)
        return study

    def recipe(self, study: Study, **kwargs):
        path = self.place / "steps.yaml"
        path.write_text(as_yaml(recipe_of(study.logbook.entries(), **kwargs)))
        return path


class NextSubjectTest(RecipeCase):
    def test_grow_after_smoothing_and_measure_on_the_next_subject(self):
        with self.subjects("T-1", "T-2") as study:
            (smooth,) = study.run("smooth", image="T-1/Head CT", fwhm=1.0)
            study.run("grow", image=smooth, **GROW)
            study.run("measure-labels", image=smooth)
            study.run("measure-labels", image="T-1/Head CT", labels="T-1/Head CT, smooth 1 mm#Labels")
            path = self.recipe(study)
            facts = yaml.safe_load(path.read_text())
            self.assertEqual(
                [s["operation"] for s in facts["steps"]], ["smooth", "grow", "measure-labels", "measure-labels"]
            )
            self.assertEqual(facts["slots"], {"image 1": {"kind": "image", "name": "Head CT", "subject": "T-1"}})
            self.assertEqual(facts["steps"][1]["inputs"]["image"], "$1.image")
            done = run_recipe(study, read_recipe(path), "T-2")
            self.assertEqual([d.found for d in done], [False] * 4)
            smoothed = study.image("T-2/Head CT, smooth 1 mm")
            labels = study.labels("T-2/Head CT, smooth 1 mm")
            np.testing.assert_array_equal(labels.data > 0, (smoothed.data >= 500) & (smoothed.data <= 2000))
            inside = study.image("T-2/Head CT").data[labels.data > 0]
            self.assertAlmostEqual(done[3].result.column("mean")[0], inside.mean(), places=4)
            self.assertEqual(done[3].result.column("subject"), ["T-2"])
            with self.assertRaises(Trouble):
                study.labels("T-2/Head CT#Labels")  # the raw image got none
            images, steps = len(study.records()), len(study.logbook.entries())
            again = run_recipe(study, read_recipe(path), "T-2")
            self.assertEqual([d.found for d in again], [True] * 4)
            self.assertEqual((len(study.records()), len(study.logbook.entries())), (images, steps))

    def test_threshold_of_a_result_is_of_the_result(self):
        with self.subjects("T-1", "T-2") as study:
            (smooth,) = study.run("smooth", image="T-1/Head CT", fwhm=2.0)
            study.run("threshold", image=smooth, label="Half", low=550, high=5000)
            run_recipe(study, read_recipe(self.recipe(study)), "T-2")
            smoothed, raw = study.image("T-2/Head CT, smooth 2 mm"), study.image("T-2/Head CT")
            count = int(study.labels("T-2/Head CT, smooth 2 mm").counts[1])
            self.assertEqual(count, int((smoothed.data >= 550).sum()))
            self.assertNotEqual(count, int((raw.data >= 550).sum()))

    def test_an_image_that_was_renamed_is_one_slot_under_its_last_name(self):
        with self.subjects("T-1", "T-2") as study:
            study.run("facts", image="T-1/Head CT")
            for subject in ("T-1", "T-2"):
                study.run("rename", thing=f"{subject}/Head CT", name="Whole head")
            study.run("smooth", image="T-1/Whole head", fwhm=1.0)
            path = self.recipe(study)
            slots = yaml.safe_load(path.read_text())["slots"]
            self.assertEqual(slots, {"image 1": {"kind": "image", "name": "Whole head", "subject": "T-1"}})
            run_recipe(study, read_recipe(path), "T-2")
            self.assertIsNotNone(study.find("T-2/Whole head, smooth 1 mm"))

    def test_sections_on_the_next_subject(self):
        with self.subjects("T-1", "T-2") as study:
            ends = {"from_": (-9, 0, 0), "to": (9, 0, 0)}
            study.run("profile", image="T-1/Head CT", name="Across", **ends)
            study.run("profile", image="T-1/Head CT", name="Wide", width=2.0, **ends)
            given = {"first": 4.0, "second": 12.0, "image": "T-1/Head CT"}
            table = study.run("read-sections", sections=["Across", "Wide"], **given)
            path = self.recipe(study)
            done = run_recipe(study, read_recipe(path), "T-2")
            self.assertEqual([d.found for d in done], [False] * 3)
            self.assertEqual(table.count, 2)
            self.assertEqual(len([c for c in study.items.of_kind("curve") if c.subject == "T-2"]), 2)
            with self.assertRaisesRegex(Trouble, "needs sections"):
                study.run("read-sections", first=1.0, second=2.0)

    def test_a_map_that_was_not_there_is_not_asked_of_the_next_subject(self):
        with self.subjects("T-1", "T-2", "T-3") as study:
            study.run("crop", image="T-1/Head CT", voxels=(2, 2, 2, 20, 20, 20))
            study.run("grow", image="T-1/Head CT, cropped", **GROW)
            study.run("add-label", labels="T-3/Head CT", label="Another")
            path = self.recipe(study)
            steps = yaml.safe_load(path.read_text())["steps"]
            self.assertEqual(steps[0]["inputs"], {"image": "$image 1"})
            self.assertEqual(steps[1]["inputs"]["labels"], "$1.image#Labels")
            for subject in ("T-2", "T-3"):
                run_recipe(study, read_recipe(path), subject)
                self.assertEqual(study.image(f"{subject}/Head CT, cropped").shape, (19, 19, 19))
                self.assertGreater(int(study.labels(f"{subject}/Head CT, cropped").counts[1]), 100)
            self.assertEqual([one.name for one in study.labels("T-2/Head CT").table], ["Another"])  # by the third step

    def test_undone_steps_are_not_in_it(self):
        with self.subjects("T-1") as study:
            study.run("grow", **GROW)
            study.run("erase", label="Ball", point=(-4, 0, 0), diameter=2.0)
            study.history.undo()
            study.run("smooth", fwhm=3.0)
            study.history.undo()
            study.run("measure-labels")
            self.assertEqual(
                [s.operation for s in recipe_of(study.logbook.entries()).steps], ["grow", "measure-labels"]
            )
        with Study(self.place / "study") as study:
            self.assertNotIn("erase", [s.operation for s in recipe_of(study.logbook.entries()).steps])

    def test_what_is_missing_is_said_before_anything_runs(self):
        with self.subjects("T-1", "T-2", "T-3") as study:
            (mr,) = study.run("scale", image="T-1/Head CT")
            study.rename(mr, "Head T1")
            study.run("smooth", image="T-1/Head CT", fwhm=1.0)
            study.run("combine", image="T-1/Head CT", others=["T-1/Head T1"])
            steps = [s for s in study.logbook.entries() if s.operation in ("smooth", "combine")]
            recipe = recipe_of(steps)
            before = (len(study.records()), len(study.logbook.entries()))
            with self.assertRaisesRegex(Trouble, "cannot run on T-2: there is no image “Head T1”"):
                run_recipe(study, recipe, "T-2")
            self.assertEqual((len(study.records()), len(study.logbook.entries())), before)
            (a,) = study.run("scale", image="T-3/Head CT", low=0, high=5)
            (b,) = study.run("scale", image="T-3/Head CT", low=0, high=7)
            study.rename(a, "Head T1, left")
            study.rename(b, "Head T1, right")
            facts = yaml.safe_load(as_yaml(recipe))
            facts["slots"]["image 2"]["name"] = "Head T1*"
            (self.place / "pattern.yaml").write_text(yaml.safe_dump(facts))
            with self.assertRaisesRegex(Trouble, "“Head T1\\*” fits 2 images .T-3/Head T1, left, T-3/Head T1, right"):
                run_recipe(study, read_recipe(self.place / "pattern.yaml"), "T-3")
            study.delete(b, "Head T1, right")
            run_recipe(study, read_recipe(self.place / "pattern.yaml"), "T-3")
            self.assertIn("Head CT, mean", [r.name for r in study.records() if r.subject == "T-3"])

    def test_wrong_recipes_are_one_sentence(self):
        base = {"recipe": 2, "slots": {"image 1": {"kind": "image", "name": "Head CT", "subject": ""}}}
        step = {"operation": "smooth", "inputs": {"image": "$image 1"}, "settings": {"fwhm": 1.0}}
        for steps, said in (
            ("smooth", "not a recipe|list of steps"),
            (["smooth"], "Step 1"),
            ([step | {"inputs": {"image": "$image 9"}}], "image 9"),
            ([step | {"inputs": {"image": "$3.image"}}], "3"),
            ([step | {"inputs": "x"}], "Step 1"),
            ([step | {"settings": [1]}], "Step 1"),
            ([step | {"operation": "fly"}], "“fly”, which this version does not know"),
            ([step | {"settings": {"fwhm": "wide"}}], "fwhm"),
            ([step | {"settings": {"speed": 1}}], "no setting called speed"),
        ):
            path = self.place / "wrong.yaml"
            path.write_text(yaml.safe_dump(base | {"steps": steps}))
            with self.subTest(steps), self.subjects_once() as study, self.assertRaisesRegex(Trouble, said):
                run_recipe(study, read_recipe(path), "T-1")

    def subjects_once(self) -> Study:
        return Study(self.place / "study") if (self.place / "study").exists() else self.subjects("T-1")

    def test_a_map_that_a_hand_has_mended_is_left_as_it_is(self):
        with self.subjects("T-1", "T-2") as study:
            study.run("grow", image="T-1/Head CT", **GROW)
            recipe = recipe_of(study.logbook.entries())
            run_recipe(study, recipe, "T-2")
            study.run("erase", labels="T-2/Head CT#Labels", label="Ball", point=(4, 0, 0), diameter=3.0)
            mended = study.labels("T-2/Head CT").data.copy()
            (done,) = run_recipe(study, recipe, "T-2")
            self.assertTrue(done.found)
            np.testing.assert_array_equal(study.labels("T-2/Head CT").data, mended)

    def test_on_the_command_line(self):
        with self.subjects("T-1", "T-2") as study:
            study.run("smooth", image="T-1/Head CT", fwhm=1.0)
        recipe = self.place / "steps.yaml"
        kestrelmist("logbook", "--study", self.place / "study", "--to", recipe)
        said = kestrelmist("recipe", recipe, "--study", self.place / "study", "--subject", "T-9", code=1).stderr
        self.assertIn("cannot run on T-9", said)
        rows = [
            json.loads(
                kestrelmist("recipe", recipe, "--study", self.place / "study", "--subject", "T-2", "--json").stdout
            )["rows"]
            for _ in range(2)
        ]
        self.assertEqual([r[0]["state"] for r in rows], ["done", "was done"])
        both = kestrelmist(
            "recipe", recipe, "--study", self.place / "study", "--subject", "T-2", "--each-subject", code=1
        ).stderr
        self.assertIn("one subject or on each", both)

    def test_names_that_hold_their_subject_and_bids_names(self):
        """On every next subject the slot is found by what it is for, not by the letters of its name."""
        names = {
            "HM-07": ("sub-HM07_ses-before_task-odour_run-1_bold", "HM-07 head", "Head T1"),
            "HM-08": ("sub-HM08_ses-before_task-odour_run-1_bold", "HM-08 head", "Head T1"),
            "HM-09": ("sub-HM09_ses-x_task-odour_bold", "hm-09 HEAD", "head t1"),
        }
        with Study(self.place / "study", create=True) as study:
            keys = {}
            for subject, own in names.items():
                for n, name in enumerate((*own, own[0].replace("odour", "rest"))):
                    image = two_balls()
                    write_nifti(self.place / "one.nii.gz", image.data + np.int16(n + len(keys)), image.space)
                    (keys[subject, n],) = study.run("gather", folder=self.place / "one.nii.gz", subject=subject)
                    study.rename(keys[subject, n], name)
            for n in range(3):
                study.run("smooth", image=keys["HM-07", n], fwhm=1.0)
            path = self.recipe(study)
            slots = yaml.safe_load(path.read_text())["slots"]
            self.assertEqual(
                [slot["name"] for slot in slots.values()],
                ["sub-{subject}_ses-before_task-odour_run-1_bold", "{subject} head", "Head T1"],
            )
            for subject in ("HM-08", "HM-09"):
                done = run_recipe(study, read_recipe(path), subject)
                made = [study.logbook.last(3)[2 - n].inputs["image"][0].item for n in range(3)]
                self.assertEqual(made, [keys[subject, n] for n in range(3)])
                self.assertEqual(len(done), 3)
            study.rename(keys["HM-09", 3], "sub-HM09_ses-y_task-odour_bold")  # now two are meant
            with self.assertRaisesRegex(
                Trouble, "fits 2 images .HM-09/sub-HM09_ses-x_task-odour_bold, HM-09/sub-HM09_ses-y"
            ):
                run_recipe(study, read_recipe(path), "HM-09")


class PatternTest(unittest.TestCase):
    def test_stars_and_brackets_of_names_are_letters(self):
        for name, others, wanted in (
            ("T2* map", ["T2* map", "T2 mean map"], ["T2* map"]),
            ("T2* map", ["T2 mean map"], []),
            ("Run [1]", ["Run 1"], []),
            ("Run [1]", ["run [1]", "Run 1"], ["run [1]"]),
            ("a?", ["ab"], []),
        ):
            records = [Record(n, "image", "B", other) for n, other in enumerate(others, 1)]
            self.assertEqual([r.name for r in fitting(pattern_of(name, "A"), records)], wanted)
        records = [Record(n, "image", "B", name) for n, name in enumerate(("Head T1", "x*x", "a" * 200), 1)]
        for pattern, wanted in (
            ("Lacks|head* | *", ["Head T1"]),
            ("head*", ["Head T1"]),
            ("*[*]*", ["x*x"]),
            ("*a" * 60 + "b", []),
            ("*", 3),
        ):
            found = [r.name for r in fitting(pattern, records)]
            self.assertEqual(found if isinstance(wanted, list) else len(found), wanted)


class EachSubjectTest(RecipeCase):
    def test_in_processes_and_one_failure_stops_nobody(self):
        with self.subjects("T-1", "T-2", "T-3", "T-4") as study:
            study.run("smooth", image="T-1/Head CT", fwhm=1.0)
            study.run("grow", image="T-1/Head CT, smooth 1 mm", **GROW)
            study.run("measure-labels", image="T-1/Head CT, smooth 1 mm")
            recipe = recipe_of(study.logbook.entries())
            # the point of T-3 lies in nothing, and T-4 lacks the scan
            hole = study.image("T-3/Head CT")
            empty = Image(np.zeros_like(hole.data), hole.space, "Head CT", "T-3")
            study.delete(study.find("T-3/Head CT").id, "Head CT")
            write_nifti(self.place / "Head CT.nii", empty.data, empty.space)
            study.run("gather", folder=self.place / "Head CT.nii", subject="T-3")
            study.rename(study.find("T-4/Head CT").id, "Feet")
            table = run_cohort(study, recipe, workers=2)
            states = dict(zip(table.column("subject"), table.column("state")))
            self.assertEqual(states, {"T-1": "was done", "T-2": "done", "T-3": "failed", "T-4": "missing"})
            told = dict(zip(table.column("subject"), table.column("what")))
            self.assertIn("no image “Head CT”", told["T-4"])
            self.assertRegex(told["T-3"], "range|value")
            self.assertGreater(int(study.labels("T-2/Head CT, smooth 1 mm").counts[1]), 100)
            again = run_cohort(study, recipe, workers=0)
            self.assertEqual(dict(zip(again.column("subject"), again.column("state"))), states | {"T-2": "was done"})
            self.assertEqual([p.name for p in study.folder.iterdir() if p.name.startswith(".")], [])

    def test_by_the_command(self):
        with self.subjects("T-1", "T-2") as study:
            study.run("smooth", image="T-1/Head CT", fwhm=1.0)
        recipe = self.place / "steps.yaml"
        kestrelmist("logbook", "--study", self.place / "study", "--to", recipe)
        ran = kestrelmist("recipe", recipe, "--study", self.place / "study", "--each-subject", "--workers", 2, "--json")
        self.assertEqual([r["state"] for r in json.loads(ran.stdout)["rows"]], ["was done", "done"])
        with Study(self.place / "study") as study:
            self.assertEqual(study.logbook.last(1)[0].operation, "recipe")
            self.assertEqual(len(study.records()), 4)


class SeveralThingsTest(RecipeCase):
    def test_two_images_a_mask_and_a_list_in_a_transform_and_a_table_out(self):
        """What the mechanism is for: one function, and every door opens."""
        from typing import NamedTuple

        from kestrelmist.core.transform import Transform

        class Found(NamedTuple):
            shift: Transform
            table: Table

        @operation("align", "Shift between two", name="shift-between")
        def shift_between(image: Image, onto: Image, others: list[Image], mask: LabelMap | None = None) -> Found:
            """Find how far one lies from the other."""
            offset = onto.space.affine[:3, 3] - image.space.affine[:3, 3]
            matrix = np.eye(4)
            matrix[:3, 3] = offset
            made = Transform(matrix, image.space.world, onto.space.world, "Shift", image.subject)
            return Found(
                made, Table("Shift", [Column("images"), Column("mask")], [(2 + len(others), mask is not None)])
            )

        self.addCleanup(OPERATIONS.remove, "shift-between")
        with self.subjects("T-1", "T-2") as study:
            for subject in ("T-1", "T-2"):
                (moved,) = study.run("scale", image=f"{subject}/Head CT")
                study.rename(moved, "Scaled")
            study.run("grow", image="T-1/Head CT", **GROW)
            study.run("grow", image="T-2/Head CT", **GROW)
            first = len(study.logbook.entries())
            made = study.run(
                "shift-between",
                image="T-1/Head CT",
                onto="T-1/Scaled",
                others=["T-1/Scaled", "T-1/Head CT"],
                mask="T-1/Head CT#Labels",
            )
            self.assertEqual(made["table"].rows, [(4, True)])
            self.assertEqual(study.items.get(made["shift"]).kind, "transform")
            recipe = recipe_of(study.logbook.entries()[first:])
            (done,) = run_recipe(study, recipe, "T-2")
            self.assertEqual(study.items.get(done.result["shift"]).subject, "T-2")
            self.assertEqual(done.result["table"].rows, [(4, True)])


class NamedMapTest(RecipeCase):
    """Steps that work on a label map of a name."""

    def counts(self, study: Study, subject: str) -> dict[str, int]:
        key = study.find(f"{subject}/Head CT").id
        return {m.name: int(study.label_map(m.id).counts[1:].sum()) for m in study.label_maps(key)}

    def test_the_map_is_made_under_its_name_and_both_steps_go_to_it(self):
        with self.subjects("T-1", "T-2", "T-3", "T-4") as study:
            study.run("new-labels", image="T-1/Head CT", name="Bones")
            study.run("grow", labels="T-1/Head CT#Bones", **GROW)
            study.run("add-label", labels="T-1/Head CT#Bones", label="More")
            study.run("measure-labels", labels="T-1/Head CT#Bones")
            recipe = read_recipe(self.recipe(study))
            self.assertEqual(recipe.steps[1].inputs["labels"], ["$1.label map"])
            study.run("new-labels", image="T-3/Head CT", name="Mine")
            study.run("rename", thing="T-3/Head CT#Mine", name="Bones")  # somebody's own of the same name
            study.run("paint", labels="T-3/Head CT#Bones", label="Mine", point=(8, 0, 0), diameter=2.0)
            own, truth = self.counts(study, "T-3")["Bones"], self.counts(study, "T-1")["Bones"]
            table = run_cohort(study, recipe, workers=0)
            self.assertEqual(table.column("state"), ["was done", "done", "done", "done"])
            self.assertEqual(self.counts(study, "T-2"), {"Bones": truth})
            self.assertEqual(self.counts(study, "T-3"), {"Bones": own, "Bones (2)": truth})
            before = len(study.logbook.entries())
            self.assertEqual(set(run_cohort(study, recipe, workers=0).column("state")), {"was done"})
            self.assertEqual(len(study.logbook.entries()), before)

    def test_a_map_that_no_step_makes_is_made_when_the_first_step_is_kept(self):
        with self.subjects("T-1", "T-2", "T-3") as study:
            study.run("add-label", labels="T-1/Head CT", label="Early")
            study.run("rename", thing="T-1/Head CT#Labels", name="Bones")
            study.run("grow", labels="T-1/Head CT#Bones", **GROW)
            study.run("threshold", labels="T-1/Head CT#Bones", label="Rest", low=-10, high=400)
            steps = [s for s in study.logbook.entries() if s.operation in ("grow", "threshold")]
            recipe = recipe_of(steps)
            study.run("add-label", labels="T-3/Head CT", label="Own")  # another map is there: it stays as it is
            run_recipe(study, recipe, "T-2")
            run_recipe(study, recipe, "T-3")
            truth = self.counts(study, "T-1")["Bones"]
            self.assertEqual(self.counts(study, "T-2"), {"Bones": truth})
            self.assertEqual(self.counts(study, "T-3"), {"Labels": 0, "Bones": truth})

    def test_a_step_that_fails_leaves_no_empty_map(self):
        with self.subjects("T-1", "T-2") as study:
            study.run("new-labels", image="T-1/Head CT", name="Bones")
            study.run("grow", labels="T-1/Head CT#Bones", **GROW)
            recipe = recipe_of([s for s in study.logbook.entries() if s.operation == "grow"])
            nowhere = recipe.steps[0].settings | {"point": [900, 0, 0]}
            recipe = replace(recipe, steps=(replace(recipe.steps[0], settings=nowhere),))
            steps = len(study.logbook.entries())
            with self.assertRaises(Trouble):
                run_recipe(study, recipe, "T-2")
            self.assertEqual(self.counts(study, "T-2"), {})
            self.assertEqual(len(study.logbook.entries()), steps)

    def test_a_map_that_is_only_read_and_is_not_there_is_said_before_anything_runs(self):
        with self.subjects("T-1", "T-2") as study:
            study.run("new-labels", image="T-1/Head CT", name="By hand")
            study.run("paint", labels="T-1/Head CT#By hand", label="Mine", point=(8, 0, 0), diameter=2.0)
            study.run("smooth", image="T-1/Head CT", fwhm=1.0)
            study.run("measure-labels", labels="T-1/Head CT#By hand")
            recipe = recipe_of([s for s in study.logbook.entries() if s.operation in ("smooth", "measure-labels")])
            images = len(study.records())
            with self.assertRaisesRegex(Trouble, "no label map “By hand” on “Head CT”"):
                run_recipe(study, recipe, "T-2")
            self.assertEqual(len(study.records()), images)


class FinalTest(RecipeCase):
    """What cannot be undone does not happen unless a person says so."""

    def foreign(self, *steps: dict, slots: dict | None = None):
        path = self.place / "foreign.yaml"
        slots = slots or {"image 1": {"kind": "image", "name": "Head CT"}}
        path.write_text(yaml.safe_dump({"recipe": 2, "slots": slots, "steps": list(steps)}))
        return path

    def test_deleting(self):
        smooth = {"operation": "smooth", "inputs": {"image": "$image 1"}, "settings": {"fwhm": 1.0}}
        delete = {"operation": "delete", "inputs": {"thing": "$image 1"}, "settings": {"name": "Head CT"}}
        with self.subjects("T-1", "T-2") as study:
            path = self.foreign(smooth, delete)
            for run in (
                lambda: study.run("recipe", recipe=path, subject="T-1"),
                lambda: study.run("recipe", recipe=path, each_subject=True, workers=0),
                lambda: run_recipe(study, read_recipe(path), "T-1"),
            ):
                try:
                    table = run()
                    self.assertEqual(set(table.column("state")), {"missing"})
                    said = table.column("what")[0]
                except Trouble as trouble:
                    said = str(trouble)
                self.assertIn("cannot be undone: “Delete for good” ($image 1)", said)
                self.assertEqual(len(study.records()), 2)  # nothing was begun
            study.run("recipe", recipe=path, subject="T-1", allow_deleting=True)
            self.assertEqual([(r.subject, r.name) for r in study.records()], [
                ("T-1", "Head CT, smooth 1 mm"), ("T-2", "Head CT"),
            ])  # fmt: skip

    def test_a_recipe_in_a_recipe_is_not_run_whatever_it_allows_itself(self):
        delete = {"operation": "delete", "inputs": {"thing": "$image 1"}, "settings": {"name": "Head CT"}}
        inner = self.foreign(delete).rename(self.place / "inner.yaml")
        allowed = {"file": str(inner), "allow_deleting": True, "allow_writing": True}
        with self.subjects("T-1") as study:
            path = self.foreign({"operation": "recipe", "settings": allowed})
            with self.assertRaisesRegex(Trouble, "runs another recipe"):
                study.run("recipe", recipe=path, allow_deleting=True, allow_writing=True)
            self.assertEqual(len(study.records()), 1)
