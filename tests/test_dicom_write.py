"""New DICOM series: what other programs need of them, and that nothing of the image is lost."""

import numpy as np
import pydicom
import SimpleITK as sitk

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space, picture_space
from kestrelmist.core.world import World
from kestrelmist.formats.dicom.scan import scan_folder
from kestrelmist.formats.dicom.series import series_image
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.gather.plan import plan_folder
from kestrelmist.scene.showing import value_text
from tests.making import PlaceCase, dicom_folder, straight_space, two_balls

RNG = np.random.default_rng(81)


class DicomWriteTest(PlaceCase):
    def written(self, image: Image, name="new.dicom"):
        save_image(self.place / name, image)
        return [pydicom.dcmread(p) for p in sorted((self.place / name).iterdir())]

    def test_slices_say_what_they_are_and_where(self):
        image = two_balls()
        found = self.written(image)
        self.assertEqual(len(found), 32)
        self.assertEqual({str(ds.SOPClassUID) for ds in found}, {"1.2.840.10008.5.1.4.1.1.2"})
        self.assertEqual(len({str(ds.SOPInstanceUID) for ds in found}), 32)
        self.assertEqual(
            len({(str(ds.SeriesInstanceUID), str(ds.StudyInstanceUID), str(ds.FrameOfReferenceUID)) for ds in found}), 1
        )
        ds = found[5]
        self.assertEqual(
            (ds.Modality, ds.PatientID, ds.SeriesDescription, ds.InstanceNumber, ds.RescaleType),
            ("CT", "T-1", "Two balls", 6, "HU"),
        )
        self.assertEqual(ds.file_meta.MediaStorageSOPInstanceUID, ds.SOPInstanceUID)
        self.assertEqual(ds.file_meta.TransferSyntaxUID, "1.2.840.10008.1.2.1")
        self.assertEqual([float(v) for v in ds.PixelSpacing], [0.5, 0.5])
        self.assertEqual(ds.ImageType[:2], ["DERIVED", "SECONDARY"])

    def test_an_independent_reader_sees_the_same_volume(self):
        image = two_balls()
        self.written(image)
        reader = sitk.ImageSeriesReader()
        reader.SetFileNames(reader.GetGDCMSeriesFileNames(str(self.place / "new.dicom")))
        theirs = reader.Execute()
        for voxel in ((3, 4, 5), (20, 18, 16), (12, 17, 15)):
            world = np.array(theirs.TransformIndexToPhysicalPoint(voxel)) * (-1, -1, 1)
            at = image.space.nearest_voxel(world)
            self.assertEqual(theirs.GetPixel(*voxel), int(image.data[at]))

    def test_a_series_over_time_comes_back_in_order(self):
        image = Image(
            RNG.integers(0, 999, (6, 5, 4, 3)).astype(np.uint16),
            straight_space((6, 5, 4)),
            "Run",
            "T-2",
            "MR",
            axes=(Axis.even("time", 3, 1.5, "s"),),
        )
        found = self.written(image)
        self.assertEqual({str(ds.SOPClassUID) for ds in found}, {"1.2.840.10008.5.1.4.1.1.4"})
        self.assertEqual([ds.TemporalPositionIdentifier for ds in found], [1] * 4 + [2] * 4 + [3] * 4)
        back = series_image(scan_folder(self.place / "new.dicom")[0])
        self.assertEqual(back.axes[0].step, 1.5)
        for t in range(3):
            for voxel in ((0, 0, 0), (5, 4, 3), (2, 1, 2)):
                self.assertEqual(
                    back.stored((t,)).exact()[back.space.nearest_voxel(image.space.to_world(voxel))],
                    image.data[(*voxel, t)],
                )

    def test_real_numbers_become_a_parametric_map(self):
        image = Image(
            RNG.normal(0, 1, (6, 5, 4)).astype(np.float32), straight_space((6, 5, 4)), "T1 map", "T-2", "MR", "ms"
        )
        (ds,) = self.written(image)
        self.assertEqual(
            (str(ds.SOPClassUID), ds.NumberOfFrames, ds.BitsAllocated), ("1.2.840.10008.5.1.4.1.1.30", 4, 32)
        )
        np.testing.assert_array_equal(np.frombuffer(ds.FloatPixelData, "<f4").reshape(4, 5, 6), image.kji)
        back = open_image(self.place / "new.dicom")
        self.assertEqual(back.unit, "ms")
        self.assertEqual(value_text(back, back.space.centre), "–")  # not read yet
        np.testing.assert_array_equal(np.sort(back.data.ravel()), np.sort(image.data.ravel()))

    def test_pictures_without_sides(self):
        image = Image(
            RNG.integers(0, 255, (20, 10, 1, 3)).astype(np.uint8),
            picture_space(20, 10, (0.1, 0.1)),
            "Photo",
            "T-2",
            colour=True,
        )
        (ds,) = self.written(image)
        self.assertNotIn("ImagePositionPatient", ds)
        self.assertEqual((ds.PhotometricInterpretation, [float(v) for v in ds.PixelSpacing]), ("RGB", [0.1, 0.1]))
        deep = Image(RNG.integers(0, 255, (20, 10, 3)).astype(np.uint8), picture_space(20, 10, (0.1, 0.1), 3), "Stack")
        with self.assertRaisesRegex(Trouble, "does not know its sides"):
            save_image(self.place / "deep.dicom", deep)
        self.assertFalse((self.place / "deep.dicom").exists())

    def test_a_folder_that_is_not_empty_is_refused(self):
        self.written(two_balls())
        with self.assertRaisesRegex(Trouble, "holds something already"):
            save_image(self.place / "new.dicom", two_balls())

    def test_what_was_read_stays_with_its_study(self):
        dicom_folder(self.place / "scans", two_balls())
        source = open_image(self.place / "scans")
        found = self.written(source)
        original = pydicom.dcmread(source.origin.files[0])
        self.assertEqual(found[0].StudyInstanceUID, original.StudyInstanceUID)
        self.assertNotEqual(found[0].SeriesInstanceUID, original.SeriesInstanceUID)
        (line,) = plan_folder(self.place / "new.dicom")
        self.assertEqual((line.problems, line.subject, line.size), ([], "T-1", "40×36×32"))


class WorldTest(PlaceCase):
    def test_images_of_one_world_have_one_frame_of_reference(self):
        frames = []
        for n, world in enumerate(("scanner of T-1", "scanner of T-1", "scanner of T-2", "", "")):
            space = Space((4, 5, 3), np.diag([1.0, 1.0, 2.0, 1.0]), "mm", World(world))
            image = Image(np.arange(60, dtype=np.int16).reshape(4, 5, 3), space, f"in {n}", modality="MR")
            save_image(self.place / f"{n}.dicom", image)
            first = next(iter(sorted((self.place / f"{n}.dicom").rglob("*.dcm"))))
            frames.append(str(pydicom.dcmread(first).FrameOfReferenceUID))
        self.assertEqual(frames[0], frames[1])
        self.assertEqual(len(set(frames)), 4)
        self.assertNotIn("T-1", frames[0])
