"""What one maker keeps in private blocks: the direction of tiles and the sign of the phase encoding decide over sides,
so they are tested."""

import struct
import unittest

import numpy as np
import pydicom

from kestrelmist.demo import anatomy
from kestrelmist.demo.animal import Animal
from kestrelmist.demo.functional_run import odour_space
from kestrelmist.demo.scenes.odour_run import write_odour_run
from kestrelmist.formats.acquisition import acquisition_facts
from kestrelmist.formats.dicom.scan import scan_folder
from kestrelmist.formats.dicom.series import series_image
from kestrelmist.formats.dicom.times import seconds_of
from kestrelmist.formats.sidecar import facts_of
from kestrelmist.gather.reorient import reorient
from tests.dicom_making import stack
from tests.making import PlaceCase


def private_block(**tags) -> bytes:
    """A block of named texts in the layout of its second version: a head, then 84 bytes a name, then its items."""
    parts = [b"SV10\4\3\2\1", struct.pack("<II", len(tags), 77)]
    for name, values in tags.items():
        parts.append(struct.pack("<64si4siii", name.encode(), len(values), b"FD\0\0", 4, len(values), 77))
        for value in values:
            text = f"{value}".encode()
            parts.append(struct.pack("<iiii", len(text), len(text), 77, len(text)) + text + b"\0" * (-len(text) % 4))
    return b"".join(parts)


class PrivateBlockTest(PlaceCase):
    def setUp(self):
        super().setUp()
        animal = Animal(
            "plain", np.full((anatomy.FIELDS, 3, 3, 3), -1, np.float32), *(np.zeros((3, 3, 3), np.float32),) * 2, 4
        )
        self.files = write_odour_run(self.place / "run", animal, "T-5", times=2)

    def give(self, **tags) -> None:
        for path in self.files:
            ds = pydicom.dcmread(path)
            ds.add_new(0x00290010, "LO", "HOLLOWMERE BLOCK")
            ds.add_new(0x00291010, "OB", private_block(**tags))
            ds.save_as(path)

    def image(self):
        return series_image(scan_folder(self.place / "run")[0])

    def test_tiles_that_run_against_the_normal(self):
        straight = self.image()
        self.assertLess(straight.space.affine[2, 2], 0)
        square = pydicom.dcmread(self.files[0]).pixel_array
        np.testing.assert_array_equal(straight.frame((0,)).data[:, :, 5].T, square[48:96, 48:96])
        self.give(SliceNormalVector=[0.0, 0.0, 1.0])  # rows and columns would give 0, 0, -1
        turned = self.image()
        first = odour_space().to_world((0, 0, 0))
        for k in (0, 7, 15):
            at = turned.space.nearest_voxel(first + (0, 0, 1.1 * k))
            self.assertIsNotNone(at)
            wanted = square[k // 4 * 48 : k // 4 * 48 + 48, k % 4 * 48 : k % 4 * 48 + 48].T
            np.testing.assert_array_equal(turned.frame((0,)).data[:, :, at[2]], wanted)
        timing = dict(zip(range(16), facts_of(straight)["SliceTiming"]))
        # tile 0 was taken first, wherever it lies in the stack
        k = turned.space.nearest_voxel(first)[2]
        self.assertEqual(facts_of(turned)["SliceTiming"][k], timing[0])

    def test_sign_of_the_phase_encoding(self):
        for positive, wanted in ((1, "j"), (0, "j-")):
            self.give(PhaseEncodingDirectionPositive=[positive])
            series = scan_folder(self.place / "run")[0]
            facts = acquisition_facts(series, series_image(series).space)
            self.assertEqual(facts["PhaseEncodingDirection"], wanted)
            self.assertNotIn("PhaseEncodingAxis", facts)
        # rows run to the back: in the standard order the axis is counted the other way
        self.assertEqual(facts_of(reorient(self.image()))["PhaseEncodingDirection"], "j")

    def test_a_block_that_is_none_is_passed_over(self):
        for path in self.files:
            ds = pydicom.dcmread(path)
            ds.add_new(0x00291010, "OB", b"SV10 nothing of the kind")
            ds.save_as(path)
        self.assertEqual(facts_of(self.image())["PhaseEncodingAxis"], "j")


class TimingTest(PlaceCase):
    def test_slice_times_of_separate_slices(self):
        values = np.zeros((4, 4, 4, 2), np.uint16)
        for t in range(2):
            stack(
                self.place / "s",
                values[..., t],
                start=10 * t,
                TemporalPositionIdentifier=t + 1,
                RepetitionTime="1000",
                AcquisitionTime=lambda k, t=t: f"1200{t:02d}.{(k % 2) * 50 + (k // 2) * 20:02d}0000",
            )
        (series,) = scan_folder(self.place / "s")
        found = acquisition_facts(series, series_image(series).space)["SliceTiming"]
        self.assertEqual(sorted(found), [0.0, 0.2, 0.5, 0.7])
        # the stack is counted from its other end
        self.assertEqual(found, [0.7, 0.2, 0.5, 0.0])

    def test_one_time_for_all_slices_says_nothing(self):
        for t in range(2):
            stack(
                self.place / "s",
                np.zeros((4, 4, 4), np.uint16),
                start=10 * t,
                TemporalPositionIdentifier=t + 1,
                RepetitionTime="1000",
                AcquisitionTime=f"12000{t}",
            )
        (series,) = scan_folder(self.place / "s")
        self.assertNotIn("SliceTiming", acquisition_facts(series, series_image(series).space))

    def test_times_of_the_day(self):
        for text, wanted in (
            ("101112.5", 36672.5),
            ("1011", 36660.0),
            ("10", 36000.0),
            ("20310214101112.25", 36672.25),
            ("", None),
            ("noon", None),
            (None, None),
        ):
            self.assertEqual(seconds_of(text), wanted)


if __name__ == "__main__":
    unittest.main()
