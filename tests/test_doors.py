"""The same operation through every door: Python, the command line, the window, and what is told beforehand."""

import json
import shutil

import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.table import Table
from kestrelmist.formats.nifti_write import save_nifti
from kestrelmist.study.inputs import settle
from kestrelmist.study.study import Study
from kestrelmist.study.used import found_for, used
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import straight_space, two_balls

BALLS, RUN, FIELD = 1, 2, 3
RIGHT = (
    (BALLS, "smooth", {"fwhm": 1.5}),
    (BALLS, "clip", {"low": 10.0, "high": 900.0}),
    (BALLS, "threshold", {"label": "Body", "low": 500.0, "high": 2000.0}),
    (BALLS, "measure-labels", {}),
    (BALLS, "project", {"along": "k"}),
    (BALLS, "turn-values", {}),
    (BALLS, "reduce-noise", {"noise": 20.0}),
    (BALLS, "calculate", {"formula": "a + 1"}),
    (RUN, "drop-volumes", {"first": 1}),
    (RUN, "time-slices", {"pattern": "ascending"}),
    (RUN, "undistort", {"line_up": False}),
    (RUN, "through-time", {"how": "mean"}),
)
WRONG = (
    (BALLS, "smooth", {"fwhm": -1}),
    (BALLS, "smooth", {"width": 1}),
    (BALLS, "grow", {"low": 1.0, "high": 2.0}),
    (BALLS, "calculate", {"formula": "a +"}),
    (BALLS, "drop-volumes", {"first": 1}),
    (BALLS, "crop", {}),
    (BALLS, "threshold", {"label": "Body", "low": 5.0, "high": 1.0}),
    (BALLS, "project", {"along": "q"}),
    (BALLS, "undistort", {}),
    (RUN, "drop-volumes", {"first": 9}),
    (RUN, "time-slices", {"pattern": "sidecar"}),
    (RUN, "smooth", {"mask": "nothing of this name"}),
)


class DoorsTest(DeskCase):
    def setUp(self):
        super().setUp()
        balls = two_balls(straight_space((20, 18, 16), 1.0))
        rng = np.random.default_rng(3)
        values = (balls.data[..., None] + rng.normal(0, 20, (*balls.space.shape, 5))).astype(np.float32)
        axes = (Axis.even("time", 5, 1.6, "s"),)
        run = Image(values, balls.space, "Run", "T-1", axes=axes)
        ramp = np.linspace(-40, 40, balls.data.size).reshape(balls.space.shape).astype(np.float32)
        self.template = self.place / "template"
        with Study(self.template, create=True) as study:
            for image in (balls, run, Image(ramp, balls.space, "Field", "T-1", unit="Hz")):
                self.keep(study, image)
            study.run("say-taken", image=RUN, note="a test", direction="j-", echo_spacing=0.00051)
            study.run("threshold", image=BALLS, label="Ball", low=500.0, high=2000.0)

    def keep(self, study: Study, image: Image) -> None:
        path = self.place / f"{image.name}.nii.gz"
        save_nifti(path, image)
        study.run("gather", folder=path, subject="T-1")

    def copy(self, name: str):
        return shutil.copytree(self.template, self.place / name)

    def name(self, key: int) -> str:
        return {BALLS: "Two balls", RUN: "Run"}[key]

    def content(self, study: Study, before: int) -> list:
        """What is in the study of late: content of new things, labels of the first map, rows of new tables."""
        found = []
        for record in study.items.everything().values():
            if record.id > before:
                thing = study.thing(record.id)
                found.append((record.kind, record.name, thing.rows if isinstance(thing, Table) else record.hash))
        labels = study.labels(BALLS)
        return [found, [(r.name, int(labels.counts[r.number])) for r in labels.table]]

    def options(self, given: dict) -> list[str]:
        return [
            word
            for name, value in given.items()
            for word in ([f"--{'' if value else 'no-'}{name.replace('_', '-')}"] if isinstance(value, bool) else
                         [f"--{name.replace('_', '-')}", str(value)])
        ]  # fmt: skip

    def test_right_inputs_give_the_same_through_each(self):
        python, line, window = (self.copy(name) for name in ("python", "line", "window"))
        window = self.open(window)
        with Study(python) as study:
            for image, operation, given in RIGHT:
                with self.subTest(operation):
                    last = max(study.items.everything())
                    study.run(operation, image=image, **given)
                    by_python = self.content(study, last)
                    words = [*operation.split(), self.name(image), *self.options(given), "--study", line]
                    kestrelmist(*words)
                    with Study(line, read_only=True) as other:
                        self.assertEqual(self.content(other, last), by_python)
                    window.desk.viewing.show_image(image)
                    self.settle(window)
                    window.desk.run(operation, given)
                    self.settle(window)
                    self.assertEqual(self.troubles, [])
                    self.assertEqual(self.content(window.desk.study, last), by_python)

    def test_wrong_inputs_are_refused_in_the_same_sentence(self):
        window = self.open(self.copy("window"))
        with Study(self.template, read_only=True) as study:
            for image, operation, given in WRONG:
                with self.subTest(operation, given=given):
                    with self.assertRaises(Trouble) as python:
                        study.run(operation, image=image, **given)
                    sentence = str(python.exception).replace(str(self.template), "")
                    window.desk.viewing.show_image(image)
                    self.settle(window)
                    window.desk.run(operation, given)
                    self.settle(window)
                    self.assertEqual(self.troubles[-1].replace(str(self.place / "window"), ""), sentence)
                    if set(given) <= {p.name for p in self.about(operation).parameters}:
                        words = [*operation.split(), self.name(image), *self.options(given), "--study", self.template]
                        said = kestrelmist(*words, code=1).stderr
                        self.assertEqual(said.strip().replace(str(self.template), ""), sentence)

    def about(self, operation: str):
        from kestrelmist.core.operation import find_operation

        return find_operation(operation)

    def test_what_is_told_is_what_is_used(self):
        """`--dry-run`, the form and the logbook tell the same, and it is what the operation takes."""
        with Study(self.template) as study:
            task = settle(study, "undistort", {"image": RUN})
            found = found_for(study, task)
            self.assertEqual((found["echo_spacing"].value, found["echo_spacing"].whence), (0.00051, "from the header"))
            self.assertEqual((found["direction"].value, found["direction"].whence), ("j-", "from the header"))
            rows = {row.name: (row.value, row.whence) for row in used(study, task)}
            self.assertEqual(rows["field"], ("T-1/Field", "the only one"))
            self.assertEqual(rows["echo_spacing"], ("0.51 ms", "from the header"))
            self.assertEqual(rows["how"], ("cubic", "usual"))
            said = kestrelmist("undistort", "Run", "--study", self.template, "--dry-run", "--json").stdout
            told = {row["setting"]: (row["what"], row["from"]) for row in json.loads(said)["would use"]}
            self.assertEqual(told["Echo spacing"], ("0.51 ms", "from the header"))
            self.assertEqual(told["Field map"], ("T-1/Field", "the only one"))
            before = len(study.logbook.entries())
            made = study.run("undistort", image=RUN, line_up=False)
            by_hand = study.run("undistort", image=RUN, line_up=False, echo_spacing="0.51 ms", direction="j-")
            self.assertEqual(len(study.logbook.entries()), before + 2)
            left, given = (study.image(done["image"][0]).content_hash() for done in (made, by_hand))
            self.assertEqual(left, given)
            step = study.logbook.entries()[before]
            self.assertEqual(step.found["echo_spacing"], [0.00051, "from the header"])
            self.assertEqual(step.found["field"], ["T-1/Field", "the only one"])
            self.assertIsNone(step.settings["echo_spacing"])
            self.assertIn("echo spacing 0.00051 from the header", step.sentence)

    def test_numbers_for_by_itself_of_older_recipes(self):
        with Study(self.template) as study:
            for words in (0, 0.0, "0", "auto", None):
                task = settle(study, "even-brightness", {"image": BALLS, "knots": words})
                self.assertIsNone(task.settings["knots"], words)
            self.assertEqual(found_for(study, task)["knots"].value, 10.0)
            self.assertEqual(settle(study, "even-brightness", {"image": BALLS, "knots": "1 cm"}).settings["knots"], 10)
            with self.assertRaisesRegex(Trouble, "not right for “Follows over” .knots."):
                settle(study, "even-brightness", {"image": BALLS, "knots": "3 s"})
