"""Thick slabs in panes, against NumPy."""

import unittest

import numpy as np

from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.report.made_how import range_words
from kestrelmist.scene.drawing import draw
from kestrelmist.scene.layer import ImageLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.slab import slab_values
from kestrelmist.scene.view import AXIAL, CORONAL, SAGITTAL, View, plane_view

RNG = np.random.default_rng(5)


class SlabTest(unittest.TestCase):
    def test_highest_lowest_and_mean_of_slices_within(self):
        values = RNG.normal(100, 30, (14, 15, 16)).astype(np.float32)
        values[3:6, 3:6, 3:6] = np.nan
        for flip in (1.0, -1.0):
            affine = np.array([[flip, 0, 0, 2.0], [0, 1, 0, -3.0], [0, 0, 2.0, 1.0], [0, 0, 0, 1]])
            image = Image(np.asfortranarray(values), Space(values.shape, affine), "Noise")
            for plane, axis, step in ((SAGITTAL, 0, 1.0), (CORONAL, 1, 1.0), (AXIAL, 2, 2.0)):
                middle = image.space.to_world((7, 7, 7))
                view = plane_view(plane, middle, 1.0 if axis != 2 else 1.0, 9, 9)
                for way, take in (("highest", np.nanmax), ("lowest", np.nanmin), ("mean", np.nanmean)):
                    found = slab_values(view, image, 4 * step, way, False)
                    part = np.take(values, range(5, 10), axis)
                    with np.errstate(all="ignore"):
                        true = np.expand_dims(take(part, axis), axis)
                    for y, x in ((4, 4), (2, 6), (7, 3)):
                        voxel = list(image.space.nearest_voxel(view.to_world(x, y)))
                        voxel[axis] = 0
                        self.assertAlmostEqual(float(found[y, x]), float(true[tuple(voxel)]), places=3)

    def test_across_the_grid_and_between_slices(self):
        values = np.zeros((20, 20, 20), np.float32)
        values[10, 10, 10] = 50.0
        image = Image(np.asfortranarray(values), Space((20, 20, 20), np.eye(4)), "Dot")
        turn = np.sqrt(0.5)
        view = View((10.0, 10.0, 10.0), (turn, turn, 0.0), (0.0, 0.0, -1.0), 1.0, 11, 11)
        moved = view.moved(centre=(10 + 2 * turn, 10 - 2 * turn, 10.0))  # two mm beside it
        self.assertEqual(float(np.nanmax(slab_values(moved, image, 0.5, "highest", True))), 0.0)
        self.assertGreater(float(np.nanmax(slab_values(moved, image, 5.0, "highest", True))), 15.0)
        thin = plane_view(AXIAL, (10, 10, 10.3), 1.0, 21, 21)
        nearest = slab_values(thin, image, 0.1, "highest", False)  # the nearest slice at least
        self.assertEqual(float(np.nanmax(nearest)), 50.0)
        beyond = plane_view(AXIAL, (10, 10, 90.0), 1.0, 21, 21)
        self.assertTrue(np.isnan(slab_values(beyond, image, 3.0, "mean", False)).all())

    def test_across_the_grid_no_slice_is_passed_over(self):
        rng = np.random.default_rng(3)
        for spacing in (1.0, 0.2):
            affine = np.diag([spacing, spacing, spacing, 1.0])
            values = np.zeros((60, 60, 60), np.float32)
            dots = rng.integers(15, 45, (12, 3))
            values[tuple(dots.T)] = 100.0
            image = Image(np.asfortranarray(values), Space((60, 60, 60), affine), "Dots")
            turn = np.radians(7.0)
            right, down = (float(np.cos(turn)), float(np.sin(turn)), 0.0), (0.0, 0.0, -1.0)
            centre = tuple(float(v) for v in affine[:3, :3] @ (30.0, 30.0, 30.0))
            for pixel in (0.13 * spacing, 0.4 * spacing, 2.0 * spacing):
                view = View(centre, right, down, pixel, *(2 * [round(60 * spacing / pixel)]))
                found = slab_values(view, image, 60 * spacing, "highest", False)
                # each dot is one of the true values where a plane meets it: a coarse picture may pass beside it
                seen = [found[round(y), round(x)] for x, y in (view.to_pixel(affine[:3, :3] @ dot) for dot in dots)]
                if pixel <= spacing:
                    self.assertEqual(seen, [100.0] * len(dots), (spacing, pixel))
                mean = slab_values(view, image, 60 * spacing, "mean", False)
                self.assertGreater(float(np.nanmax(mean)), 100 / 90)
                self.assertLess(float(np.nanmax(mean)), 100 / 12)

    def test_it_is_drawn_and_said(self):
        values = np.zeros((20, 20, 20), np.float32)
        values[10, 10, 13] = 100.0
        image = Image(np.asfortranarray(values), Space((20, 20, 20), np.eye(4)), "Dot", unit="HU")
        view = plane_view(AXIAL, (10, 10, 10), 1.0, 21, 21)
        bright = [int((draw(view, [Drawn(image, ImageLook(0, 100, slab=s))]) & 255).max()) for s in (0.0, 4.0, 8.0)]
        self.assertEqual(bright[0], bright[1])
        self.assertGreater(bright[2], bright[0] + 150)
        self.assertEqual(range_words(ImageLook(0, 100, slab=8.0), image, "mm"), "0 to 100 HU, Grey, highest of 8 mm")


if __name__ == "__main__":
    unittest.main()
