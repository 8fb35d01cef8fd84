"""Height maps levelled, against polynomials that are known and made-up enamel whose surface is."""

import unittest

import numpy as np

from kestrelmist.checks.height_maps import pulled_lines
from kestrelmist.checks.notice import Subject, run_checks
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.operation import find_operation
from kestrelmist.core.space import Space, picture_space
from kestrelmist.demo.enamel import PIXEL, enamel
from kestrelmist.formats.opening import open_image
from kestrelmist.prepare.heights.level import LEVELLED
from kestrelmist.prepare.heights.level import level as levelled
from tests.command import kestrelmist
from tests.making import PlaceCase


def level(image, how="lines", **settings):
    """Level by lines, with nothing left out by itself, unless a test says otherwise."""
    return levelled(image, how, **{"robust": False} | settings)


def height_map(heights: np.ndarray, unit: str = "nm", pixel: float = 1e-4) -> Image:
    """A map of heights (rows, columns)."""
    space = picture_space(heights.shape[1], heights.shape[0], (pixel, pixel))
    return Image(np.asfortranarray(heights.astype(np.float32).T[:, :, None]), space, "Map", "T-1", unit=unit)


def painted(image: Image, first: int, end: int) -> LabelMap:
    """A label on some columns."""
    data = np.zeros(image.space.shape, np.uint16)
    data[first:end] = 1
    return LabelMap(image.space, data)


def of(image: Image) -> np.ndarray:
    return image.kji[0]


def value(table, what: str) -> float:
    return next(row[1] for row in table.rows if row[0] == what)


class FitTest(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(3)
        self.x = np.linspace(-1, 1, 90)
        lines = np.array([np.polynomial.polynomial.polyval(self.x, rng.normal(0, 50, 4)) for _ in range(60)])
        self.heights = lines + rng.normal(0, 1, lines.shape)
        self.heights[:, 30:45] += 400

    def test_lines_as_by_least_squares_one_by_one(self):
        for order in range(4):
            image = height_map(self.heights)
            labels = painted(image, 30, 45)
            made = level(image, order=order, leave_out=labels)
            used = np.r_[0:30, 45:90]
            for n, line in enumerate(self.heights.astype(np.float32)):
                fit = np.polyval(np.polyfit(self.x[used], line[used].astype(float), order), self.x)
                np.testing.assert_allclose(of(made.image)[n], line - fit, atol=2e-3)
            np.testing.assert_allclose(of(made.image) + of(made.background), self.heights, atol=1e-2)
            self.assertAlmostEqual(value(made.report, "left out of the fit"), 100 / 6, places=4)

    def test_along_the_slow_axis(self):
        fast = level(height_map(self.heights), order=2)
        slow = level(height_map(self.heights.T), along="slow", order=2)
        np.testing.assert_allclose(of(fast.image), of(slow.image).T, atol=1e-4)

    def test_a_surface_as_by_least_squares(self):
        y = np.linspace(-1, 1, 60)
        grid_x, grid_y = np.meshgrid(self.x, y)
        for how, order, terms in (("plane", 2, 3), ("surface", 2, 6), ("surface", 3, 10), ("surface", 0, 1)):
            columns = [
                grid_x**a * grid_y**b for a in range(4) for b in range(4) if a + b <= (1 if how == "plane" else order)
            ]
            self.assertEqual(len(columns), terms)
            matrix = np.stack([c.ravel() for c in columns], 1)
            inside = (self.heights < 100).ravel()
            solved = np.linalg.lstsq(matrix[inside], self.heights.ravel()[inside], rcond=None)[0]
            made = level(height_map(self.heights), how, order=order, limit_above=100.0)
            np.testing.assert_allclose(of(made.image).ravel(), self.heights.ravel() - matrix @ solved, atol=5e-3)

    def test_tilt_bow_and_jumps_are_told(self):
        rng = np.random.default_rng(5)
        jumps = rng.normal(0, 7, 200)
        y = np.linspace(-1, 1, 200)
        heights = 300 * np.linspace(-1, 1, 400) + 80 * np.linspace(-1, 1, 400) ** 2 + (150 * y + jumps)[:, None]
        report = level(height_map(heights), order=2).report
        self.assertAlmostEqual(value(report, "tilt along lines"), np.degrees(np.arctan(600 / 40_000)), places=3)
        self.assertAlmostEqual(value(report, "bow along lines"), 80, places=2)
        spread = np.diff(jumps)
        self.assertAlmostEqual(value(report, "jumps between lines, RMS"), np.sqrt(np.mean(spread**2)), delta=0.6)
        self.assertLess(value(report, "left of what counted, RMS"), 0.01)

    def test_units_of_height_and_width_stay(self):
        for unit, factor in (("nm", 1.0), ("um", 1e-3), ("m", 1e-9), ("mm", 1e-6)):
            image = height_map(self.heights * factor, unit)
            made = level(image, order=3, limit_above=250.0)
            self.assertEqual((made.image.unit, made.image.space), (unit, image.space))
            np.testing.assert_allclose(
                of(made.image) / factor,
                of(level(height_map(self.heights), order=3, limit_above=250.0).image),
                atol=0.05,
            )


class OtherWaysTest(unittest.TestCase):
    def test_three_points(self):
        x, y = np.meshgrid(np.arange(50), np.arange(40))
        heights = 3.0 * x - 2.0 * y + 100
        heights[:, 20:] += 500
        image = height_map(heights, pixel=1.0)

        def places(*voxels) -> tuple:
            return tuple(float(v) for i, j in voxels for v in image.space.to_world((i, j, 0))[:2])

        made = level(image, "points", points=places((5, 5), (12, 30), (3, 34)))
        self.assertLess(np.abs(of(made.image)[:, :20]).max(), 0.01)
        np.testing.assert_allclose(of(made.image)[:, 20:], 500, atol=0.01)
        for points, words in (
            (places((5, 5), (6, 6), (7, 7)), "one line"),
            (places((5, 5), (500, 6), (7, 17)), "outside"),
            (None, "needs three"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                level(image, "points", points=points)

    def test_shifts_of_lines(self):
        rng = np.random.default_rng(2)
        shifts = np.cumsum(rng.normal(0, 20, 80))
        heights = np.zeros((80, 200)) + shifts[:, None] + rng.normal(0, 0.1, (80, 200))
        heights[20:60, 70:120] += 900  # what is tall is less than half of each line
        flat = of(level(height_map(heights), "differences").image)
        self.assertLess(np.abs(np.median(flat[:, :60], axis=1)).max(), 0.3)
        np.testing.assert_allclose(np.median(flat[30:50, 80:110]), 900, atol=1)

    def test_only_jumps_are_mended(self):
        y, x = np.mgrid[0:100, 0:120]
        rng = np.random.default_rng(2)
        true = 0.5 * x + 0.3 * y + 0.002 * y**2
        heights = true + rng.normal(0, 0.2, true.shape)
        heights[40:] += 60
        heights[71:] -= 25
        flat = of(level(height_map(heights), "steps").image)
        apart = flat - true
        self.assertLess(np.ptp(np.median(apart, axis=1)), 1.5)

    def test_robust_without_any_limit(self):
        for how, order in (("lines", 1), ("lines", 2), ("plane", 1), ("surface", 2)):
            x = np.linspace(-1, 1, 120)
            heights = 200 * x + 90 * x[:, None] + np.random.default_rng(1).normal(0, 1, (120, 120))
            heights[:, 40:75] += 700
            heights[30:35, 90:95] -= 300
            made = level(height_map(heights), how, order=order, robust=True)
            flat = of(made.image)
            self.assertLess(value(made.report, "left of what counted, RMS"), 1.3)  # of noise of 1
            self.assertAlmostEqual(value(made.report, "stood out of the robust fit"), 100 * 35 / 120, delta=5)
            given = {"image": height_map(heights), "how": how, "along": "fast", "order": order, "robust": True,
                     "limit_below": None, "limit_above": None, "each_line": False}  # fmt: skip
            tinted = find_operation("level").tinted(given)[:, :, 0].T
            self.assertGreater(tinted[:, 40:75].mean(), 0.99)
            self.assertLess(tinted[:, :35].mean(), 0.06)
            self.assertLess(abs(flat[:, :35].mean()), 0.6, how)
            self.assertAlmostEqual(float(np.median(flat[:, 42:72])), 700, delta=2)


class EnamelTest(unittest.TestCase):
    def test_the_sound_surface_is_level_and_the_window_as_deep_as_it_is(self):
        for seed in (1, 5, 9):
            made = enamel(seed, 256)
            first = level(height_map(made.heights, pixel=PIXEL / 1000), "plane", robust=True).image
            limits = {"limit_below": -90.0, "limit_above": 90.0, "each_line": True}
            for settings in (limits, {"robust": True}):
                flat = of(level(first, order=2, **settings).image)
                there = np.isfinite(flat)
                sound, etched = flat[made.sound & there], flat[made.etched & there]
                rows, columns = np.nonzero(made.sound & there)
                plane = np.column_stack([np.ones(rows.size), rows / 128 - 1, columns / 128 - 1])
                tilt = np.linalg.lstsq(plane, sound - made.surface[rows, columns], rcond=None)[0][1:]
                self.assertLess(np.abs(tilt).max(), 0.3 * sound.std())  # from the middle to an end; it was hundreds
                self.assertAlmostEqual((sound.mean() - etched.mean()) / made.depth, 1, delta=0.005)
                offsets = [
                    np.mean((line - true)[keep]) for line, true, keep in zip(flat, made.surface, made.sound & there)
                ]
                self.assertLess(np.std(offsets), 0.6 * sound.std())  # no streaks

    def test_what_is_tall_pulls_lines_when_it_is_not_left_out(self):
        made = enamel(5, 256)
        plain = of(level(height_map(made.heights), order=1).image)
        self.assertGreater(abs(plain[made.sound & np.isfinite(plain)].mean()), 100)


class CheckTest(unittest.TestCase):
    """A flat sample with tall pieces on some of its lines."""

    def setUp(self):
        rng = np.random.default_rng(4)
        self.heights = rng.normal(0, 1, (200, 300)) + rng.normal(0, 5, (200, 1)) + 100 * np.linspace(-1, 1, 300)
        y, x = np.mgrid[0:200, 0:300]
        self.tall = np.zeros((200, 300), bool)
        for at, radius in (((40, 60), 12), ((90, 220), 9), ((150, 130), 14)):
            self.tall |= (y - at[0]) ** 2 + (x - at[1]) ** 2 < radius**2
        self.heights += 200 * self.tall

    def notices(self, image: Image) -> list:
        return [n for n in run_checks(Subject(image), "prepare") if n.check in ("streaks", "bent")]

    def test_streaks_are_noticed_and_mended(self):
        made = level(height_map(self.heights)).image
        (notice,) = self.notices(made)
        pulled = pulled_lines(made)[0]
        touched = np.flatnonzero(self.tall.any(1))
        self.assertGreater(np.isin(pulled, touched).mean(), 0.99)
        self.assertGreater(pulled.size, 0.6 * touched.size)
        self.assertIn(f"{pulled.size} lines", notice.sentence)
        mended = level(made, **notice.mend.settings).image
        self.assertEqual(self.notices(mended), [])
        ground = np.where(self.tall, np.nan, of(mended))
        self.assertLess(np.nanstd(np.nanmean(ground, 1)), 0.2)  # of lines that had 5

    def test_deep_pits_too(self):
        made = level(height_map(-self.heights)).image
        (notice,) = self.notices(made)
        self.assertIn("deep", notice.sentence)
        self.assertEqual(self.notices(level(made, **notice.mend.settings).image), [])

    def test_nothing_is_said_of_a_good_fit_or_of_other_pictures(self):
        image = height_map(self.heights)
        by_hand = LabelMap(image.space, self.tall.T[:, :, None].astype(np.uint16))
        self.assertEqual(self.notices(level(image, leave_out=by_hand).image), [])
        self.assertEqual(self.notices(level(height_map(self.heights), robust=True).image), [])
        self.assertEqual(self.notices(height_map(self.heights)), [])
        plain = height_map(np.random.default_rng(1).normal(0, 1, (100, 100)))
        self.assertEqual(self.notices(level(plain).image), [])

    def test_a_higher_order_is_said_to_bend(self):
        plain = height_map(np.random.default_rng(1).normal(0, 1, (60, 60)))
        (notice,) = self.notices(level(plain, order=2).image)
        self.assertIn("Order 2", notice.sentence)
        (notice,) = self.notices(level(plain, "surface", order=3).image)
        self.assertIn("Order 3", notice.sentence)


class WrongTest(PlaceCase):
    def test_sentences(self):
        flat = np.random.default_rng(1).normal(0, 1, (30, 40))
        image = height_map(flat)
        part = painted(image, 3, 40)
        everything = LabelMap(image.space, np.ones(image.space.shape, np.uint16))
        volume = Image(np.zeros((4, 4, 4), np.float32), Space((4, 4, 4), np.eye(4)), "Volume")
        for words, call in (
            ("is left out of the fit", lambda: level(image, leave_out=everything)),
            ("is left out of the fit", lambda: level(image, limit_above=-1e6)),
            ("too few points are left for order 3", lambda: level(image, order=3, leave_out=part)),
            ("Too few points", lambda: level(height_map(flat[:3, :2]), "surface", order=3)),
            ("are no heights", lambda: level(height_map(flat, ""), limit_below=3.0)),
            ("are no heights", lambda: level(height_map(flat, "HU"), limit_below=3.0)),
            ("has 4 slices", lambda: level(volume)),
            ("single line", lambda: level(height_map(flat[:1]))),
            ("another grid", lambda: level(image, leave_out=LabelMap(volume.space))),
            ("is left out", lambda: level(height_map(np.full((9, 9), np.nan)))),
        ):
            with self.assertRaisesRegex(Trouble, words):
                call()

    def test_a_map_without_a_unit_is_levelled_without_limits(self):
        made = level(height_map(np.add.outer(np.arange(9.0), np.arange(12.0)), "", 1.0))
        self.assertLess(np.abs(of(made.image)).max(), 1e-4)
        self.assertEqual(made.image.unit, "")

    def test_holes_and_lines_without_heights(self):
        heights = np.add.outer(np.arange(40.0), 3 * np.arange(50.0))
        heights[7], heights[20:22, 5:30], heights[30, 4] = np.nan, np.nan, np.inf
        made = level(height_map(heights))
        flat = of(made.image)
        self.assertLess(np.nanmax(np.abs(flat[np.isfinite(flat)])), 1e-3)
        self.assertTrue(np.isnan(flat[7]).all())
        self.assertEqual(value(made.report, "lines levelled by their neighbours"), 1)
        self.assertAlmostEqual(float(of(made.background)[7, 0]), 7.0, places=3)

    def test_extreme_scales(self):
        for scale in (1e-12, 1e9):
            heights = scale * (np.add.outer(np.arange(40.0), 3 * np.arange(50.0)))
            flat = of(level(height_map(heights, ""), order=2).image)
            self.assertLess(np.abs(flat).max(), 1e-4 * scale)
        flat = of(level(height_map(np.full((8, 8), 5.0)), robust=True).image)
        self.assertEqual(float(np.abs(flat).max()), 0.0)

    def test_on_the_command_line(self):
        made = enamel(3, 128)
        lines = "\n".join(" ".join(f"{v:.3f}" for v in row) for row in made.heights.tolist())
        source = self.place / "map.txt"
        source.write_text(f"# Width: 12.8 µm\n# Height: 12.8 µm\n# Value units: nm\n{lines}\n", encoding="utf-8")
        out, away = self.place / "flat.x3p", self.place / "away.ome.tif"
        done = kestrelmist(
            "level",
            source,
            "--how",
            "lines",
            "--along",
            "fast",
            "--order",
            "2",
            "--limit-above",
            "300",
            "--robust",
            "--out",
            out,
            "--out-background",
            away,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        image = open_image(source)
        flat = open_image(out)
        self.assertEqual(flat.unit, "nm")
        expected = of(level(image, order=2, limit_above=300.0, robust=True).image)
        np.testing.assert_allclose(flat.data[:, :, 0].T, expected, atol=1e-3)
        self.assertAlmostEqual(flat.space.spacing[0], 1e-4, places=9)
        self.assertTrue(away.exists())
        self.assertEqual(level(image).image.facts[LEVELLED], "lines, order 1")
        nothing = ("--limit-above", "-99999", "--out", self.place / "none.x3p")
        self.assertEqual(kestrelmist("level", source, *nothing, code=1).returncode, 1)
        self.assertFalse((self.place / "none.x3p").exists())
