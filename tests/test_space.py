import unittest

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.quantity import Quantity
from kestrelmist.core.space import Space
from kestrelmist.core.table import Column, Table
from tests.making import straight_space, tilted_space


class SpaceTest(unittest.TestCase):
    def test_world_and_voxel_are_inverse(self):
        space = tilted_space()
        voxels = np.random.default_rng(0).uniform(0, 16, (50, 3))
        np.testing.assert_allclose(space.to_voxel(space.to_world(voxels)), voxels, atol=1e-12)

    def test_spacing_and_volume_of_a_turned_grid(self):
        space = tilted_space(spacing=(0.5, 0.4, 0.7))
        np.testing.assert_allclose(space.spacing, (0.5, 0.4, 0.7))
        self.assertAlmostEqual(space.voxel_volume, 0.14)

    def test_volume_of_a_sheared_grid_is_the_determinant(self):
        affine = np.array([[1, 0.5, 0, 0], [0, 1, 0, 0], [0, 0, 2, 0], [0, 0, 0, 1.0]])
        self.assertAlmostEqual(Space((4, 4, 4), affine).voxel_volume, 2.0)

    def test_voxel_centre_and_border(self):
        space = straight_space((4, 4, 4), 1.0)
        self.assertEqual(space.nearest_voxel((-1.5, -1.5, -1.5)), (0, 0, 0))
        self.assertEqual(space.nearest_voxel((-1.99, 0.4, 1.99)), (0, 2, 3))
        self.assertIsNone(space.nearest_voxel((-2.01, 0, 0)))

    def test_each_grid_axis_gets_a_world_axis_of_its_own(self):
        affine = np.eye(4)
        affine[:3, :3] = np.array([[0, 0, 1], [-1, 0, 0], [0, 1, 0]])
        self.assertEqual(Space((2, 3, 4), affine).world_axis_of, (1, 2, 0))
        self.assertEqual(sorted(tilted_space(degrees=45).world_axis_of), [0, 1, 2])

    def test_zero_and_flat_matrices_are_refused(self):
        for affine in (np.zeros((4, 4)), np.diag([1, 1, 0, 1.0]), np.full((4, 4), np.nan)):
            with self.assertRaises(Trouble):
                Space((4, 4, 4), affine)
        tiny = Space((4, 4, 4), np.diag([1e-5, 1e-5, 1e-5, 1.0]))
        self.assertAlmostEqual(tiny.spacing[0], 1e-5)

    def test_a_world_is_in_mm_or_pixels(self):
        with self.assertRaisesRegex(Trouble, "“mm”.*“px”.*“um”"):
            Space((2, 2, 2), np.eye(4), "um")

    def test_same_grid_notices_a_thousandth(self):
        space = straight_space()
        moved = space.affine.copy()
        moved[0, 3] += 1e-5
        self.assertTrue(space.same_grid(Space(space.shape, moved)))
        moved[0, 3] += 0.01
        self.assertFalse(space.same_grid(Space(space.shape, moved)))

    def test_comes_back_from_its_dict(self):
        space = tilted_space()
        again = Space.from_dict(space.as_dict())
        self.assertTrue((again.affine == space.affine).all() and again.shape == space.shape)


class ImageTest(unittest.TestCase):
    def test_values_are_fetched_once_and_late(self):
        calls = []
        image = Image(
            lambda index, progress: calls.append(1) or np.zeros((4, 5, 6), np.int16), straight_space((4, 5, 6))
        )
        self.assertFalse(image.in_memory)
        self.assertEqual(image.data.shape, (4, 5, 6))
        self.assertEqual(image.kji.shape, (6, 5, 4))
        self.assertTrue(image.kji.flags.c_contiguous)
        self.assertEqual(len(calls), 1)

    def test_hash_follows_values_and_place(self):
        values = np.arange(24, dtype=np.int16).reshape(2, 3, 4)
        space = straight_space((2, 3, 4))
        first, same = Image(values, space).content_hash(), Image(np.asfortranarray(values), space).content_hash()
        self.assertEqual(first, same)
        other = values.copy()
        other[1, 2, 3] += 1
        self.assertNotEqual(first, Image(other, space).content_hash())
        self.assertNotEqual(first, Image(values, straight_space((2, 3, 4), 0.6)).content_hash())

    def test_number_types_are_widened_without_loss(self):
        space = straight_space((2, 2, 2))
        for kind, wanted in ((np.int8, np.int16), (bool, np.uint8), (np.int32, np.float32), (">i2", np.int16)):
            image = Image(np.ones((2, 2, 2), kind), space)
            self.assertEqual(image.data.dtype, wanted)
            self.assertTrue((image.data == 1).all())

    def test_wrong_shape_is_refused(self):
        with self.assertRaises(ValueError):
            Image(np.zeros((2, 2, 3)), straight_space((2, 2, 2))).data


class QuantityTest(unittest.TestCase):
    def test_conversion_carries_the_uncertainty(self):
        volume = Quantity(2500.0, "mm3", 50.0).to("cm3")
        self.assertAlmostEqual(volume.value, 2.5)
        self.assertAlmostEqual(volume.uncertainty, 0.05)
        self.assertAlmostEqual(Quantity(1.0, "inch").to("mm").value, 25.4)

    def test_unlike_units_are_refused(self):
        with self.assertRaises(ValueError):
            Quantity(1.0, "mm").to("s")

    def test_text_shows_digits_that_mean_something(self):
        self.assertEqual(str(Quantity(12.3456, "mm3", 0.21)), "12.35 ± 0.21 mm³")
        self.assertEqual(str(Quantity(1234.5, "HU", 30)), "1234 ± 30 HU")


class TableTest(unittest.TestCase):
    def test_csv_has_unit_columns_and_full_precision(self):
        table = Table(
            "T",
            [Column("label"), Column("volume", "mm3", 1), Column("n")],
            [("Skull, left", 1.23456789, 7), ("x", None, 0)],
        )
        self.assertEqual(
            table.to_csv().splitlines(), ["label,volume,volume_unit,n", '"Skull, left",1.23456789,mm3,7', "x,,mm3,0"]
        )

    def test_shown_cells_are_rounded_and_grouped(self):
        table = Table("T", [Column("volume", "mm3", 1), Column("voxels")], [(-12345.678, 1234567), (float("nan"), 0)])
        self.assertEqual(table.shown(0, 0), "−12 345.7")
        self.assertEqual(table.shown(0, 1), "1 234 567")
        self.assertEqual(table.shown(1, 0), "–")
        self.assertEqual(table.columns[0].heading, "volume (mm³)")
