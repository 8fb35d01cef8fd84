"""Odd input that is sound, or is not: what is said of it is what is wrong with it."""

import contextlib
import io
import json
import sys
import time
import unittest

import numpy as np
import SimpleITK as sitk

from kestrelmist.align.transforms import open_transform
from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import Progress
from kestrelmist.core.safe_write import write_trouble
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.formats.opening import open_image
from kestrelmist.prepare.intensity.calculate import calculate
from kestrelmist.prepare.intensity.denoise import reduce_noise
from kestrelmist.prepare.intensity.evenness import even_brightness
from tests.making import PlaceCase, straight_space, two_balls

MANY = "9" * 400


class OddSentencesTest(PlaceCase):
    def test_a_sidecar_with_numbers_that_count_nothing(self):
        image = two_balls()
        write_nifti(self.place / "a.nii", image.data, image.space)
        for said, wrong in (
            (f'"RepetitionTime": {MANY}', "RepetitionTime"),
            (f'"SliceTiming": [0, {MANY}]', "SliceTiming"),
            (f'"Other": {{"deep": [1, -{MANY}]}}', "Other"),
            (f'"Other": {"1" * 5000}', "Other"),
            ('"FlipAngle": 1e999', "FlipAngle"),
            ('"FlipAngle": NaN', "FlipAngle"),
        ):
            (self.place / "a.json").write_text(f'{{"EchoTime": 0.03, {said}}}')
            found = open_image(self.place / "a.nii")
            np.testing.assert_array_equal(found.data, image.data)
            self.assertEqual(json.loads(found.facts["Acquisition"]), {"EchoTime": 0.03})
            self.assertEqual(
                found.caveats[-1].sentence, f"{wrong} in the sidecar cannot be what is said, and is left out"
            )

    def test_series_of_as_many_volumes_along_other_axes(self):
        space, values = straight_space((4, 4, 4)), np.ones((4, 4, 4, 6), np.float32)
        one = Image(values, space, "Run", axes=(Axis.even("time", 6, 1.0, "s"),))
        both = (Axis.even("time", 3, 1.0, "s"), Axis("echo", 2))
        other = Image(values.reshape(4, 4, 4, 3, 2), space, "Echoes", axes=both)
        for first, second in ((one, other), (other, one)):
            with self.assertRaisesRegex(
                Trouble, r"goes along .*time \(3\) and echo \(2\).*choose series of the same axes"
            ):
                calculate(first, "a + b", [second])
        self.assertEqual(float(calculate(other, "a + b", [other]).frame((2, 1)).data.max()), 2.0)

    def test_a_failed_write_without_a_word_of_the_system(self):
        self.assertNotIn("None", str(write_trouble(OSError("the drive says no"), self.place / "x")))

    def test_what_a_library_works_at_ends_at_once_and_prints_nothing(self):
        image = Image(
            np.random.default_rng(1).uniform(50, 100, (40, 40, 40)).astype(np.float32), straight_space((40,) * 3)
        )
        for work, share_done in (
            (even_brightness, 0.12),
            (lambda given, progress: reduce_noise(given, "diffusion", progress=progress), 0.25),
        ):
            progress, at = Progress(), []

            def listen(share, what, progress=progress, at=at, least=share_done):
                if share > least:
                    at.append(time.monotonic())
                    progress.cancel()

            progress.listener = listen
            said = io.StringIO()
            with contextlib.redirect_stderr(said), self.assertRaises(Cancelled):
                work(image, progress=progress)
            self.assertEqual(said.getvalue(), "")
            self.assertLess(time.monotonic() - at[0], 8)  # it went on for ten seconds on a fast machine
            self.assertIsNone(getattr(sys, "last_value", None))

    def test_transforms_under_mat(self):
        matrix = np.array([[1, 0.1, 0, 3], [-0.1, 1, 0, -4], [0, 0, 1.2, 5], [0, 0, 0, 1]], float)
        np.savetxt(self.place / "text.mat", matrix)
        np.testing.assert_allclose(open_transform(self.place / "text.mat").matrix, matrix)
        packed = sitk.AffineTransform(3)
        packed.SetMatrix(matrix[:3, :3].ravel().tolist())
        packed.SetTranslation(matrix[:3, 3].tolist())
        sitk.WriteTransform(packed, str(self.place / "packed.mat"))
        turned = np.diag([-1.0, -1, 1, 1]) @ matrix @ np.diag([-1.0, -1, 1, 1])
        np.testing.assert_allclose(open_transform(self.place / "packed.mat").matrix, turned, atol=1e-12)
        (self.place / "other.mat").write_bytes(b"MATLAB 5.0 MAT-file\0\0" + bytes(range(256)))
        with self.assertRaisesRegex(Trouble, "numbers that are packed.*write it as text"):
            open_transform(self.place / "other.mat")


if __name__ == "__main__":
    unittest.main()
