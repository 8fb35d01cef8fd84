"""Steps of Gather as recipes, settings and secrets: what the logbook holds and what can be done again."""

import os
import subprocess
import sys
from unittest import mock

import numpy as np
import yaml

from kestrelmist.core.errors import Trouble
from kestrelmist.core.home import home, identity_key
from kestrelmist.core.operation import all_operations, find_operation
from kestrelmist.core.parameter import Parameter
from kestrelmist.study.recipes.of_logbook import recipe_of
from kestrelmist.study.recipes.one_subject import run_recipe
from kestrelmist.study.recipes.text import as_yaml, read_recipe
from kestrelmist.study.stores.images import picked
from kestrelmist.study.study import Study
from tests.dicom_making import stack
from tests.making import PlaceCase, dicom_folder, two_balls

RNG = np.random.default_rng(91)


class IdentityKeyTest(PlaceCase):
    def test_it_is_made_once_and_only_its_owner_reads_it(self):
        with mock.patch.dict(os.environ, {"KESTRELMIST_HOME": str(self.place / "home")}):
            self.assertEqual(home(), self.place / "home")
            first = identity_key()
            self.assertEqual((len(first), identity_key()), (32, first))
            self.assertEqual((self.place / "home" / "identity.key").stat().st_mode & 0o777, 0o600)
            code = "from kestrelmist.core.home import identity_key; print(identity_key().hex())"
            self.assertEqual(
                subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout.strip(), first.hex()
            )

    def test_of_two_that_start_at_once_one_key_stays(self):
        code = "from kestrelmist.core.home import identity_key; print(identity_key().hex())"
        environment = os.environ | {"KESTRELMIST_HOME": str(self.place / "home")}
        both = [
            subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True, env=environment)
            for _ in range(2)
        ]
        self.assertEqual(len({p.communicate()[0] for p in both}), 1)
        self.assertEqual([p.name for p in (self.place / "home").iterdir()], ["identity.key"])


class StepsTest(PlaceCase):
    def setUp(self):
        super().setUp()
        values = RNG.integers(0, 999, (6, 7, 5, 3)).astype(np.uint16)
        for t in range(3):
            stack(
                self.place / "scans",
                values[..., t],
                start=100 * t,
                TemporalPositionIdentifier=t + 1,
                RepetitionTime="2000",
                description="Run",
                number=6,
            )
        dicom_folder(self.place / "scans", two_balls())

    def test_a_recipe_of_gathering_runs_on_another_study(self):
        with Study(self.place / "one", create=True) as study:
            study.run("gather", folder=self.place / "scans", subject="A")
            study.run("reorient", image="Run")
            study.run("scale", image="Run@2")
            study.run("deidentify-image", image="Run", subject="B", key="secret word")
            study.run("convert-study", to=self.place / "bids")
            text = as_yaml(recipe_of(study.logbook.entries(), with_files=True))
        self.assertNotIn("secret word", text)
        steps = yaml.safe_load(text)["steps"]
        self.assertEqual([s["operation"] for s in steps], ["gather"] * 2 + ["reorient", "scale", "deidentify-image"])
        self.assertEqual(steps[3]["inputs"], {"image": "$2.image@2"})
        (self.place / "steps.yaml").write_text(text)
        with Study(self.place / "two", create=True) as study:
            run_recipe(study, read_recipe(self.place / "steps.yaml"))
            names = sorted(r.name for r in study.records())
            self.assertEqual(
                names,
                ["Run", "Run, standard order", "Run, time 2 s, scaled", "Series 6, without identity", "Two balls"],
            )
            original, clean = study.image("Run"), study.image("Series 6, without identity")
            np.testing.assert_array_equal(original.data, clean.data)

    def test_places_along_a_series(self):
        with Study(self.place / "one", create=True) as study:
            study.run("gather", folder=self.place / "scans")
            run = study.image("Run")
            self.assertEqual(picked(run, (3,)).name, "Run, time 4 s")
            for given in ((0,), (4,), (1, 1), ()):
                with self.assertRaisesRegex(Trouble, "give a time from 1 to 3"):
                    picked(run, given)
            with self.assertRaisesRegex(Trouble, "single volume"):
                picked(study.image("Two balls"), (1,))

    def test_an_empty_study_and_a_bad_place_for_it(self):
        with Study(self.place / "empty", create=True) as study:
            with self.assertRaisesRegex(Trouble, "no image in this study"):
                study.run("convert-study", to=self.place / "bids")
            study.run("gather", folder=self.place / "scans")
            (self.place / "file").write_text("x")
            with self.assertRaisesRegex(Trouble, "a file of this name"):
                study.run("convert-study", to=self.place / "file")
            with self.assertRaisesRegex(Trouble, "folder to write into|cannot be written|file stands where a folder"):
                study.run("convert-study", to=self.place / "file" / "inside")

    def test_settings_are_checked_before_anything_is_read(self):
        operation = find_operation("deidentify-image")
        for given, said in (
            ({"area": "1,2,3"}, "4 numbers"),
            ({"dates": "forget"}, "one of the choices"),
            ({"picture": 0}, "out of bounds"),
            ({"pixels": "keep"}, "one of the choices"),
            ({"colour": 1}, "no setting called colour"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                operation.checked(given)
        self.assertEqual(operation.checked({"area": "1, 2, 30,40"})["area"], (1.0, 2.0, 30.0, 40.0))
        self.assertIsNone(operation.checked({})["picture"])

    def test_what_each_operation_takes_is_known(self):
        takes = {name: operation.takes for name, operation in all_operations().items()}
        for name in ("facts", "convert", "reorient", "deidentify-image", "find-text"):
            self.assertEqual(takes[name], {"series", "colour"}, name)
        self.assertEqual(takes["scale"], frozenset())
        roles = {p.name: p.role for p in find_operation("deidentify").settings if isinstance(p, Parameter) and p.role}
        known = {"folder": "folder", "to": "new", "area": "area", "key": "secret", "take_out": "names"}
        self.assertEqual(roles, known | {"reviewed": "mark"})
