import gzip

import nibabel
import numpy as np
import SimpleITK as sitk

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.formats.label_files import read_label_map, write_label_map
from kestrelmist.formats.nifti import read_nifti, save_nifti, write_nifti
from kestrelmist.formats.opening import open_image
from tests.making import PlaceCase, straight_space, tilted_space


class NiftiTest(PlaceCase):
    def setUp(self):
        super().setUp()
        space = tilted_space((9, 11, 7))
        self.image = Image(np.random.default_rng(0).integers(-500, 500, space.shape).astype(np.int16), space)

    def write(self, name, array, affine, **header):
        file = nibabel.Nifti1Image(array, affine)
        for key, value in header.items():
            file.header[key] = value
        nibabel.save(file, self.place / name)
        return self.place / name

    def test_round_trip_is_exact(self):
        for name in ("a.nii", "a.nii.gz"):
            write_nifti(self.place / name, self.image.data, self.image.space)
            again = read_nifti(self.place / name)
            np.testing.assert_array_equal(again.data, self.image.data)
            np.testing.assert_allclose(again.space.affine, self.image.space.affine, atol=1e-6)

    def test_what_the_fourth_axis_is(self):
        for unit, wanted, times in (
            ("sec", ("time", "s", (0.0, 2.5, 5.0)), False),
            ("msec", ("time", "s", (0.0, 0.0025, 0.005)), False),
            ("hz", ("frequency", "Hz", (10.0, 12.5, 15.0)), False),
            ("ppm", ("shift", "ppm", (10.0, 12.5, 15.0)), False),
            (None, ("time", "s", (0.0, 2.5, 5.0)), True),
        ):
            file = nibabel.Nifti1Image(np.zeros((4, 5, 6, 3), np.int16), np.eye(4))
            file.header.set_xyzt_units("mm", unit)
            file.header["pixdim"][4], file.header["toffset"] = 2.5, 10
            nibabel.save(file, self.place / "f.nii.gz")
            image = read_nifti(self.place / "f.nii.gz")
            (axis,) = image.axes
            self.assertEqual((axis.name, axis.unit, axis.values), wanted)
            self.assertEqual(any("no unit of time" in c.sentence for c in image.caveats), times)
            save_nifti(self.place / "again.nii", image)
            (again,) = read_nifti(self.place / "again.nii").axes
            self.assertEqual((again.name, again.unit), wanted[:2])
            np.testing.assert_allclose(again.values, wanted[2], rtol=1e-6)
            self.assertEqual(
                nibabel.load(self.place / "again.nii").header.get_xyzt_units()[1],
                {"msec": "sec", None: "sec"}.get(unit, unit),
            )

    def test_independent_readers_agree(self):
        path = self.place / "a.nii.gz"
        write_nifti(path, self.image.data, self.image.space)
        np.testing.assert_array_equal(np.asarray(nibabel.load(path).dataobj), self.image.data)
        theirs = sitk.ReadImage(str(path))
        np.testing.assert_array_equal(sitk.GetArrayFromImage(theirs), self.image.kji)
        point = np.array(theirs.TransformIndexToPhysicalPoint((3, 4, 5))) * (-1, -1, 1)
        np.testing.assert_allclose(point, self.image.space.to_world((3, 4, 5)), atol=1e-5)

    def test_values_stay_on_disk_until_asked_for(self):
        path = self.place / "a.nii"
        write_nifti(path, self.image.data, self.image.space)
        image = read_nifti(path)
        self.assertFalse(image.in_memory)
        self.assertIsInstance(image.data.base if image.data.base is not None else image.data, (np.memmap, np.ndarray))
        self.assertEqual(image.value_at(self.image.space.to_world((1, 2, 3))), self.image.data[1, 2, 3])

    def test_scaled_values(self):
        file = nibabel.Nifti1Image(self.image.data, self.image.space.affine)
        file.header.set_slope_inter(0.25, 10)
        nibabel.save(file, self.place / "s.nii")
        raw = nibabel.load(self.place / "s.nii")
        np.testing.assert_allclose(read_nifti(self.place / "s.nii").data, np.asarray(raw.dataobj), atol=1e-3)

    def test_zero_or_singular_matrix_is_refused_and_spacing_mends_it(self):
        for number, affine in enumerate(
            (np.diag([0, 0, 0, 1.0]), np.array([[1, 1, 0, 0], [1, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]]))
        ):
            file = nibabel.Nifti1Image(self.image.data, np.eye(4))
            file.set_sform(affine, 2)
            file.set_qform(None, 0)
            path = self.place / f"flat{number}.nii"
            nibabel.save(file, path)
            with self.assertRaisesRegex(
                Trouble,
                f"position matrix.*spacing.*flat{number}|flat{number}.*position matrix.*spacing|position matrix",
            ):
                read_nifti(path)
            image = read_nifti(path, (0.1, 0.2, 0.3))
            np.testing.assert_allclose(image.space.spacing, (0.1, 0.2, 0.3))
            self.assertIn("unknown", image.caveats[0].sentence)

    def test_no_position_at_all_is_noted(self):
        file = nibabel.Nifti1Image(self.image.data, None)
        file.header.set_zooms((0.3, 0.3, 0.5))
        nibabel.save(file, self.place / "bare.nii")
        image = read_nifti(self.place / "bare.nii")
        np.testing.assert_allclose(image.space.spacing, (0.3, 0.3, 0.5), rtol=1e-6)
        self.assertIn("sides are unknown", image.caveats[0].sentence)

    def test_damaged_files_have_a_sentence(self):
        path = self.place / "a.nii"
        write_nifti(path, self.image.data, self.image.space)
        whole = path.read_bytes()
        path.write_bytes(whole[: len(whole) // 2])
        with self.assertRaisesRegex(Trouble, "cut short"):
            read_nifti(path)
        packed = self.place / "b.nii.gz"
        packed.write_bytes(gzip.compress(whole)[:-200])
        with self.assertRaisesRegex(Trouble, "damaged or cut short"):
            read_nifti(packed).data
        (self.place / "c.nii").write_bytes(b"not at all" * 50)
        with self.assertRaisesRegex(Trouble, "not a NIfTI file"):
            read_nifti(self.place / "c.nii")
        for name in ("nothing.nii", "a.xyz"):
            with self.assertRaises(Trouble):
                open_image(self.place / name)

    def test_4d_is_a_series_of_volumes(self):
        values = np.random.default_rng(3).integers(-50, 50, (3, 4, 5, 6)).astype(np.int16)
        image = read_nifti(self.write("four.nii", values, np.eye(4)))
        self.assertEqual([(a.name, a.size) for a in image.axes], [("time", 6)])
        self.assertEqual(image.space.shape, (3, 4, 5))
        for t in (0, 5):
            np.testing.assert_array_equal(image.frame((t,)).data, values[..., t])

    def test_label_maps_come_back_and_measured_values_do_not_pass(self):
        numbers = np.random.default_rng(1).integers(0, 700, (9, 11, 7)).astype(np.uint16)
        labels = LabelMap(tilted_space((9, 11, 7)), numbers)
        write_label_map(self.place / "l.nii.gz", labels)
        np.testing.assert_array_equal(read_label_map(self.place / "l.nii.gz").data, numbers)
        with self.assertRaisesRegex(Trouble, "not label numbers"):
            read_label_map(self.nifti(self.image))

    def test_full_disk_leaves_the_old_file(self):
        path = self.place / "a.nii"
        write_nifti(path, self.image.data, self.image.space)
        before = path.read_bytes()
        import errno
        import os
        from unittest import mock

        with mock.patch.object(os, "fsync", side_effect=OSError(errno.ENOSPC, "No space left on device")):
            with self.assertRaisesRegex(Trouble, "disk is full"):
                write_nifti(path, self.image.data + 1, straight_space((9, 11, 7)))
        self.assertEqual(path.read_bytes(), before)
        self.assertEqual([p.name for p in self.place.iterdir()], ["a.nii"])
