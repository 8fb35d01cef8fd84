"""The stand-in camera, pictures taken with it, and calibrations of its objectives against what they truly magnify."""

import json
import tempfile
import time
import unittest
from pathlib import Path

import numpy as np

from kestrelmist.checks.notice import Subject
from kestrelmist.checks.setups import calibration_of_another_setup
from kestrelmist.core.camera import CAMERAS, SETUP, CameraSettings
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import Progress
from kestrelmist.core.scale import scale_of
from kestrelmist.core.space import picture_space
from kestrelmist.formats.opening import open_image
from kestrelmist.measure.calibrating.calibrate_ruler import calibrate_ruler
from kestrelmist.measure.calibrating.taken_with import TakenWith
from kestrelmist.measure.calibrating.use_calibration import use_calibration
from kestrelmist.measure.camera.take_pictures import take_pictures
from kestrelmist.standins.microscope import BEST_FOCUS, OBJECTIVES, RESOLUTIONS, RULER, SECTION, Microscope
from tests.command import kestrelmist

SHARP = BEST_FOCUS[RULER]
SMALL = list(RESOLUTIONS)[1]


def taken_with(microscope: Microscope) -> TakenWith:
    setup = microscope.setup
    return TakenWith(objective=setup.objective, camera=setup.camera, immersion=setup.immersion, nominal=setup.nominal,
                     camera_pixel=setup.camera_pixel, binning=setup.binning)  # fmt: skip


class MicroscopeTest(unittest.TestCase):
    def test_every_objective_is_calibrated_to_what_it_truly_magnifies(self):
        microscope, inside = Microscope(0), 0
        for name, objective in OBJECTIVES.items():
            # of the strongest the whole chip sees four marks
            resolution = list(RESOLUTIONS)[0] if name in ("4x", "100x") else SMALL
            microscope.set(CameraSettings(name, resolution, RULER, focus=SHARP))
            colours = microscope.picture()
            image = Image(np.ascontiguousarray(colours.transpose(1, 0, 2)[:, :, None]),
                          picture_space(*colours.shape[1::-1], None), name, colour=True)  # fmt: skip
            made = calibrate_ruler(image, 0.01, taken=taken_with(microscope)).calibration
            self.assertAlmostEqual(made.measured_magnification / objective.true, 1, delta=2e-3, msg=name)
            inside += abs(made.right - microscope.true_pixel) <= 1.5 * made.cover * made.sure_right * made.right
            self.assertNotAlmostEqual(made.measured_magnification / objective.nominal, 1, delta=0.01)
        self.assertGreaterEqual(inside, 4)

    def test_exposure_focus_and_stage(self):
        microscope = Microscope(0)

        def mean_and_edge(**more) -> tuple[float, float]:
            microscope.set(CameraSettings("10x", SMALL, RULER, **more))
            grey = microscope.picture()[..., 0].astype(float)
            return grey.mean(), float(np.abs(np.diff(grey, axis=1)).max())

        usual, sharp = mean_and_edge(focus=SHARP)
        dark, _ = mean_and_edge(focus=SHARP, exposure=10.0)
        self.assertAlmostEqual(dark / usual, 0.5, delta=0.02)
        self.assertGreater(sharp, 2 * mean_and_edge(focus=SHARP + 60)[1])
        microscope.set(CameraSettings("10x", SMALL, RULER, focus=SHARP, exposure=1.0))
        first, second = microscope.picture(), microscope.picture()
        self.assertGreater(int((first != second).sum()), 1000)  # noise is another each time
        microscope.set(CameraSettings("40x", SMALL, SECTION, focus=BEST_FOCUS[SECTION]))
        here = microscope.picture()
        microscope.set(CameraSettings("40x", SMALL, SECTION, focus=BEST_FOCUS[SECTION], x=20 * microscope.true_pixel))
        away = microscope.picture().astype(float)
        apart = np.abs(away[:, :-20] - here[:, 20:]).mean(), np.abs(away - here).mean()
        self.assertLess(apart[0], 0.7 * apart[1])

    def test_what_it_does_not_offer(self):
        microscope = Microscope(0)
        for settings, words in (
            (CameraSettings("3x"), "has no objective “3x”"),
            (CameraSettings(resolution="huge"), "has no resolution"),
            (CameraSettings(exposure=0.0), "exposure of 0 ms"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                microscope.set(settings)

    def test_pictures_come_fast_enough(self):
        microscope = CAMERAS.named("stand-in").open()
        microscope.set(CameraSettings("10x", exposure=1.0))
        microscope.picture()
        started = time.process_time()
        for _ in range(5):
            microscope.picture()
        self.assertLess((time.process_time() - started) / 5, 1.0)


class TakingTest(unittest.TestCase):
    def test_a_picture_knows_its_setup_and_its_calibration(self):
        bare = take_pictures("stand-in", "10x", resolution=SMALL, specimen=RULER, focus=SHARP)
        self.assertEqual((bare.space.shape, bare.space.unit, bare.colour), ((640, 480, 1), "px", True))
        setup = json.loads(bare.facts[SETUP])
        self.assertEqual((setup["objective"], setup["nominal"], setup["binning"]), ("10x", 10.0, 2.0))
        microscope = Microscope(0)
        microscope.set(CameraSettings("10x", SMALL))
        made = calibrate_ruler(bare, 0.01, taken=taken_with(microscope)).calibration
        scaled = take_pictures("stand-in", "10x", resolution=SMALL, specimen=SECTION, calibration=made)
        self.assertEqual(scale_of(scaled).calibration, made.name)
        self.assertEqual(calibration_of_another_setup(Subject(scaled)), [])
        for objective, resolution in (("40x", SMALL), ("10x", list(RESOLUTIONS)[0])):
            with self.assertRaisesRegex(Trouble, "calibrate this set-up"):
                take_pictures("stand-in", objective, resolution=resolution, calibration=made)
        other = take_pictures("stand-in", "40x", resolution=SMALL, specimen=RULER)
        wrong = other.placed(use_calibration(made, other))
        (notice,) = calibration_of_another_setup(Subject(wrong))
        self.assertEqual(notice.level, "wrong")
        self.assertIn("and this was taken with 40x, 40×, air", notice.sentence)

    def test_through_time(self):
        series = take_pictures("stand-in", "10x", resolution=SMALL, exposure=1.0, count=3, every=0.05, subject="HM-1")
        self.assertEqual([(a.name, a.size, a.unit) for a in series.axes], [("time", 3, "s")])
        values = series.axes[0].values
        self.assertTrue(values[0] < values[1] < values[2] and 0.1 <= values[2] < 5.0, values)
        self.assertFalse(np.array_equal(series.frame((0,)).data, series.frame((1,)).data))
        progress = Progress()
        progress.cancel()
        with self.assertRaises(Cancelled):
            take_pictures("stand-in", count=3, every=5.0, progress=progress)

    def test_troubles(self):
        with self.assertRaisesRegex(Trouble, "There is no camera “mine”: there are: stand-in"):
            take_pictures("mine")
        with self.assertRaisesRegex(Trouble, "do not fit into memory"):
            take_pictures("stand-in", count=10_000)

    def test_from_the_command_line(self):
        with tempfile.TemporaryDirectory() as folder:
            picture, scale, section = (Path(folder) / n for n in ("r.ome.tif", "c.json", "s.ome.tif"))
            small = ("--resolution", SMALL, "--focus", str(SHARP), "--objective", "10x")
            kestrelmist("take-pictures", "--specimen", RULER, *small, "--out", picture)
            kestrelmist("calibrate-ruler", picture, "--spacing", "10 um", "--objective", "10x", "--out", scale)
            kestrelmist("take-pictures", scale, "--specimen", SECTION, *small, "--out", section)
            truth = 0.00345 * 2 / OBJECTIVES["10x"].true
            self.assertAlmostEqual(open_image(section).space.spacing[0] / truth, 1, delta=1e-3)


if __name__ == "__main__":
    unittest.main()
