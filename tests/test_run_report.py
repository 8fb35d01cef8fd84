import re
from dataclasses import replace

import numpy as np
from pypdf import PdfReader

from kestrelmist.core.errors import Trouble
from kestrelmist.study.recipes.book import begin, book
from kestrelmist.study.recipes.cohort import Runner, order_of
from kestrelmist.study.recipes.places import Here
from kestrelmist.study.recipes.report.content import report_of
from kestrelmist.study.recipes.report.html import as_html
from kestrelmist.study.recipes.report.numbers import Number, among_all, robust_z
from tests.test_recipe_runs import balls
from tests.test_recipes import RecipeCase


class ZTest(RecipeCase):
    def test_robust_z_is_that_of_the_closed_form(self):
        rng = np.random.default_rng(5)
        values = [*rng.normal(10, 2, 400), 60.0]
        z = robust_z(values)
        spread = 1.4826 * np.median(np.abs(values - np.median(values)))
        np.testing.assert_allclose(z, (np.array(values) - np.median(values)) / spread)
        self.assertAlmostEqual(spread, 2, delta=0.25)  # as a standard deviation
        self.assertGreater(z[-1], 20)
        self.assertEqual(robust_z([1, 2, 3, 4]), [None] * 4)  # too few
        self.assertEqual(robust_z([2.0] * 6), [0.0] * 6)
        self.assertGreater(robust_z([2.0] * 6 + [3.0])[-1], 3.5)
        self.assertIsNone(robust_z([1, 2, 3, 4, 5, np.nan])[-1])

    def test_a_number_out_of_the_usual_is_marked(self):
        units = {f"u{n}": [Number("volume", 10 + 0.1 * n, "mm³")] for n in range(7)} | {"odd": [Number("volume", 90.0)]}
        told = among_all(units)
        self.assertEqual([key for key, (n,) in told.items() if n.out], ["odd"])


class ReportTest(RecipeCase):
    def test_a_page_for_all_and_one_for_each(self):
        names = ["T-1", "T-2", "<b>T-3</b>", "T-4", "T-5", "T-6"]
        with self.subjects(*names) as study:
            study.run("rename", thing="T-6/Head CT", name="Other")
            order = order_of(study, balls(), name="Balls", version=2)
            order = replace(
                order,
                noticed={"a": ("", "A notice.", "it is fine"), "b": ("T-1", "Another.", "")},
                passed=("sides known",),
            )
            made = begin(study.folder, order)
            Runner(study, made, Here()).run()
            made.judge("T-2", "bad", "=moved")
            report = report_of(study, book(study.folder))
            self.assertEqual([u.state for u in report.units], ["done"] * 5 + ["missing"])
            first = next(u for u in report.units if u.words == "T-1")
            volume = next(n for n in first.numbers if n.name == "Half, volume")
            labels = study.labels("T-1/Head CT, smooth 1.5 mm")
            self.assertAlmostEqual(volume.value, labels.counts[1] * labels.space.voxel_volume)
            self.assertTrue(any("outlines of Labels" in p.title for p in first.pictures))
            self.assertTrue(any("before" in p.title for p in first.pictures))
            self.assertEqual(len({p.title for p in first.pictures}), len(first.pictures))
            text = as_html(report)
            self.assertNotIn("<b>T-3", text)  # names are text
            self.assertIn("&lt;b&gt;T-3&lt;/b&gt;", text)
            self.assertIn("<th>Scan</th><td>T-1/Head CT, the only one</td>", text)
            self.assertNotRegex(text, r'(src|href)="(?!data:|#)')
            for words in (
                "nobody has waived it",
                "it is fine",
                "sides known",
                "Gaussian",
                "SHA-256",
                "=moved",
                "missing",
            ):
                self.assertIn(words, text)
            self.assertEqual(text.count("<img "), sum(len(u.pictures) for u in report.units))
            hashes = re.findall(r"<code>out: [^<]* ([0-9a-f@]{6,12})</code>", text)
            self.assertGreater(len(hashes), 5)
            table = study.run("run-report", to=self.place / "r.pdf")
            self.assertIn("Half, volume", table.column("what"))
            self.assertIn("bad", table.column("judged"))
            pages = PdfReader(self.place / "r.pdf").pages
            self.assertGreaterEqual(len(pages), 7)
            whole = "".join(p.extract_text() for p in pages)
            for words in ("Balls: run 1", "nobody has waived it", "<b>T-3</b>", "Half, volume"):
                self.assertIn(words, whole)
            study.run("run-report", to=self.place / "r.html", pictures=False)
            self.assertNotIn("<img", (self.place / "r.html").read_text())
            for name, words in (("r.html", "a file of this name already"), ("r.doc", "written as .html or .pdf")):
                with self.assertRaisesRegex(Trouble, words):
                    study.run("run-report", to=self.place / name)
            with self.assertRaisesRegex(Trouble, "no run 9"):
                study.run("run-report", to=self.place / "n.html", run=9)

    def test_nothing_was_run_yet(self):
        with self.subjects("T-1") as study, self.assertRaisesRegex(Trouble, "No recipe was run in this study yet"):
            study.run("run-report", to=self.place / "r.html")
