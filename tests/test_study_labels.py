"""Labels of a whole study: where two maps disagree, the end of each day, files by a name pattern, templates."""

import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrelmist.core.errors import Partly, Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.core.world import World
from kestrelmist.formats.label_files import read_label_map
from kestrelmist.formats.saving import save_thing
from kestrelmist.outline.contours.lay_regions import lay_regions
from kestrelmist.outline.disagreements import list_disagreements
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import PlaceCase, keep_thing, straight_space, two_balls
from tests.test_bridge import ellipsoid
from tests.test_shaping import mapped

GROW = {"label": "Ball", "point": (-4, 0, 0), "low": 500, "high": 2000}


class DisagreementsTest(unittest.TestCase):
    def setUp(self):
        self.space = straight_space((40, 36, 32), 0.5)
        self.body = ellipsoid(self.space, (0, 0, 0), (5, 5, 5))

    def test_each_place_with_its_size_and_thickness(self):
        mine, theirs = self.body.copy(), self.body.copy()
        mine[2:5, 2:7, 2:11] = True  # 3 × 5 × 9 voxels that only this one has
        theirs[28:30, 30:31, 20:26] = True  # 2 × 1 × 6 that only the other has
        table = list_disagreements(mapped(self.space, Eye=mine), mapped(self.space, Eye=theirs))
        rows = [dict(zip([c.name for c in table.columns], row)) for row in table.rows]
        self.assertEqual([round(r["volume"] / 0.125) for r in rows], [135, 12])
        self.assertEqual([round(r["thickness"], 6) for r in rows], [1.5, 0.5])
        for row, mask in zip(rows, (mine & ~theirs, theirs & ~mine)):
            i, j, k = self.space.nearest_voxel([row[a] for a in "xyz"])
            self.assertTrue(mask[k, j, i])
        self.assertEqual(
            list_disagreements(mapped(self.space, Eye=mine), mapped(self.space, Eye=theirs), thick=0.6).count, 1
        )

    def test_nothing_one_label_and_other_names(self):
        one = mapped(self.space, Eye=self.body)
        self.assertEqual(list_disagreements(one, one).count, 0)
        self.assertEqual(list_disagreements(one, mapped(self.space, Eye=~self.body)).count, 2)
        with self.assertRaisesRegex(Trouble, "no label of the same name"):
            list_disagreements(one, mapped(self.space, Ear=self.body))
        with self.assertRaisesRegex(Trouble, "no label “Eye”"):
            list_disagreements(one, mapped(self.space, Ear=self.body), "Eye")

    def test_on_a_picture(self):
        flat = Space((40, 30, 1), np.diag([0.001, 0.001, 1.0, 1.0]))
        square = np.zeros((1, 30, 40), bool)
        square[0, 5:15, 5:15] = True
        wider = square.copy()
        wider[0, 5:15, 15:17] = True
        (row,) = list_disagreements(mapped(flat, A=wider), mapped(flat, A=square)).rows
        self.assertAlmostEqual(row[5], 20e-6)
        self.assertAlmostEqual(row[6], 0.001)


class DailyTest(PlaceCase):
    def test_the_end_of_each_day_is_a_version(self):
        with self.study_with_balls() as study:
            for day, diameter in (("2026-05-01", 2.0), ("2026-05-02", 3.0), ("2026-05-02", 4.0)):
                with mock.patch("kestrelmist.study.journal.history.now", lambda day=day: f"{day}T17:00:00+00:00"):
                    study.run("paint", label="Dot", point=(0, 8, 0), diameter=diameter)
            counts = []
            study.run("paint", label="Dot", point=(0, 8, 0), diameter=6.0)
            names = [row[0] for row in study.run("versions", labels="Two balls#Labels").rows]
            self.assertEqual(names, ["End of 2026-05-02", "End of 2026-05-01"])
            for name in ("End of 2026-05-01", "End of 2026-05-02"):
                (row,) = study.run("compare-version", labels="Two balls#Labels", version=name).rows
                counts.append(row[2])
            now = study.labels(1).counts[1] * 0.125
            self.assertLess(counts[0], counts[1])
            self.assertLess(counts[1], now)
            table = study.run("version-disagreements", labels="Two balls#Labels", version=names[0])
            self.assertAlmostEqual(sum(row[5] for row in table.rows), now - counts[1])
            study.run("back-to-version", labels="Two balls#Labels", version="End of 2026-05-01")
            self.assertAlmostEqual(study.labels(1).counts[1] * 0.125, counts[0])
            with self.assertRaisesRegex(Trouble, "There is a version “End of 2026-05-01”"):
                study.run("name-version", labels="Two balls#Labels", name="End of 2026-05-01")


class ExportStudyTest(PlaceCase):
    def study_of_two(self) -> Study:
        study = self.study_with_balls()
        balls = two_balls()
        save_thing(self.place / "second.nii.gz", Image(balls.data, balls.space, "Second"))
        study.run("gather", folder=self.place / "second.nii.gz", subject="S-2")
        for image in study.records():
            study.run("grow", image=image.id, **GROW)
        study.run("new-labels", image=1, name="Anna", copy="T-1/Two balls#Labels")
        return study

    def test_every_map_in_hand_by_a_pattern(self):
        with self.study_of_two() as study:
            table = study.run(
                "export-study-labels", as_="nifti", to=self.place / "out", pattern="{subject}/{image} {name} {number}"
            )
            written = sorted(str(p.relative_to(self.place / "out")) for p in (self.place / "out").rglob("*.nii.gz"))
            self.assertEqual(written, ["S-2/second Labels 1.nii.gz", "T-1/Two balls Anna 2.nii.gz"])
            for row in [r for r in table.rows if r[-1].endswith(".nii.gz")]:
                back = read_label_map(Path(row[-1]))
                np.testing.assert_array_equal(back.kji > 0, study.labels(1).kji > 0)
            self.assertEqual(study.tables()[0].name, table.title)
            study.run("export-study-labels", as_="png", to=self.place / "all", which="all")
            self.assertEqual(len(list((self.place / "all").iterdir())), 3)
            self.assertTrue(any("image" in p.name for p in (self.place / "all").rglob("*.png")))

    def test_nothing_is_written_where_names_meet_or_are_taken(self):
        with self.study_of_two() as study:
            for given, words in (
                ({"pattern": "labels"}, "would both be called"),
                ({"pattern": "../{subject}"}, "no name below a folder"),
                ({"pattern": "/x/{name}"}, "no name below a folder"),
                ({"pattern": ""}, "no name below a folder"),
            ):
                with self.subTest(given=given), self.assertRaisesRegex(Trouble, words):
                    study.run("export-study-labels", as_="nrrd", to=self.place / "none", **given)
                self.assertFalse((self.place / "none").exists())
            there = self.place / "none" / "S-2.nrrd"
            there.parent.mkdir()
            there.write_text("mine")
            with self.assertRaisesRegex(Trouble, "file of this name"):
                study.run("export-study-labels", as_="nrrd", to=self.place / "none", pattern="{subject}")
            self.assertEqual([p.name for p in there.parent.iterdir()], ["S-2.nrrd"])
            there.unlink()
            there.parent.rmdir()
            there.parent.write_text("a file where a folder is to be")
            with self.assertRaises(Partly):
                study.run("export-study-labels", as_="nrrd", to=self.place / "none", pattern="{subject} {name}")

    def test_by_command(self):
        self.study_of_two().close()
        told = kestrelmist(
            "export-study-labels", "--as", "geojson", "--to", self.place / "g", "--study", self.place / "study"
        )
        self.assertEqual(len(list((self.place / "g").glob("*.geojson"))), 2)
        self.assertIn("second", told.stdout)


class TemplateTest(PlaceCase):
    """Regions drawn on one image are laid onto another of another size and place."""

    def setUp(self):
        super().setUp()
        self.here = Image(np.zeros((40, 36, 32), np.int16), straight_space((40, 36, 32), 0.5), "Here")
        other = straight_space((20, 72, 16), 0.25)
        affine = other.affine.copy()
        affine[:3, 3] += (7.0, -3.0, 11.0)
        self.there = Image(np.zeros((20, 72, 16), np.int16), Space((20, 72, 16), affine), "There", "S-2")
        points = ((-2.0, -1.0, 0.0), (2.0, -1.0, 0.0), (2.0, 1.0, 0.0))
        self.mark = Mark("polygon", points, 1, (0.0, 0.0, 1.0), name="Left")
        space = self.here.space
        self.marks = Marks({1: self.mark}, space.world, space.unit, "Regions", of="Here")

    def test_from_middle_by_share_and_by_voxels(self):
        voxel = self.here.space.to_voxel(self.mark.array)
        laid = lay_regions(self.marks, self.there, drawn_on=self.here)
        np.testing.assert_allclose(
            laid[1].array - self.there.space.centre, self.mark.array - self.here.space.centre, atol=1e-9
        )
        self.assertEqual((laid[1].name, laid.of, laid.subject), ("Left", "There", "S-2"))
        share = lay_regions(self.marks, self.there, "share", drawn_on=self.here)
        at = (self.there.space.to_voxel(share[1].array) + 0.5) / self.there.space.shape
        np.testing.assert_allclose(at, (voxel + 0.5) / self.here.space.shape, atol=1e-9)
        same = lay_regions(self.marks, self.there, "voxels", drawn_on=self.here)
        np.testing.assert_allclose(self.there.space.to_voxel(same[1].array), voxel, atol=1e-9)

    def test_wrong_input_and_by_file(self):
        empty = Marks({}, self.here.space.world, "mm", "None")
        with self.assertRaisesRegex(Trouble, "no mark"):
            lay_regions(empty, self.there, drawn_on=self.here)
        with self.assertRaisesRegex(Trouble, "Nothing says where"):
            lay_regions(self.marks, drawn_on=self.here)
        with self.assertRaisesRegex(Trouble, "Nothing says which image"):
            lay_regions(self.marks, self.there)
        bare = Image(np.zeros((9, 9, 1), np.int16), Space((9, 9, 1), np.eye(4), "px"), "Bare")
        with self.assertRaisesRegex(Trouble, "give both a scale, or lay by share"):
            lay_regions(self.marks, bare, drawn_on=self.here)
        files = [self.place / name for name in ("here.nii.gz", "t.geojson", "there.nii.gz", "laid.geojson")]
        for file, thing in zip(files, (self.here, self.marks, self.there)):
            save_thing(file, thing)
        kestrelmist("lay-regions", files[1], "--onto", files[2], "--drawn-on", files[0], "--out", files[3])
        self.assertTrue(files[3].exists())

    def test_in_a_study_the_image_it_was_drawn_on_is_known(self):
        with Study(self.place / "study", create=True) as study:
            for image, name, subject in ((self.here, "here", "S-1"), (self.there, "there", "S-2")):
                save_thing(self.place / f"{name}.nii.gz", image)
                study.run("gather", folder=self.place / f"{name}.nii.gz", subject=subject)
            study.run("mark", marks="S-1/here", shape="polygon", points="-2,-1,0; 2,-1,0; 0,2,0")
            study.run("lay-regions", template="S-1/here#Marks", onto="S-2/there")
            there = study.find("S-2/there")
            marks = study.marks.on(there.id)
            self.assertEqual(len(marks), 1)
            middle = next(iter(marks)).array.mean(0) - there.grid.centre
            np.testing.assert_allclose(middle, -study.find("S-1/here").grid.centre, atol=1e-5)


class SteppingDeskTest(DeskCase):
    def test_rows_with_places_are_gone_to(self):
        with self.study_with_balls() as study:
            study.run("grow", **GROW)
            study.run("new-labels", image=1, name="Anna", copy="Two balls#Labels")
            study.run("paint", labels="Two balls#Anna", label="Ball", point=(4, 6, 3), diameter=2.0)
            study.run("paint", labels="Two balls#Anna", label="Ball", point=(-4, -6, -3), diameter=1.2)
            study.run("list-disagreements", labels="Two balls#Anna", other="Two balls#Labels")
        window = self.open(self.place / "study")
        window.drawer.open_page("tables")
        self.settle(window)
        view, viewing = window.drawer.result_view, window.desk.viewing
        self.assertEqual(window.drawer.results.rowCount(), 2)
        where = view.visualRect(window.drawer.results.index(0, 1)).center()
        QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, where)
        self.assertLess(float(np.abs(np.asarray(viewing.crosshair) - (4, 6, 3)).max()), 1.1)
        view.setFocus()
        QTest.keyClick(view, Qt.Key.Key_Down)
        self.settle(window)
        self.assertLess(float(np.abs(np.asarray(viewing.crosshair) - (-4, -6, -3)).max()), 0.8)
        balls = two_balls()
        spaces = [window.desk.study.find("T-1/Two balls").space, balls.space.in_world(World("elsewhere"))]
        self.assertTrue(spaces[0].world.id)
        other = keep_thing(window.desk.study, Image(balls.data + 1, spaces[1], "Elsewhere"))
        viewing.show_image(other)
        self.settle(window)
        at, said = np.array(viewing.crosshair), []
        window.desk.session.said.connect(said.append)
        QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, where)
        np.testing.assert_array_equal(viewing.crosshair, at)
        self.assertIn("places of this table are of “Two balls”", said[0])
        self.assertEqual(self.troubles, [])


if __name__ == "__main__":
    unittest.main()
