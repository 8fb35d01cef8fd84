"""A view that was written by an earlier or later version, or by nobody: the study opens all the same."""

import json
import sqlite3

from kestrelmist.scene.layer import Arrangement, ImageLook, Layer, Stack, restored
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase
from tests.making import two_balls

TRUTH = int((two_balls().data > 0).sum())


class RestoredTest(DeskCase):
    def test_unknown_and_missing_fields_are_passed_over(self):
        look = restored(ImageLook, {"low": 5.0, "high": 9.0, "colour_map": "Glow", "shimmer": True})
        self.assertEqual((look.low, look.high, look.colour_map), (5.0, 9.0, "Glow"))
        for wrong in (None, 7, "x", [], {"low": "much"}, {"low": None, "high": float("nan")}):
            restored(ImageLook, wrong)
        stack = Stack((Layer(3, look=look),))
        again = Stack.from_list(json.loads(json.dumps(stack.as_list()))) if hasattr(Stack, "from_list") else stack
        self.assertEqual(again, stack)
        self.assertIsInstance(Arrangement().as_dict(), dict)

    def test_a_study_opens_whatever_is_remembered(self):
        with self.study_with_balls() as study:
            study.run("grow", label="Ball", point=(-4, 0, 0), low=500, high=2000)
        views = (
            [],
            None,
            "x",
            {"image": 77, "stage": "Flatten", "crosshair": [1, 2], "stacks": 5, "settings": {"1": {"size": "x"}}},
            {"image": 1, "stage": "Outline", "crosshair": [None, 0, 0], "settings": {"1": {"brush_width": 3}}},
            {
                "image": 1,
                "stage": "Measure",
                "stacks": {"1": [{"thing": 1, "look": {"low": 1}}, 4]},
                "arrangement": {"lead": "Nowhere", "later": 1},
                "places": {"1": [9, 9]},
                "label": 44,
                "label_look": {"glow": 1},
            },
        )
        for view in views:
            with sqlite3.connect(self.place / "study" / "study.db") as db:
                db.execute("INSERT OR REPLACE INTO view VALUES ('view', ?)", (json.dumps(view),))
                db.execute("INSERT OR REPLACE INTO view VALUES ('theme', '\"sunset\"')")
            window = self.open(self.place / "study")
            self.assertTrue(window.desk.viewing.ready, view)
            self.assertEqual(int(window.desk.viewing.maps.labels.counts[1]), TRUTH)
            self.assertEqual(self.troubles, [], view)
            window.close()

    def test_two_windows_and_a_command_on_one_study(self):
        from tests.command import kestrelmist

        self.study_with_balls().close()
        window = self.open(self.place / "study")
        ran = kestrelmist("smooth", "Two balls", "--study", self.place / "study", code=1)
        self.assertIn("another window", ran.stderr)
        self.assertEqual(len(ran.stderr.strip().splitlines()), 1)
        told = kestrelmist("facts", "Two balls", "--study", self.place / "study").stdout
        self.assertIn("Two balls", told)
        window.close()
        kestrelmist("smooth", "Two balls", "--study", self.place / "study")
        with Study(self.place / "study") as study:
            self.assertEqual(len(study.records()), 2)


class JournalTest(DeskCase):
    def test_a_stroke_asks_the_journal_by_an_index(self):
        with self.study_with_balls() as study:
            for query in (
                "SELECT max(seq) AS last FROM change WHERE item_id = 1",
                "SELECT seq, body FROM change WHERE item_id = 1 AND seq > 5 ORDER BY seq",
            ):
                plan = " ".join(str(tuple(r)) for r in study.catalogue.rows(f"EXPLAIN QUERY PLAN {query}"))
                self.assertIn("INDEX", plan, query)
                self.assertNotIn("SCAN", plan, query)
