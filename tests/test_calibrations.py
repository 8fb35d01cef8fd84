"""Calibrations that are kept, given to images, and carried through files."""

import json
import math
import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from kestrelmist.checks.notice import Subject
from kestrelmist.checks.spacing import spacing_unsure
from kestrelmist.core.calibration import Calibration, Setup
from kestrelmist.core.caveat import AT_DETECTOR, SCALE_DISAGREES, Caveat, has_caveat
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.scale import FACT, Scale, scale_of
from kestrelmist.core.space import picture_space
from kestrelmist.demo.stage_ruler import ruler_picture
from kestrelmist.formats.calibration_files import read_calibration, write_calibration
from kestrelmist.formats.opening import open_image
from kestrelmist.measure.calibrating.use_calibration import set_magnification, use_calibration
from kestrelmist.prepare.grid.spacing import set_spacing
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import keep_thing

SETUP = Setup("10x dry", "Camera 2", nominal=10.0, camera_pixel=0.00345)
TEN = Calibration(0.0003318, 0.0003318, 0.002, 0.002, 9.0, name="Ten", setup=SETUP, how="line", pixels=(60, 40))


def plain(name="Section", spacing=None, caveats=()) -> Image:
    values = np.arange(2400, dtype=np.float32).reshape(60, 40, 1) + len(name) + sum(map(ord, name))
    return Image(np.asfortranarray(values), picture_space(60, 40, spacing), name, "HM-1", caveats=caveats)


class UseTest(unittest.TestCase):
    def test_an_image_gets_the_pixel_and_says_whence(self):
        image = plain()
        self.assertEqual(scale_of(image).words, "no scale: lengths are in pixels")
        placed = image.placed(use_calibration(TEN, image))
        self.assertEqual((placed.space.unit, placed.space.spacing[:2]), ("mm", (0.0003318, 0.0003318)))
        np.testing.assert_allclose(placed.space.centre, 0, atol=1e-12)
        scale = scale_of(placed)
        self.assertEqual((scale.calibration, scale.sure[:2], scale.freedom), ("Ten", (0.002, 0.002), 9.0))
        self.assertEqual(scale.words, "by calibration “Ten”, ± 0.45 % (95 %)")
        self.assertEqual(scale_of(placed.placed(set_spacing(placed, (1.0, 1.0, 1.0)))).words[:11], "set by hand")

    def test_another_scale_of_the_header_is_said_and_checked(self):
        image = plain(spacing=(0.00035, 0.00035))
        self.assertIn("by header, its uncertainty is not known", scale_of(image).words)
        placed = image.placed(use_calibration(TEN, image))
        self.assertTrue(has_caveat(placed.caveats, SCALE_DISAGREES))
        notices = spacing_unsure(Subject(placed))
        self.assertEqual([n.level for n in notices], ["wrong"])
        self.assertIn("differs by 5.2 % from its header (0.00035 mm a pixel)", notices[0].sentence)
        fits = plain(spacing=(0.000332, 0.000332))
        self.assertEqual(use_calibration(TEN, fits).caveats, ())

    def test_a_picture_made_smaller_is_said(self):
        small = Image(np.zeros((30, 20, 1), np.float32), picture_space(30, 20, None), "Half")
        (caveat,) = use_calibration(TEN, small).caveats
        self.assertIn("its pixels are 2 times as large", caveat.sentence)
        made = use_calibration(TEN, small, binned=2.0)
        self.assertAlmostEqual(made.space.spacing[0], 2 * 0.0003318)
        self.assertFalse(has_caveat(made.caveats, SCALE_DISAGREES))

    def test_the_magnification_of_a_projection_stays_apart(self):
        image = plain(spacing=(0.1, 0.1), caveats=[Caveat(AT_DETECTOR, "At the detector")])
        self.assertIn("at the detector", scale_of(image).words)
        once = image.placed(set_magnification(image, None, source_detector=1200.0, source_object=1000.0, sure=1.0))
        self.assertAlmostEqual(once.space.spacing[0], 0.1 / 1.2)
        self.assertEqual((scale_of(once).magnification, scale_of(once).sure[0]), (1.2, 0.01))
        again = once.placed(set_magnification(once, 1.25))
        self.assertAlmostEqual(again.space.spacing[0], 0.08)  # from the detector again
        self.assertIn("magnified 1.25 times", scale_of(again).words)
        for given, words in (
            ({}, "The magnification is not known"),
            ({"source_detector": 900.0, "source_object": 1000.0}, "behind the detector"),
            ({"factor": 1.5, "source_detector": 1200.0, "source_object": 1000.0}, "magnification of 1.2, not 1.5"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                set_magnification(image, **given)
        calibrated = image.placed(use_calibration(TEN, image))
        with self.assertRaisesRegex(Trouble, "would count twice"):
            set_magnification(calibrated, 1.2)
        with self.assertRaisesRegex(Trouble, "has no scale"):
            set_magnification(plain(), 1.2)

    def test_a_fact_that_was_tampered_with_is_none(self):
        for text in ("", "{", "[]", '{"sure": 3}', json.dumps({"nobody": 1})):
            self.assertIsNone(Scale.from_fact(text))
        odd = Scale(sure=(math.nan, 0.1, math.nan), freedom=math.inf)
        self.assertEqual(Scale.from_fact(odd.fact).fact, odd.fact)
        json.loads(odd.fact, parse_constant=self.fail)


class StudyTest(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(mock.patch.dict(os.environ, {"KESTRELMIST_HOME": str(self.folder / "home")}))
        self.study = Study(self.folder / "study", create=True)
        self.addCleanup(self.study.close)

    def kept(self, calibration: Calibration) -> int:
        path = self.folder / "taken.json"
        write_calibration(path, calibration)
        return self.study.run("take-calibration", file=path)

    def named(self, name: str) -> int:
        return next(r.id for r in self.study.items.of_kind("calibration") if r.name == name)

    def test_a_new_version_stands_beside_the_old(self):
        first = self.kept(TEN)
        image = keep_thing(self.study, plain())
        self.study.run("use-calibration", calibration=first, image=image)
        better = Calibration.from_dict(TEN.as_dict() | {"right": 0.000332, "down": 0.000332})
        self.kept(better)
        names = [r.name for r in self.study.items.of_kind("calibration")]
        self.assertEqual(names, ["Ten", "Ten, version 2"])
        second = self.study.thing(self.named("Ten, version 2"))
        self.assertEqual((second.version, second.before), (2, TEN.content_hash()))
        scale = scale_of(self.study.find(image))
        self.assertEqual((scale.version, scale.hash), (1, TEN.content_hash()))  # the image uses the one it was given
        self.study.history.undo()
        self.study.history.undo()
        self.assertEqual(self.study.find(image).grid.unit, "px")
        self.study.history.redo()
        self.assertAlmostEqual(self.study.find(image).grid.spacing[0], 0.0003318)

    def test_the_same_twice_and_another_name(self):
        first = self.kept(TEN)
        self.kept(TEN)
        self.assertEqual([r.name for r in self.study.items.of_kind("calibration")], ["Ten", "Ten, version 2"])
        self.study.run("rename", thing=first, name="12")
        self.assertEqual(self.study.thing(first).called, "“12”")
        image = keep_thing(self.study, plain())
        self.study.run("use-calibration", calibration=first, image=image)
        self.assertEqual(scale_of(self.study.find(image)).calibration, "12")

    def test_marks_on_an_image_keep_how_sure_they_are(self):
        image = keep_thing(self.study, plain())
        self.study.run("mark", marks=image, shape="length", points="0,0; 20,0", sure=0.5)
        self.study.run("use-calibration", calibration=self.kept(TEN), image=image)
        (mark,) = self.study.marks.on(image)
        self.assertAlmostEqual(mark.length, 20 * TEN.right)
        self.assertAlmostEqual(mark.sure / mark.length, 0.5 / 20)

    def test_what_older_versions_called_otherwise_still_runs(self):
        image = keep_thing(self.study, plain())
        self.study.run("add-mark", marks=image, points="1,2")
        self.assertEqual(self.study.logbook.last(1)[0].operation, "mark")

    def test_several_images_in_one_step(self):
        calibration = self.kept(TEN)
        images = [keep_thing(self.study, plain(f"Section {n}")) for n in range(3)]
        other = keep_thing(self.study, Image(np.zeros((9, 9, 1), np.float32), picture_space(9, 9, None), "Small"))
        scaled = keep_thing(self.study, plain("By header", (0.1, 0.1)))
        table = self.study.run("calibrate-images", calibration=calibration)
        self.assertEqual([row[1] for row in table.rows], ["Section 0", "Section 1", "Section 2"])
        units = [self.study.find(key).grid.unit for key in (*images, other)]
        self.assertEqual(units, ["mm", "mm", "mm", "px"])
        self.assertEqual(self.study.find(scaled).grid.spacing[0], 0.1)
        self.study.history.undo()
        self.assertEqual([self.study.find(key).grid.unit for key in images], ["px"] * 3)
        with self.assertRaisesRegex(Trouble, "No image without a scale has 60 × 40 pixels"):
            self.study.run("calibrate-images", calibration=calibration, images=[])
            self.study.run("calibrate-images", calibration=calibration)

    def test_a_persons_library(self):
        calibration = self.kept(TEN)
        self.study.run("keep-calibration", calibration=calibration)
        with self.assertRaisesRegex(Trouble, "in your library already"):
            self.study.run("keep-calibration", calibration=calibration)
        forty = self.kept(Calibration(8e-5, 8e-5, name="../40x <b>", setup=Setup("40x", "Camera 1")))
        self.study.run("keep-calibration", calibration=forty)
        with Study(self.folder / "other", create=True) as other:
            other.run("calibration-from-library", name="ten")
            (record,) = other.items.of_kind("calibration")
            self.assertEqual(other.thing(record.id).content_hash(), TEN.content_hash())
            with self.assertRaisesRegex(Trouble, "Your library has no “hundred”"):
                other.run("calibration-from-library", name="hundred")
        table = self.study.run("list-calibrations", search="camera", order="pixel size")
        told = [(row[0], row[2]) for row in table.rows]
        self.assertEqual(
            told, [("../40x <b>", "study"), ("../40x <b>", "library"), ("Ten", "study"), ("Ten", "library")]
        )
        self.assertEqual(len(self.study.run("list-calibrations", search="40x 1").rows), 2)

    def test_files(self):
        path = self.folder / "C.json"
        write_calibration(path, TEN)
        self.assertEqual(read_calibration(path), TEN)
        for text, words in (
            ("{", "damaged, or no calibration"),
            ("{}", "holds no calibration"),
            ('{"kestrelmist_calibration": 9}', "of a later version"),
            ('{"kestrelmist_calibration": 1, "right": -3, "down": 1}', "size of a pixel"),
        ):
            path.write_text(text)
            with self.assertRaisesRegex(Trouble, words):
                read_calibration(path)


class CommandTest(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        from PIL import Image as Picture

        self.ruler, self.out = self.folder / "ruler.png", self.folder / "C.json"
        drawn = ruler_picture(0.0003318, size=(640, 480), turn=0.02)
        Picture.fromarray(np.rint(drawn).astype(np.uint8)).save(self.ruler)

    def test_from_a_ruler_to_every_format_and_back(self):
        kestrelmist("calibrate-ruler", self.ruler, "--spacing", "10 um", "--name", "Ten", "--out", self.out)
        made = read_calibration(self.out)
        self.assertAlmostEqual(made.right / 0.0003318, 1, delta=1e-4)
        for ending in ("ome.tif", "nii.gz", "nrrd", "mha", "ome.zarr"):
            to = self.folder / f"scaled.{ending}"
            kestrelmist("use-calibration", self.out, self.ruler, "--out", to)
            read = open_image(to)
            self.assertAlmostEqual(read.space.spacing[0], made.right, delta=1e-5 * made.right)
            scale = Scale.from_fact(read.facts[FACT])
            self.assertEqual((scale.hash, scale.calibration), (made.content_hash(), made.content_hash()[:8]), ending)
            self.assertNotIn(b"Ten", to.read_bytes() if to.is_file() else b"")  # what was typed stays out

    def test_by_a_line_with_repeats_both_doors(self):
        given = ["--from", "-61,1", "--to", "59,1", "--length", "40 um", "--repeat", "-61,8; 59,8; -60,-5; 60,-5"]
        kestrelmist("calibrate", self.ruler, *given, "--name", "Ten", "--out", self.out)
        made = read_calibration(self.out)
        self.assertAlmostEqual(made.right / 0.0003318, 1, delta=3 * made.sure_right + 1e-4)

    def test_wrong_input_is_one_sentence_and_leaves_nothing(self):
        for words, said in (
            (("--from", "0,0", "--to", "0,0", "--length", "1 mm"), "This line has no length"),
            (("--from", "0,0", "--to", "9,0", "--length", "1,5 mm"), "with a point and no comma"),
            (("--from", "0,0", "--to", "9,0", "--length", "ten"), "“ten” is not right for length"),
            (("--from", "0,0", "--to", "9,0", "--length", "3 kg"), "is not right for length"),
            (("--from", "0,0", "--to", "9,0", "--length", "0"), "out of bounds for length"),
            (("--from", "0,0", "--to", "9000,0", "--length", "1 mm"), "lies outside"),
        ):
            ran = kestrelmist("calibrate", self.ruler, *words, "--out", self.out, code=1)
            self.assertIn(said, ran.stderr)
            self.assertFalse(self.out.exists())
        self.out.write_text("{}")
        ran = kestrelmist("use-calibration", self.out, self.ruler, "--out", self.folder / "a.tif", code=1)
        self.assertIn("holds no calibration", ran.stderr)
        self.assertFalse((self.folder / "a.tif").exists())


if __name__ == "__main__":
    unittest.main()
