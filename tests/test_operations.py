import importlib.util
import json
import subprocess
import sys
import textwrap
import unittest
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import click
import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.operation import OPERATIONS, Operation, all_operations, find_operation
from kestrelmist.core.parameter import Between, Unit
from kestrelmist.core.progress import Progress, silent
from kestrelmist.core.signature import Settings
from kestrelmist.core.table import Table
from tests.command import kestrelmist
from tests.making import PlaceCase, labelled, two_balls

ROOT = Path(__file__).parent.parent


class OperationTest(unittest.TestCase):
    def test_settings_are_checked_and_named(self):
        grow = find_operation("grow")
        full = grow.checked({"label": "A", "point": "1, -2.5; 3", "low": "5", "high": 9, "neighbours": "26"})
        self.assertEqual(
            full,
            {"label": "A", "point": (1.0, -2.5, 3.0), "low": 5.0, "high": 9.0, "neighbours": 26, "through": "range"}
            | {"radius": None, "slope": None},
        )
        for wrong, words in (
            ({"colour": 1}, "no setting called colour"),
            ({"label": "A"}, "needs point"),
            ({"point": "1, 2"}, "3 numbers in mm"),
            ({"neighbours": 7}, "choose 6, 18, 26"),
            ({"low": "much"}, "give a number"),
            ({"low": float("nan")}, "out of bounds"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                grow.checked({**({} if "label" in wrong else full), **wrong})
        with self.assertRaisesRegex(Trouble, "out of bounds for “Width .FWHM.” .fwhm.: give a number from"):
            find_operation("smooth").checked({"fwhm": -1})

    def test_settings_that_two_operations_share_are_written_once(self):
        @dataclass(frozen=True)
        class Weighing(Settings):
            """How things are weighed.

            Parameters
            ----------
            grams : g
                What the pan weighs.
            """

            grams: Annotated[float, Unit("g"), Between(0, 5)] = 1.5
            twice: bool = False

        def weigh(first: float, *, how: Weighing = Weighing(), last: str = "", progress: Progress = silent()) -> Table:
            """Weigh it."""
            return Table("Weights", [], [(first, how.grams, how.twice, last)])

        weigh.__annotations__ |= {"how": Weighing, "progress": Progress, "first": float, "last": str, "return": Table}
        made = Operation("weigh", "measure", "Weigh", weigh)
        self.assertEqual([p.name for p in made.settings], ["first", "grams", "twice", "last"])
        grams = made.settings[1]
        self.assertEqual((grams.unit, grams.high, grams.help), ("g", 5, "What the pan weighs."))
        full = made.checked({"first": "2", "grams": "3"})
        self.assertEqual(full, {"first": 2.0, "grams": 3.0, "twice": False, "last": ""})
        self.assertEqual(made(**full)["table"].rows, [(2.0, 3.0, False, "")])
        self.assertEqual(made(first=1.0)["table"].rows, [(1.0, 1.5, False, "")])
        with self.assertRaisesRegex(Trouble, "6 is out of bounds for grams"):
            made.checked({"first": 1, "grams": 6})
        shared = {p.name for p in find_operation("deidentify").settings} - {"folder", "to"}
        own = {p.name: p for p in find_operation("deidentify-image").settings}
        self.assertEqual(
            [own[p.name] for p in find_operation("deidentify").settings if p.name in shared - {"subject"}],
            [p for p in own.values() if p.name in shared - {"subject"}],
        )

    def test_a_setting_that_would_not_count_is_refused(self):
        level = find_operation("level")
        self.assertEqual(level.checked({"how": "plane", "order": "1"})["order"], 1)  # as it is left out
        with self.assertRaisesRegex(
            Trouble, "“Degree” .order. here: it counts only where “Fit” .how. is “lines” or “surface”"
        ):
            level.checked({"how": "plane", "order": 2})
        self.assertEqual(level.checked({"how": "surface", "order": 2})["order"], 2)
        written = {"how": "plane", "order": 2, "along": "fast", "limit_above": 5.0, "image": 3}
        self.assertEqual(level.counting(written), {"how": "plane", "limit_above": 5.0, "image": 3})
        by_lines = {"how": "lines", "order": 2}
        self.assertEqual(level.counting(by_lines), by_lines)
        self.assertEqual(level.counting({"order": 2}), {})  # beside the default
        with self.assertRaisesRegex(Trouble, "only where “Parts by column” .by-part-column. is no"):
            find_operation("picture-set").checked(
                {"table": "t", "folder": ".", "to": "n", "seed": 3, "by_part_column": True}
            )
        told = " ".join(kestrelmist("level", "--help").stdout.split())
        self.assertIn("Counts where “Fit” (how) is “points”.", told)
        for operation in all_operations().values():
            known = {p.name: p for p in operation.settings}
            for p in operation.parameters:
                if p.only is not None:
                    self.assertFalse(p.required)
                    self.assertTrue(set(p.only.choices) <= set(known[p.only.setting].choices or (True, False)))

    def test_every_operation_says_what_its_settings_are(self):
        for operation in all_operations().values():
            self.assertTrue(operation.summary.endswith("."), operation.name)
            for p in operation.settings:
                self.assertTrue(p.help or p.name in ("label",) or p.unit, f"{operation.name}: {p.name}")

    def test_three_operations_of_one_file_each(self):
        """smooth, scale and set-origin are named in no other source file than their own: one file adds an operation."""
        for name, function in (
            ("prepare/intensity/smooth.py", "def smooth(\n    image"),
            ("prepare/intensity/scale.py", "scale(image"),
            ("align/origin.py", "set_origin("),
        ):
            home = ROOT / "src/kestrelmist" / name
            users = [p for p in (ROOT / "src").rglob("*.py") if function in p.read_text() and p != home]
            self.assertEqual(users, [], name)

    def test_a_new_file_in_a_stage_is_an_operation_everywhere(self):
        source = textwrap.dedent('''
            from kestrelmist.core.image import Image
            from kestrelmist.core.operation import operation
            from kestrelmist.core.parameter import Millimetres

            @operation("prepare", "Shift values")
            def shift_values(image: Image, by: float = 1.0, reach: Millimetres = 2.0) -> Image:
                """Add a number to every value.

                Parameters
                ----------
                by : number
                    What to add.
                """
                return image.like(image.data + by)
        ''')
        self.addCleanup(OPERATIONS.remove, "shift-values")
        if True:
            spec = importlib.util.spec_from_loader("shift", None)
            module = importlib.util.module_from_spec(spec)
            exec(compile(source, "shift.py", "exec"), module.__dict__)
            made = find_operation("shift-values")
            self.assertEqual(
                [(p.name, p.unit, p.default) for p in made.settings], [("by", "", 1.0), ("reach", "mm", 2.0)]
            )
            self.assertEqual(made.settings[0].help, "What to add.")
            from kestrelmist import cli

            told = cli.command_of(made).get_help(click.Context(cli.program))
            self.assertIn("Add a number to every value", told)
            self.assertRegex(told, r"--reach mm")

    def test_import_contract(self):
        ran = subprocess.run(
            [str(Path(sys.executable).with_name("lint-imports")), "--no-cache"],
            capture_output=True,
            text=True,
            cwd=ROOT,
        )
        self.assertEqual(ran.returncode, 0, ran.stdout[-2000:])
        self.assertIn("kept, 0 broken", ran.stdout)


class CommandLineTest(PlaceCase):
    def test_the_whole_path_without_a_window(self):
        from tests.making import dicom_folder

        dicom_folder(self.place / "scans", two_balls())
        study = self.place / "study"
        took = json.loads(kestrelmist("gather", self.place / "scans", "--study", study, "--json").stdout)
        self.assertEqual(took["images"][0]["shape"], [40, 36, 32])
        grown = json.loads(
            kestrelmist(
                "grow",
                "Two balls",
                "--study",
                study,
                "--label",
                "Ball",
                "--point",
                "-4,0,0",
                "--low",
                500,
                "--high",
                2000,
                "--json",
            ).stdout
        )
        truth = int((two_balls().data == 1000).sum())
        (row,) = grown["labels"]
        self.assertEqual((row["number"], row["name"], row["voxels"], row["volume_unit"]), (1, "Ball", truth, "mm3"))
        self.assertAlmostEqual(row["volume"], truth * 0.125)
        csv = self.place / "out.csv"
        rows = json.loads(kestrelmist("measure-labels", "Two balls", "--study", study, "--json", "--out", csv).stdout)[
            "rows"
        ]
        self.assertEqual((rows[0]["voxels"], rows[0]["mean"], rows[0]["mean_unit"]), (truth, 1000.0, "HU"))
        self.assertIn("volume,volume_unit", csv.read_text().splitlines()[0])
        self.assertIn("Grow from point", kestrelmist("logbook", "--study", study).stdout)
        kestrelmist("logbook", "--study", study, "--to", self.place / "recipe.yaml")
        self.assertIn("operation: grow", (self.place / "recipe.yaml").read_text())

    def test_plain_files_in_and_out(self):
        image = two_balls()
        path, out = self.nifti(image), self.place / "smooth.nii.gz"
        kestrelmist("smooth", path, "--fwhm", 1.0, "--out", out)
        from kestrelmist import open_image
        from kestrelmist.formats.label_files import read_label_map

        self.assertAlmostEqual(float(open_image(out).data.mean()), float(image.data.mean()), delta=0.05)
        labels = self.place / "labels.nii.gz"
        kestrelmist("grow", path, "--label", "Ball", "--point", "-4,0,0", "--low", 500, "--high", 2000, "--out", labels)
        self.assertEqual(int(read_label_map(labels).counts[1]), int((image.data > 0).sum()))
        self.assertIn("Voxel size", kestrelmist("facts", path).stdout)
        table = kestrelmist("measure-labels", path, "--labels", labels, "--json").stdout
        self.assertEqual(json.loads(table)["rows"][0]["voxels"], int((image.data > 0).sum()))

    def test_wrong_input_is_one_sentence_and_code_1(self):
        (self.place / "empty").mkdir()
        bad = self.place / "half.nii"
        good = self.nifti(two_balls(), "good.nii")
        bad.write_bytes(good.read_bytes()[:5000])
        study = self.place / "study"
        for words, expected in (
            (("gather", self.place / "empty", "--study", study), "nothing in this folder"),
            (("facts", self.place / "none.nii"), "no file or folder"),
            (("smooth", bad, "--out", self.place / "o.nii"), "cut short"),
            (("smooth", good), "needs a place for its result"),
            (("smooth", good, "--fwhm", "wide", "--out", self.place / "o.nii"), "not right for “Width (FWHM)” (fwhm)"),
            (
                (
                    "grow",
                    "X",
                    "--study",
                    self.place / "nowhere",
                    "--label",
                    "A",
                    "--point",
                    "0,0,0",
                    "--low",
                    1,
                    "--high",
                    2,
                ),
                "no study",
            ),
            (("measure-labels", good), "needs a label map"),
        ):
            ran = kestrelmist(*words, code=1)
            self.assertEqual(len(ran.stderr.strip().splitlines()), 1, ran.stderr)
            self.assertIn(expected, ran.stderr)
        self.assertFalse((self.place / "o.nii").exists())
        self.assertIn("trouble", json.loads(kestrelmist("facts", bad, "--json", code=1).stdout))

    def test_gathering_without_a_window(self):
        """facts, gather, convert, reorient, deidentify and their kin, from files to files and within a study."""
        from kestrelmist import open_image
        from tests.dicom_making import stack
        from tests.making import dicom_folder

        scans, study = self.place / "scans", self.place / "study"
        values = np.arange(8 * 7 * 5 * 3, dtype=np.uint16).reshape(8, 7, 5, 3)
        for t in range(3):
            space = stack(
                scans,
                values[..., t],
                start=100 * t,
                TemporalPositionIdentifier=t + 1,
                RepetitionTime="2000",
                description="Run",
                number=6,
            )
        dicom_folder(scans, two_balls())
        rows = json.loads(kestrelmist("scan", scans, "--json").stdout)["rows"]
        self.assertEqual(
            [(r["series"], r["slices"], r["volumes"]) for r in rows], [("Two balls", 32, 1), ("Run", 5, 3)]
        )
        self.assertIn("2 series", kestrelmist("facts", scans, code=1).stderr)
        self.assertIn("RepetitionTime", kestrelmist("facts", f"{scans}#Run").stdout)
        kestrelmist("convert", f"{scans}#Run", "--to", self.place / "run.nii.gz")
        self.assertEqual(json.loads((self.place / "run.json").read_text())["RepetitionTime"], 2.0)
        kestrelmist("convert", f"{scans}#Run@2", "--to", self.place / "second.nrrd")
        second = open_image(self.place / "second.nrrd")
        second.fetch(silent())
        self.assertEqual(second.value_at(space.to_world((3, 4, 2))), float(values[3, 4, 2, 1]))
        kestrelmist("reorient", self.place / "run.nii.gz", "--out", self.place / "standard.nii.gz")
        self.assertTrue(np.all(np.diag(open_image(self.place / "standard.nii.gz").space.affine[:3, :3]) > 0))
        self.assertIn(
            "from 1 to 3",
            kestrelmist("convert", f"{self.place / 'run.nii.gz'}@9", "--to", self.place / "x.nii", code=1).stderr,
        )
        self.assertIn(
            "series (3 times)",
            kestrelmist("scale", self.place / "run.nii.gz", "--out", self.place / "x.nii", code=1).stderr,
        )
        self.assertIn(
            "holds 2 subjects",
            kestrelmist("deidentify", scans, "--to", self.place / "clean", "--subject", "X-1", code=1).stderr,
        )
        kestrelmist("deidentify", scans, "--to", self.place / "clean", "--key", "word")
        self.assertNotIn("T-5", kestrelmist("scan", self.place / "clean", "--json").stdout)
        kestrelmist("gather", scans, "--study", study)
        kestrelmist("deidentify-image", "Run", "--study", study, "--subject", "X-1")
        self.assertIn("standard order already", kestrelmist("reorient", "Two balls", "--study", study, code=1).stderr)
        kestrelmist("reorient", "T-5/Run", "--study", study)
        self.assertIn("sub-X1", kestrelmist("convert-study", "--study", study, "--to", self.place / "bids").stdout)
        self.assertEqual(len(list((self.place / "bids").rglob("*.nii.gz"))), 4)  # of two subjects under three names
        kestrelmist("delete", "T-5/Run", "--study", study, "--name", "Run")
        self.assertIn(
            "not the name", kestrelmist("delete", "Two balls", "--study", study, "--name", "Balls", code=1).stderr
        )
        self.assertEqual(
            json.loads(kestrelmist("find-text", self.place / "standard.nii.gz", "--json").stdout)["rows"], []
        )

    def test_python_in_five_lines(self):
        import kestrelmist as km

        self.study_with_balls().close()
        with km.Study(self.place / "study") as study:
            study.run("grow", label="Ball", point=(-4, 0, 0), low=500, high=2000)
            table = study.run("measure-labels")
        self.assertEqual(table.column("voxels"), [int((two_balls().data > 0).sum())])
        self.assertEqual(labelled(two_balls(), "A").table[1].name, "A")
