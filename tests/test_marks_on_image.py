"""Marks of another image are told from those of this one, by everything that is given both."""

import unittest

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.core.world import World
from kestrelmist.measure.count_marks import count_marks
from kestrelmist.measure.mark_files import bring_marks
from kestrelmist.measure.profiles.profile_marks import profile_marks
from kestrelmist.measure.regions.measure_marks import measure_marks
from kestrelmist.measure.snap_marks import snap_marks
from kestrelmist.report.burn_in import burn_in
from kestrelmist.report.save_with_marks import save_with_marks
from tests.making import PlaceCase


class OnImageTest(PlaceCase):
    def test_another_unit_and_another_world(self):
        space = Space((20, 20, 1), np.eye(4), "mm", World("1.2.3"))
        image = Image(np.zeros((20, 20, 1), np.uint8, order="F"), space, "Here")
        line = [Mark("line", ((2, 2, 0), (12, 2, 0))), Mark("point", ((3, 3, 0),))]
        calls = {
            "measure-marks": lambda m: measure_marks(m, image),
            "profile-marks": lambda m: profile_marks(m, image),
            "count-marks": lambda m: count_marks(m, image),
            "snap-marks": lambda m: snap_marks(image, m),
            "burn-in": lambda m: burn_in(image, m, self.place / "b.nii.gz"),
            "save-with-marks": lambda m: save_with_marks(image, m, self.place / "s.ome.tif"),
            "bring-marks": lambda m: bring_marks(m, image, by="voxel", drawn_on=image),
        }
        pixels = Marks.numbered(line, world=space.world, unit="px", name="M")
        elsewhere = Marks.numbered(line, world=World("9.9.9"), unit="mm", name="M")
        for name, call in calls.items():
            with self.subTest(name):
                with self.assertRaisesRegex(Trouble, "“M” counts in px and “Here” in mm"):
                    call(pixels)
                with self.assertRaisesRegex(Trouble, "“M” lies in another space"):
                    call(elsewhere)
        self.assertEqual(list(self.place.iterdir()), [])


if __name__ == "__main__":
    unittest.main()
