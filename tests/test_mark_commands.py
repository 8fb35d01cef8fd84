"""Marks on the command line: in a study and from file to file, what is said, and what is written."""

import json

import numpy as np

from kestrelmist.core.image import Image
from kestrelmist.formats.mark_geojson import read_geojson
from kestrelmist.formats.mark_table import read_mark_table
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, keep_thing, straight_space


class MarkCommandsTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.folder = self.place / "S"
        with Study(self.folder, create=True) as study:
            values = np.zeros((10, 10, 10), np.int16, order="F")
            keep_thing(study, Image(values, straight_space((10, 10, 10), 1.0), name="Head", subject="A"))

    def say(self, *words, code: int = 0) -> str:
        ran = kestrelmist(*words, "--study", self.folder, code=code)
        return (ran.stdout + ran.stderr).strip()

    def test_in_a_study(self):
        self.assertEqual(self.say("mark", "Head", "--points", "1,2,3", "--name", "=1+1"), "A/Head#Marks: marks")
        self.say("mark", "Head", "--points", "0,0,0;3,4,0", "--shape", "line")
        self.say("change-mark", "Head", "--mark", "1", "--name", "<b>")
        told = self.say("change-mark", "Head", "--mark", "1", "--name", "<b>", code=1)
        self.assertEqual(told, "Point “<b>” is so already: say what is to change.")
        told = json.loads(self.say("delete-marks", "Head", "--which", "2", "--json"))
        self.assertEqual([one["reference"] for one in told["things"]], ["A/Head#Marks"])
        with Study(self.folder) as study:
            (record,) = study.marks.of(1)
            self.assertEqual([m.name for m in study.marks.open(record.id)], ["<b>"])
        self.assertIn("No marks are called “Head#Other”", self.say("list-marks", "Head#Other", code=1))
        out = self.place / "m.xyz"
        self.assertIn("Marks cannot be written", self.say("save-marks", "Head#Marks", "--to", out, code=1))

    def test_places_of_a_fine_picture_are_told_apart(self):
        with Study(self.folder) as study:
            values = np.zeros((10, 10, 1), np.int16, order="F")
            keep_thing(study, Image(values, straight_space((10, 10, 1), 0.0001), name="Fine", subject="A"))
        self.say("mark", "Fine", "--points", "0.00012,0.0003,0")
        self.assertIn("0.00012000", self.say("list-marks", "Fine"))

    def test_from_file_to_file(self):
        first, second, third = (self.place / name for name in ("a.geojson", "b.csv", "c.csv"))
        self.say("mark", "Head", "--points", "1,2,3")
        self.say("save-marks", "Head#Marks", "--to", first)
        kestrelmist("mark", first, "--points", "0,0,0;3,4,0", "--shape", "rectangle", "--out", second)
        self.assertEqual([m.shape for m in read_mark_table(second)], ["point", "rectangle"])
        kestrelmist("delete-marks", second, "--which", "all", "--out", third)
        self.assertEqual((len(read_mark_table(third)), third.read_text().count("\n")), (0, 1))
        kestrelmist("delete-marks", first, "--which", "1", "--out", self.place / "none.geojson")
        self.assertEqual((len(read_geojson(self.place / "none.geojson")), len(read_geojson(first))), (0, 1))
        ran = kestrelmist("change-mark", first, "--mark", "1", "--name", "y", "--out", first, code=1)
        self.assertIn("would take the place of what it is made from", ran.stderr)
        ran = kestrelmist("mark", first, "--points", "1,1,1", code=1)
        self.assertIn("needs a place for its result", ran.stderr)
