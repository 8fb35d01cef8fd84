"""Limits, fills and constants that the number type of an image does not hold: never wrapped round, never rounded in
silence."""

import itertools
import math

import numpy as np
import pydicom

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.operation import find_operation
from kestrelmist.core.values import KERNEL_TYPES, Stored, packed_colours, type_holding
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.gather.remove_identity import Cleaning, deidentify_image
from kestrelmist.prepare.grid.crop import crop
from kestrelmist.prepare.intensity.values import clip, number_type, turn_values
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, dicom_folder, straight_space

RNG = np.random.default_rng(19)
SHAPE = (7, 6, 5)
ENDS = {np.uint8: (0, 255), np.int16: (-32768, 32767), np.uint16: (0, 65535), np.float32: (-1e6, 1e6)}
NUMBERS = (-70000.0, -32769.0, -1.0, 0.0, 0.25, 44.0, 255.0, 256.0, 300.0, 2049.0, 40001.0, 65535.0, 65536.0, 70001.0)


def image_of(kind) -> Image:
    low, high = ENDS[kind]
    values = RNG.integers(low, high + 1, SHAPE) if kind is not np.float32 else RNG.uniform(low, high, SHAPE)
    values.flat[:2] = (low, high)
    return Image(np.asfortranarray(values.astype(kind)), straight_space(SHAPE), "Numbers", "T-1")


def empty(image: Image) -> LabelMap:
    return LabelMap(image.space)


class TypesTest(PlaceCase):
    def test_the_smallest_type_that_holds_all(self):
        for kind, number, wanted in (
            (np.uint8, 255, np.uint8), (np.uint8, 256, np.int16), (np.uint8, -1, np.int16),
            (np.uint8, 40001, np.uint16),
            (np.uint8, 70000, np.float32), (np.uint8, 0.5, np.float32), (np.int16, 40001, np.float32),
            (np.uint16, -1, np.float32), (np.float32, 2049, np.float32), (np.uint8, math.nan, np.float32),
            (np.float64, 0.1, np.float64), (np.int32, 5, np.int32),
        ):  # fmt: skip
            self.assertEqual(type_holding(kind, number), np.dtype(wanted), (kind, number))
        with self.assertRaisesRegex(Trouble, "123456789 cannot be held.*123456792 can"):
            type_holding(np.uint8, 123456789)


class ClipTest(PlaceCase):
    def test_against_exact_arithmetic(self):
        for kind in KERNEL_TYPES:
            image = image_of(kind)
            exact = image.data.astype(np.float64)
            for low, high in itertools.product((None, *NUMBERS), repeat=2):
                if (low is None and high is None) or (low is not None and high is not None and low > high):
                    continue
                made = clip(image, low, high).data
                wanted = np.clip(exact, low, high)
                if kind is np.float32:
                    wanted = wanted.astype(np.float32)
                np.testing.assert_array_equal(made, wanted, f"{kind} {low} {high}")
                if kind is not np.float32 and all(v is None or v == int(v) and 0 <= v <= 255 for v in (low, high)):
                    self.assertEqual(made.dtype, kind)

    def test_a_series_whose_volumes_are_scaled(self):
        image = image_of(np.uint8)
        series = image.like(lambda index, progress: Stored(image.data, 1.0, float(index[0])), axes=(self.axis(),))
        made = clip(series, 250, 300)
        for n in range(3):
            np.testing.assert_array_equal(made.frame((n,)).data, np.clip(image.data.astype(float) + n, 250, 300))

    def axis(self):
        from kestrelmist.core.axis import Axis

        return Axis("time", 3)

    def test_what_no_type_holds_is_said_at_once(self):
        with self.assertRaisesRegex(Trouble, "16777217 cannot be held"):
            clip(image_of(np.float32), low=16777217.0)

    def test_turned_round_and_converted(self):
        for kind in KERNEL_TYPES:
            image = image_of(kind)
            exact = image.data.astype(np.float64)
            np.testing.assert_array_equal(
                turn_values(image).data, (exact.min() + exact.max() - exact).astype(np.float32)
            )
            for other in ("uint8", "int16", "uint16", "float32"):
                made = number_type(image, other)
                ends = np.iinfo(other) if other != "float32" else None
                wanted = exact if ends is None else np.clip(np.round(exact), ends.min, ends.max)
                np.testing.assert_array_equal(made.image.data, wanted.astype(np.float32).astype(made.image.data.dtype))


class FillTest(PlaceCase):
    def test_beyond_an_image(self):
        for kind in KERNEL_TYPES:
            image = image_of(kind)
            for fill in NUMBERS:
                made = crop(image, empty(image), voxels=(-1, 0, 0, 6, 5, 4), fill=fill).data
                np.testing.assert_array_equal(made[0], np.full(SHAPE[1:], np.float32(fill)))
                np.testing.assert_array_equal(made[1:], image.data)

    def test_none_at_all(self):
        image = image_of(np.uint8)
        made = crop(image, empty(image), voxels=(-1, 0, 0, 6, 5, 4), fill=math.nan).data
        self.assertTrue(np.isnan(made[0]).all())
        np.testing.assert_array_equal(made[1:], image.data)
        self.assertTrue(math.isnan(find_operation("crop").checked({"fill": "nan"})["fill"]))
        for wrong in ("inf", "-inf", "x"):
            with self.assertRaises(Trouble):
                find_operation("crop").checked({"fill": wrong})
        save_image(self.place / "a.nii.gz", image)
        kestrelmist("crop", self.place / "a.nii.gz", "--margin", 0.5, "--fill", "nan", "--out", self.place / "b.nii.gz")
        found = open_image(self.place / "b.nii.gz").data
        self.assertEqual(int(np.isnan(found).sum()), found.size - image.data.size)

    def test_of_colours(self):
        values = RNG.integers(0, 256, (*SHAPE[:2], 1, 3)).astype(np.uint8)
        space = straight_space((*SHAPE[:2], 1))
        image = Image(packed_colours(values), space, "Colours", colour=True)
        made = crop(image, empty(image), voxels=(-1, 0, 0, 6, 5, 0), fill=200)
        self.assertEqual(set(made.data[0].ravel()), {0xFFC8C8C8})
        np.testing.assert_array_equal(made.data[1:], image.data)
        for fill in (300, -1, 0.5, math.nan):
            with self.assertRaisesRegex(Trouble, "no grey of a colour image"):
                crop(image, empty(image), voxels=(-1, 0, 0, 6, 5, 0), fill=fill)

    def test_over_blanked_areas(self):
        image = image_of(np.uint8)
        dicom_folder(self.place / "scans", image)
        before = {p: pydicom.dcmread(p).pixel_array for p in (self.place / "scans").rglob("*") if p.is_file()}
        kind = next(iter(before.values())).dtype
        beyond = np.iinfo(kind).max + 1
        area = ("--pixels", "blank the area", "--area", "1,1,3,2")
        words = ("deidentify", self.place / "scans", "--to", self.place / "clean", *area, "--fill")
        said = kestrelmist(*words, beyond, code=1).stderr
        self.assertIn("cannot stand in these pixels", said)
        self.assertFalse((self.place / "clean").exists())
        kestrelmist(*words, 200)
        after = [pydicom.dcmread(p).pixel_array for p in (self.place / "clean").rglob("*.dcm")]
        self.assertEqual({int(v) for one in after for v in one[1:3, 1:4].ravel()}, {200})
        bare = Image(image.data, image.space, "Bare")
        for fill in (300, -1, 0.5):
            made = deidentify_image(
                bare, empty(bare), how=Cleaning(pixels="blank the area", area=(1, 1, 3, 2), fill=fill)
            )
            with self.assertRaisesRegex(Trouble, "whole numbers from 0 to 255 can"):
                _ = made.image.data


class InAStudyTest(PlaceCase):
    def test_clip_is_worked_out_anew_where_it_wrapped(self):
        self.assertGreater(find_operation("clip").version, 1)
        with Study(self.place / "study", create=True) as study:
            save_image(self.place / "a.nii.gz", image_of(np.uint8))
            study.run("gather", folder=self.place / "a.nii.gz", subject="T-1")
            (key,) = study.run("clip", image="a", low=300.0)
            self.assertEqual(set(study.image(key).data.ravel()), {300})
