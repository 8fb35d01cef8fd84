import configparser
import os
import shutil
import subprocess
import unittest
import unittest.mock
import xml.etree.ElementTree as tree
from pathlib import Path

from kestrelmist import desktop
from kestrelmist.desk.models.desk_model import study_folder_of
from tests.command import kestrelmist
from tests.making import PlaceCase
from tests.test_operations import ROOT


class DesktopTest(PlaceCase):
    def everything(self) -> set[str]:
        home = self.place / "data"
        return {str(p.relative_to(home)) for p in home.rglob(f"{desktop.NAME}*") if p.is_file()}

    def test_put_there_and_taken_away(self):
        env = {**os.environ, "XDG_DATA_HOME": str(self.place / "data")}
        starter = self.place / "a folder" / "kestrel"
        told = kestrelmist("install", "--command", f"'{starter}' open", env=env).stdout
        self.assertEqual(told.count("Put in place"), 3)
        self.assertEqual(
            self.everything(),
            {
                "applications/kestrelmist.desktop",
                "icons/hicolor/scalable/apps/kestrelmist.svg",
                "mime/packages/kestrelmist.xml",
            },
        )
        entry = configparser.ConfigParser(interpolation=None)
        entry.optionxform = str
        entry.read(self.place / "data" / "applications" / "kestrelmist.desktop")
        facts = entry["Desktop Entry"]
        self.assertEqual(facts["Exec"], f'"{starter}" open %F')
        self.assertEqual((facts["Type"], facts["Icon"]), ("Application", "kestrelmist"))
        self.assertIn(desktop.SCAN, facts["MimeType"].split(";"))
        kinds = tree.parse(self.place / "data" / "mime" / "packages" / "kestrelmist.xml").getroot()
        globs = {g.get("pattern") for g in kinds.iter() if g.tag.endswith("glob")}
        self.assertLessEqual({"*.nii", "*.nii.gz", "*.nrrd", "*.mha", "*.mnc", "*.mgz", "*.x3p"}, globs)
        self.assertFalse(globs & {"*.png", "*.txt", "*.tif", "*", "*.dat", "*.asc", "*.xyz", "*.hdr", "*.csv"})
        self.assertIn("study.db", globs)
        weights = {g.get("weight") for g in kinds.iter() if g.tag.endswith("glob")}
        self.assertEqual(weights, {None})  # whoever knows better goes first
        types = {t.get("type") for t in kinds.iter() if t.tag.endswith("mime-type")}
        self.assertLessEqual(types, set(facts["MimeType"].split(";")))
        icon = tree.parse(self.place / "data" / "icons" / "hicolor" / "scalable" / "apps" / "kestrelmist.svg")
        self.assertTrue(icon.getroot().tag.endswith("svg"))
        if shutil.which("desktop-file-validate"):
            path = self.place / "data" / "applications" / "kestrelmist.desktop"
            self.assertEqual(subprocess.run(["desktop-file-validate", path]).returncode, 0)
        kestrelmist("install", "--command", f"'{starter}' open", env=env)  # a second time changes nothing
        self.assertIn("Removed", kestrelmist("install", "--remove", env=env).stdout)
        self.assertEqual(self.everything(), set())
        self.assertIn("nothing to remove", kestrelmist("install", "--remove", env=env).stdout)

    def test_a_place_that_cannot_be_written(self):
        (self.place / "data").write_text("a file")
        env = {**os.environ, "XDG_DATA_HOME": str(self.place / "data")}
        self.assertIn("cannot be written", kestrelmist("install", code=1, env=env).stderr)

    def test_words_of_the_command_are_quoted(self):
        for words, line in (
            (["kestrelmist", "desk"], "kestrelmist desk %F"),
            (["/opt/100% sure/k"], '"/opt/100%% sure/k" %F'),
            (['/a"b/k'], '"/a\\\\"b/k" %F'),
            (["/a$b/k"], '"/a\\\\$b/k" %F'),
        ):
            self.assertEqual(desktop.exec_line(words), line)

    def test_a_study_is_opened_by_its_catalogue(self):
        with self.study_with_balls() as study:
            folder = study.folder
        self.assertEqual(study_folder_of([self.place / "other", folder / "study.db"]), folder)
        self.assertEqual(study_folder_of([folder]), folder)
        self.assertIsNone(study_folder_of([self.place / "study.db"]))

    def test_a_relative_data_home_is_passed_over(self):
        with unittest.mock.patch.dict(os.environ, {"XDG_DATA_HOME": "here"}):
            self.assertEqual(desktop.data_home(), Path.home() / ".local" / "share")

    def test_the_starter_script_knows_the_word(self):
        said = subprocess.run([str(ROOT / "kestrel"), "help"], capture_output=True, text=True).stderr
        self.assertIn("install [--remove]", said)
