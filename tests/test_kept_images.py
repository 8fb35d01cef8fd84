"""Images of every shape kept in a study: they come back the same when it is opened again, and say so when they
cannot."""

import shutil
import unittest

import numpy as np
import SimpleITK as sitk
import tifffile

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import picture_space
from kestrelmist.formats.saving import save_image
from kestrelmist.scene.colours import colour_table, first_map
from kestrelmist.scene.drawing import draw
from kestrelmist.scene.layer import ImageLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.showing import value_text
from kestrelmist.scene.thumbnail import SIDE, thumbnail
from kestrelmist.scene.view import AXIAL, PLANES, fitted
from kestrelmist.study.study import Study
from tests.making import PlaceCase, straight_space, tilted_space

RNG = np.random.default_rng(71)


class KeptTest(PlaceCase):
    def study(self) -> Study:
        return Study(self.place / "study", create=True)

    def kept(self, path, name=None):
        """Take a file in, close, open again, and give the image with its record."""
        with self.study() as study:
            study.run("gather", folder=path)
        study = self.study()
        self.addCleanup(study.close)
        record = study.records()[-1]
        return study.image(record.id), record, study

    def test_heights_of_a_study_that_kept_them_in_metres(self):
        heights = RNG.normal(0, 30, (12, 9, 1)).astype("f4")
        image = Image(heights, picture_space(12, 9, (0.001, 0.001)), "Map", unit="nm")
        save_image(self.place / "map.x3p", image)
        got, record, study = self.kept(self.place / "map.x3p")
        self.assertEqual((got.unit, record.unit), ("nm", "nm"))
        np.testing.assert_allclose(got.data, heights, rtol=1e-6)
        with study.catalogue.change() as db:
            study.items.update(db, record.id, {"body.unit": "m"})
        study.close()
        study = self.study()
        self.addCleanup(study.close)
        got = study.image(record.id)
        self.assertEqual(got.unit, "m")
        np.testing.assert_allclose(got.data, heights * 1e-9, rtol=1e-6)
        self.assertEqual(value_text(got, got.space.to_world((3, 4, 0))), f"{heights[3, 4, 0]:.5g} nm".replace("-", "−"))

    def test_a_series_keeps_axes_and_values(self):
        image = Image(
            RNG.integers(0, 999, (6, 5, 4, 3)).astype(np.int16),
            tilted_space((6, 5, 4)),
            "S",
            axes=(Axis.even("time", 3, 2.5, "s"),),
        )
        save_image(self.place / "s.nii.gz", image)
        back, record, _ = self.kept(self.place / "s.nii.gz")
        self.assertEqual((record.axes, record.short_facts), ((Axis.even("time", 3, 2.5, "s"),), "6×5×4 · 3 times"))
        np.testing.assert_array_equal(back.data, image.data)
        self.assertEqual(back.frame((1,)).name, "s, time 2.5 s")
        self.assertFalse(back.in_memory)

    def test_colours_and_their_thumbnail(self):
        rgb = np.zeros((40, 20, 1, 3), np.uint8)
        rgb[:20] = (200, 30, 10)
        save_image(self.place / "c.png", Image(rgb, picture_space(40, 20, None), colour=True))
        back, record, study = self.kept(self.place / "c.png")
        self.assertTrue(record.colour)
        np.testing.assert_array_equal(back.rgb(), rgb)
        pixels = np.frombuffer(study.thumbnail(record.id), np.uint8).reshape(SIDE, SIDE, 4)
        self.assertEqual(pixels[44, 20, :3].tolist(), [10, 30, 200])  # blue, green, red
        self.assertEqual(pixels[44, 70, :3].tolist(), [0, 0, 0])

    def test_a_pyramid_stays_a_pyramid(self):
        flat = RNG.integers(0, 255, (2500, 5000)).astype(np.uint8)
        save_image(self.place / "p.ome.tif", Image(flat.T[:, :, None], picture_space(5000, 2500, (0.0005, 0.0005))))
        back, record, study = self.kept(self.place / "p.ome.tif")
        self.assertEqual([level.space.shape[:2] for level in back.levels], [(2500, 1250), (1250, 625)])
        self.assertFalse(back.in_memory)
        self.assertEqual(len(study.thumbnail(record.id)), SIDE * SIDE)
        with self.assertRaisesRegex(Trouble, "in the study already"):
            study.run("gather", folder=self.place / "p.ome.tif")

    def test_files_that_belong_together_are_copied_together(self):
        values = RNG.integers(0, 99, (4, 5, 6)).astype(np.int16)
        (self.place / "in").mkdir()
        sitk.WriteImage(sitk.GetImageFromArray(values), str(self.place / "in" / "d.mhd"))
        back, record, study = self.kept(self.place / "in")
        shutil.rmtree(self.place / "in")
        np.testing.assert_array_equal(back.data, values.T)
        self.assertEqual(
            sorted(p.name for p in (study.folder / "images" / str(record.id)).iterdir()), ["d.mhd", "d.raw"]
        )

    def test_a_zarr_folder_is_copied_whole(self):
        image = Image(RNG.integers(0, 99, (40, 30, 5)).astype(np.uint16), straight_space((40, 30, 5)))
        (self.place / "in").mkdir()
        save_image(self.place / "in" / "z.ome.zarr", image)
        back, record, _ = self.kept(self.place / "in")
        shutil.rmtree(self.place / "in")
        self.assertEqual((record.name, record.format), ("z", "OME-Zarr"))
        np.testing.assert_array_equal(back.data, image.data)
        np.testing.assert_allclose(back.space.affine, image.space.affine, atol=1e-9)

    def test_files_left_in_place_that_vanish_or_change_are_named(self):
        path = self.place / "t.tif"
        tifffile.imwrite(path, RNG.integers(0, 255, (20, 30)).astype(np.uint8))
        with self.study() as study:
            study.run("gather", folder=path, copy=False)
        tifffile.imwrite(path, RNG.integers(0, 255, (25, 30)).astype(np.uint8))
        with self.study() as study, self.assertRaisesRegex(Trouble, "have changed since"):
            study.image("t").data
        path.unlink()
        with self.study() as study, self.assertRaisesRegex(Trouble, "no longer there, t.tif first"):
            study.image("t").data

    def test_results_of_operations_on_series_are_kept(self):
        image = Image(
            RNG.normal(100, 9, (9, 8, 7, 3)).astype(np.float32),
            straight_space((9, 8, 7)),
            axes=(Axis.even("time", 3, 1.0, "s"),),
        )
        save_image(self.place / "s.nii", image)
        with self.study() as study:
            study.run("gather", folder=self.place / "s.nii")
            study.run("smooth", image="s", fwhm=1.0)
            study.run("scale", image="s@2")
            with self.assertRaisesRegex(Trouble, "works on one volume"):
                study.run("scale", image="s")
            with self.assertRaisesRegex(Trouble, "give a time from 1 to 3"):
                study.run("scale", image="s@4")
        with self.study() as study:
            smooth = study.image("s, smooth 1 mm")
            self.assertEqual(smooth.axes[0].size, 3)
            self.assertLess(smooth.frame((2,)).data.std(), 0.8 * image.data[..., 2].std())
            self.assertEqual(study.find("s, time 1 s, scaled").axes, ())


class DrawingTest(unittest.TestCase):
    def colours(self, space):
        rgb = np.zeros((*space.shape, 3), np.uint8)
        rgb[..., 0] = 200
        rgb[space.shape[0] // 2 :, :, :, 1] = 90
        return Image(rgb, space, colour=True)

    def test_colours_are_drawn_as_they_are(self):
        for space in (straight_space((20, 20, 20)), tilted_space((20, 20, 20), (0.5, 0.5, 0.5), 20.0)):
            image = self.colours(space)
            for smooth in (False, True):
                view = fitted(AXIAL, space, 100, 100).moved(centre=tuple(space.centre))
                pixels = draw(view, [Drawn(image, ImageLook(0, 255, smooth=smooth))])
                for voxel, wanted in (((4, 10, 10), 0xFFC80000), ((16, 10, 10), 0xFFC85A00)):
                    world = space.to_world(voxel)
                    x, y = view.to_pixel((world[0], world[1], view.centre[2]))
                    self.assertEqual(int(pixels[round(y), round(x)]), wanted)
                self.assertEqual(len({int(v) >> 24 for v in pixels.ravel()}), 1)

    def test_places_without_a_value_show_the_ground(self):
        values = np.full((10, 10, 10), 50, np.float32)
        values[:5] = np.nan
        space = straight_space((10, 10, 10))
        view = fitted(AXIAL, space, 60, 60)
        pixels = draw(view, [Drawn(Image(values, space), ImageLook(0, 100, smooth=False))])
        x, y = view.to_pixel(space.to_world((2, 5, 5)))
        empty = int(pixels[round(y), round(x)])
        x, y = view.to_pixel(space.to_world((8, 5, 5)))
        self.assertEqual(int(pixels[round(y), round(x)]), int(colour_table("Grey")[127]))
        self.assertNotEqual(empty, int(colour_table("Grey")[127]))

    def test_small_pictures_of_flat_and_inverted_images(self):
        flat = np.zeros((60, 60, 1), np.uint16)
        flat[:30] = 4000
        plain = Image(flat, picture_space(60, 60, (0.1, 0.1)))
        inverted = Image(flat, picture_space(60, 60, (0.1, 0.1)), facts={"PhotometricInterpretation": "MONOCHROME1"})
        self.assertEqual((first_map(plain), first_map(inverted)), ("Grey", "Grey, inverted"))
        one, other = (np.frombuffer(thumbnail(i), np.uint8).reshape(SIDE, SIDE).astype(int) for i in (plain, inverted))
        self.assertGreater(one[44, 10], one[44, 80] + 200)
        self.assertLess(other[44, 10], other[44, 80] - 200)
        self.assertEqual({p.name for p in PLANES}, {"Coronal", "Axial", "Sagittal"})

    def test_brightness_of_colours(self):
        image = self.colours(straight_space((4, 4, 4)))
        self.assertEqual(int(image.grey().data[0, 0, 0]), round(0.299 * 200))
        self.assertEqual(int(image.grey().data[3, 0, 0]), round(0.299 * 200 + 0.587 * 90))
        self.assertEqual(value_text(image, image.space.to_world((3, 1, 1))), "200 90 0")
        self.assertIs(image.grey(), image.grey())


if __name__ == "__main__":
    unittest.main()
