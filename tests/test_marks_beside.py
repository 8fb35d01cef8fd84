"""Marks beside a DICOM series: presentation states and measurement reports, read back by an independent library."""

import math
import unittest
from dataclasses import replace

import highdicom
import numpy as np
import pydicom

from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.space import picture_space
from kestrelmist.report.marks_beside import marks_beside
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, dicom_folder, opened, two_balls


class BesideTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.files = dicom_folder(self.place / "scans", two_balls())
        (self.image,) = opened(self.place / "scans")
        self.before = {path: path.read_bytes() for path in self.files}

    def at(self, i: float, j: float, k: float) -> tuple:
        """A world position by places in pixels from the corner."""
        return tuple(self.image.space.to_world((i - 0.5, j - 0.5, k)).tolist())

    def marks(self) -> Marks:
        up = self.image.space.affine[:3, 2] / np.linalg.norm(self.image.space.affine[:3, 2])
        up = tuple(up.tolist())
        made = [
            Mark("line", (self.at(3, 4, 2), self.at(9, 12, 2)), normal=up, name="width"),
            Mark("angle", (self.at(3, 4, 3), self.at(6, 4, 3), self.at(6, 9, 3)), normal=up, colour="#12AB9F"),
            Mark("polygon", (self.at(3, 3, 2), self.at(7, 3, 2), self.at(7, 8, 2), self.at(3, 8, 2)), normal=up),
            Mark("arrow", (self.at(3, 4, 2), self.at(9, 4, 2)), normal=up, text="here"),
            Mark("point", (self.at(5, 5, 1),)),
            Mark("line", (self.at(3, 4, 0), self.at(9, 12, 4)), name="through"),
        ]
        return Marks.numbered(made, world=self.image.space.world, name="Reader A")

    def tearDown(self):
        for path, text in self.before.items():
            self.assertEqual(path.read_bytes(), text)  # originals are untouched
        super().tearDown()

    def header(self, k: int):
        space = self.image.space
        for path in self.files:
            ds = pydicom.dcmread(path)
            place = np.array(ds.ImagePositionPatient, float) * (-1, -1, 1)
            if round(float(space.to_voxel(place)[2])) == k:
                return ds
        raise AssertionError(k)

    def test_a_presentation_state(self):
        path = self.place / "marks.dcm"
        table = marks_beside(self.image, self.marks(), path)
        self.assertEqual(table.column("written")[-1], "lies in no slice")
        ds = pydicom.dcmread(path)
        one = self.header(2)
        self.assertEqual((ds.Modality, ds.SOPClassUID), ("PR", "1.2.840.10008.5.1.4.1.1.11.1"))
        for name in ("StudyInstanceUID", "PatientID", "PatientName"):
            self.assertEqual(ds[name].value, one[name].value)
        self.assertNotEqual(ds.SeriesInstanceUID, one.SeriesInstanceUID)
        (series,) = ds.ReferencedSeriesSequence
        self.assertEqual(len(series.ReferencedImageSequence), len(self.files))
        drawn = ds.GraphicAnnotationSequence
        self.assertEqual(len(drawn), 5)
        line = drawn[0]
        self.assertEqual(line.ReferencedImageSequence[0].ReferencedSOPInstanceUID, one.SOPInstanceUID)
        np.testing.assert_allclose(line.GraphicObjectSequence[0].GraphicData, [3, 4, 9, 12], atol=1e-5)
        spacing = self.image.space.spacing
        length = math.hypot(6 * spacing[0], 8 * spacing[1])
        said = line.TextObjectSequence[0].UnformattedTextValue
        self.assertTrue(said.startswith("width "))
        self.assertAlmostEqual(float(said.split()[1]), length, delta=0.01 * length)
        self.assertTrue(said.endswith("mm"))
        square = drawn[2].GraphicObjectSequence[0]
        self.assertEqual((square.GraphicType, square.NumberOfGraphicPoints, square.GraphicFilled), ("POLYLINE", 5, "N"))
        self.assertEqual(len(drawn[3].GraphicObjectSequence), 2)  # the arrow and its head
        self.assertEqual(drawn[4].GraphicObjectSequence[0].GraphicType, "POINT")
        layers = {layer.GraphicLayer for layer in ds.GraphicLayerSequence}
        self.assertEqual(len(layers), 2)
        self.assertTrue({item.GraphicLayer for item in drawn} <= layers)
        self.assertEqual(drawn[4].ReferencedImageSequence[0].ReferencedSOPInstanceUID, self.header(1).SOPInstanceUID)
        area = ds.DisplayedAreaSelectionSequence[0]
        self.assertEqual(list(area.DisplayedAreaBottomRightHandCorner), [one.Columns, one.Rows])

    def test_a_report_is_read_by_another_library(self):
        path = self.place / "report.dcm"
        marks_beside(self.image, self.marks(), path, "structured report")
        report = highdicom.sr.srread(path)
        groups = report.content.get_image_measurement_groups()
        self.assertEqual([one.tracking_identifier for one in groups], ["width", "angle 2", "polygon 3"])
        found = {m.name.meaning: m for one in groups for m in one.get_measurements()}
        spacing = self.image.space.spacing
        self.assertAlmostEqual(found["Length"].value, math.hypot(6 * spacing[0], 8 * spacing[1]), places=6)
        self.assertAlmostEqual(found["Angle"].value, 90.0, places=6)
        self.assertAlmostEqual(found["Area"].value, 20 * spacing[0] * spacing[1], places=6)
        self.assertEqual(found["Area"].unit.value, "mm2")
        ds = pydicom.dcmread(path)
        measured = ds.ContentSequence[-1].ContentSequence[0].ContentSequence[2]
        place = next(item for item in measured.ContentSequence if item.ValueType == "SCOORD")
        np.testing.assert_allclose(place.GraphicData, [3, 4, 9, 12], atol=1e-5)
        image = place.ContentSequence[0].ReferencedSOPSequence[0]
        self.assertEqual(image.ReferencedSOPInstanceUID, self.header(2).SOPInstanceUID)
        comment = next(item for item in measured.ContentSequence if item.ValueType == "TEXT")
        self.assertRegex(comment.TextValue, r"^[\d.]+ ± [\d.]+ mm \(95 %\)$")

    def test_words_of_any_kind(self):
        for said in ("a\x00b\nc", "日本 <b>", "\\one\\two", "x" * 3000):
            marks = self.marks()
            named = Marks({1: replace(marks[1], name=said, text=said)}, world=marks.world, name=said)
            for kind in ("presentation state", "structured report"):
                marks_beside(self.image, named, self.place / "x.dcm", kind, replace=True)
                ds = pydicom.dcmread(self.place / "x.dcm")
                self.assertIsInstance(ds.SeriesDescription, str)  # one value
                self.assertIn(said[:2].strip("\x00\\"), str(ds))

    def test_in_a_study_and_by_command(self):
        with Study(self.place / "S", create=True) as study:
            study.run("gather", folder=self.place / "scans")
            study.run("mark", marks="Two balls", points="0,0,0; 3,0,0", shape="line")
            middle = study.find("Two balls").grid.centre
            study.run("delete-marks", marks="Two balls", which="all")
            k = round(float(study.find("Two balls").grid.to_voxel(middle)[2]))
            z = float(study.find("Two balls").grid.to_world((0, 0, k))[2])
            study.run("mark", marks="Two balls", points=f"0,0,{z}; 3,0,{z}", shape="line")
        kestrelmist("marks-beside", "Two balls", "--to", self.place / "pr.dcm", "--study", self.place / "S")
        self.assertEqual(len(pydicom.dcmread(self.place / "pr.dcm").GraphicAnnotationSequence), 1)

    def test_what_has_no_files_or_nothing_to_say(self):
        picture = Image(np.zeros((8, 8, 1), np.uint8, order="F"), picture_space(8, 8, (1, 1)), "drawn")
        spot = Marks.numbered([Mark("point", ((0, 0, 0),))], world=picture.space.world, name="M")
        path = self.place / "kept.dcm"
        path.write_bytes(b"before")
        with self.assertRaisesRegex(Trouble, "“drawn” does not come from DICOM files"):
            marks_beside(picture, spot, path, replace=True)
        through = Marks({6: self.marks()[6]}, world=self.image.space.world, name="M")
        with self.assertRaisesRegex(Trouble, "No mark of “M” lies in a slice"):
            marks_beside(self.image, through, path, replace=True)
        point = Marks({5: self.marks()[5]}, world=self.image.space.world, name="M")
        with self.assertRaisesRegex(Trouble, "Nothing is measured of “M”"):
            marks_beside(self.image, point, path, "structured report", replace=True)
        with self.assertRaisesRegex(Trouble, "written as .dcm"):
            marks_beside(self.image, self.marks(), self.place / "x.pdf")
        self.assertEqual(path.read_bytes(), b"before")
        self.files[0].unlink()
        del self.before[self.files[0]]
        with self.assertRaisesRegex(Trouble, "can no longer be read"):
            marks_beside(self.image, self.marks(), path, replace=True)


if __name__ == "__main__":
    unittest.main()
