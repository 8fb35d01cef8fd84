"""What all volume formats stand on: raw arrays in files, layouts, packed streams, exact planes, label maps carried
over."""

import bz2
import gzip
import unittest
import zlib

import nibabel
import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.label_grid import on_grid
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.memory import fits, require_room
from kestrelmist.core.progress import silent
from kestrelmist.core.space import Space, picture_space
from kestrelmist.core.values import Stored, colour_channels, kernel_ready, packed_colours
from kestrelmist.formats.exact_planes import exact_planes, number_type
from kestrelmist.formats.label_files import write_label_map
from kestrelmist.formats.layout import Layout
from kestrelmist.formats.nifti import read_nifti, save_nifti
from kestrelmist.formats.nifti_write import CHUNK, PackedStream
from kestrelmist.formats.planes import Planes
from kestrelmist.formats.raw_values import RawValues
from kestrelmist.gather.open_labels import open_labels
from tests.making import PlaceCase, labelled, straight_space, tilted_space

RNG = np.random.default_rng(61)


class RawValuesTest(PlaceCase):
    def test_plain_and_packed_alike(self):
        values = RNG.integers(0, 60000, (5, 6, 7)).astype(">u2")
        flat = values.tobytes(order="F")
        for packing, data, offset, start in (
            ("", b"head" + flat, 4, 0),
            ("gzip", gzip.compress(b"head" + flat), 4, 0),
            ("bz2", bz2.compress(b"head" + flat), 4, 0),
            ("zlib", b"text\n" + zlib.compress(flat), 0, 5),
            ("gzip", b"text\n" + gzip.compress(flat), 0, 5),
        ):
            (self.place / "raw").write_bytes(data)
            raw = RawValues(self.place / "raw", offset, np.dtype(">u2"), (5, 6, 7), packing, start)
            np.testing.assert_array_equal(raw.whole(silent()), values, packing)
            self.assertEqual(isinstance(raw.whole(silent()), np.memmap), packing == "")
            short = data[: len(data) - 30]
            (self.place / "raw").write_bytes(short)
            with self.assertRaisesRegex(Trouble, "cut short|cannot be unpacked"):
                RawValues(self.place / "raw", offset, np.dtype(">u2"), (5, 6, 7), packing, start).whole(silent())

    def test_a_file_that_is_gone_and_a_size_of_nothing(self):
        with self.assertRaisesRegex(Trouble, "missing"):
            RawValues(self.place / "none", 0, np.dtype("u1"), (3, 3)).require_whole()
        (self.place / "raw").write_bytes(b"123")
        with self.assertRaisesRegex(Trouble, "no sensible size"):
            RawValues(self.place / "raw", 0, np.dtype("u1"), (3, 0)).require_whole()

    def test_more_than_memory_goes_to_disk(self):
        from unittest import mock

        values = RNG.integers(0, 255, (50, 40, 30)).astype(np.uint8)
        (self.place / "raw.gz").write_bytes(gzip.compress(values.tobytes(order="F")))
        with mock.patch("kestrelmist.formats.raw_values.fits", lambda wanted: False):
            got = RawValues(self.place / "raw.gz", 0, np.dtype("u1"), values.shape, "gzip").whole(silent())
        np.testing.assert_array_equal(got, values)

    def test_layout_picks_and_turns(self):
        values = RNG.integers(0, 255, (3, 4, 5, 6)).astype(np.uint8)
        (self.place / "raw").write_bytes(values.tobytes(order="F"))
        raw = RawValues(self.place / "raw", 0, np.dtype("u1"), values.shape)
        got = Layout(raw, (3, 1, 2), (0,)).fetch((2,), silent())
        np.testing.assert_array_equal(got.exact(), values[2].transpose(2, 0, 1))
        colours = Layout(raw, (1, 2, 3), (), 0).fetch((), silent())
        np.testing.assert_array_equal(colours, values.transpose(1, 2, 3, 0))
        every_second = Layout(raw, (1, 2, 3), (0,), step=2).fetch((1,), silent())
        np.testing.assert_array_equal(every_second.exact(), values[1, ::2, ::2, ::2])
        scaled = Layout(raw, (1, 2, 3), (0,), None, 0.5, -3.0).fetch((1,), silent())
        np.testing.assert_allclose(scaled.exact(), values[1] * 0.5 - 3.0)


class PackedStreamTest(PlaceCase):
    def test_many_members_make_one_file(self):
        data = RNG.integers(0, 7, CHUNK * 2 + 12345).astype(np.uint8)
        with open(self.place / "p.gz", "wb") as stream:
            packed = PackedStream(stream)
            at = 0
            for size in (10, CHUNK, 5, CHUNK - 3, 1 << 20):
                packed.write(data[at : at + size])
                at += size
            packed.write(data[at:])
            packed.close()
        self.assertEqual(gzip.decompress((self.place / "p.gz").read_bytes()), data.tobytes())


class NiftiWriterTest(PlaceCase):
    def test_volumes_of_different_number_types_meet_in_a_wider_one(self):
        small, large = np.full((3, 4, 5), 7, np.uint8), np.full((3, 4, 5), -300, np.int16)
        image = Image(
            lambda index, progress: (small, large)[index[0]], straight_space((3, 4, 5)), axes=(Axis("echo", 2),)
        )
        save_nifti(self.place / "w.nii.gz", image)
        back = read_nifti(self.place / "w.nii.gz")
        self.assertEqual(back.stored((0,)).values.dtype, np.int16)
        np.testing.assert_array_equal(back.stored((1,)).exact(), large)
        self.assertEqual(back.axes[0].name, "echo")

    def test_scales_that_differ_are_worked_out(self):
        parts = [Stored(RNG.integers(0, 999, (3, 4, 5)).astype(np.int16), slope, -1.0) for slope in (0.5, 0.25)]
        image = Image(lambda index, progress: parts[index[0]], straight_space((3, 4, 5)), axes=(Axis("time", 2),))
        save_nifti(self.place / "s.nii", image)
        back = read_nifti(self.place / "s.nii")
        for n, part in enumerate(parts):
            np.testing.assert_allclose(back.stored((n,)).exact(), part.exact(), rtol=1e-6)
        same = Image(lambda index, progress: parts[0], straight_space((3, 4, 5)), axes=(Axis("time", 2),))
        save_nifti(self.place / "s.nii", same)
        self.assertEqual(
            read_nifti(self.place / "s.nii").stored((1,)).values.dtype, np.int16
        )  # stored numbers and scale as they were
        self.assertEqual(float(nibabel.load(self.place / "s.nii").dataobj.slope), 0.5)

    def test_an_axis_too_long_for_the_first_version(self):
        image = Image(np.arange(40000, dtype=np.uint16).reshape(40000, 1, 1), straight_space((40000, 1, 1)))
        save_nifti(self.place / "long.nii.gz", image)
        theirs = nibabel.load(self.place / "long.nii.gz")
        self.assertIsInstance(theirs, nibabel.Nifti2Image)
        np.testing.assert_array_equal(read_nifti(self.place / "long.nii.gz").data, image.data)

    def test_what_the_header_cannot_say_goes_beside_and_others_still_read_it(self):
        image = Image(
            RNG.integers(0, 99, (6, 5, 1, 2)).astype(np.uint8),
            picture_space(6, 5, None),
            unit="counts",
            axes=(Axis("detector", 2, labels=("front", "back")),),
        )
        save_nifti(self.place / "e.nii.gz", image)
        back = read_nifti(self.place / "e.nii.gz")
        self.assertEqual(
            (back.axes, back.unit, back.space.sides_known, back.space.unit), (image.axes, "counts", False, "px")
        )
        np.testing.assert_array_equal(np.asarray(nibabel.load(self.place / "e.nii.gz").dataobj), image.data)

    def test_complex_numbers_come_apart(self):
        values = (RNG.normal(0, 1, (3, 4, 5)) + 1j * RNG.normal(0, 1, (3, 4, 5))).astype(np.complex64)
        nibabel.save(nibabel.Nifti1Image(values, np.eye(4)), self.place / "c.nii")
        back = read_nifti(self.place / "c.nii")
        self.assertEqual(back.axes[0].labels, ("real", "imaginary"))
        np.testing.assert_array_equal(back.frame((1,)).data, values.imag)

    def test_units_other_than_millimetres(self):
        file = nibabel.Nifti1Image(np.zeros((3, 4, 5, 2), np.int16), np.diag([500.0, 500, 500, 1]))
        file.header.set_xyzt_units("micron", "msec")
        file.header.set_zooms((500, 500, 500, 1500))
        nibabel.save(file, self.place / "u.nii")
        back = read_nifti(self.place / "u.nii")
        np.testing.assert_allclose(back.space.spacing, 0.5)
        self.assertEqual(back.axes[0].step, 1.5)

    def test_a_pair_of_header_and_values(self):
        values = RNG.integers(0, 99, (3, 4, 5)).astype(np.int16)
        nibabel.save(nibabel.Nifti1Pair(values, np.eye(4)), self.place / "pair.hdr")
        back = read_nifti(self.place / "pair.hdr")
        np.testing.assert_array_equal(back.data, values)
        self.assertEqual(sorted(p.name for p in back.origin.files), ["pair.hdr", "pair.img"])
        (self.place / "pair.img").unlink()
        with self.assertRaises(Trouble):
            read_nifti(self.place / "pair.hdr")


class PlanesTest(unittest.TestCase):
    def test_letters_find_their_places(self):
        values = RNG.integers(0, 999, (2, 3, 4, 5, 6)).astype(np.uint16)  # t c z y x
        planes = Planes(lambda pick: values[pick], "tczyx", values.shape, values.dtype)
        self.assertEqual([planes.axes[n] for n in planes.along], ["c", "t"])
        np.testing.assert_array_equal(planes.fetch((2, 1), silent()), values[1, 2].transpose(2, 1, 0))
        swapped = Planes(lambda pick: values[0, 0][pick], "zyx", (4, 5, 6), values.dtype)
        self.assertEqual(swapped.fetch((), silent()).shape, (6, 5, 4))
        coarse = Planes(lambda pick: values[pick], "tczyx", values.shape, values.dtype, step=2)
        self.assertEqual((coarse.space(), coarse.fetch((0, 0), silent()).shape), ((3, 3, 2), (3, 3, 2)))

    def test_exact_planes_and_their_type(self):
        mixed = Image(
            lambda index, progress: Stored(np.full((2, 3, 4), 250, np.uint8), 1.0, float(100 * index[0])),
            straight_space((2, 3, 4)),
            axes=(Axis("time", 2),),
        )
        self.assertEqual(number_type(mixed), np.int16)
        planes = list(exact_planes(mixed, np.dtype(np.int16)))
        self.assertEqual(
            (len(planes), planes[0].shape, int(planes[0][0, 0]), int(planes[-1][0, 0])), (8, (3, 2), 250, 350)
        )


class ValuesTest(unittest.TestCase):
    def test_colours_pack_and_unpack(self):
        rgb = RNG.integers(0, 256, (4, 3, 2, 3)).astype(np.uint8)
        packed = packed_colours(rgb)
        self.assertEqual(packed.dtype, np.uint32)
        self.assertTrue(np.all(packed >> 24 == 255))
        np.testing.assert_array_equal(colour_channels(packed), rgb)
        np.testing.assert_array_equal(kernel_ready(rgb, (4, 3, 2), colour=True), packed)

    def test_stored_values_find_the_narrowest_type(self):
        values = np.array([[[0, 200]]], np.uint8)
        for intercept, wanted in (
            (0.0, np.uint8),
            (50.0, np.uint8),
            (100.0, np.int16),
            (-1024.0, np.int16),
            (65000.0, np.uint16),
            (70000.0, np.int32),
        ):
            found = Stored(values, 1.0, intercept).exact()
            self.assertEqual(found.dtype, wanted, intercept)
            np.testing.assert_array_equal(found, values.astype(np.int64) + int(intercept))
        self.assertEqual(Stored(values, 0.1).exact().dtype, np.float64)

    def test_room(self):
        self.assertTrue(fits(1000))
        with self.assertRaisesRegex(Trouble, "needs .* GB of memory"):
            require_room(1 << 50, "A thing")

    def test_spaces_resized_and_sampled(self):
        space = tilted_space((9, 8, 6))
        half = space.resized((3, 4, 2))
        np.testing.assert_allclose(half.corners(), space.corners(), atol=1e-9)
        third = space.sampled(3)
        self.assertEqual(third.shape, (3, 3, 2))
        np.testing.assert_allclose(third.to_world((1, 2, 1)), space.to_world((3, 6, 3)))
        self.assertEqual(picture_space(4, 5, None).flat_axis, 2)
        self.assertIsNone(space.flat_axis)

    def test_axes_say_their_places(self):
        self.assertEqual(Axis.even("time", 3, 2.0, "s").words(2), "4 s")
        self.assertEqual(Axis("detector", 2, labels=("front", "back")).words(1), "back")
        self.assertEqual(
            (Axis("echo", 2).words(0), Axis("echo", 2).plural, Axis("volume", 2).plural), ("1", "echoes", "volumes")
        )
        self.assertIsNone(Axis("time", 3, "s", (0.0, 1.0, 5.0)).step)
        self.assertEqual(Axis.from_dict(Axis.even("time", 3, 2.0, "s").as_dict()), Axis.even("time", 3, 2.0, "s"))


class LabelsOverTest(PlaceCase):
    def test_labels_go_to_another_grid_by_position(self):
        source = straight_space((20, 20, 20), 1.0)
        i = np.indices(source.shape)
        ball = ((i - 9.5) ** 2).sum(0) < 36
        labels = LabelMap(source, ball.astype(np.uint16))
        fine = on_grid(labels, straight_space((80, 80, 80), 0.25))
        self.assertAlmostEqual(int(fine.counts[1]) / 64 / int(ball.sum()), 1.0, delta=0.01)
        np.testing.assert_array_equal(on_grid(labels, Space(source.shape, source.affine)).data, labels.data)
        away = source.affine.copy()
        away[:3, 3] += 300
        with self.assertRaisesRegex(Trouble, "lies on this image"):
            on_grid(labels, Space(source.shape, away))

    def test_a_label_map_file_joins_what_is_there(self):
        space = straight_space((10, 10, 10))
        image = Image(np.zeros((10, 10, 10), np.int16), space, "I", "T-1")
        first = np.zeros((10, 10, 10), np.uint16)
        first[2:5] = 1
        write_label_map(self.place / "l.nii.gz", LabelMap(space, first))
        labels = labelled(image, "Mine")
        edit = open_labels(image, labels, self.place / "l.nii.gz")
        edit.apply(labels)
        self.assertEqual([(r.number, r.name) for r in labels.table], [(1, "Mine"), (2, "Label 1")])
        self.assertEqual(int(labels.counts[2]), 300)
        edit.reversed().apply(labels)
        self.assertEqual(int(labels.counts[0]), 1000)
        with self.assertRaisesRegex(Trouble, "not label numbers"):
            write = Image(RNG.normal(0, 1, (10, 10, 10)).astype(np.float32), space)
            save_nifti(self.place / "m.nii.gz", write)
            open_labels(image, labels, self.place / "m.nii.gz")
