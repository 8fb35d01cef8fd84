from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrelmist.core.image import Image
from kestrelmist.demo.overwintering import demo_study, put_in_place, scenes
from kestrelmist.demo.scans import head_ct_space, head_mr_space
from kestrelmist.demo.scenes.head import positioning_space
from kestrelmist.formats.dicom.scan import scan_folder
from kestrelmist.formats.dicom.series import series_image
from kestrelmist.formats.label_files import read_label_map
from kestrelmist.formats.nifti import read_nifti
from kestrelmist.formats.opening import open_image
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase
from tests.making import PlaceCase

JOINTS = ((-4.60, -3.28, -2.02), (4.77, -3.27, -1.85))
IN_THE_SKULL = (-0.6, 3.45, -1.8)


class DemoTest(DeskCase):
    @classmethod
    def setUpClass(cls):
        cls.scenes = scenes()

    def ct(self) -> Image:
        found = {s.description: s for s in scan_folder(self.scenes.incoming)}
        self.assertEqual(
            sorted(found),
            [
                "Field map",
                "Field map, phase difference",
                "Head CT",
                "Head from above",
                "Head from the left",
                "Head with a marker",
                "Heart clip",
                "Odour run",
                "Odour run, single volume",
                "Positioning scan",
                "Tracer, whole body",
            ],
        )
        self.assertTrue(all(not s.problems for s in found.values()))
        return series_image(found["Head CT"])

    def test_scans_lie_where_they_should(self):
        image = self.ct()
        self.assertTrue(image.space.same_grid(head_ct_space()))
        self.assertEqual(image.space.shape, (384, 384, 360))
        mr = read_nifti(self.scenes.mr)
        self.assertTrue(mr.space.same_grid(head_mr_space()))
        tilt = np.abs(mr.space.affine[:3, :3] / 0.16)
        self.assertGreater(np.degrees(np.arccos(np.diag(tilt))).max(), 3)
        plan = next(s for s in scan_folder(self.scenes.incoming) if s.description == "Positioning scan")
        self.assertTrue(series_image(plan).space.same_grid(positioning_space()))

    def test_truth_agrees_with_itself_and_with_the_scan(self):
        truth = self.scenes.truth["volumes_mm3"]
        labels = self.scenes.true_label_map("ct")
        for number, tissue in ((1, "Lower jaw"), (2, "Skull")):
            counted = float(labels.counts[number]) * labels.space.voxel_volume
            self.assertAlmostEqual(counted / truth[tissue], 1.0, delta=0.005)
        image = self.ct()
        depth = labels.data == 2
        core = (
            depth[1:-1, 1:-1, 1:-1]
            & depth[2:, 1:-1, 1:-1]
            & depth[:-2, 1:-1, 1:-1]
            & depth[1:-1, 2:, 1:-1]
            & depth[1:-1, :-2, 1:-1]
        )
        inside = image.data[1:-1, 1:-1, 1:-1][core]
        self.assertGreater(np.percentile(inside, 5), 700)
        self.assertLess(np.percentile(image.data[labels.data == 0], 99), 400)

    def test_air_is_that_of_a_ct(self):
        air = self.ct().data[4:60, 4:60, ::3].astype(float)  # a corner outside the animal; cut off at −1024
        self.assertLess(abs(np.median(air) + 1000), 6)

    def test_the_skull_through_the_window_is_within_2_percent(self):
        folder = demo_study(self.place / "Overwintering")
        window = self.open(folder)
        desk, bench = window.desk, window.bench
        self.assertEqual([row.name for row in desk.viewing.maps.labels.table], ["Hippocampus", "Ventricles"])
        self.press(bench.gather.waiting)
        self.settle(window)
        for line in bench.gather.lines:
            line.take = line.name == "Head CT"
        bench.gather._count()
        self.press(bench.gather.take)
        self.settle(window)
        self.assertEqual(
            (desk.viewing.record.name, desk.viewing.record.unit, desk.viewing.image.data.dtype),
            ("Head CT", "HU", np.int16),
        )
        desk.viewing.set_stage("Outline")
        QTest.keyClicks(bench.outline.groups["labels"].new, "Skull")
        QTest.keyClick(bench.outline.groups["labels"].new, Qt.Key.Key_Return)
        ready = bench.outline.groups["range"].ready
        ready.setCurrentIndex(ready.findText("Bone"))
        ready.activated.emit(ready.currentIndex())
        self.assertEqual((desk.hand.settings.low, desk.hand.settings.high), (300, 3000))
        self.press(bench.outline.groups["range"].half_way)
        self.settle(window)
        self.assertAlmostEqual(desk.hand.settings.low, 670, delta=25)
        self.press(bench.outline.groups["tools"].buttons["grow"])
        desk.viewing.go_to(IN_THE_SKULL)
        self.click(window, 0, IN_THE_SKULL)
        truth = self.scenes.truth["volumes_mm3"]

        def volume():
            return float(desk.viewing.maps.labels.counts[1]) * desk.viewing.maps.labels.space.voxel_volume

        self.assertGreater(volume(), 0.97 * (truth["Skull"] + truth["Lower jaw"]))
        self.press(bench.outline.groups["tools"].buttons["eraser"])
        desk.hand.set_settings(size=1.5)
        for joint in JOINTS:
            desk.viewing.go_to(joint)
            self.click(window, 0, joint)
        self.press(bench.outline.groups["tools"].buttons["grow"])
        desk.viewing.go_to(IN_THE_SKULL)
        self.click(window, 0, IN_THE_SKULL)
        self.assertAlmostEqual(volume() / truth["Skull"], 1.0, delta=0.02)
        true = self.scenes.true_label_map("ct").data == 2
        made = desk.viewing.maps.labels.data == 1
        overlap = 2 * np.count_nonzero(true & made) / (np.count_nonzero(true) + np.count_nonzero(made))
        self.assertGreater(overlap, 0.97)
        self.press(bench.go_measure)
        self.settle(window)
        self.assertAlmostEqual(window.drawer.results.table.column("volume")[0], volume())
        self.assertEqual(self.troubles, [])


class SecondAnimalTest(PlaceCase):
    """What was added of a second animal and by a colleague, against what is written down as true."""

    def test_weightings_show_the_same_animal_the_other_way_round(self):
        found = scenes()
        numbers = found.true_label_map("t1")
        mean = {}
        for name in ("T1", "T2", "PD"):
            image = read_nifti(found.folder / f"head {name}.nii")
            inside = numbers.space.to_world(np.argwhere(numbers.data == 2)[::7])
            fluid = [image.data[v] for w in inside if (v := image.space.nearest_voxel(w)) is not None]
            brain = [image.data[v] for x in (-3.0, 3.0) if (v := image.space.nearest_voxel((x, -1.0, 1.0))) is not None]
            mean[name] = np.median(fluid) / np.mean(brain)
        self.assertLess(mean["T1"], 0.8)
        self.assertGreater(mean["T2"], 1.2)
        self.assertEqual(len({read_nifti(found.folder / f"head {n}.nii").space.shape for n in mean}), 3)

    def test_the_response_is_where_it_is_said_to_be(self):
        found = scenes()
        image = read_nifti(found.folder / "response to the odour.nii")
        for place in found.truth["response"]:
            at = image.space.nearest_voxel(place["middle"])
            near = image.data[tuple(slice(n - 1, n + 2) for n in at)]
            highest = near.max() if place["t"] > 0 else near.min()
            self.assertAlmostEqual(highest, place["t"], delta=2.2)  # noise of spread 0.8, between voxels

    def test_the_colleagues_mistakes(self):
        found = scenes()
        labels, true = read_label_map(found.folder / "labels by a colleague.nii.gz"), found.true_label_map("t1")
        self.assertEqual([row.number for row in labels.table], [1, 2, 4])
        wrong = np.argwhere((labels.data == 2) & (true.data != 2)).tolist()
        self.assertEqual(sorted(wrong), sorted(found.truth["colleague"]["wrong_voxels"]))

    def test_the_whole_section_is_a_pyramid(self):
        found = scenes()
        image = open_image(found.folder / "brown fat, whole.ome.tif")
        self.assertGreaterEqual(image.space.shape[0], 20_000)
        self.assertGreaterEqual(image.space.shape[1], 15_000)
        self.assertEqual(len(image.levels), 4)
        self.assertAlmostEqual(image.space.spacing[0], 0.0005)
        with Study(demo_study(self.place / "Overwintering")) as study:
            by_name = {(r.subject, r.name): r for r in study.records()}
            self.assertEqual(by_name["HM-08", "Response map"].unit, "t")
            first = by_name["HM-07", "Head T1"]
            self.assertEqual([m.name for m in study.label_maps(first.id)], ["Labels", "By a colleague"])


class InPlaceTest(PlaceCase):
    def made(self, text: str) -> Path:
        made = self.place / ".beside.part"
        (made / "truth").mkdir(parents=True)
        (made / "truth" / "truth.json").write_text(text)
        (made / "head.nii").write_text(text)
        return made

    def test_the_first_of_two_that_made_it_stays(self):
        folder = self.place / "scenes"
        for text in ("first", "second"):
            put_in_place(self.made(text), folder, "truth/truth.json")
        self.assertEqual([p.name for p in self.place.iterdir()], ["scenes"])
        self.assertEqual((folder / "truth" / "truth.json").read_text(), "first")
        self.assertEqual((folder / "head.nii").read_text(), "first")

    def test_beside_what_a_folder_holds_already(self):
        folder = self.place / "scenes"
        folder.mkdir()
        (folder / "notes.txt").write_text("mine")
        put_in_place(self.made("first"), folder, "truth/truth.json")
        self.assertEqual(sorted(p.name for p in folder.iterdir()), ["head.nii", "notes.txt", "truth"])
