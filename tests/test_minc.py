import os

import h5py
import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.progress import silent
from kestrelmist.formats.opening import open_image
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase
from tests.minc_making import START, STEP, truth, write_minc1, write_minc2

RNG = np.random.default_rng(4)


class MincTest(PlaceCase):
    def test_values_places_and_facts_of_both_versions(self):
        values = RNG.integers(0, 256, (3, 4, 5)).astype(np.uint8)
        for path in (write_minc1(self.place / "one.mnc", values), write_minc2(self.place / "two.mnc", values)):
            image = open_image(path)
            image.fetch(silent())
            self.assertEqual(image.space.shape, (3, 4, 5))
            for z, y, x in ((0, 0, 0), (2, 3, 4), (1, 2, 0)):
                at = [START[n] + STEP[n] * v for n, v in (("xspace", x), ("yspace", y), ("zspace", z))]
                self.assertAlmostEqual(image.value_at(at), truth(values)[z, y, x], places=5)
            told = " ".join(f"{k}={v}" for k, v in image.facts.items())
            self.assertIn("HM-31", told, path.name)
            self.assertEqual(image.origin.format, "MINC")

    def test_a_tilted_one(self):
        a = np.radians(12)
        tilt = np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]])
        values = RNG.integers(0, 256, (3, 4, 5)).astype(np.uint8)
        image = open_image(write_minc1(self.place / "t.mnc", values, tilt))
        image.fetch(silent())
        z, y, x = 1, 3, 2
        at = tilt @ [START[n] + STEP[n] * v for n, v in (("xspace", x), ("yspace", y), ("zspace", z))]
        self.assertAlmostEqual(image.value_at(at), truth(values)[z, y, x], places=5)

    def test_a_series_is_read_a_volume_at_a_time(self):
        values = RNG.integers(0, 256, (6, 3, 4, 5)).astype(np.uint8)
        for path in (write_minc1(self.place / "s1.mnc", values), write_minc2(self.place / "s2.mnc", values)):
            image = open_image(path)
            self.assertEqual([(a.name, a.size) for a in image.axes], [("time", 6)])
            self.assertAlmostEqual(image.axes[0].step, 2.5)
            np.testing.assert_allclose(image.frame((4,)).data, truth(values)[4], atol=1e-5)
            self.assertFalse(image.frame((1,)).in_memory)

    def test_in_a_study_and_on_the_command_line(self):
        values = RNG.integers(0, 256, (3, 4, 5)).astype(np.uint8)
        path = write_minc1(self.place / "one.mnc", values)
        kestrelmist("convert", path, "--to", self.place / "one.nii.gz")
        np.testing.assert_allclose(open_image(self.place / "one.nii.gz").data, truth(values), atol=1e-5)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=path, subject="HM-31")
            np.testing.assert_allclose(study.image(1).data, truth(values), atol=1e-5)
        with Study(self.place / "study") as study:
            np.testing.assert_allclose(study.image(1).data, truth(values), atol=1e-5)
        self.assertIn("identification", kestrelmist("facts", path).stdout)

    def test_files_that_are_none(self):
        values = RNG.integers(0, 256, (3, 4, 5)).astype(np.uint8)
        with h5py.File(self.place / "other.mnc", "w") as file:
            file["numbers"] = values
        with self.assertRaisesRegex(Trouble, "MINC file is damaged|no MINC"):
            open_image(self.place / "other.mnc")
        os.rename(self.place / "other.mnc", self.place / "other.h5")
        with self.assertRaisesRegex(Trouble, "HDF5 file of another kind.*ask for OME-Zarr, NIfTI or MINC"):
            open_image(self.place / "other.h5")
        write_minc1(self.place / "cut.mnc", np.zeros((3, 40, 50)))
        whole = (self.place / "cut.mnc").read_bytes()
        (self.place / "cut.mnc").write_bytes(whole[: len(whole) // 2])
        with self.assertRaises(Trouble):
            open_image(self.place / "cut.mnc").fetch(silent())
        for name, start, said in (
            ("a.czi9", b"%PDF-1.4", "a PDF document"),
            ("a.raw", b"\x01\x00\x02\x00" * 40, "bare values without a header.*NIfTI, NRRD or MetaImage"),
            ("a.mp4", b"\0\0\0\x18ftypmp42", "a film"),
            ("a.stl", b"solid skull", "a surface"),
            ("a.unknown", bytes(range(200)), "Nobody here knows this kind of file"),
            ("a.nothing", b"", "an empty file"),
        ):
            (self.place / name).write_bytes(start)
            with self.assertRaisesRegex(Trouble, said):
                open_image(self.place / name)
