"""Methods texts: every step that changes or measures something has a sentence, and every method its source."""

import inspect
import re
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from kestrelmist.core.errors import Trouble
from kestrelmist.core.operation import all_operations, find_operation
from kestrelmist.core.sources import SOURCES, cited
from kestrelmist.study.journal.logbook import Step, Thing
from kestrelmist.study.methods import sentence_of
from kestrelmist.study.study import Study
from tests.making import keep_thing, two_balls

SAYS_NOTHING = set(
    "say-taken name-channels one-place split-channels set-spacing together open-transform save-transform"
    " join-transforms invert-transform classes-of take-classes save-classes list-classes add-label change-label"
    " delete-label new-labels renumber pieces versions list-marks save-marks take-marks change-mark delete-marks"
    " style-curve style-marks"
    " choose-labels name-version back-to-version set-class delete-class use-classes use-classes-for-marks"
    " new-marks choose-marks list-alignments way-between make-pack export-labels vessel-gaps export-study-labels"
    " append-table long-table take-calibration save-calibration keep-calibration calibration-from-library"
    " list-calibrations"
    " change-labels save-label-names take-label-names".split()
)
"""Of the stages that change images: what gives names, opens, saves, lists or takes back."""
YEAR = re.compile(r"\b(?:18|19|20)\d\d\b")


class SourcesTest(unittest.TestCase):
    def test_what_changes_or_measures_has_a_sentence(self):
        for name, about in all_operations().items():
            if about.stage in ("prepare", "align", "outline", "measure") and name not in SAYS_NOTHING:
                self.assertTrue(about.methods, name)
            for setting in re.findall(r"{(\w+)}", about.methods):
                self.assertIn(setting, [p.name for p in about.settings], name)

    def test_methods_that_name_a_work_cite_it_in_full(self):
        for name, about in all_operations().items():
            doc = inspect.getdoc(about.function) or ""
            named = re.findall(r"\((?:[^()]*?\b[A-Z]\. ?[A-Z][^()]*?)\b((?:19|20)\d\d)\b", doc)
            years = {year for key in about.cites for year in YEAR.findall(cited(key))}
            for year in named:
                self.assertIn(year, years, f"{name} names a work of {year}")
            for key in about.cites:
                self.assertIn(key, SOURCES, name)
                self.assertRegex(SOURCES[key], r"(19|20)\d\d")
        used = {key for about in all_operations().values() for key in about.cites}
        self.assertEqual(used, set(SOURCES))
        self.assertEqual(len(set(SOURCES.values())), len(SOURCES))


class TextTest(unittest.TestCase):
    def test_what_was_done_is_told_and_what_was_undone_is_not(self):
        place = Path(self.enterContext(tempfile.TemporaryDirectory()))
        with Study(place / "S", create=True) as study:
            with self.assertRaisesRegex(Trouble, "Nothing was done yet"):
                study.run("methods-text")
            images = two_balls(), two_balls()
            images[1].subject, images[1].name = "T-2", "Other"
            first, second = (keep_thing(study, image) for image in images)
            for image in (first, second):
                study.run("smooth", image=image, fwhm=0.5)
            study.run("take-out-body", image=first, label="Body")
            study.run("clip", image=second, high=100.0)
            study.history.undo()
            study.run("rename", thing=second, name="Another")
            table = study.run("methods-text", to=place / "m.md")
            self.assertEqual(len([row for row in table.rows if row[0] is not None]), 2)
            self.assertEqual(
                table.rows[0][1], "Images were smoothed with a Gaussian of 0.5 mm full width at half maximum."
            )
            self.assertRegex(table.rows[1][1], r"its largest piece kept \(in 1 of 2 subjects\)\.$")
            text = (place / "m.md").read_text()
            self.assertIn("half maximum [1]. The body was labelled", text)
            self.assertRegex(text, r"\[1\] H\. Knutsson.*CVPR 1993\.\n\[2\] N\. Otsu.*1979\.\n")
            self.assertNotIn("limited to", text)
            self.assertEqual(len([r for r in study.run("methods-text", subject="T-2").rows if r[0]]), 1)
            for to, words in ((place / "m.md", "something of this name"), (place / "m.pdf", "written as .md or .txt")):
                with self.assertRaisesRegex(Trouble, words):
                    study.run("methods-text", to=to)
            with self.assertRaisesRegex(Trouble, "Nothing was done of Nobody yet"):
                study.run("methods-text", subject="Nobody")


class ReferenceTest(unittest.TestCase):
    def test_a_separate_reference_is_told_as_one(self):
        about = find_operation("correct-motion")
        plain = Step("correct-motion", "Correct motion", {"reference": "middle", "how": "cubic"})
        self.assertIn("a reference (middle)", sentence_of(about, plain))
        given = replace(plain, inputs={"separate": (Thing("image", "Single volume"),)})
        self.assertIn("a reference (a separate image)", sentence_of(about, given))


if __name__ == "__main__":
    unittest.main()
