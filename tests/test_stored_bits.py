"""DICOM series whose slices store their values differently, and values that lie high in their words."""

import numpy as np

from kestrelmist.formats.dicom.scan import scan_folder
from kestrelmist.formats.dicom.series import series_image
from tests.dicom_making import one
from tests.making import PlaceCase, straight_space

SPACE = straight_space((6, 5, 3))


class MixedTest(PlaceCase):
    def read(self, pictures: list[np.ndarray], **elements) -> np.ndarray:
        folder = self.place / f"scans {len(list(self.place.iterdir()))}"
        for k, picture in enumerate(pictures):
            one(folder / f"{k}", picture, space=SPACE, k=k, instance=k + 1, **elements)
        (series,) = scan_folder(folder)
        return series_image(series).data

    def test_signed_and_unsigned_and_of_eight_bits(self):
        rng = np.random.default_rng(2)
        unsigned = rng.integers(30000, 65000, (5, 6)).astype(np.uint16)
        signed = rng.integers(-30000, 30000, (5, 6)).astype(np.int16)
        small = rng.integers(0, 255, (5, 6)).astype(np.uint8)
        for order in ((unsigned, signed, small), (small, signed, unsigned), (signed, unsigned, small)):
            for slope, intercept in ((1, 0), (0.5, -7), (1, 1000), (2.25, 0)):
                got = self.read(list(order), RescaleSlope=str(slope), RescaleIntercept=str(intercept))
                want = np.stack([one.T * np.float64(slope) + intercept for one in order], -1)
                np.testing.assert_allclose(got, want, rtol=1e-6, err_msg=f"{slope} {intercept} {got.dtype}")

    def test_pixels_of_other_sizes_are_kept_apart(self):
        for k in range(6):
            size = "0.75\\0.75" if k in (2, 4) else "0.5\\0.5"
            one(self.place / "sizes" / f"{k}", np.full((5, 6), k, np.uint8), space=SPACE, k=k, instance=k + 1,
                PixelSpacing=size)  # fmt: skip
        found = scan_folder(self.place / "sizes")
        self.assertEqual(sorted((len(s.slices), s.first.get("PixelSpacing")) for s in found),
                         [(2, [0.75, 0.75]), (4, [0.5, 0.5])])  # fmt: skip
        self.assertTrue(all("2 kinds of slices (matrix, pixel size" in s.problems[0] for s in found))

    def test_of_one_type_they_stay_small(self):
        pictures = [np.full((5, 6), k, np.uint8) for k in range(3)]
        self.assertEqual(self.read(pictures).dtype, np.uint8)
        self.assertEqual(self.read([p.astype(np.int16) for p in pictures]).dtype, np.int16)

    def test_values_that_lie_high_in_their_words(self):
        rng = np.random.default_rng(3)
        true = rng.integers(0, 4096, (3, 5, 6)).astype(np.uint16)
        below = rng.integers(0, 16, true.shape).astype(np.uint16)  # anything
        elements = {"BitsStored": 12, "HighBit": 15}
        np.testing.assert_array_equal(self.read(list(true << 4 | below), **elements), true.transpose(2, 1, 0))
        signed = true.astype(np.int16) - 2048
        stored = (signed << 4).astype(np.int16) | below.astype(np.int16)
        np.testing.assert_array_equal(self.read(list(stored), **elements), signed.transpose(2, 1, 0))
        usual = true | (rng.integers(0, 16, true.shape).astype(np.uint16) << 12)
        got = self.read(list(usual), BitsStored=12, HighBit=11)
        np.testing.assert_array_equal(got, true.transpose(2, 1, 0))
        got = self.read(list(usual), BitsStored=12, HighBit=0)  # cannot be
        np.testing.assert_array_equal(got, true.transpose(2, 1, 0))
