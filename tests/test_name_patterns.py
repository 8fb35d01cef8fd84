"""Names of new files with places that are filled by each image."""

from pathlib import Path

from kestrelmist.core.errors import Trouble
from kestrelmist.core.name_pattern import filled, has_places, with_place
from kestrelmist.core.operation import find_operation
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.formats.opening import open_image
from kestrelmist.study.recipes.one_subject import run_recipe
from kestrelmist.study.recipes.text import read_recipe
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import two_balls
from tests.test_recipes import RecipeCase


class FilledTest(RecipeCase):
    def test_places(self):
        self.assertEqual(filled("a/{subject} {name}.nii", {"subject": "T/1", "name": "CT"}), "a/T-1 CT.nii")
        self.assertEqual(filled("{other}.nii", {}), "{other}.nii")
        with self.assertRaisesRegex(Trouble, "The visit is not known"):
            filled("{visit}.nii", {"subject": "T-1"})

    def test_the_first_free_number(self):
        pattern = str(self.place / "scan {number}.nii")
        for n in (1, 2):
            self.assertEqual(made := filled(pattern, {}), str(self.place / f"scan {n}.nii"))
            Path(made).touch()

    def test_a_place_goes_before_the_ending(self):
        for given, made in (
            ("to/a.nii.gz", "to/a {name}.nii.gz"),
            ("a.ome.tif", "a {name}.ome.tif"),
            ("a v1.2", "a v1 {name}.2"),
            ("{subject}.nii", "{subject}.nii"),
            ("", ""),
        ):
            self.assertEqual(with_place(given), made)
            self.assertEqual(has_places(made), bool(given))


class DoorsTest(RecipeCase):
    def test_python_the_step_and_a_recipe_on_the_next_subject(self):
        pattern = self.place / "{subject} {name} {number}.nii.gz"
        with self.subjects("T-1", "T-2") as study:
            table = study.run("convert", image="T-1/Head CT", to=pattern)
            first = self.place / "T-1 Head CT 1.nii.gz"
            self.assertEqual(table.column("file")[0], str(first))
            self.assertEqual(study.logbook.entries()[-1].settings["to"], str(pattern))
            path = self.recipe(study)
            run_recipe(study, read_recipe(path), "T-2")
            second = open_image(self.place / "T-2 Head CT 1.nii.gz")
            self.assertEqual((int(open_image(first).kji.max()), int(second.kji.max())), (1000, 1100))

    def test_the_command_line_with_files_and_with_a_study(self):
        file = self.place / "sub-K1_T1w.nii.gz"
        write_nifti(file, two_balls().data, two_balls().space)
        kestrelmist("convert", file, "--to", self.place / "{subject} as {name}.nrrd")
        self.assertTrue((self.place / "K1 as T1w.nrrd").is_file())
        told = kestrelmist("convert", file, "--to", self.place / "{visit}.nrrd", code=1).stderr
        self.assertIn("The visit is not known", told)
        self.subjects("T-1").close()
        place = self.place / "{subject}-{name}.mha"
        kestrelmist("convert", "T-1/Head CT", "--study", self.place / "study", "--to", place)
        self.assertTrue((self.place / "T-1-Head CT.mha").is_file())


class DoItToOthersTest(DeskCase, RecipeCase):
    def test_several_images_get_a_file_each(self):
        self.subjects("T-1", "T-2", "T-3").close()
        window = self.open(self.place / "study")
        desk = window.desk
        window.bench.open_operation(find_operation("convert"))
        form = window.bench.page("Gather").form
        field = form.fields["to"].field
        field.setText(str(self.place / "scan.nii.gz"))
        self.press(form.more)
        self.assertEqual(field.text(), str(self.place / "scan {name}.nii.gz"))
        for record in desk.study.records():
            form.others.tick(record.id)
        field.setText(str(self.place / "scan.nii.gz"))
        self.press(form.apply)
        self.assertTrue(form.trouble.isVisible())
        self.assertIn("one file", form.trouble.text())
        field.setText(str(self.place / "{subject} {number}.nii.gz"))
        self.press(form.apply)
        self.settle(window)
        found = {p.name: int(open_image(p).kji.max()) for p in sorted(self.place.glob("*.nii.gz"))}
        self.assertEqual(found, {"T-1 1.nii.gz": 1000, "T-2 2.nii.gz": 1100, "T-3 3.nii.gz": 1200})
