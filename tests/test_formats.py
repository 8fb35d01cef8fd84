"""Every format: exact round trips against our reader and an independent one, wrong files by a sentence."""

import gzip
import struct
import subprocess
import sys
import unittest
import zipfile

import imagecodecs
import nibabel
import nrrd
import numpy as np
import SimpleITK as sitk
import tifffile
import zarr

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import Progress, silent
from kestrelmist.core.space import Space, picture_space
from kestrelmist.formats.nifti_write import header_for
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.formats.sequence import read_sequence, sequences
from kestrelmist.scene.showing import for_showing
from tests.making import PlaceCase, tilted_space

RNG = np.random.default_rng(11)
ITK_AXES = np.array([-1, -1, 1])
"""SimpleITK's world runs left, back, up."""


def made(kind, axes=(), colour=False, shape=(9, 7, 5), space=None, unit="") -> Image:
    space = space or tilted_space(shape)
    full = (*space.shape, *(a.size for a in axes))
    if colour:
        values = RNG.integers(0, 256, (*full, 3)).astype(np.uint8)
    elif np.dtype(kind).kind == "f":
        values = RNG.normal(0, 1e3, full).astype(kind)
    else:
        limits = np.iinfo(kind)
        values = RNG.integers(limits.min, int(limits.max) + 1, full).astype(kind)
    return Image(values, space, "Made", "T-3", "MR", unit, axes=axes, colour=colour)


def turned(image: Image) -> Image:
    """The image counted from its other end, which is where a left-handed stack of DICOM slices begins."""
    affine = image.space.affine.copy()
    affine[:3, 3] = image.space.to_world((0, 0, image.space.shape[2] - 1))
    affine[:3, 2] *= -1
    return image.like(
        image.data[:, :, ::-1]
        if image.data.dtype == image.stored().exact().dtype
        else lambda index, progress: image.stored(index).exact()[:, :, ::-1],
        space=Space(image.space.shape, affine),
    )


class RoundTripCase(PlaceCase):
    def assert_same(self, one: Image, other: Image, place=True):
        self.assertEqual(other.shape, one.shape)
        self.assertEqual(other.colour, one.colour)
        for index in one.indices():
            np.testing.assert_array_equal(other.stored(index).exact(), one.stored(index).exact())
        if place:
            np.testing.assert_allclose(other.space.affine, one.space.affine, atol=1e-5)


class RoundTripTest(RoundTripCase):
    def back(self, image: Image, name: str) -> Image:
        save_image(self.place / name, image)
        return open_image(self.place / name)

    def test_volumes_of_every_number_type(self):
        for kind in ("u1", "i2", "u2", "i4", "f4", "f8", "i1", "u4"):
            for name in ("a.nii.gz", "a.nii", "a.nrrd", "a.mha", "a.ome.zarr"):
                with self.subTest(kind=kind, name=name):
                    image = made(kind)
                    self.assert_same(image, self.back(image, name))
            image = made(kind)
            with self.subTest(kind=kind, name="tif"):
                self.assert_same(image, self.back(image, "a.ome.tif"), place=False)
            with self.subTest(kind=kind, name="dicom"):
                self.assert_same(turned(image), self.back(image, f"a{kind}.dicom"))

    def test_series_keep_their_axes(self):
        axes = (Axis.even("time", 4, 1.5, "s"),)
        for name in ("s.nii.gz", "s.nrrd", "s.mha", "s.ome.tif", "s.ome.zarr", "s.dicom"):
            with self.subTest(name=name):
                image = made("i2", axes)
                back = self.back(image, name)
                self.assert_same(turned(image) if name == "s.dicom" else image, back, place=name != "s.ome.tif")
                self.assertEqual((back.axes[0].name, back.axes[0].size), ("time", 4))
                self.assertAlmostEqual(back.axes[0].step, 1.5, places=5)

    def test_channels_and_time_in_one_file(self):
        axes = (Axis("channel", 2, labels=("lipid", "nuclei")), Axis.even("time", 3, 60.0, "s"))
        for name in ("c.ome.tif", "c.nii.gz", "c.nrrd"):
            with self.subTest(name=name):
                image = made("u2", axes)
                back = self.back(image, name)
                self.assert_same(image, back, place=False)
                self.assertEqual(
                    [a.name for a in back.axes],
                    ["channel", "time"] if name != "c.nrrd" else [back.axes[0].name, "time"],
                )
                if name != "c.nrrd":
                    self.assertEqual(back.axes[0].labels, ("lipid", "nuclei"))

    def test_colours(self):
        flat = picture_space(31, 17, (0.002, 0.002))
        for name in ("p.png", "p.ome.tif", "p.ome.zarr", "p.nii.gz", "p.nrrd", "p.mha", "p.dicom"):
            with self.subTest(name=name):
                image = made("u1", colour=True, space=flat)
                self.assert_same(image, self.back(image, name), place=False)

    def test_a_picture_keeps_its_unknown_sides_and_its_scale(self):
        image = made("u2", space=picture_space(20, 30, (0.0005, 0.0005)))
        for name in ("p.ome.tif", "p.ome.zarr", "p.nii.gz"):
            back = self.back(image, name)
            np.testing.assert_allclose(back.space.spacing[:2], (0.0005, 0.0005), rtol=1e-6)
            self.assertFalse(back.space.sides_known, name)

    def test_height_map_as_x3p(self):
        for kind in ("f4", "f8"):
            for unit, factor in (("m", 1e9), ("µm", 1e3), ("nm", 1.0)):
                image = made(kind, space=picture_space(12, 9, (0.001, 0.002)), unit=unit)
                back = self.back(image, "h.x3p")
                self.assertEqual(back.unit, "nm")
                one = back.stored(()).exact()
                np.testing.assert_allclose(one, image.stored(()).exact().astype(float) * factor, rtol=2e-7)
                again = self.back(back, "again.x3p").stored(()).exact()
                np.testing.assert_allclose(again, one, rtol=1e-15)
        with self.assertRaisesRegex(Trouble, "no height map"):
            save_image(self.place / "h.x3p", made("f4"))

    def test_what_a_format_cannot_say_is_refused_and_nothing_is_left(self):
        deep = made("u2", (Axis("echo", 2), Axis("time", 2)))
        for name in ("x.mha", "x.png", "x.dicom"):
            with self.subTest(name=name), self.assertRaises(Trouble):
                save_image(self.place / name, deep)
        with self.assertRaisesRegex(Trouble, "cannot be written under this name"):
            save_image(self.place / "x.doc", deep)
        self.assertEqual(list(self.place.iterdir()), [])


class IndependentReadersTest(PlaceCase):
    """What we write, others read the same; what others write, we read the same."""

    def agrees_with_itk(self, image: Image, path):
        theirs = sitk.ReadImage(str(path))
        np.testing.assert_array_equal(sitk.GetArrayFromImage(theirs), image.kji)
        for voxel in ((0, 0, 0), (3, 1, 4), (8, 6, 0)):
            np.testing.assert_allclose(
                image.space.to_world(voxel), np.array(theirs.TransformIndexToPhysicalPoint(voxel)) * ITK_AXES, atol=1e-4
            )

    def test_ours_read_by_others(self):
        for kind in ("u1", "i2", "u2", "f4"):
            for name in ("a.nii.gz", "a.nrrd", "a.mha"):
                with self.subTest(kind=kind, name=name):
                    image = made(kind)
                    save_image(self.place / name, image)
                    self.agrees_with_itk(image, self.place / name)
        image = made("f8")
        save_image(self.place / "d.nii.gz", image)
        theirs = nibabel.load(self.place / "d.nii.gz")
        np.testing.assert_array_equal(np.asarray(theirs.dataobj), image.stored().exact())
        np.testing.assert_allclose(theirs.affine, image.space.affine, atol=1e-5)

    def test_theirs_read_by_us(self):
        image = made("i2")
        theirs = sitk.GetImageFromArray(image.kji)
        affine = np.diag([-1, -1, 1, 1]) @ image.space.affine
        theirs.SetSpacing(image.space.spacing)
        theirs.SetOrigin(affine[:3, 3])
        theirs.SetDirection((affine[:3, :3] / image.space.spacing).ravel())
        for name, packed in (
            ("t.nii", False),
            ("t.nrrd", True),
            ("t.nrrd", False),
            ("t.mha", True),
            ("t.mhd", False),
            ("t.nhdr", False),
            ("t.nhdr", True),
        ):
            with self.subTest(name=name, packed=packed):
                sitk.WriteImage(theirs, str(self.place / name), packed)
                back = open_image(self.place / name)
                np.testing.assert_array_equal(back.data, image.data)
                np.testing.assert_allclose(back.space.affine, image.space.affine, atol=1e-4)

    def test_mgh(self):
        for name, values in (
            ("m.mgh", RNG.integers(-99, 99, (5, 6, 7)).astype(np.int16)),
            ("m.mgz", RNG.normal(0, 1, (5, 6, 7, 3)).astype(np.float32)),
        ):
            space = tilted_space((5, 6, 7))
            nibabel.save(nibabel.MGHImage(values, space.affine), self.place / name)
            back = open_image(self.place / name)
            np.testing.assert_array_equal(back.data, values)
            np.testing.assert_allclose(back.space.affine, space.affine, atol=1e-4)

    def test_nrrd_by_its_own_library(self):
        values = RNG.integers(0, 999, (3, 6, 5, 4)).astype(np.uint16)
        for encoding in ("raw", "gzip", "bzip2", "ascii"):
            header = {
                "space": "left-posterior-superior",
                "kinds": ["vector", "domain", "domain", "domain"],
                "encoding": encoding,
                "space directions": np.array([[np.nan] * 3, [0.5, 0, 0], [0, 0.6, 0], [0, 0, 2.0]]),
                "space origin": np.array([1.0, 2.0, 3.0]),
            }
            nrrd.write(str(self.place / "v.nrrd"), values, header)
            back = open_image(self.place / "v.nrrd")
            self.assertEqual([(a.name, a.size) for a in back.axes], [("component", 3)])
            np.testing.assert_array_equal(back.data, values.transpose(1, 2, 3, 0))
            np.testing.assert_allclose(back.space.to_world((1, 1, 1)), (-1.5, -2.6, 5.0))

    def test_our_ome_tiff_by_tifffile(self):
        image = made("u2", (Axis("channel", 2, labels=("a", "b")),), shape=(40, 30, 6))
        save_image(self.place / "o.ome.tif", image)
        with tifffile.TiffFile(self.place / "o.ome.tif") as file:
            self.assertTrue(file.is_ome)
            self.assertEqual(file.series[0].axes, "CZYX")
            np.testing.assert_array_equal(file.asarray(), image.data.transpose(3, 2, 1, 0))
            self.assertIn('PhysicalSizeX="500', file.ome_metadata)

    def test_tiff_of_others(self):
        pages = RNG.integers(0, 4000, (5, 20, 30)).astype(np.uint16)
        tifffile.imwrite(self.place / "pages.tif", pages, photometric="minisblack", compression="lzw", metadata=None)
        back = open_image(self.place / "pages.tif")
        np.testing.assert_array_equal(back.data[:, :, 0].transpose(2, 1, 0), pages)
        heights = RNG.normal(0, 1, (20, 30)).astype(np.float32)
        tifffile.imwrite(self.place / "h.tif", heights, resolution=(20000, 20000), resolutionunit="CENTIMETER")
        back = open_image(self.place / "h.tif")
        np.testing.assert_array_equal(back.data[:, :, 0].T, heights)
        np.testing.assert_allclose(back.space.spacing[:2], (0.0005, 0.0005))
        tifffile.imwrite(self.place / "print.tif", heights, resolution=(300, 300), resolutionunit="INCH")
        back = open_image(self.place / "print.tif")
        self.assertEqual(back.space.unit, "px")
        self.assertIn("no scale", back.caveats[0].sentence)
        tifffile.imwrite(self.place / "rgb.tif", RNG.integers(0, 255, (20, 30, 3)).astype(np.uint8), photometric="rgb")
        self.assertTrue(open_image(self.place / "rgb.tif").colour)

    def test_pyramids_are_levels_of_one_picture(self):
        flat = RNG.integers(0, 255, (2600, 5200)).astype(np.uint8)
        image = Image(flat.T[:, :, None], picture_space(5200, 2600, (0.0005, 0.0005)), "Section")
        for name in ("big.ome.tif", "big.ome.zarr"):
            save_image(self.place / name, image)
            back = open_image(self.place / name)
            self.assertEqual([level.space.shape[:2] for level in back.levels], [(2600, 1300), (1300, 650)])
            np.testing.assert_allclose(back.levels[1].space.corners(), back.space.corners(), atol=1e-9)
            np.testing.assert_array_equal(back.data[:, :, 0].T, flat)
            expected = flat.reshape(1300, 2, 2600, 2).mean((1, 3))
            np.testing.assert_allclose(back.levels[0].data[:, :, 0].T, expected, atol=0.5)
            self.assertIs(for_showing(back, 1 << 21), back.levels[1])

    def test_ome_zarr_of_others(self):
        group = zarr.open_group(str(self.place / "old.zarr"), mode="w", zarr_format=2)
        values = RNG.integers(0, 999, (2, 4, 20, 30)).astype(np.uint16)
        array = group.create_array("0", shape=values.shape, chunks=(1, 2, 16, 16), dtype="u2")
        array[:] = values
        axes = [{"name": "c", "type": "channel"}, *({"name": n, "type": "space", "unit": "micrometer"} for n in "zyx")]
        group.attrs["multiscales"] = [
            {
                "version": "0.4",
                "axes": axes,
                "datasets": [
                    {"path": "0", "coordinateTransformations": [{"type": "scale", "scale": [1, 2.0, 0.5, 0.5]}]}
                ],
            }
        ]
        back = open_image(self.place / "old.zarr")
        np.testing.assert_array_equal(back.data, values.transpose(3, 2, 1, 0))
        np.testing.assert_allclose(back.space.spacing, (0.0005, 0.0005, 0.002))

    def test_pictures(self):
        grey, colours = (
            RNG.integers(0, 256, (17, 31)).astype(np.uint8),
            RNG.integers(0, 256, (17, 31, 3)).astype(np.uint8),
        )
        deep = RNG.integers(0, 65536, (17, 31)).astype(np.uint16)
        for name, values, encode in (
            ("g.png", grey, imagecodecs.png_encode),
            ("c.png", colours, imagecodecs.png_encode),
            ("d.png", deep, imagecodecs.png_encode),
            ("c.bmp", colours, imagecodecs.bmp_encode),
        ):
            (self.place / name).write_bytes(encode(values))
            back = open_image(self.place / name)
            found = back.rgb()[:, :, 0] if back.colour else back.stored().exact()[:, :, 0]
            np.testing.assert_array_equal(found.swapaxes(0, 1), values)
            self.assertEqual((back.space.unit, back.space.sides_known), ("px", False))
        (self.place / "j.jpg").write_bytes(imagecodecs.jpeg_encode(colours, level=95))
        back = open_image(self.place / "j.jpg")
        np.testing.assert_array_equal(
            back.rgb()[:, :, 0].swapaxes(0, 1), imagecodecs.jpeg_decode((self.place / "j.jpg").read_bytes())
        )


class HeightMapTest(PlaceCase):
    def test_text_matrix_with_a_header(self):
        (self.place / "e.txt").write_text(
            "# Enamel 3\n# Width: 120 µm\n# Height: 60.0 µm\n# Value units: nm\n1.5 2 3 4\n5 nan 7 8\n"
        )
        image = open_image(self.place / "e.txt")
        self.assertEqual((image.space.shape, image.unit), ((4, 2, 1), "nm"))
        np.testing.assert_allclose(image.space.spacing[:2], (0.03, 0.03))
        np.testing.assert_array_equal(image.data[:, :, 0].T, [[1.5, 2, 3, 4], [5, np.nan, 7, 8]])
        (self.place / "c.txt").write_text("Pixel size = 0,5 um\nunit = um\n1,5;2,5\n3;4\n")
        image = open_image(self.place / "c.txt")
        np.testing.assert_array_equal(image.data[:, :, 0].T, [[1.5, 2.5], [3, 4]])
        np.testing.assert_allclose(image.space.spacing[:2], (0.0005, 0.0005))
        (self.place / "m.txt").write_text("Value units: m\n1.5e-9 2e-6\n-3e-9 nan\n")
        image = open_image(self.place / "m.txt")
        self.assertEqual(image.unit, "nm")
        np.testing.assert_allclose(image.data[:, :, 0].T, [[1.5, 2000], [-3, np.nan]], rtol=1e-6)

    def test_text_that_is_no_matrix(self):
        for text, said in (
            ("1 2 3\n4 5\n", "Row 2 of this file has 2 numbers where the first has 3"),
            ("hello world\n", "not made of numbers"),
            ("", "no number"),
        ):
            (self.place / "n.txt").write_text(text)
            with self.assertRaisesRegex(Trouble, said):
                open_image(self.place / "n.txt")

    def x3p(self, link="bindata/data.bin", size=(3, 2), kind="D", increment=1, data=None, extra=""):
        header = (
            f'<?xml version="1.0"?>{extra}<p:ISO5436_2 xmlns:p="http://www.opengps.eu/2008/ISO5436_2"><Record1>'
            f"<FeatureType>SUR</FeatureType>"
            f"<Axes><CX><AxisType>I</AxisType><Increment>1e-6</Increment></CX>"
            f"<CY><AxisType>I</AxisType><Increment>2e-6</Increment></CY><CZ><AxisType>A</AxisType>"
            f"<DataType>{kind}</DataType><Increment>{increment}</Increment></CZ></Axes>"
            f"</Record1><Record3><MatrixDimension><SizeX>{size[0]}</SizeX><SizeY>{size[1]}"
            f"</SizeY><SizeZ>1</SizeZ></MatrixDimension>"
            f"<DataLink><PointDataLink>{link}</PointDataLink></DataLink></Record3></p:ISO5436_2>"
        )
        path = self.place / "s.x3p"
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("main.xml", header)
            archive.writestr(link, np.arange(6, dtype="<f8").tobytes() if data is None else data)
        return path

    def test_x3p_of_others(self):
        image = open_image(self.x3p())
        np.testing.assert_array_equal(image.data[:, :, 0].T, 1e9 * np.arange(6).reshape(2, 3))
        np.testing.assert_allclose(image.space.spacing[:2], (0.001, 0.002))
        image = open_image(self.x3p(kind="I", increment=1e-9, data=np.array([-1, 0, 1, 2, 3, 4], "<i2").tobytes()))
        np.testing.assert_allclose(image.data[:, :, 0].T, np.arange(-1, 5).reshape(2, 3))

    def test_x3p_tricks_come_to_nothing(self):
        outside = self.place.parent / "data.bin"
        for changes, said in (
            ({"link": "../data.bin"}, "outside itself"),
            ({"size": (100000, 100000)}, "promises more"),
            ({"extra": '<!DOCTYPE a [<!ENTITY b "c">]>'}, "entities"),
            ({"size": (30, 20)}, "cut short"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                open_image(self.x3p(**changes))
        self.assertFalse(outside.exists())


class SequenceTest(PlaceCase):
    def pictures(self, *sizes):
        paths = []
        for n, size in enumerate(sizes):
            path = self.place / f"lapse_{n + 8}.png"
            path.write_bytes(imagecodecs.png_encode(np.full(size, n, np.uint8)))
            paths.append(path)
        return paths

    def test_natural_order(self):
        paths = self.pictures(*[(6, 5)] * 5)
        (groups, rest) = sequences([*paths[::-1], self.place / "other.png"])
        self.assertEqual([p.name for p in groups[0]], [f"lapse_{n}.png" for n in (8, 9, 10, 11, 12)])
        self.assertEqual(rest, [self.place / "other.png"])
        image = read_sequence(paths[::-1])
        self.assertEqual((image.name, image.shape), ("lapse", (5, 6, 1, 5)))
        np.testing.assert_array_equal(image.data[0, 0, 0], range(5))
        self.assertEqual(read_sequence(paths, "slice").data[0, 0].tolist(), [0, 1, 2, 3, 4])

    def test_unequal_sizes_are_refused_by_name(self):
        with self.assertRaisesRegex(Trouble, "“lapse_10.png” is 5 × 7 where the first is 5 × 6"):
            read_sequence(self.pictures((6, 5), (6, 5), (7, 5), (9, 9)))


class LazyTest(PlaceCase):
    def test_packed_files_say_how_far_they_are_and_can_be_stopped(self):
        image = made("f4", shape=(200, 200, 120))
        save_image(self.place / "z.nii.gz", image)
        told = []
        open_image(self.place / "z.nii.gz").fetch(Progress(lambda f, what: told.append(f)))
        self.assertGreater(len([f for f in told if 0 < f < 1]), 2)
        stopped = Progress()
        stopped.cancel()
        with self.assertRaises(Cancelled):
            open_image(self.place / "z.nii.gz").fetch(stopped)

    def test_eight_gigabytes_open_in_little_memory(self):
        """A sparse NIfTI of 8 GB, one of 16 GB that has to be widened, and an OME-Zarr of 8 GB without a pyramid:
        opened, planned, drawn small."""
        for name, kind in (("big.nii", np.int16), ("wide.nii", np.int32)):
            header = header_for((2000, 2000, 1000), np.dtype(kind), tilted_space((2000, 2000, 1000)))
            with open(self.place / name, "wb") as stream:
                stream.write(header.binaryblock + bytes(4))
                stream.truncate(352 + np.dtype(kind).itemsize * 2000 * 2000 * 1000)
        array = zarr.open_array(
            str(self.place / "big.ome.zarr"), mode="w", shape=(1000, 2000, 2000), chunks=(64, 128, 128), dtype="u2"
        )
        array[500, 1000, 1000] = 9
        code = (
            "import sys; from kestrelmist.gather.plan import plan_folder\n"
            "from kestrelmist.formats.opening import open_image\n"
            "from kestrelmist.scene.thumbnail import thumbnail\n"
            "lines = plan_folder(sys.argv[1]); images = [open_image(line.files[0]) for line in lines]\n"
            "most = next(int(l.split()[1]) for l in open('/proc/self/status') if l.startswith('VmHWM')) // 1024\n"
            "thumbnail(next(i for i in images if i.name == 'big' and i.origin.format == 'NIfTI'))\n"
            "anonymous = next(int(l.split()[1]) for l in open('/proc/self/status') if l.startswith('RssAnon'))\n"
            "print(len(lines), sum(i.image_planes for i in images), most, anonymous // 1024)"
        )
        ran = subprocess.run([sys.executable, "-c", code, str(self.place)], capture_output=True, text=True, timeout=200)
        self.assertEqual(ran.returncode, 0, ran.stderr)
        lines, planes, most, anonymous = map(int, ran.stdout.split())
        self.assertEqual((lines, planes), (3, 3000))
        self.assertLess(most, 300)  # MB, all that is resident
        self.assertLess(anonymous, 200)  # a picture drawn from it: pages of the file come and go as the system likes
        wide = open_image(self.place / "wide.nii")
        self.assertEqual(for_showing(wide, 1 << 28).space.shape, (500, 500, 250))

    def test_a_wrong_size_in_a_packed_file_takes_no_memory(self):
        head = bytearray(348 + 4)
        struct.pack_into("<i", head, 0, 348)
        struct.pack_into("<8h", head, 40, 3, 2000, 2000, 2000, 1, 1, 1, 1)
        struct.pack_into("<hh", head, 70, 4, 16)
        struct.pack_into("<8f", head, 76, 1, 1, 1, 1, 1, 1, 1, 1)
        struct.pack_into("<f", head, 108, 352)
        struct.pack_into("<hh", head, 252, 0, 1)
        for row in range(3):
            struct.pack_into("<4f", head, 280 + 16 * row, *(float(n == row) for n in range(4)))
        head[344:348] = b"n+1\0"
        (self.place / "lie.nii.gz").write_bytes(gzip.compress(bytes(head) + bytes(1000)))
        with self.assertRaisesRegex(Trouble, "promises more values"):
            open_image(self.place / "lie.nii.gz").fetch(silent())


if __name__ == "__main__":
    unittest.main()
