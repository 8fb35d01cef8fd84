"""What files of pictures say of scale, colour, orientation and further pictures, against other libraries."""

import unittest

import numpy as np
import tifffile
import zarr
from PIL import Image as Opened

from kestrelmist.core.errors import Trouble
from kestrelmist.formats.label_files import read_label_map
from kestrelmist.formats.lengths import millimetres, seconds
from kestrelmist.formats.opening import open_image
from kestrelmist.gather.bare_image import bare_facts
from tests.making import PlaceCase

RANDOM = np.random.default_rng(20)


def said(image) -> str:
    return " · ".join(c.sentence for c in image.caveats)


def seen(image) -> np.ndarray:
    """[row, column, …] of a picture."""
    values = image.rgb()[:, :, 0] if image.colour else image.stored().exact()[:, :, 0]
    return values.swapaxes(0, 1)


class DescriptionTest(PlaceCase):
    def ome(self, *pictures) -> str:
        """A file of pictures, each (array, metadata)."""
        path = self.place / "slide.ome.tif"
        with tifffile.TiffWriter(path, ome=True) as writer:
            for values, facts in pictures:
                writer.write(values, metadata=facts)
        return path

    def facts(self, size, unit="µm", **more):
        return {
            "PhysicalSizeX": size,
            "PhysicalSizeXUnit": unit,
            "PhysicalSizeY": size,
            "PhysicalSizeYUnit": unit,
        } | more

    def test_the_scale_is_that_of_the_picture_taken(self):
        macro = RANDOM.integers(0, 255, (2, 30, 40), dtype=np.uint8)
        large = RANDOM.integers(0, 255, (2, 120, 160), dtype=np.uint8)
        axes = {"axes": "CYX"}
        path = self.ome(
            (macro, self.facts(100.0, Name="macro", Channel={"Name": ["m1", "m2"]}, **axes)),
            (large, self.facts(0.25, Name="slide", Channel={"Name": ["DAPI", "actin"]}, **axes)),
        )
        image = open_image(path)
        np.testing.assert_allclose(image.space.spacing[:2], 0.25e-3)
        self.assertEqual(image.axes[0].labels, ("DAPI", "actin"))
        np.testing.assert_array_equal(image.stored((1,)).exact()[:, :, 0].T, large[1])
        self.assertIn("Another picture is in this file and left: 40 × 30", said(image))

    def test_two_of_one_size_are_told_apart_by_their_order(self):
        one, other = (np.full((50, 60), v, np.uint8) for v in (1, 2))
        image = open_image(self.ome((one, self.facts(2.0)), (other, self.facts(7.0))))
        np.testing.assert_allclose(image.space.spacing[0], {1: 2e-3, 2: 7e-3}[int(seen(image)[0, 0])])

    def test_units(self):
        grey = np.zeros((5, 6), np.uint8)
        for unit, length in (("nm", 1e-6), ("Å", 1e-7), ("cm", 10.0), ("mm", 1.0), ("pt", 25.4 / 72)):
            image = open_image(self.ome((grey, self.facts(3.0, unit))))
            np.testing.assert_allclose(image.space.spacing[0], 3 * length)
            self.assertEqual(said(image), "")
        for unit in ("pixel", "reference frame", "Mm"):
            image = open_image(self.ome((grey, self.facts(3.0, unit))))
            self.assertEqual(image.space.unit, "px")
            self.assertIn(f"in “{unit}”, a unit that is not known", said(image))
        times = np.zeros((3, 5, 6), np.uint8)
        for unit, step in (("ms", 0.02), ("min", 1200.0), ("fortnight", None)):
            facts = self.facts(1.0, axes="TYX", TimeIncrement=20.0, TimeIncrementUnit=unit)
            self.assertEqual(open_image(self.ome((times, facts))).axes[0].step, step)

    def test_words_of_units(self):
        self.assertEqual(
            [millimetres(u) for u in ("Micrometers", "INCHES", "mm", "MM", "lot")], [1e-3, 25.4, 1, None, None]
        )
        self.assertEqual([seconds(u) for u in ("Seconds", "S", "min")], [1, None, 60])

    def test_planes_in_files_that_are_not_there(self):
        path = self.ome((np.ones((2, 20, 30), np.uint8), self.facts(1.0, axes="ZYX")))
        text = tifffile.TiffFile(path).ome_metadata
        away = text.replace(
            "<TiffData",
            '<TiffData FirstZ="0" IFD="0" PlaneCount="1"><UUID FileName="gone.tif">urn:uuid:1</UUID></TiffData>'
            '<TiffData FirstZ="1"',
            1,
        )
        tifffile.tiffcomment(path, away.encode())
        self.assertRegex(said(open_image(path)), "of 2 planes of this picture are in files that are not there")
        tifffile.tiffcomment(path, away.replace("gone.tif", "../../secret.tif").encode())
        with self.assertRaisesRegex(Trouble, "names values outside its folder"):
            open_image(path)

    def test_what_a_file_says_in_a_doubt_does_not_outlive_its_identity(self):
        head = "NRRD0005\ntype: uint8\ndimension: 3\nsizes: 2 2 2\nspace: left-posterior-superior\n"
        head += 'space directions: (1,0,0) (0,1,0) (0,0,2)\nspace units: "Waldemarius" "mm" "mm"\nencoding: raw\n\n'
        (self.place / "u.nrrd").write_bytes(head.encode() + bytes(8))
        image = open_image(self.place / "u.nrrd")
        self.assertIn("Waldemarius", said(image))
        kept = bare_facts(image)["caveats"]
        self.assertTrue(kept)
        self.assertNotIn("Waldemarius", str(kept))
        path = self.ome((np.ones((20, 30), np.uint8), self.facts(1.0, Name="Waldemarius")), (np.ones((40, 50)), {}))
        self.assertNotIn("Waldemarius", said(open_image(path)))

    def test_pages_of_other_sizes_are_told(self):
        path = self.place / "pages.tif"
        with tifffile.TiffWriter(path) as writer:
            for shape in ((20, 30), (40, 50), (10, 10)):
                writer.write(np.zeros(shape, np.uint16))
        image = open_image(path)
        self.assertEqual(image.space.shape, (50, 40, 1))
        self.assertIn("2 more pictures are in this file and left: 30 × 20, 10 × 10", said(image))


class ColourTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.rgb = Opened.fromarray(RANDOM.integers(0, 255, (17, 23, 3), dtype=np.uint8))

    def saved(self, picture, name, **more):
        path = self.place / name
        picture.save(path, **more)
        return open_image(path)

    def test_inks(self):
        for name, most in (("c.tif", 1), ("c.jpg", 4)):
            inks = self.rgb.convert("CMYK")
            image = self.saved(inks, name, **({"quality": 100, "subsampling": 0} if name == "c.jpg" else {}))
            self.assertTrue(image.colour)
            away = np.abs(seen(image).astype(int) - np.asarray(self.rgb))
            self.assertLessEqual(np.mean(away), most)
            self.assertIn("inks (CMYK)", said(image))

    def test_luma_and_differences(self):
        for packing in (None, "tiff_lzw", "jpeg"):
            image = self.saved(self.rgb.convert("YCbCr"), "y.tif", compression=packing)
            truth = np.asarray(self.rgb.convert("YCbCr").convert("RGB")).astype(int)
            self.assertTrue(image.colour)
            self.assertLessEqual(np.abs(seen(image).astype(int) - truth).max(), 1 if packing != "jpeg" else 80)

    def test_palettes(self):
        numbers = RANDOM.integers(0, 7, (9, 11), dtype=np.uint8)
        picture = Opened.fromarray(numbers, "P")
        picture.putpalette(list(RANDOM.integers(0, 255, 768)))
        for name in ("p.tif", "p.png"):
            image = self.saved(picture, name)
            np.testing.assert_array_equal(seen(image), np.asarray(picture.convert("RGB")))
            labels = read_label_map(self.place / name)  # as labels they stay the numbers that they are
            np.testing.assert_array_equal(labels.data[:, :, 0].T, numbers)
        self.assertIn("colours of a palette", said(open_image(self.place / "p.tif")))
        picture.putpalette([v for k in range(256) for v in (255 - k,) * 3])
        np.testing.assert_array_equal(seen(self.saved(picture, "g.tif")), 255 - numbers)
        picture.putpalette([v for k in range(256) for v in (k,) * 3])
        plain = self.saved(picture, "n.tif")
        self.assertEqual((plain.colour, "palette" in said(plain)), (False, False))

    def test_names_of_samples(self):
        path = self.place / "lab.tif"
        tifffile.imwrite(path, np.zeros((5, 6, 3), np.uint16), photometric="cielab")
        self.assertEqual(open_image(path).axes[0].labels[0], "lightness")
        tifffile.imwrite(path, np.zeros((5, 6, 4), np.uint16), photometric="separated")
        self.assertEqual(open_image(path).axes[0].labels[0], "cyan")
        tifffile.imwrite(path, np.zeros((5, 6), np.uint8), photometric="miniswhite")
        self.assertIn("0 is white", said(open_image(path)))


class OrientationTest(PlaceCase):
    def test_all_eight(self):
        from PIL import ImageOps

        picture = Opened.fromarray(RANDOM.integers(0, 255, (40, 24, 3), dtype=np.uint8))
        for n in range(1, 9):
            exif = Opened.Exif()
            exif[274] = n
            picture.save(self.place / "e.png", exif=exif)
            picture.save(self.place / "e.jpg", exif=exif, quality=100, subsampling=0)
            tifffile.imwrite(
                self.place / "e.tif",
                np.asarray(picture),
                photometric="rgb",
                tile=(16, 16),
                extratags=[(274, "H", 1, n, True)],
                resolution=(1234, 2345),
                resolutionunit="centimeter",
                metadata=None,
            )
            with Opened.open(self.place / "e.png") as opened:
                truth = np.asarray(ImageOps.exif_transpose(opened))
            for name in ("e.png", "e.tif"):
                image = open_image(self.place / name)
                np.testing.assert_array_equal(seen(image), truth, err_msg=f"{name} {n}")
                self.assertEqual("orientation tag" in said(image), n != 1)
            with Opened.open(self.place / "e.jpg") as opened:
                truth = np.asarray(ImageOps.exif_transpose(opened)).astype(int)
            self.assertLess(np.abs(seen(open_image(self.place / "e.jpg")) - truth).max(), 4)
            tiff = open_image(self.place / "e.tif")
            across, down = (10 / 1234, 10 / 2345)[:: -1 if n > 4 else 1]
            np.testing.assert_allclose(tiff.space.spacing[:2], (across, down))
            whole = tiff.rgb()[:, :, 0]
            part = np.asarray(tiff.part((), (3, 19, 5, 22)))[:, :, 0]
            np.testing.assert_array_equal(part, whole[3:19, 5:22], err_msg=f"part {n}")

    def test_frames_of_a_film(self):
        frames = [Opened.fromarray(np.full((6, 6), v, np.uint8)) for v in (10, 20, 30)]
        frames[0].save(self.place / "film.png", save_all=True, append_images=frames[1:])
        self.assertIn("a film of 3 pictures; only the first", said(open_image(self.place / "film.png")))


class ZarrTest(PlaceCase):
    def group(self, *datasets, **more):
        path = self.place / "a.ome.zarr"
        group = zarr.open_group(str(path), mode="w", zarr_format=2)
        group.create_array("0", shape=(8, 10, 12), chunks=(8, 10, 12), dtype="u2")[...] = 3
        axes = [{"name": a, "type": "space", "unit": "micrometer"} for a in "zyx"]
        steps = [{"type": "scale", "scale": [4, 2, 1]}, {"type": "translation", "translation": [100, 200, 300]}]
        pyramid = {"axes": axes, "datasets": [{"path": "0", "coordinateTransformations": steps}]}
        group.attrs.update({"multiscales": [pyramid, *({"name": n, **pyramid} for n in datasets)]} | more)
        return group, path

    def test_the_place_of_the_first_voxel(self):
        _, path = self.group()
        image = open_image(path)
        np.testing.assert_allclose(image.space.affine[:3, 3], [0.3, -0.2, -0.1])
        np.testing.assert_allclose(image.space.spacing, [1e-3, 2e-3, 4e-3])
        self.assertIn("first voxel, 0.3 × 0.2 × 0.1 mm", said(image))

    def test_further_pyramids_and_labels_are_told(self):
        group, path = self.group("faint")
        labels = group.create_group("labels")
        labels.attrs["labels"] = ["cells"]
        self.assertRegex(
            said(open_image(path)), "1 further pyramid is .*The labels of this OME-Zarr are left .1, in its folder"
        )
        cells = labels.create_group("cells")
        cells.create_array("0", shape=(8, 10, 12), chunks=(8, 10, 12), dtype="u2")[...] = 7
        cells.attrs.update({"multiscales": dict(group.attrs)["multiscales"][:1]})
        opened = read_label_map(path / "labels" / "cells")
        self.assertEqual((int(opened.data.min()), opened.space), (7, open_image(path).space))

    def test_collections_and_plates(self):
        group, path = self.group()
        facts = dict(group.attrs)
        outer = zarr.open_group(str(self.place / "many.zarr"), mode="w", zarr_format=2)
        for n in range(3):
            inner = outer.create_group(str(n))
            inner.create_array("0", shape=(8, 10, 12), chunks=(8, 10, 12), dtype="u2")[...] = n + 5
            inner.attrs.update(facts)
        image = open_image(self.place / "many.zarr")
        self.assertEqual(float(image.stored().exact().max()), 5)
        self.assertIn("2 more pictures are in this OME-Zarr and left: 1, 2", said(image))
        outer.attrs["plate"] = {"wells": [{"path": "A/1"}]}
        with self.assertRaisesRegex(Trouble, "plate of many fields"):
            open_image(self.place / "many.zarr")

    def test_a_unit_that_is_not_known(self):
        group, path = self.group()
        facts = dict(group.attrs)["multiscales"]
        for axis in facts[0]["axes"]:
            axis["unit"] = "parsnip"
        group.attrs["multiscales"] = facts
        image = open_image(path)
        self.assertEqual(image.space.unit, "px")
        self.assertIn("unit “parsnip”", said(image))


if __name__ == "__main__":
    unittest.main()
