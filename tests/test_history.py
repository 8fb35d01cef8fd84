import json
import tarfile
from pathlib import Path

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.labels import LabelMap
from kestrelmist.study.journal.changes import LabelChange
from kestrelmist.study.journal.history import Stale
from kestrelmist.study.journal.stacks import LongEntry
from kestrelmist.study.journal.versions import BEFORE, state_of
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, two_balls

GROW = {"label": "Ball", "point": (-4, 0, 0), "low": 500, "high": 2000}
TRUTH = int((two_balls().data > 0).sum())
OLD = Path(__file__).parent / "data" / "study-layout-3.tar.gz"


class HistoryTest(PlaceCase):
    def reopened(self, study: Study) -> Study:
        study.close()
        again = Study(self.place / "study")
        self.addCleanup(again.close)
        return again

    def test_undo_and_redo_after_a_restart(self):
        study = self.study_with_balls()
        study.run("grow", **GROW)
        study.run("erase", label="Ball", point=(-4, 0, 0), diameter=3.0)
        left = int(study.labels(1).counts[1])
        study = self.reopened(study)
        self.assertEqual(study.history.to_undo().title, "Erase in “Ball”")
        study.history.undo()
        self.assertEqual(int(study.labels(1).counts[1]), TRUTH)
        study = self.reopened(study)
        self.assertEqual(int(study.labels(1).counts[1]), TRUTH)
        study.history.redo()
        self.assertEqual(int(study.labels(1).counts[1]), left)
        study.history.undo()
        study.history.undo()
        study = self.reopened(study)
        self.assertEqual(int(study.labels(1).counts[0]), two_balls().data.size)
        self.assertEqual([e.undone for e in study.logbook.entries()], [False, True, True])
        study.history.redo()
        study.run("paint", label="Other", point=(0, 0, 0), diameter=1.0)
        self.assertIsNone(study.history.to_redo())  # something new was done instead
        study = self.reopened(study)
        self.assertIsNone(study.history.to_redo())

    def test_what_takes_long_is_one_entry_and_undo_leaves_it_alone_until_it_is_over(self):
        study = self.study_with_balls()
        history, long = study.history, LongEntry("Recipe “Soft”")
        study.run("paint", image=1, label="First", point=(0, 0, 0), diameter=1.0)
        with history.together(long):
            study.run("smooth", image=1, fwhm=1.0)
        study.run("paint", image=1, label="Hand", point=(3, 0, 0), diameter=1.0)  # a person, in between
        with history.together(long):
            (soft,) = study.run("smooth", image=1, fwhm=2.0)
            label_map = study.run("new-labels", image=soft)
        entry = long.entry
        self.assertIn("Paint", history.to_undo().title)
        history.undo()
        self.assertEqual([one.name for one in study.labels(1).table], ["First"])
        with history.together(long):
            study.run("paint", image=soft, labels=label_map, label="Ball", point=(-4, 0, 0), diameter=2.0)
        self.assertEqual((long.entry, history.to_redo() is not None), (entry, True))  # what was undone is not lost
        history.redo()
        self.assertEqual([one.name for one in study.labels(1).table], ["First", "Hand"])
        history.undo()
        history.undo()
        self.assertEqual(history.to_undo().title, "Gather “Two balls”")  # all after it is under way
        history.redo()
        history.over(long)
        self.assertEqual(history.to_undo().title, "Paint “First”")
        history.undo()
        self.assertEqual(history.to_undo().title, "Recipe “Soft”")
        study = self.reopened(study)
        self.assertEqual(study.history.to_undo().title, "Recipe “Soft”")
        shown = len(study.records())
        study.history.undo()
        self.assertEqual((len(study.records()), shown), (1, 3))
        self.assertEqual([e.undone for e in study.logbook.entries() if e.operation == "smooth"], [True, True])
        study.history.redo()
        self.assertEqual(len(study.records()), 3)

    def test_what_takes_long_begins_anew_where_somebody_changed_the_same(self):
        study = self.study_with_balls()
        history, long = study.history, LongEntry("Recipe “Labels”")
        for n, at in enumerate(((-4, 0, 0), (4, 0, 0), (0, 4, 0))):
            with history.together(long):
                study.run("paint", label="Run", point=at, diameter=2.0)
            if n == 0:
                study.run("paint", label="Hand", point=(0, 0, 0), diameter=1.0)
                first = long.entry
        self.assertNotEqual(long.entry, first)
        counts = study.labels(1).counts.tolist()
        self.assertIsNone(history.to_undo())  # the hand's lies under what is under way
        history.over(long)
        titles = []
        while len(titles) < 3:
            titles.append(history.undo().title)
        self.assertEqual(titles, ["Recipe “Labels”", "Paint “Hand”", "Recipe “Labels”"])
        self.assertEqual(int(study.labels(1).counts[0]), two_balls().data.size)
        study = self.reopened(study)
        for _ in range(3):
            study.history.redo()
        self.assertEqual(study.labels(1).counts.tolist(), counts)

    def test_every_kind_of_change_goes_back_and_forth(self):
        study = self.study_with_balls()
        study.run("grow", **GROW)
        (smooth,) = study.run("smooth", fwhm=1.0)
        states = [self.state(study)]
        for name, given in (
            ("rename", {"thing": smooth, "name": "Soft"}),
            ("change-label", {"labels": "Two balls#Labels", "label": "Ball", "name": "Sphere", "colour": "#102030"}),
            ("change-label", {"labels": "Two balls#Labels", "label": "Sphere", "locked": True}),
            ("new-labels", {"image": 1, "name": "Second", "copy": "Two balls#Labels"}),
            ("rename", {"thing": "Two balls#Second", "name": "Later"}),
            ("set-origin", {"image": 1, "point": (1, 2, 3)}),
            ("set-spacing", {"image": smooth, "spacing": (1, 1, 1)}),
            ("take-off", {"thing": smooth}),
            ("change-label", {"labels": "Two balls#Labels", "label": "Sphere", "locked": False}),
            ("delete-label", {"labels": "Two balls#Labels", "label": "Sphere"}),
        ):
            study.run(name, **given)
            states.append(self.state(study))
        self.assertEqual(len({json.dumps(s) for s in states}), len(states))
        for back in range(len(states) - 2, -1, -1):
            study.history.undo()
            self.assertEqual(self.state(study), states[back], back)
        study = self.reopened(study)
        for forth in range(1, len(states)):
            study.history.redo()
            self.assertEqual(self.state(study), states[forth], forth)
        steps = [s.operation for s in study.logbook.entries()]
        for told in ("rename", "change-label", "new-labels", "set-origin", "set-spacing", "take-off", "delete-label"):
            self.assertIn(told, steps)
        self.assertTrue(all(s.who for s in study.logbook.entries()))

    @staticmethod
    def state(study: Study) -> list:
        """All that a person sees of the study."""
        shelf = [
            (r.id, r.kind, r.name, r.of, None if r.space is None else np.round(r.space.affine, 6).tolist())
            for r in study.items.of_kind("image", "label map")
        ]
        maps = list(study.items.of_kind("label map"))
        tables = [
            (m.id, study.label_map(m.id).table.as_list(), study.label_map(m.id).counts[:3].tolist()) for m in maps
        ]
        return json.loads(json.dumps([shelf, tables]))

    def test_undo_of_one_thing_only(self):
        study = self.study_with_balls()
        study.run("grow", **GROW)
        study.run("new-labels", image=1, name="Second")
        first, second = (m.id for m in study.label_maps(1))
        study.run("paint", labels=second, label="Spot", point=(0, 0, 0), diameter=2.0)
        study.run("rename", thing=1, name="Balls")
        self.assertEqual(study.history.undo(first).title, "Grow “Ball” from point")
        self.assertEqual(int(study.label_map(first).counts[1]), 0)
        self.assertGreater(int(study.label_map(second).counts[1]), 0)
        self.assertEqual(study.find(1).name, "Balls")

    def test_a_stale_change_is_refused(self):
        study = self.study_with_balls()
        study.run("grow", **GROW)
        (edit,) = [c.edit for c in study.history.changes_of(study.history.to_undo().id)]
        key = study.in_hand(1)
        revision = study.history.revision(key)
        study.history.undo()
        with self.assertRaises(Stale):
            study.history.do([LabelChange(key, edit, revision)], None, "late")
        self.assertEqual(int(study.labels(1).counts[1]), 0)

    def test_by_the_command(self):
        study = self.study_with_balls()
        study.run("grow", **GROW)
        study.run("rename", thing=1, name="Balls")
        study.close()
        told = kestrelmist("undo", "--study", self.place / "study", "--times", 2, "--json").stdout
        self.assertEqual(
            [r["step"] for r in json.loads(told)["rows"]], ["Rename “Two balls” to “Balls”", "Grow “Ball” from point"]
        )
        kestrelmist("redo", "--study", self.place / "study")
        with Study(self.place / "study") as again:
            self.assertEqual((int(again.labels(1).counts[1]), again.find(1).name), (TRUTH, "Two balls"))
        kestrelmist("redo", "--study", self.place / "study")
        self.assertIn("nothing to redo", kestrelmist("redo", "--study", self.place / "study", code=1).stderr)


class VersionsTest(PlaceCase):
    def test_name_compare_and_go_back(self):
        study = self.study_with_balls()
        self.addCleanup(study.close)
        study.run("grow", **GROW)
        study.run("name-version", labels="Two balls#Labels", name="Grown")
        study.run("erase", label="Ball", point=(4, 0, 0), diameter=20.0)
        left = study.labels(1).data.copy()
        versions = study.run("versions", labels="Two balls#Labels")
        self.assertEqual(dict(zip(versions.column("version"), versions.column("changes_since")))["Grown"], 1)
        table = study.run("compare-version", labels="Two balls#Labels", version="Grown")
        row = dict(zip([c.name for c in table.columns], table.rows[0]))
        now = int((left > 0).sum())
        self.assertAlmostEqual(row["dice"], 2 * now / (now + TRUTH), places=4)
        self.assertEqual(int(state_of(study, study.in_hand(1), "grown").counts[1]), TRUTH)
        study.run("back-to-version", labels="Two balls#Labels", version="Grown")
        self.assertEqual(int(study.labels(1).counts[1]), TRUTH)
        study.history.undo()
        np.testing.assert_array_equal(study.labels(1).data, left)
        for name, said in (("grown", "a version .grown. of"), ("", "needs a name"), (" ", "needs a name")):
            with self.assertRaisesRegex(Trouble, said):
                study.run("name-version", labels="Two balls#Labels", name=name)
        with self.assertRaisesRegex(Trouble, "no version .Shrunk.*“Grown”"):
            study.run("back-to-version", labels="Two balls#Labels", version="Shrunk")

    def test_a_version_outlives_folding_and_undo(self):
        study = self.study_with_balls()
        study.run("grow", **GROW)
        study.run("name-version", labels="Two balls#Labels", name="Grown")
        for n in range(5):
            study.run("erase", label="Ball", point=(-6 + n, 0, 0), diameter=2.0)
        study.close()
        with Study(self.place / "study") as again:
            again.history.undo()
            again.run("paint", label="New", point=(0, 8, 0), diameter=1.0)
            self.assertEqual(int(state_of(again, again.in_hand(1), "Grown").counts[1]), TRUTH)
            self.assertIn(BEFORE, again.run("versions", labels="Two balls#Labels").column("version"))
            again.run("back-to-version", labels="Two balls#Labels", version=BEFORE)
            self.assertEqual(int(again.labels(1).counts[0]), two_balls().data.size)


class OldStudyTest(PlaceCase):
    """A study made by the layout before this one, with two subjects, three label maps, journal, logbook and view."""

    def setUp(self):
        super().setUp()
        with tarfile.open(OLD) as packed:
            packed.extractall(self.place, filter="data")
        (self.folder,) = [p.parent for p in self.place.rglob("study.db")]

    def test_nothing_is_lost(self):
        with Study(self.folder) as study:
            self.assertTrue((self.folder / "study.layout-3.db").exists())
            shelf = {r.id: (r.name, r.subject, r.space.shape, tuple(a.size for a in r.axes)) for r in study.records()}
            self.assertEqual([shelf[n][:2] for n in (1, 2, 3, 5)], [
                ("Two balls", "T-1"), ("Odour run", "T-1"), ("9", "T-2"), ("9, voxel size set", "T-2")
            ])  # fmt: skip
            self.assertNotIn(4, shelf)
            removed = study.items.get(4)
            self.assertTrue(removed.removed)
            self.assertEqual(shelf[2][3], (3,))
            for key in (1, 2, 3, 5):
                self.assertTrue(np.isfinite(study.image(key).frame((0,) * len(study.find(key).axes)).data).all())
            maps = study.label_maps(1)
            self.assertEqual(len(maps), 2)
            newest = study.label_map(study.in_hand(1))
            rows = {row.name: row for row in newest.table}
            self.assertTrue(rows["Bone <b>"].locked)
            self.assertEqual(rows["Other"].colour.upper(), "#123456")
            self.assertEqual([int(newest.counts[rows[n].number]) for n in ("Bone <b>", "Other")], [420, 8])
            self.assertEqual(len(study.logbook.entries()), 13)
            self.assertEqual(len(study.tables()), 1)
            self.assertGreater(len(study.table(study.tables()[0].id).rows), 0)
            self.assertEqual(study.catalogue.recall("theme", ""), "dusk")
            # undo reaches back across the change of layout
            before = int(newest.counts[0])
            self.assertIsNotNone(study.history.undo())
            study.history.redo()
            self.assertEqual(int(newest.counts[0]), before)

    def test_the_recipe_of_an_old_study_and_its_old_form(self):
        with Study(self.folder) as study:
            table = study.run("logbook", to=self.place / "steps.yaml")
            self.assertEqual(len(table.rows), 13)
        self.assertIn("operation:", (self.place / "steps.yaml").read_text())

    def test_labels_of_an_old_map_can_be_painted_further(self):
        with Study(self.folder) as study:
            labels = study.labels(1)
            self.assertIsInstance(labels, LabelMap)
            corner = study.find(1).space.to_world((1, 1, 1))
            study.run("paint", image=1, label="More", point=tuple(corner), diameter=1.0)
            self.assertGreater(int(labels.counts[labels.table.named("More").number]), 0)
