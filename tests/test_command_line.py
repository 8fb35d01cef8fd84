"""What is said to be written is written; what is wrong is one sentence and a code other than 0."""

import contextlib
import io
import json
import os
import unittest

import numpy as np

from kestrelmist.command_output import ROWS, print_table
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.operation import all_operations, find_operation
from kestrelmist.core.table import Column, Table
from kestrelmist.formats.label_files import read_label_map, write_label_map
from kestrelmist.formats.opening import open_image
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space, two_balls

TRUTH = int((two_balls().data > 0).sum())
GROW = ("--label", "Ball", "--point", "-4,0,0", "--low", 500, "--high", 2000)


class HelpTest(unittest.TestCase):
    def test_by_stage_with_units_and_kinds(self):
        told = kestrelmist("--help").stdout
        places = [told.index(f"{stage}:") for stage in ("Gather", "Prepare", "Align", "Outline", "Measure", "Report")]
        self.assertEqual(places, sorted(places))
        told = kestrelmist("grow", "--help").stdout
        for words in ("mm,mm,mm|POINT|--point mm", "VALUE|value", "6|18|26"):
            self.assertRegex(told, words)
        for name in ("grow", "smooth", "combine", "recipe", "gather"):
            told = kestrelmist(name, "--help").stdout
            self.assertNotRegex(told, r"<\w+>|TEXT\.\.\.|typing|--no-\w*_\w*")
        for operation in all_operations().values():
            self.assertNotRegex(kestrelmist(*operation.name.split(" "), "--help").stdout, r"---|Raises|Returns\s")
        self.assertIn("measure-labels", kestrelmist("--help").stdout)
        self.assertIn("IMAGE", kestrelmist("measure-labels", "--help").stdout)

    def test_an_unknown_command_has_a_sentence(self):
        ran = kestrelmist("flatten", code=2, own_process=True)
        self.assertIn("flatten", ran.stderr)


class PrintedTest(unittest.TestCase):
    COLUMNS = [Column("label"), Column("voxels"), Column("volume", "mm3", 4), Column("mean", "HU", 2), Column("note")]
    ROW = ("Ventricles of the brain", 1022370, 460.06651, -1266.283, "")

    def printed(self, rows: int, width: int) -> list[str]:
        with contextlib.redirect_stdout(io.StringIO()) as said:
            print_table(Table("Labels", self.COLUMNS, [self.ROW] * rows), width)
        return said.getvalue().splitlines()

    def test_one_that_fits_stands_as_it_is(self):
        lines = self.printed(2, 100)
        self.assertIn("voxels", lines[2])
        self.assertIn("note", lines[2])
        self.assertRegex(lines[4], "Ventricles of the brain .*1 022 370 .* 460.0665 .* −1 266.28")

    def test_one_that_does_not_leaves_out_what_is_empty_and_breaks_words(self):
        lines = self.printed(20, 58)
        self.assertNotIn("note", "\n".join(lines))
        self.assertTrue(all(len(line) <= 58 for line in lines))
        self.assertEqual(sum("1 022 370" in line and "460.0665" in line for line in lines), 20)

    def test_a_wide_one_of_few_rows_is_turned(self):
        lines = self.printed(1, 45)
        self.assertIn("Ventricles of the brain", lines[2])
        for head, value in (("voxels", "1 022 370"), ("volume (mm³)", "460.0665"), ("mean (HU)", "−1 266.28")):
            self.assertTrue(any(head in line and value in line for line in lines), head)

    def test_no_number_is_broken_however_narrow(self):
        text = "\n".join(self.printed(20, 20))
        self.assertEqual((text.count("1 022 370"), text.count("460.0665")), (20, 20))

    def test_a_terminal_gets_the_first_rows_of_a_long_one(self):
        class Terminal(io.StringIO):
            def isatty(self) -> bool:
                return True

        table = Table("Labels", self.COLUMNS, [self.ROW] * (ROWS + 50))
        for stream, whole, rows in (
            (Terminal, False, ROWS),
            (Terminal, True, ROWS + 50),
            (io.StringIO, False, ROWS + 50),
        ):
            with contextlib.redirect_stdout(stream()) as said:
                print_table(table, 100, whole)
            self.assertEqual(said.getvalue().count("460.0665"), rows)
            self.assertEqual("The first 100 of 150 rows." in said.getvalue(), rows == ROWS)


class FilesTest(PlaceCase):
    def test_numbers_begin_with_a_minus_without_tricks(self):
        path = self.nifti(two_balls())
        for point in ("-4,0,0", "−4,0,0", "-4 0 0"):
            out = self.place / "out.nii.gz"
            kestrelmist(
                "grow", path, "--label", "Ball", "--point", point, "--low", -5e-1 + 500, "--high", "2e3", "--out", out
            )
            self.assertEqual(int(read_label_map(out).counts[1]), TRUTH)
        kestrelmist("scale", path, "--low", "-1", "--high", "-.5", "--out", self.place / "s.nii.gz")
        self.assertAlmostEqual(float(open_image(self.place / "s.nii.gz").data.min()), -1.0, places=6)

    def test_a_wrong_label_file_is_no_empty_map(self):
        path = self.nifti(two_balls())
        ran = kestrelmist("measure-labels", path, "--labels", self.place / "lables.nii.gz", code=1)
        self.assertIn("lables.nii.gz", ran.stderr)
        ran = kestrelmist(
            "grow", path, *GROW, "--labels", self.place / "typo.nii", "--out", self.place / "o.nii", code=1
        )
        self.assertIn("typo.nii", ran.stderr)
        self.assertFalse((self.place / "o.nii").exists())
        soft = self.place / "soft.nii.gz"
        kestrelmist("smooth", path, "--out", soft)
        ran = kestrelmist("measure-labels", path, "--labels", soft, code=1)
        self.assertRegex(ran.stderr, "soft.nii.gz.*|measured values, not label numbers")
        self.assertEqual(len(ran.stderr.strip().splitlines()), 1)

    def test_numbers_that_do_not_fit_the_table_beside_them(self):
        space = straight_space((6, 5, 4), 1.0)
        numbers = np.zeros(space.shape, np.uint16)
        numbers[0], numbers[1] = 1, 7
        labels = LabelMap(space, numbers, LabelTable().with_new("Ball")[0])
        write_label_map(self.place / "l.nii.gz", labels)
        table = self.place / "l.tsv"
        table.write_text(table.read_text().replace("Label 7", "Bone"))
        self.assertEqual(read_label_map(self.place / "l.nii.gz").table.named("Bone").number, 7)
        rows = table.read_text().splitlines()
        table.write_text("\n".join(rows[:2]) + "\n")  # 7 has no name any more
        image = self.place / "i.nii"
        from kestrelmist.formats.nifti import write_nifti

        write_nifti(image, np.ones(space.shape, np.int16), space)
        ran = kestrelmist("measure-labels", image, "--labels", self.place / "l.nii.gz", code=1)
        self.assertRegex(ran.stderr, "7.*l.tsv|l.tsv.*7")
        for wrong in ("index\tname\nx\ty\n", "nothing\n", "index\tname\n1\tA\n1\tB\n", "index\tname\n70000\tA\n"):
            table.write_text(wrong)
            ran = kestrelmist("measure-labels", image, "--labels", self.place / "l.nii.gz", code=1)
            self.assertEqual(len(ran.stderr.strip().splitlines()), 1, ran.stderr)

    def test_names_and_colours_of_labels_go_out_and_in(self):
        path = self.nifti(two_balls())
        for name in ("l.nii.gz", "l.nii", "l.nrrd"):
            out = self.place / name
            out.unlink(missing_ok=True)
            kestrelmist("grow", path, "--label", "Ball <b>, “left”", *GROW[2:], "--out", out)
            again = read_label_map(out)
            self.assertEqual([row.name for row in again.table], ["Ball <b>, “left”"])
            self.assertEqual(int(again.counts[1]), TRUTH)
            self.assertTrue(again.space.same_grid(two_balls().space))
            start = out.read_bytes()[:4]
            self.assertEqual(start == b"NRRD", name.endswith("nrrd"), name)
        colours = {row.colour for row in again.table}
        table = (self.place / "l.tsv").read_text()
        self.assertIn(colours.pop(), table)

    def test_ctrl_c_is_one_sentence_and_its_own_code(self):
        smooth = find_operation("smooth")
        path, out = self.nifti(two_balls()), self.place / "x.nii"

        def interrupted(**given):
            raise KeyboardInterrupt

        self.addCleanup(object.__setattr__, smooth, "function", smooth.function)
        object.__setattr__(smooth, "function", interrupted)
        ran = kestrelmist("smooth", path, "--fwhm", "1", "--out", out, code=130)
        self.assertEqual(ran.stderr.strip(), "Stopped; nothing was kept of this step.")
        self.assertFalse(out.exists())

    def test_words_that_are_no_values(self):
        path = self.nifti(two_balls())
        out = ("--out", self.place / "x.nii")
        for words, said in (
            (("grow", path, *GROW, "--neighbours", "inf", *out), "neighbours"),
            (("grow", path, *GROW, "--neighbours", "7", *out), "choose 6, 18, 26"),
            (("smooth", path, "--fwhm", "nan", *out), "fwhm"),
            (("smooth", path, "--fwhm", "-1", *out), "fwhm"),
            (("smooth", path, "--fwhm", "", *out), "fwhm"),
            (("grow", path, "--label", "A", "--point", "1,2", "--low", 1, "--high", 2, *out), "3 numbers"),
            (("grow", path, "--label", "", "--point", "-4,0,0", "--low", 1, "--high", 2000, *out), "name"),
        ):
            ran = kestrelmist(*words, code=1)
            self.assertRegex(ran.stderr, said)
            self.assertEqual(len(ran.stderr.strip().splitlines()), 1, ran.stderr)
        self.study_with_balls().close()
        study = ("--study", self.place / "study")
        ran = kestrelmist("undo", "--times", "1e400", *study, code=1)
        self.assertIn("times", ran.stderr)
        ran = kestrelmist("change-label", "Two balls", "--label", "A", "--locked", "maybe", *study, code=1)
        self.assertRegex(ran.stderr, "say yes or no")

    def test_out_that_cannot_be_written(self):
        path = self.nifti(two_balls())
        (self.place / "file").write_text("x")
        for out in (
            self.place / "file" / "o.nii.gz",
            self.place / "nowhere" / "o.nii.gz",
            self.place / "o.unknown",
            self.place,
        ):
            ran = kestrelmist("smooth", path, "--out", out, code=1)
            self.assertEqual(len(ran.stderr.strip().splitlines()), 1, ran.stderr)
        self.assertEqual((self.place / "file").read_text(), "x")

    def test_a_result_never_takes_the_place_of_what_it_is_made_from(self):
        source = self.nifti(two_balls())
        before = source.read_bytes()
        for name in (source.name, f"./{source.name}", f"../{self.place.name}/{source.name}"):
            ran = kestrelmist("smooth", source, "--out", self.place / name, code=1)
            self.assertIn("made from", ran.stderr)
        ran = kestrelmist("smooth", f"{source}@1", "--out", source, code=1)
        self.assertEqual(source.read_bytes(), before)
        one = self.place / "one.nii.gz"
        ran = kestrelmist("reduce-noise", source, "--out", one, "--out-taken", one, code=1)
        self.assertIn("to one file", ran.stderr)
        self.assertFalse(one.exists())


class StudyTest(PlaceCase):
    def test_out_beside_a_study_is_written_too(self):
        self.study_with_balls().close()
        study = ("--study", self.place / "study")
        out = self.place / "smooth.nrrd"
        told = kestrelmist("smooth", "Two balls", "--fwhm", 1, *study, "--out", out)
        self.assertIn("smooth.nrrd", told.stdout)
        with Study(self.place / "study") as opened:
            np.testing.assert_array_equal(open_image(out).data, opened.image("Two balls, smooth 1 mm").data)
        labels = self.place / "ball.nii.gz"
        kestrelmist("grow", "Two balls", *GROW, *study, "--out", labels)
        self.assertEqual(int(read_label_map(labels).counts[1]), TRUTH)
        table = self.place / "t.csv"
        kestrelmist("measure-labels", "Two balls", *study, "--out", table)
        self.assertIn(str(TRUTH), table.read_text())
        kestrelmist("measure-labels", "Two balls", *study, "--out", self.place / "t.parquet")
        import pyarrow.parquet

        self.assertEqual(pyarrow.parquet.read_table(self.place / "t.parquet")["voxels"].to_pylist(), [TRUTH])
        before = (self.place / "study" / "study.db").stat().st_size
        ran = kestrelmist("smooth", "Two balls", "--fwhm", 2, *study, "--out", self.place / "o.unknown", code=1)
        self.assertIn("o.unknown", ran.stderr)
        with Study(self.place / "study") as opened:
            self.assertNotIn("Two balls, smooth 2 mm", [r.name for r in opened.records()])
        del before

    def test_pieces_names_its_image_when_there_are_several(self):
        with self.study_with_balls() as study:
            study.run("smooth", fwhm=1.0)
            for name in ("Two balls", "Two balls, smooth 1 mm"):
                study.run("grow", image=name, label="Ball", point=(-4, 0, 0), low=600, high=2000)
                study.run("paint", image=name, label="Ball", point=(0, 8, 0), diameter=1.0)
        study = ("--study", self.place / "study")
        ran = kestrelmist("pieces", "--label", "Ball", *study, code=1)
        self.assertRegex(ran.stderr, "choose one of: .*Two balls")
        rows = json.loads(kestrelmist("pieces", "Two balls", "--label", "Ball", *study, "--json").stdout)["rows"]
        self.assertEqual(len(rows), 2)
        rows = json.loads(kestrelmist("pieces", "Two balls#Labels", "--label", "Ball", *study, "--json").stdout)["rows"]
        self.assertEqual(len(rows), 2)

    def test_flags_are_written_with_a_stroke(self):
        told = kestrelmist("deidentify", "--help").stdout
        self.assertNotIn("_", "".join(word for word in told.split() if word.startswith("--")))
        told = kestrelmist("gather", "--help").stdout
        self.assertNotIn("_", "".join(word for word in told.split() if word.startswith("--")))

    def test_a_list_with_an_image_on_another_grid(self):
        self.study_with_balls().close()
        small = two_balls(straight_space((20, 18, 16), 1.0))
        small.name = "Small"
        with Study(self.place / "study") as study:
            study.run("gather", folder=self.nifti(small, "Small.nii.gz"), subject="T-1")
        told = kestrelmist("combine", "Two balls", "--others", "Small", "--study", self.place / "study", code=1).stderr
        self.assertRegex(told, "HU|space|unit")  # no unit against HU: said, not guessed
        self.assertEqual(len(told.strip().splitlines()), 1)


class SentenceTest(PlaceCase):
    """What goes wrong in ways of its own comes out as a sentence, with code 1, and never as a trace."""

    def said(self, *words, **env) -> str:
        ran = kestrelmist(*words, code=1, **({"env": {**os.environ, **env}} if env else {}))
        self.assertNotIn("Traceback", ran.stderr)
        return ran.stderr

    def test_names_that_no_file_can_have(self):
        source = self.nifti(two_balls())
        self.assertIn("too long", self.said("convert", source, "--to", self.place / ("y" * 300 + ".nii")))
        self.assertIn("file stands where a folder", self.said("convert", source, "--to", source / "x.nii"))

    def test_names_that_are_no_text(self):
        odd = os.fsencode(str(self.place)) + b"/caf\xe9.nii"
        self.nifti(two_balls(), "plain.nii").rename(os.fsdecode(odd))
        strict = {**os.environ, "PYTHONIOENCODING": "utf-8:strict"}
        for words in (
            ("facts", os.fsdecode(odd)),
            ("scan", self.place),
            ("gather", os.fsdecode(odd), "--study", self.place / "study"),
        ):
            ran = kestrelmist(*words, env=strict)
            self.assertIn("caf", ran.stdout)
        self.assertIn("is in the study already", kestrelmist(*words, env=strict, code=1).stderr)
        kestrelmist("logbook", "--study", self.place / "study", env=strict)
        with Study(self.place / "study") as study:
            self.assertEqual([r.name for r in study.records()], ["caf"])

    def test_a_home_that_cannot_be_made(self):
        (self.place / "file").write_text("")
        words = ("desk", "--demo", "--picture", self.place / "p.png")
        said = self.said(*words, KESTRELMIST_HOME=str(self.place / "file" / "x"))
        self.assertIn("file stands where a folder", said)

    def test_a_recipe_writes_outside_only_when_that_is_allowed(self):
        source, target = self.nifti(two_balls()), self.place / "out" / "copy.nii"
        (self.place / "out").mkdir()
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=source, subject="T-1")
            study.run("convert", image="balls", to=target)
            study.run("logbook", to=self.place / "recipe.yaml")
        target.unlink()
        words = ("recipe", self.place / "recipe.yaml", "--study", self.place / "study")
        self.assertRegex(self.said(*words), "writes outside the study: “Convert” to .*copy.nii.*allow writing")
        self.assertFalse(target.exists())
        ran = kestrelmist(*words, "--allow-writing")
        self.assertEqual(ran.returncode, 0, ran.stderr)
        self.assertTrue(target.exists())

    def test_recipes_that_are_none(self):
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.nifti(two_balls()), subject="T-1")
        head = "recipe: 2\n"
        for text in (
            "- 3\n- null\n",
            head + "steps: null\n",
            head + "steps: text\n",
            head + "steps:\n- null\n- [1, 2]\n",
            head + "steps: &a\n- *a\n",
            head + "steps:\n- &s\n  operation: smooth\n  settings: *s\n",
            head + "steps:\n- {operation: smooth, inputs: {image: {a: b}}}\n",
            head + "slots: {a: &b {kind: *b, name: 3}}\nsteps: []\n",
            head + 'steps:\n- {operation: smooth, inputs: {image: "\\ud800"}, settings: {fwhm: "\\ud800"}}\n',
            head + "steps:\n- {operation: !!python/object/apply:os.system [ls]}\n",
            "{" * 3000,
        ):
            (self.place / "r.yaml").write_text(text)
            self.said("recipe", self.place / "r.yaml", "--study", self.place / "study")
