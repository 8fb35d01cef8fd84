import unittest

import yaml

from kestrelmist.core.errors import Trouble
from kestrelmist.study.recipes import editing
from kestrelmist.study.recipes.ready import ready_recipes
from kestrelmist.study.recipes.recipe import Expected, Recipe, Slot
from kestrelmist.study.recipes.text import FORM, as_yaml, recipe_of_text


def chain() -> Recipe:
    """Smooth, scale, threshold on that, and what is measured of it."""
    made = editing.with_step(Recipe(title="Balls"), "smooth", settings={"fwhm": 1.5})
    made = editing.with_step(made, "turn-values")
    made = editing.with_step(made, "threshold", settings={"label": "Half", "low": 550, "high": 5000})
    return editing.with_step(made, "measure-labels")


def leads(recipe: Recipe) -> list[list[str]]:
    """What leads each step."""
    return [s.inputs["image"] for s in recipe.steps]


class EditingTest(unittest.TestCase):
    def test_a_step_goes_on_with_what_comes_before(self):
        made = chain()
        self.assertEqual([s.name for s in made.slots], ["Image"])
        self.assertEqual(leads(made), [["$Image"], ["$1.image"], ["$2.image"], ["$2.image"]])
        self.assertEqual(made.steps[3].inputs["labels"], ["$2.image#Labels"])
        between = editing.with_step(made, "smooth", at=2)
        self.assertEqual(between.steps[1].inputs, {"image": ["$1.image"]})
        self.assertEqual(between.steps[3].inputs["image"], ["$3.image"])  # pointers follow
        two = editing.with_step(made, "combine")
        self.assertEqual(two.steps[4].inputs["image"], ["$2.image"])
        for name, words in (("rename", "cannot be repeated"), ("fly", "no operation called")):
            with self.assertRaisesRegex(Trouble, words):
                editing.with_step(made, name)
        with self.assertRaisesRegex(Trouble, "no place 9"):
            editing.with_step(made, "smooth", at=9)

    def test_what_is_switched_off_is_passed_by(self):
        made = editing.switched(chain(), 2, True)
        running = made.running()
        self.assertEqual([s.operation for s in running.steps], ["smooth", "threshold", "measure-labels"])
        self.assertEqual(running.steps[1].inputs, {"image": ["$1.image"], "labels": ["$1.image#Labels"]})
        self.assertEqual(len(made.steps), 4)
        table = editing.with_step(editing.with_step(Recipe(), "measure-labels"), "long-table")
        with self.assertRaisesRegex(Trouble, r"Step 2 .* needs the table of step 1 \(“Measure labels”\), which is"):
            editing.switched(table, 1, True)
        ready = ready_recipes()["Functional series to standard space"]
        aligned = next(s for s in ready.running().steps if s.operation == "align-boundary")
        self.assertNotIn("start", aligned.inputs)  # it can do without the whole view
        for n in (9, 10, 11, 12):
            ready = editing.switched(ready, n, False)
        self.assertEqual(ready.running().steps[12].inputs["start"], ["$12.transform"])
        self.assertIn("Whole view", [s.name for s in ready.running().slots])

    def test_taking_out_and_moving_along_the_row(self):
        made = chain()
        out = editing.without_step(made, 1)
        self.assertEqual(leads(out), [["$Image"], ["$1.image"], ["$1.image"]])
        turned = editing.moved(made, 1, 2)
        self.assertEqual([s.operation for s in turned.steps[:2]], ["turn-values", "smooth"])
        self.assertEqual(leads(turned), [["$Image"], ["$1.image"], ["$2.image"], ["$2.image"]])
        self.assertEqual(editing.moved(turned, 2, 1).steps, made.steps)
        late = editing.moved(made, 1, 3)
        self.assertEqual([s.operation for s in late.steps[:3]], ["turn-values", "threshold", "smooth"])
        with self.assertRaisesRegex(Trouble, "“Measure labels” would come before|cannot be step 1"):
            editing.moved(editing.with_step(made, "long-table"), 5, 1)
        with self.assertRaisesRegex(Trouble, "has no step 9"):
            editing.without_step(made, 9)

    def test_settings_inputs_and_slots(self):
        made = editing.with_settings(chain(), 1, {"fwhm": "2 mm"})
        self.assertEqual(made.steps[0].settings, {"fwhm": 2.0})
        self.assertEqual(editing.with_settings(made, 1, {"fwhm": None}).steps[0].settings, {})
        for settings, words in (({"fwhm": -1}, "between|least|from"), ({"wide": 1}, "no setting called wide")):
            with self.assertRaisesRegex(Trouble, words):
                editing.with_settings(made, 1, settings)
        named = editing.with_slot(made, Slot("Scan", "image", "Head*", each=True), "Image")
        self.assertEqual(named.steps[0].inputs["image"], ["$Scan"])
        with self.assertRaisesRegex(Trouble, "Step 1 needs the slot"):
            editing.without_slot(named, "Scan")
        with self.assertRaisesRegex(Trouble, "cannot be called"):
            editing.with_slot(made, Slot("a/b", "image", "*"))
        masked = editing.with_inputs(named, 1, "mask", ["$Scan#Brain"])
        self.assertEqual(masked.steps[0].inputs["mask"], ["$Scan#Brain"])
        with self.assertRaisesRegex(Trouble, "slot “Nobody”, which is not there"):
            editing.with_inputs(named, 1, "mask", ["$Nobody#Brain"])
        with self.assertRaisesRegex(Trouble, "points to itself|comes later"):
            editing.with_inputs(named, 1, "image", ["$2.image"])
        bare = editing.with_step(Recipe(), "threshold")  # what is needed may be typed later
        self.assertEqual(editing.with_settings(bare, 1, {"low": 3}).steps[0].settings, {"low": 3.0})
        told = editing.differences(chain(), editing.switched(editing.expecting(masked, Expected(20)), 2, True))
        self.assertIn("Smooth: fwhm 1.5 → 2.0", told)
        self.assertIn("Turn values round: switched off", told)
        self.assertIn("other numbers are expected", told)


class TextTest(unittest.TestCase):
    def test_what_is_written_is_read(self):
        made = editing.expecting(editing.switched(chain(), 2, True), Expected(120, 1.4, 0.9))
        again = recipe_of_text(as_yaml(made))
        self.assertEqual(again, made)
        self.assertEqual(yaml.safe_load(as_yaml(made))["recipe"], FORM)
        for title, recipe in ready_recipes().items():
            self.assertEqual(recipe_of_text(as_yaml(recipe)), recipe, title)

    def test_hostile_and_newer_ones_are_sentences(self):
        bomb = "recipe: 3\nsteps: []\nslots: {}\na: &a [x, x]\n" + "".join(f"b{n}: &b{n} [*a, *a]\n" for n in range(40))
        step = "{operation: smooth, inputs: {image: '$1.image'}}"
        for text, words in (
            ("recipe: 99\nsteps: []", "newer version \\(form 99\\)"),
            ("recipe: 3\nsteps: [{operation: fly}]", "Step 1 .* asks for “fly”, which this version does not know"),
            (bomb, "refers from one place of it to another"),
            ("recipe: 3\nsteps: [!!python/object/apply:os.system ['true']]", "cannot be read"),
            ("[" * 1_000_000, "cannot be read"),
            ("recipe: true\nsteps: []", "not a recipe"),
            ("recipe: 3\nsteps: 7", "not a recipe"),
            (f"recipe: 3\nslots: {{}}\nsteps: [{step}]", "points to itself"),
            (f"recipe: 3\nslots: {{}}\nsteps: [{step.replace('$1', '$2')}, {step}]", "wait for each other"),
            (f"recipe: 3\nslots: {{}}\nsteps: [{step.replace('$1', '$7')}]", "step 7, which is not there"),
            ("recipe: 3\nexpected: {volumes: -3}\nsteps: []", "number above 0"),
            ("recipe: 3\nslots: {'a/b': {kind: image, name: x}}\nsteps: []", "cannot be called"),
            ("recipe: 3\nslots: {a: {kind: image, name: x, each: true}, b: {kind: image, name: x, each: true}}\n"
             "steps: []", "Two slots"),
            ("recipe: 3\nsteps: [" + "{operation: smooth}," * 1001 + "]", "more than 1000"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(Trouble, words):
                recipe_of_text(text)
