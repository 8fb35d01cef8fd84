"""What a few words of the trade find, in the window and on the command line."""

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kestrelmist.core.finding import Finding, Line, likeness, parts_of, stem
from kestrelmist.core.operation import OPERATIONS
from kestrelmist.core.sentence import first_sentence
from kestrelmist.desk.shell.lines import fixed_lines
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import PlaceCase

TERMS = Path(__file__).parent / "data" / "finder_terms.txt"


def terms() -> list[tuple[str, list[str]]]:
    rows = [line for line in TERMS.read_text(encoding="utf-8").splitlines() if line and not line.startswith("#")]
    return [(typed, first.split(";")) for typed, _, first in (row.partition("|") for row in rows)]


class WordsTest(PlaceCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.finding = Finding([(line, line) for line, _ in fixed_lines()])

    def first(self, typed: str) -> str:
        return next((line.name for line in self.finding.found(typed)), "nothing")

    def test_the_words_of_the_trade_bring_the_right_line_first(self):
        self.assertGreaterEqual(len(terms()), 220)
        wrong = [(typed, self.first(typed)) for typed, wanted in terms() if self.first(typed) not in wanted]
        self.assertEqual(wrong, [])

    def test_every_command_and_every_title_finds_something_of_its_name(self):
        by_name = {o.name: o.title for o in OPERATIONS}
        tools = {line.name for line, _ in fixed_lines()}
        for name, title in by_name.items():
            found = [line.name for line in self.finding.found(name)]
            self.assertIn(title if title in tools else name, found[:2], name)
        for line, _ in fixed_lines():
            self.assertEqual([one.name for one in self.finding.found(line.name)][:1], [line.name])

    def test_order_endings_spelling_and_hyphens_make_no_difference(self):
        for typed in ("skull strip", "strip skull", "skull-stripping", "skullstrip", "Skull Stripped"):
            self.assertEqual(self.first(typed), "Take out the brain", typed)
        for typed in ("colour map", "color map", "colormaps", "Colour-map"):
            self.assertEqual(self.first(typed), "Colours", typed)
        spellings = "normalisation normalizing normalise normalize normalized"
        self.assertEqual({stem(word) for word in parts_of(spellings)}, {"normal"})
        self.assertEqual(parts_of("H&E, grey-matter"), ["h&e", "gray", "matter"])

    def test_a_letter_wrong_and_what_means_nothing(self):
        self.assertAlmostEqual(likeness("smoth", "smooth"), 0.7)
        self.assertAlmostEqual(likeness("registartoin", "registration"), 0.6)  # two of a long word
        self.assertEqual(likeness("cat", "cut"), 0.0)  # of a short word none
        self.assertEqual(self.finding.found("qwxyz"), [])
        self.assertEqual(self.finding.found("smooth qwxyz"), [])  # each word counts
        self.assertEqual(self.first("distortion correction"), "Undistort")  # but for common ones
        self.assertEqual(len(self.finding.found("")), len(fixed_lines()))

    def test_names_go_before_other_words_and_what_was_used_lately_before_its_like(self):
        lines = [Line("tool", name, says, more) for name, says, more in (
            ("Remove loose pieces", "", "smoothing"), ("Smooth", "", ""), ("True voxels, smooth or not", "", ""),
            ("Brush", "Paints smoothly", ""))]  # fmt: skip
        finding = Finding([(line, line.name) for line in lines])
        self.assertEqual(
            finding.found("smoo"), ["Smooth", "True voxels, smooth or not", "Remove loose pieces", "Brush"]
        )
        self.assertEqual(finding.found("loose rem"), ["Remove loose pieces"])
        twins = Finding([(Line("tool", name, "", "blur"), name) for name in ("One", "Other")])
        self.assertEqual(twins.found("blur"), ["One", "Other"])
        self.assertEqual(twins.found("blur", ["Other"]), ["Other", "One"])
        self.assertEqual(twins.found("", ["Other"]), ["Other", "One"])

    def test_each_line_says_what_it_does(self):
        for line, _ in fixed_lines():
            self.assertGreater(len(line.says), 3, line.name)
        self.assertEqual(
            first_sentence("As A. Otsu (J. R. Stat. 2, 1979) did. More."), "As A. Otsu (J. R. Stat. 2, 1979) did."
        )
        told = kestrelmist("find", "skull", "strip").stdout.splitlines()
        self.assertTrue(told[0].startswith("Take out the brain (tool): Label the brain"), told[0])
        self.assertIn("Nothing is found for “qwxyz”", kestrelmist("find", "qwxyz", code=1).stderr)


class InTheWindowTest(DeskCase):
    def test_the_same_lines_and_the_keyboard_goes_on_in_the_form(self):
        with self.study_with_balls():
            pass
        window = self.open(self.place / "study")
        finder = window.finder
        finder.open()
        for typed, wanted in terms()[::9]:
            finder.field.setText(typed)
            self.assertIn(finder.shown[0][0].name, wanted, typed)
        finder.field.setText("two bal")
        self.assertEqual(finder.shown[0][0].name, "Two balls of T-1")
        finder.field.setText("gaussian blur")
        QTest.keyClick(finder.field, Qt.Key.Key_Return)
        self.settle(window)
        form = window.bench.page("Prepare").form
        self.assertEqual(form.operation.name, "smooth")
        self.assertTrue(form.fields["fwhm"].hasFocus() or form.fields["fwhm"].isAncestorOf(QApplication.focusWidget()))
        self.assertEqual(finder.lately(), ["Smooth"])
        finder.open()
        self.assertEqual(finder.shown[0][0].name, "Smooth")
