import shutil

import numpy as np
import pydicom
import SimpleITK as sitk
from pydicom.uid import ImplicitVRLittleEndian, RLELossless

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import silent
from kestrelmist.demo.dicom_files import write_series
from kestrelmist.formats.dicom import header as dicom_header
from kestrelmist.formats.dicom.scan import scan_folder
from kestrelmist.formats.dicom.series import series_image
from kestrelmist.formats.opening import open_image
from kestrelmist.gather.gather import list_series
from tests.making import PlaceCase, dicom_folder, opened, tilted_space, two_balls


class DicomTest(PlaceCase):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(0)
        space = tilted_space((14, 18, 12), (0.5, 0.4, 0.7))
        self.image = Image(rng.integers(-1000, 3000, space.shape).astype(np.int16), space, "Tilted", "T-2", "CT", "HU")
        self.folder = self.place / "scans"
        self.files = dicom_folder(self.folder, self.image, "Tilted")

    def alter(self, path, **changes):
        dataset = pydicom.dcmread(path)
        for name, value in changes.items():
            if value is None:
                delattr(dataset, name)
            else:
                setattr(dataset, name, value)
        dataset.save_as(path, enforce_file_format=True)

    def only(self):
        found = scan_folder(self.folder)
        self.assertEqual(len(found), 1)
        return found[0]

    def test_values_and_positions_are_exact(self):
        image = series_image(self.only())
        image.fetch(silent())
        self.assertEqual(image.unit, "HU")
        self.assertEqual(image.data.dtype, np.int16)
        # the stack may be read from its other end; every world position must keep its value
        for voxel in map(tuple, np.random.default_rng(1).integers(0, (14, 18, 12), (40, 3))):
            world = self.image.space.to_world(voxel)
            self.assertEqual(image.value_at(world), self.image.data[voxel])

    def test_an_independent_reader_agrees_on_place_and_value(self):
        image = series_image(self.only())
        reader = sitk.ImageSeriesReader()
        reader.SetFileNames([str(p) for p in (image.origin.files)])
        theirs = reader.Execute()
        np.testing.assert_array_equal(sitk.GetArrayFromImage(theirs), image.kji)
        for voxel in ((0, 0, 0), (13, 0, 5), (3, 17, 11)):
            left_back_up = np.array(theirs.TransformIndexToPhysicalPoint(voxel))
            np.testing.assert_allclose(image.space.to_world(voxel), left_back_up * (-1, -1, 1), atol=1e-6)

    def test_shuffled_series_are_told_apart(self):
        dicom_folder(self.folder, two_balls(), "Two balls", 3)
        (self.folder / "notes.txt").write_text("not an image")
        (self.folder / "empty").touch()
        table = list_series(self.folder)
        self.assertEqual(table.column("series"), ["Two balls", "Tilted"])
        self.assertEqual(table.column("slices"), [32, 12])
        self.assertEqual(table.column("problems"), ["", ""])

    def test_quick_and_thorough_parser_agree(self):
        for path in self.files[:3]:
            quick = dicom_header._quick(path.read_bytes())
            thorough = dicom_header._thorough(path)
            self.assertEqual(quick[1:], thorough[1:])
            self.assertEqual({k: v for k, v in quick[0].items() if v not in ("", None)}, thorough[0])

    def test_other_transfer_syntaxes_read_the_same(self):
        wanted = series_image(self.only()).data.copy()
        for path in self.files[::2]:
            dataset = pydicom.dcmread(path)
            dataset.compress(RLELossless)
            dataset.save_as(path, enforce_file_format=True)
        for path in self.files[1::2]:
            dataset = pydicom.dcmread(path)
            dataset.file_meta.TransferSyntaxUID = ImplicitVRLittleEndian
            dataset.save_as(path, enforce_file_format=True)
        np.testing.assert_array_equal(series_image(self.only()).data, wanted)

    def test_scale_per_slice_and_signed_pixels(self):
        for n, path in enumerate(self.files):
            self.alter(path, RescaleSlope=str(0.5 + n), RescaleIntercept="-3", PixelRepresentation=1)
        image = series_image(self.only())
        self.assertEqual(image.data.dtype, np.float32)
        stored = (self.image.data.astype(np.int32) + 1024).astype(np.int16)
        for k in (0, 5, 11):
            world = self.image.space.to_world((2, 3, k))
            self.assertAlmostEqual(image.value_at(world), float(stored[2, 3, k]) * (0.5 + k) - 3, places=2)

    def test_values_beyond_the_usual_are_still_exact(self):
        for path in self.files[6:]:
            dataset = pydicom.dcmread(path)
            dataset.PixelData = np.full(14 * 18, 65000, "<u2").tobytes()
            dataset.save_as(path, enforce_file_format=True)
        image = series_image(self.only())
        self.assertEqual(image.data.dtype, np.float32)
        self.assertEqual(image.data.max(), 65000 - 1024)

    def test_bits_above_the_stored_ones_are_dropped(self):
        wanted = series_image(self.only()).data.copy()
        for path in self.files:
            dataset = pydicom.dcmread(path)
            raw = np.frombuffer(dataset.PixelData, "<u2") | 0x8000
            dataset.PixelData, dataset.BitsStored, dataset.HighBit = raw.tobytes(), 12, 11
            dataset.save_as(path, enforce_file_format=True)
        np.testing.assert_array_equal(series_image(self.only()).data, wanted)

    def test_folder_without_dicom(self):
        empty = self.place / "empty"
        empty.mkdir()
        (empty / "a.txt").write_text("x")
        for folder in (empty, self.place / "nowhere"):
            with self.assertRaisesRegex(Trouble, "no DICOM image|does not exist"):
                scan_folder(folder)

    def test_file_cut_in_half_is_named(self):
        for share in (0.5, 0.99, 0.2):
            data = self.files[4].read_bytes()
            self.files[4].write_bytes(data[: int(len(data) * share)])
            found = self.only()
            self.assertIn(self.files[4].name, found.problems[0])
            with self.assertRaisesRegex(Trouble, "cut short"):
                series_image(found, "mend")
            self.files[4].write_bytes(data)
        self.assertEqual(self.only().problems, [])

    def test_missing_slice_is_refused_or_left_blank(self):
        self.files[5].unlink()
        found = self.only()
        self.assertRegex(found.problems[0], r"1 slice is missing in the stack, at place \d+ of 12")
        with self.assertRaisesRegex(Trouble, "missing.*mend"):
            series_image(found)
        image = series_image(found, "mend")
        image.fetch(silent())
        self.assertEqual(image.space.shape, (14, 18, 12))
        self.assertEqual(image.value_at(self.image.space.to_world((3, 3, 5))), image.data.min())
        for k in (0, 4, 6, 11):
            self.assertEqual(image.value_at(self.image.space.to_world((7, 2, k))), self.image.data[7, 2, k])
        self.assertIn("missing", image.caveats[0].sentence)

    def test_doubled_slice_is_refused_or_taken_once(self):
        shutil.copy(self.files[3], self.files[3].with_name("zz-twice"))
        found = self.only()
        self.assertIn("1 slice stands at the same place as another: zz-twice", found.problems[0])
        with self.assertRaisesRegex(Trouble, "same place"):
            series_image(found)
        self.assertEqual(series_image(found, "mend").space.shape, (14, 18, 12))

    def test_a_slice_that_lies_sideways_is_refused_or_brought_into_place(self):
        """By whole pixels it comes back exactly, by parts of one linearly; the place of the others stays."""
        for file, right, down in ((7, 3.0, -2.0), (0, 2.0, 0.0), (11, 0.0, 4.0), (5, 1.5, 0.0)):
            with self.subTest(file=file):
                shutil.rmtree(self.folder)
                self.files = dicom_folder(self.folder, self.image, "Tilted")
                ds = pydicom.dcmread(self.files[file])
                row, column = np.split(np.array(ds.ImageOrientationPatient, float), 2)
                below, beside = (float(v) for v in ds.PixelSpacing)
                moved = np.array(ds.ImagePositionPatient, float) + right * beside * row + down * below * column
                self.alter(self.files[file], ImagePositionPatient=[f"{v:.8g}" for v in moved])
                found = self.only()
                far = np.hypot(right * beside, down * below)
                wanted = f"1 slice lies sideways of the others, by up to {far:.3g} mm, at place"
                self.assertTrue(any(p.startswith(wanted) for p in found.problems), found.problems)
                self.assertTrue(found.mendable)
                with self.assertRaisesRegex(Trouble, "sideways.*mend"):
                    series_image(found)
                image = series_image(found, "mend")
                image.fetch(silent())
                self.assertIn("sideways", str([c.sentence for c in image.caveats]))
                for i, j in ((6, 9), (8, 8)):
                    for n in range(12):
                        value = image.value_at(self.image.space.to_world((i, j, n)))
                        if n != file:
                            self.assertEqual(value, self.image.data[i, j, n])
                        elif right == int(right):
                            self.assertEqual(value, self.pixels(file)[j - int(down), i - int(right)])
                        else:
                            pair = self.pixels(file)[j, [i - 2, i - 1]]
                            self.assertAlmostEqual(value, pair.mean(), delta=0.51)

    def pixels(self, file: int) -> np.ndarray:
        ds = pydicom.dcmread(self.files[file])
        return ds.pixel_array.astype(float) * float(ds.RescaleSlope) + float(ds.RescaleIntercept)

    def test_three_slices_on_no_line_are_refused(self):
        for path in self.files[3:]:
            path.unlink()
        ds = pydicom.dcmread(self.files[2])
        moved = np.array(ds.ImagePositionPatient, float) + 4 * np.array(ds.ImageOrientationPatient[:3], float)
        self.alter(self.files[2], ImagePositionPatient=[f"{v:.8g}" for v in moved])
        with self.assertRaisesRegex(Trouble, "three slices do not lie on one line"):
            series_image(self.only(), "mend")

    def test_a_leaning_stack_has_no_slice_sideways(self):
        for n, path in enumerate(self.files):
            ds = pydicom.dcmread(path)
            row = np.array(ds.ImageOrientationPatient[:3], float)
            moved = np.array(ds.ImagePositionPatient, float) + 1.7 * n * row
            self.alter(path, ImagePositionPatient=[f"{v:.8g}" for v in moved])
        found = self.only()
        self.assertFalse(found.mendable)
        self.assertIn("leans", str(found.problems))

    def test_uneven_spacing_is_refused(self):
        position = [float(v) for v in pydicom.dcmread(self.files[11]).ImagePositionPatient]
        position[2] += 0.3
        self.alter(self.files[11], ImagePositionPatient=[f"{v:.8g}" for v in position])
        with self.assertRaisesRegex(Trouble, "unevenly spaced"):
            series_image(self.only(), "mend")

    def test_unknown_positions_are_refused(self):
        for path in self.files:
            self.alter(path, ImagePositionPatient=None)
        with self.assertRaisesRegex(Trouble, "does not say where"):
            series_image(self.only())

    def test_mixed_matrices_stay_apart(self):
        other = tilted_space((10, 18, 5))
        write_series(self.folder, np.zeros(other.shape, np.int16), other, "T-2", "Tilted", 2, seed=9)
        found = scan_folder(self.folder)
        self.assertEqual(sorted(len(s.slices) for s in found), [5, 12])
        self.assertIn("2 kinds", found[0].problems[0])

    def test_link_loops_end(self):
        (self.folder / "loop").symlink_to(self.folder)
        self.assertEqual(len(self.only().slices), 12)

    def test_gather_one_of_several_and_name_what_there_is(self):
        dicom_folder(self.folder, two_balls(), "Two balls", 3)
        images = opened(self.folder, series="two balls", subject="Mine")
        self.assertEqual([(i.name, i.subject) for i in images], [("Two balls", "Mine")])
        with self.assertRaisesRegex(Trouble, "it holds “Two balls”, “Tilted”"):
            opened(self.folder, series="Head")
        with self.assertRaisesRegex(Trouble, "2 series"):
            open_image(self.folder)
