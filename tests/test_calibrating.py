"""Pixel sizes from lines, rulers and objects of known size, against pictures whose pixels are known."""

import math
import unittest

import numpy as np
from scipy.ndimage import gaussian_filter

from kestrelmist.core.calibration import Calibration, Setup, coverage, together
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space, picture_space
from kestrelmist.demo.stage_ruler import ruler_picture
from kestrelmist.measure.calibrating.calibrate import calibrate
from kestrelmist.measure.calibrating.calibrate_object import calibrate_object
from kestrelmist.measure.calibrating.calibrate_ruler import calibrate_ruler
from kestrelmist.measure.calibrating.edge import edges_near
from kestrelmist.measure.calibrating.plane import PixelPlane
from kestrelmist.measure.calibrating.taken_with import TakenWith

SIZE = (300, 200)


def picture(values: np.ndarray, spacing=None) -> Image:
    rows, columns = values.shape
    data = np.asfortranarray(values.T[:, :, None].astype(np.float32))
    return Image(data, picture_space(columns, rows, spacing), "Ruler", "HM-1")


def ruler(pixel=0.0005, turn=0.0, seed=0, **more) -> Image:
    return picture(ruler_picture(pixel, size=SIZE, turn=turn, seed=seed, **more))


def object_picture(shape: str, radius: float, middle, turn=0.0, seed=0, noise=4.0) -> Image:
    """A thing of a shape, six samples a pixel a side."""
    rng, fine = np.random.default_rng([3, seed]), 6
    v, u = (np.indices((SIZE[1] * fine, SIZE[0] * fine)) + 0.5) / fine - 0.5
    x, y = u - middle[0], v - middle[1]
    if shape == "square":
        a, b = x * np.cos(turn) + y * np.sin(turn), y * np.cos(turn) - x * np.sin(turn)
        drawn = ((abs(a) <= radius) & (abs(b) <= radius)).astype(float)
    else:
        away = np.hypot(x, y) / radius
        drawn = (away <= 1).astype(float) if shape == "disc" else np.sqrt(np.maximum(1 - away**2, 0))
    seen = drawn.reshape(SIZE[1], fine, SIZE[0], fine).mean((1, 3))
    return picture(100 + 80 * seen + rng.normal(0, noise, seen.shape))


def at(image: Image, u: float, v: float) -> tuple:
    """World position of a column and a row."""
    return tuple(image.space.to_world((u, v, 0)).tolist())


class EdgeTest(unittest.TestCase):
    def test_an_edge_is_found_to_a_part_of_a_pixel_with_its_direction(self):
        image = ruler(turn=0.05, mark=0.003, noise=2.0)
        # the mark at 0 is 6 pixels wide; its left side lies 3 pixels to the left of the middle
        true = (SIZE[0] - 1) / 2 - 3 / math.cos(0.05)
        edges = edges_near(PixelPlane(image), (true + 2.5, (SIZE[1] - 1) / 2), (1, 0))
        falling = next(edge for edge in edges if not edge.rises)
        self.assertAlmostEqual(falling.place[0], true, delta=4 * falling.sure)
        self.assertLess(falling.sure, 0.03)
        self.assertAlmostEqual(math.atan2(falling.normal[1], falling.normal[0]), 0.05, delta=4 * falling.sure_turn)

    def test_none_where_nothing_is(self):
        noise = picture(np.random.default_rng(1).normal(100, 5, (60, 80)))
        self.assertEqual(edges_near(PixelPlane(noise), (40, 30), (1, 0)), [])
        self.assertEqual(edges_near(PixelPlane(noise), (400, 300), (1, 0)), [])


class LineTest(unittest.TestCase):
    def line(self, image, shift=(0.0, 0.0), marks=10, row=0.0, **more):
        """Drawn over ten marks of 20 pixels, its ends off by some pixels."""
        u, v = (SIZE[0] - 1) / 2, (SIZE[1] - 1) / 2 + row
        ends = [at(image, u - 10 * marks - 1.5 + shift[0], v), at(image, u + 10 * marks - 1.5 + shift[1], v)]
        return calibrate(image, *ends, length=marks * 0.01, **more)

    def test_ends_go_to_the_same_side_of_both_marks(self):
        made = self.line(ruler(), (2.0, 1.0)).calibration
        self.assertAlmostEqual(made.right, 0.0005, delta=made.cover * made.sure_right * made.right * 1.5)
        self.assertLess(made.sure_right, 5e-4)
        self.assertEqual((made.how, made.known, made.pixels, made.version), ("line", "0.1 mm", SIZE, 1))

    def test_an_end_on_the_other_side_is_said_and_moved(self):
        found = self.line(ruler(), (0.0, 2.7))  # the second end on the right side of its mark, three pixels wide
        self.assertAlmostEqual(found.calibration.right, 0.0005, delta=3e-7)
        self.assertIn("the second end sat on the other side of its mark", " ".join(found.calibration.notes))

    def test_a_slanting_line_is_taken_square_to_the_marks(self):
        image = ruler(mark=0.002)
        u, v = (SIZE[0] - 1) / 2, (SIZE[1] - 1) / 2
        found = calibrate(image, at(image, u - 102, v - 20), at(image, u + 98, v + 20), 0.1).calibration
        self.assertAlmostEqual(found.right, 0.0005, delta=1e-6)  # along the line it would be 2 % less
        self.assertIn("off square to the edges", " ".join(found.notes))

    def test_repeats_tell_the_spread(self):
        image = picture(np.full((200, 300), 100.0))
        lines = [(at(image, 50 + d, 100), at(image, 150, 100)) for d in (0.0, 1.0, -1.0, 0.5, -0.5)]
        repeat = "; ".join(f"{x!r},{y!r}" for line in lines[1:] for x, y, _ in line)
        made = calibrate(image, *lines[0], length=1.0, repeat=repeat, ends="as drawn").calibration
        sizes = 1 / np.array([100, 99, 101, 99.5, 100.5])
        self.assertAlmostEqual(made.right, sizes.mean(), places=12)
        self.assertAlmostEqual(made.sure_right, sizes.std(ddof=1) / sizes.mean() / math.sqrt(5), places=10)
        self.assertAlmostEqual(made.freedom, 4.0)

    def test_what_an_eye_places_is_sure_to_half_a_pixel(self):
        image = picture(np.full((200, 300), 100.0))
        found = calibrate(image, at(image, 50, 100), at(image, 150, 100), 1.0)
        self.assertAlmostEqual(found.calibration.sure_right, math.sqrt(2) * 0.5 / 100, places=9)
        self.assertIn("no clear edge near the first and the second end", " ".join(found.calibration.notes))

    def test_sides_apart(self):
        values = ruler_picture(0.0005, size=SIZE)[::2]  # rows left out: pixels twice as high
        image = picture(values)
        u, v = (SIZE[0] - 1) / 2, 50
        right = calibrate(image, at(image, u - 101.5, v), at(image, u + 98.5, v), 0.1, along="right").calibration
        tall = picture(np.full((200, 300), 100.0))
        down = calibrate(tall, at(tall, 50, 20), at(tall, 50, 120), 0.1, along="down", ends="as drawn", other=right)
        made = down.calibration
        self.assertAlmostEqual(made.right, 0.0005, delta=5e-7)
        self.assertAlmostEqual(made.down, 0.001, places=9)
        self.assertTrue(made.apart and made.sure_down > made.sure_right)
        with self.assertRaisesRegex(Trouble, "does not run down"):
            calibrate(tall, at(tall, 50, 20), at(tall, 150, 20), 0.1, along="down")

    def test_troubles(self):
        image = ruler()
        for ends, more, words in (
            ((at(image, 5, 5), at(image, 6, 5)), {}, "no length"),
            ((at(image, 5, 5), at(image, 900, 5)), {}, "outside"),
            ((at(image, 5, 5), at(image, 50, 5)), {"repeat": "1,2; 3,4; 5,6"}, "3 ends"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                calibrate(image, *ends, length=0.1, **more)
        volume = Image(np.zeros((20, 20, 5), np.float32), Space((20, 20, 5), np.eye(4)))
        with self.assertRaisesRegex(Trouble, "several slices"):
            calibrate(volume, (0, 0, 0), (15, 0, 3), 1.0)

    def test_noise_that_goes_together_makes_an_edge_less_sure(self):
        inside, sures = 0, []
        for n in range(30):
            rng = np.random.default_rng([7, n])
            clean = ruler_picture(0.0005, size=SIZE, mark=0.002, noise=0.0, turn=0.02)
            noise = gaussian_filter(rng.normal(0, 1, clean.shape), 1.0)
            image = picture(clean + 4 * noise / noise.std())
            u, v = (SIZE[0] - 1) / 2, (SIZE[1] - 1) / 2 + rng.uniform(-20, 20)
            made = calibrate(image, at(image, u - 102, v), at(image, u + 98, v), 0.1).calibration
            inside += abs(made.right - 0.0005) <= made.cover * made.sure_right * made.right
            sures.append(made.sure_right)
        self.assertGreaterEqual(inside, 26)
        self.assertLess(np.median(sures), 2e-3)

    def test_the_true_size_lies_inside_what_is_stated(self):
        inside = 0
        for n in range(40):
            rng = np.random.default_rng(n)
            pixel, turn = rng.uniform(0.0004, 0.0006), rng.uniform(-0.08, 0.08)
            image = ruler(pixel, turn, n, mark=0.002)
            way = np.array((math.cos(turn), math.sin(turn)))
            middle = (np.array(SIZE) - 1) / 2
            ends = [middle + way * (side * 0.04 - 0.001) / pixel + rng.normal(0, 1.2, 2) for side in (-1, 1)]
            made = calibrate(image, *(at(image, *end) for end in ends), length=0.08).calibration
            inside += abs(made.right - pixel) <= made.cover * made.sure_right * made.right
        self.assertGreaterEqual(inside, 35)


class RulerTest(unittest.TestCase):
    def test_marks_at_any_angle_among_longer_ones(self):
        inside = 0
        for n, degrees in enumerate((0, 3, -20, 45, 70, 90, -88, 10)):
            image = ruler(0.0005 + 0.00003 * n, math.radians(degrees), n, noise=4.0)
            made = calibrate_ruler(image, 0.01).calibration
            pixel = 0.0005 + 0.00003 * n
            self.assertAlmostEqual(made.right / pixel, 1, delta=1e-3)
            inside += abs(made.right - pixel) <= made.cover * made.sure_right * made.right
        self.assertGreaterEqual(inside, 6)

    def test_bright_marks_dirt_and_missing_values(self):
        values = 255 - ruler_picture(0.0005, size=SIZE)
        values[80:120, 60:66] = 255  # dirt beside a mark
        values[0, :5] = np.nan
        made = calibrate_ruler(picture(values), 0.01).calibration
        self.assertAlmostEqual(made.right, 0.0005, delta=1e-7)

    def test_the_magnification_is_held_against_the_nominal_one(self):
        taken = TakenWith(objective="10x", nominal=10.0, camera_pixel=0.0051)
        made = calibrate_ruler(ruler(), 0.01, taken=taken).calibration
        self.assertAlmostEqual(made.measured_magnification, 10.2, delta=0.01)
        self.assertIn("2.0 % above the 10× that is engraved", " ".join(made.notes))
        self.assertEqual(made.name, "10x, 10×")

    def test_a_lens_that_distorts_is_said(self):
        u = np.arange(600.0)
        bent = u + 1e-5 * (u - 300) ** 2  # the scale changes by 1.2 % from side to side
        row = 200 - 100 * np.exp(-0.5 * ((np.mod(bent + 10, 20) - 10) / 2) ** 2)
        made = calibrate_ruler(picture(np.repeat(row[None], 60, 0)), 0.01).calibration
        self.assertRegex(" ".join(made.notes), r"changes by 1\.[012] %")

    def test_nothing_that_comes_again(self):
        for values in (
            np.full((100, 100), 7.0),
            np.random.default_rng(2).normal(100, 5, (200, 200)),
            np.fromfunction(lambda v, u: u + v, (100, 100)),
            np.full((100, 100), np.nan),
        ):
            with self.assertRaisesRegex(Trouble, "No ruler was found"):
                calibrate_ruler(picture(values), 0.01)


class ObjectTest(unittest.TestCase):
    def test_sizes_of_discs_balls_and_squares(self):
        for shape in ("disc", "ball", "square"):
            inside = 0
            for n, radius in enumerate((8.3, 15.0, 31.7)):
                middle = (140 + 3.3 * n, 96.4)
                image = object_picture(shape, radius, middle, 0.3 * n, n)
                made = calibrate_object(image, at(image, middle[0] + radius / 3, middle[1]), 2.0, shape).calibration
                true = 1.0 / radius
                self.assertAlmostEqual(made.right / true, 1, delta=0.01)
                inside += abs(made.right - true) <= 1.5 * made.cover * made.sure_right * made.right
            self.assertEqual(inside, 3, shape)

    def test_both_sides_apart(self):
        image = object_picture("disc", 30, (150, 100))
        low = picture(image.kji[0][::2])
        made = calibrate_object(low, at(low, 150, 50), 60.0, "disc", apart=True).calibration
        self.assertAlmostEqual(made.right, 1.0, delta=0.01)
        self.assertAlmostEqual(made.down, 2.0, delta=0.03)

    def test_nothing_of_that_shape(self):
        image = picture(np.random.default_rng(2).normal(100, 5, (120, 120)))
        with self.assertRaisesRegex(Trouble, "No disc was found"):
            calibrate_object(image, at(image, 60, 60), 2.0)


class CalibrationTest(unittest.TestCase):
    def test_uncertainties_are_put_together(self):
        self.assertEqual(together((3.0, math.inf), (4.0, math.inf)), (5.0, math.inf))
        whole, freedom = together((1.0, 4.0), (1.0, 4.0))
        self.assertAlmostEqual(freedom, 8.0)
        self.assertAlmostEqual(whole, math.sqrt(2))
        self.assertAlmostEqual(coverage(1), 12.706, places=3)

    def test_told_as_plain_values(self):
        setup = Setup("10x", "C2", nominal=10.0, camera_pixel=0.00345)
        made = Calibration(0.000345, 0.000345, 0.001, 0.001, 4.0, name="<b>=1+1", setup=setup, notes=("a", "b"))
        self.assertEqual(Calibration.from_dict(made.as_dict()), made)
        self.assertEqual(made.words, "0.34500 ± 0.00096 µm")
        self.assertTrue(setup.fits(Setup("10X")) and not setup.fits(Setup("40x")))
        for wrong in ({}, {"right": "x"}, {"right": 1.0, "down": -1.0}, {"right": 1, "down": 1, "setup": 3}):
            with self.assertRaises(Trouble):
                Calibration.from_dict(wrong)
        for facts in ({"right": math.nan}, {"sure_right": 2.0}, {"freedom": 0.0}):
            with self.assertRaises(Trouble):
                Calibration(**{"right": 1.0, "down": 1.0, **facts})


if __name__ == "__main__":
    unittest.main()
