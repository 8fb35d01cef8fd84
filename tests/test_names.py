"""Names of digits, of nothing, of other alphabets; two of one name; references that fit none or several."""

import json
import unittest

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.labels import Label
from kestrelmist.core.reference import Reference, quoted
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, two_balls

ODD = ("9", "a/b", "a#b", "a@3", 'say "x"', "<b>bold</b>", "../up", "=1+1", "Schädel 骨", "n" * 200, "-3", "$x")


class ReferenceTest(unittest.TestCase):
    def test_text_and_back(self):
        for name in ODD:
            for subject in (None, "HM-07", "1", "a/b"):
                for place in ((), (3,), (3, 1)):
                    for part in (None, "Labels", "9", "x#y"):
                        made = Reference(name, subject, part, place)
                        self.assertEqual(Reference.parse(str(made)), made, str(made))
        self.assertEqual(Reference.parse("HM-07/Odour run@3"), Reference("Odour run", "HM-07", None, (3,)))
        self.assertEqual(Reference.parse("Head CT#Bones"), Reference("Head CT", None, "Bones"))
        self.assertEqual(quoted("plain name"), "plain name")
        for wrong in ("a@", "a@x", "a@0", 'a"b', '"a', "a#b#c", "x/y/z"):
            with self.assertRaises(Trouble, msg=wrong):
                Reference.parse(wrong)


class NamesTest(PlaceCase):
    def taken(self, study: Study, name: str, subject: str = "T-1", shift: int = 0) -> int:
        image = two_balls()
        path = self.place / f"file{len(list(self.place.iterdir()))}.nii"
        write_nifti(path, image.data + shift, image.space)
        (key,) = study.run("gather", folder=path, subject=subject)
        if study.find(key).name != name:
            study.rename(key, name)
        return key

    def test_a_name_of_digits_is_no_id(self):
        with Study(self.place / "study", create=True) as study:
            first, second = self.taken(study, "2"), self.taken(study, "1", shift=1)
            self.assertEqual((first, second), (1, 2))
            self.assertEqual(study.find("1").id, 2)
            self.assertEqual(study.find("2").id, 1)
            self.assertEqual(study.find(1).name, "2")
            study.run("smooth", image="1", fwhm=1.0)
            with self.assertRaisesRegex(Trouble, "No image is called “7”"):
                study.find("7")
        told = json.loads(kestrelmist("facts", "T-1/1", "--study", self.place / "study", "--json").stdout)
        self.assertIn("1", {r["value"] for r in told["rows"]})

    def test_odd_names_are_kept_found_and_shown(self):
        with Study(self.place / "study", create=True) as study:
            keys = {}
            for n, name in enumerate(ODD):
                keys[name] = self.taken(study, name, shift=n)
            for name, key in keys.items():
                record = study.items.get(key)
                self.assertEqual(study.find(str(record.reference)).id, key, name)
                self.assertEqual(study.find(name).id, key, name)
            study.run("convert-study", to=self.place / "bids")
            inside = self.place / "bids"
            for path in self.place.rglob("*.nii.gz"):
                if "study" not in path.parts:
                    self.assertIn(inside, path.parents)
        with Study(self.place / "study") as study:
            self.assertEqual({r.name for r in study.records()}, {study.items.get(k).name for k in keys.values()})

    def test_names_are_given_once(self):
        with Study(self.place / "study", create=True) as study:
            a, b = self.taken(study, "Head"), self.taken(study, "Feet", shift=1)
            with self.assertRaisesRegex(Trouble, "“HEAD” of T-1 already|“HEAD” already|“HEAD”"):
                study.rename(b, "HEAD")
            with self.assertRaisesRegex(Trouble, "300 letters is too long"):
                study.rename(b, "n" * 300)
            for empty in ("", "   ", "\n"):
                with self.assertRaises(Trouble):
                    study.rename(b, empty)
            study.rename(a, "head")  # its own name in other letters
            c = self.taken(study, "Head", subject="T-2", shift=2)
            with self.assertRaisesRegex(Trouble, "write one of: T-1/head, T-2/Head"):
                study.find("Head")
            self.assertEqual((study.find("t-1/HEAD").id, study.find("T-2/Head").id), (a, c))
            study.set_removed(a, True)
            study.rename(b, "Head")  # the name is free now
            study.history.undo(), study.history.undo()
            study.set_removed(a, True)
            study.rename(b, "Head")
            study.set_removed(a, False)  # comes back beside it, under another name
            names = [r.name.casefold() for r in study.records() if r.subject == "T-1"]
            self.assertEqual(len(set(names)), len(names))

    def test_none_and_several_are_listed(self):
        with Study(self.place / "study", create=True) as study:
            with self.assertRaisesRegex(Trouble, "there is none yet"):
                study.find("Head")
            for n in range(15):
                self.taken(study, f"Head {n}", shift=n)
            with self.assertRaisesRegex(Trouble, "choose one of: .*Head 11.* and 3 more"):
                study.find("Foot")
        code = kestrelmist("smooth", "Foot", "--study", self.place / "study", code=1).stderr
        self.assertEqual(len(code.strip().splitlines()), 1)

    def test_same_file_names_in_one_folder_get_names_of_their_own(self):
        image = two_balls()
        for n, place in enumerate(("a", "b")):
            (self.place / "in" / place).mkdir(parents=True)
            write_nifti(self.place / "in" / place / "1.nii.gz", image.data + n, image.space)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "in", subject="T-1")
            names = [r.name for r in study.records()]
            self.assertEqual(len(set(names)), 2, names)

    def test_a_folder_whose_second_image_is_known(self):
        image = two_balls()
        (self.place / "in").mkdir()
        write_nifti(self.place / "in" / "b.nii.gz", image.data, image.space)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "in" / "b.nii.gz", subject="T-1")
            write_nifti(self.place / "in" / "a.nii.gz", image.data + 1, image.space)
            write_nifti(self.place / "in" / "c.nii.gz", image.data + 2, image.space)
            study.run("gather", folder=self.place / "in", subject="T-1")
            self.assertEqual(sorted(r.name for r in study.records()), ["a", "b", "c"])
            taken = [t.name for s in study.logbook.entries() for things in s.outputs.values() for t in things]
            self.assertEqual(sorted(taken), ["a", "b", "c"])  # each has its line
            with self.assertRaisesRegex(Trouble, "in the study already"):
                study.run("gather", folder=self.place / "in", subject="T-1")
            self.assertEqual(len(study.records()), 3)

    def test_labels_are_told_apart_by_their_image(self):
        with Study(self.place / "study", create=True) as study:
            for subject in ("T-1", "T-2"):
                key = self.taken(study, "Head", subject, shift=int(subject[-1]))
                study.run("grow", image=key, label="9", point=(-4, 0, 0), low=500, high=2000)
            one, other = (study.labels(f"{s}/Head") for s in ("T-1", "T-2"))
            self.assertIsNot(one, other)
            study.run("erase", labels="T-2/Head#Labels", label="9", point=(-4, 0, 0), diameter=3.0)
            self.assertGreater(int(one.counts[1]), int(other.counts[1]))
            table = study.run("measure-labels", image="T-1/Head", labels="T-1/Head#Labels")
            self.assertEqual(table.column("label"), ["9"])
            np.testing.assert_array_equal(one.data > 0, two_balls().data > 0)


class LinesTest(PlaceCase):
    """Line ends, control characters and a hundred thousand letters."""

    def test_names_from_files_become_a_line(self):
        odd = "two\nlines\x07" + "x" * 100_000
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.nifti(two_balls()), subject=odd)
            (record,) = study.records()
            self.assertEqual((record.subject[:12], len(record.subject)), ("two lines xx", 200))
            self.assertEqual(Label(3, odd, "#FFFFFF").name, record.subject)
            self.assertEqual(Label(3, "\n", "#FFFFFF").name, "Label 3")

    def test_names_that_are_typed(self):
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.nifti(two_balls()), subject="T-1")
            (record,) = study.records()
            study.run("new-labels", image=record.id, name="two\nlines")
            study.run("add-label", label="left\r\near")
            study.run("name-version", name="as\tit was")
            self.assertEqual([m.name for m in study.label_maps(record.id)], ["two lines"])
            self.assertEqual([label.name for label in study.labels(record.id).table], ["left ear"])
            long = "x" * 100_000
            for operation, given in (
                ("add-label", {"label": long}),
                ("rename", {"thing": record.id, "name": long}),
                ("name-version", {"name": long}),
                ("change-label", {"label": "left ear", "name": long}),
            ):
                with self.assertRaisesRegex(Trouble, "100000 letters is too long"):
                    study.run(operation, **given)
