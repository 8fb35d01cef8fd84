"""Layers with looks of their own, two pictures compared, and pictures written without a window."""

import unittest

import numpy as np
from PIL import Image as Picture

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.formats.label_files import write_label_map
from kestrelmist.formats.saving import save_image
from kestrelmist.report.picture import picture
from kestrelmist.scene.colours import MAPS, colour_table
from kestrelmist.scene.compare import Comparison, chequered, draw_compared, edges_of, mixed
from kestrelmist.scene.drawing import draw
from kestrelmist.scene.first_look import first_look, over_look, over_opacity
from kestrelmist.scene.layer import ImageLook, Layer, restored
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.sampling import sample_values
from kestrelmist.scene.view import AXIAL, fitted, plane_view
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space

GROUND = 0xFF0B1013


def channels(pixels: np.ndarray) -> np.ndarray:
    return np.stack([(pixels >> np.uint32(s)) & np.uint32(255) for s in (16, 8, 0)], -1).astype(int)


def ramp() -> Image:
    """Values −20 … 20 along x, the same everywhere else, on a grid of 1 mm."""
    values = np.broadcast_to(np.arange(-20.0, 21.0)[:, None, None], (41, 41, 3)).astype(np.float32)
    return Image(np.asfortranarray(values), straight_space((41, 41, 3), 1.0), "Map", unit="t")


class ColourTest(unittest.TestCase):
    def test_every_map_is_a_table_of_its_own(self):
        tables = {name: colour_table(name) for name in MAPS}
        self.assertEqual({len(t) for t in tables.values()}, {256})
        self.assertEqual(len({t.tobytes() for t in tables.values()}), len(MAPS))
        for name, table in tables.items():
            np.testing.assert_array_equal(colour_table(name, True), table[::-1], name)
        np.testing.assert_array_equal(colour_table("no such map"), tables["Grey"])
        weights = np.array([0.2126, 0.7152, 0.0722])  # the perceptual ones rise in lightness all the way
        for name in ("Coal glow", "Meadow", "Deep water", "Night sky and sand"):
            light = (channels(tables[name]) / 255.0) ** 2.2 @ weights
            self.assertTrue((np.diff(light) > -0.004).all(), name)
            self.assertGreater(light[-1] - light[0], 0.5, name)


class SidesTest(unittest.TestCase):
    def setUp(self):
        self.image = ramp()
        self.view = plane_view(AXIAL, (0.0, 0.0, 0.0), 1.0, 41, 41)
        self.values = sample_values(self.view, self.image, False)

    def drawn(self, **look) -> np.ndarray:
        return draw(self.view, [Drawn(self.image, ImageLook(smooth=False, **look))])

    def test_values_on_both_sides_of_zero_have_maps_and_limits_of_their_own(self):
        found = self.drawn(low=5.0, high=15.0, colour_map="Ember", below_map="Lagoon", below_low=8.0, below_high=18.0)
        ember, lagoon = colour_table("Ember"), colour_table("Lagoon")
        for value, pixel in zip(self.values[20], found[20]):
            if value >= 5:
                wanted = ember[int(min((value - 5) / 10 * 255, 255))]
            elif value <= -8:
                wanted = lagoon[int(min((-value - 8) / 10 * 255, 255))]
            else:
                wanted = GROUND
            self.assertEqual(int(pixel), int(wanted), value)

    def test_common_limits_and_what_is_hidden(self):
        found = self.drawn(low=5.0, high=15.0, colour_map="Grey", below_map="Grey")
        np.testing.assert_array_equal(found, found[:, ::-1])  # the same on both sides of zero
        shown = (found != GROUND)[20]
        np.testing.assert_array_equal(shown, np.abs(self.values[20]) >= 5)
        cut = self.drawn(low=0.0, high=20.0, hide_below=-3.0, hide_above=7.0)
        np.testing.assert_array_equal((cut != GROUND)[20], (self.values[20] >= -3) & (self.values[20] <= 7))

    def test_turned_round(self):
        plain, turned = (channels(self.drawn(low=-20.0, high=20.0, inverted=on)) for on in (False, True))
        np.testing.assert_allclose(plain + turned, 255, atol=1)

    def test_kept_and_restored_with_fields_that_nobody_knows(self):
        look = ImageLook(1.0, 2.0, below_map="Lagoon", below_low=0.5)
        layer = Layer("HM-07/Map", look=look, opacity=0.5)
        self.assertEqual(Layer.from_dict(layer.as_dict()), layer)
        facts = layer.as_dict()
        facts["look"] |= {"later": 3, "below_map": 7, "inverted": "yes"}
        self.assertEqual(Layer.from_dict(facts).look, ImageLook(1.0, 2.0, below_low=0.5))
        self.assertEqual(restored(ImageLook, {"low": 3}).low, 3)


class CompareTest(unittest.TestCase):
    def setUp(self):
        space = straight_space((40, 40, 3), 1.0)
        black = Image(np.zeros((40, 40, 3), np.int16), space, "Black")
        step = np.zeros((40, 40, 3), np.int16)
        step[20:] = 100
        self.step = Image(np.asfortranarray(step), space, "Step")
        white = Image(np.full((40, 40, 3), 100, np.int16), space, "White")
        self.view = plane_view(AXIAL, (0.0, 0.0, 0.0), 0.5, 60, 60)
        self.lower, self.upper = ([Drawn(one, ImageLook(0, 100, smooth=False))] for one in (black, white))

    def compared(self, **how) -> np.ndarray:
        return channels(draw_compared(self.view, self.lower, self.upper, Comparison(**how)))[..., 0]

    def test_over_fade_and_swipe(self):
        self.assertTrue((self.compared() == 255).all())
        for share, wanted in ((0.0, 0), (0.25, 64), (1.0, 255)):
            np.testing.assert_allclose(self.compared(way="fade", share=share), wanted, atol=1)
        wiped = self.compared(way="swipe", share=0.25)
        self.assertTrue((wiped[:, :45] == 0).all() and (wiped[:, 45:] == 255).all())
        ends = np.array([[0xFF000000, 0xFFFF8040]], np.uint32)
        np.testing.assert_array_equal(channels(mixed(ends, ends[:, ::-1], 0.5))[0], [[127, 64, 32]] * 2)

    def test_squares_have_their_size_and_stand_still_in_the_world(self):
        found = self.compared(way="squares", square=5.0)
        self.assertEqual(set(np.unique(found)), {0, 255})
        runs = np.diff(np.flatnonzero(np.diff(found[3].astype(int))))
        self.assertEqual(set(runs), {10})  # 5 mm at 0.5 mm a pixel
        moved = self.view.moved(centre=(3.0, -2.0, 0.0))
        a, b = chequered(self.view, 5.0), chequered(moved, 5.0)
        np.testing.assert_array_equal(a[4:, 6:], b[:-4, :-6])

    def test_edges_lie_where_the_image_changes(self):
        values = sample_values(self.view, self.step, False)
        found = edges_of(values)
        where = np.flatnonzero(found[30])
        jump = int(np.flatnonzero(np.diff(values[30]))[0])
        self.assertTrue(len(where) >= 1 and np.abs(where - jump).max() <= 1, where)
        self.assertFalse(edges_of(np.full((20, 20), 7.0, np.float32)).any())
        self.assertFalse(edges_of(np.full((20, 20), np.nan, np.float32)).any())
        self.upper = [Drawn(self.step, ImageLook(0, 100))]
        drawn = draw_compared(self.view, self.lower, self.upper, Comparison("edges", edge_colour="#FF0000"))
        red = channels(drawn)[..., 0] == 255
        self.assertTrue(0.5 * 60 <= red.sum() <= 2 * 60 and (channels(drawn)[..., 1] == 0).all())


class PictureTest(PlaceCase):
    def setUp(self):
        super().setUp()
        anatomy = np.zeros((60, 50, 40), np.int16)
        anatomy[10:50, 10:40, 5:35] = 500
        self.anatomy = Image(np.asfortranarray(anatomy), straight_space((60, 50, 40), 0.5), "Head", unit="")
        coarse = np.zeros((12, 10, 8), np.float32)
        coarse[7, 5, 4], coarse[4, 5, 4] = 8.0, -8.0
        self.map = Image(coarse, straight_space((12, 10, 8), 2.5), "Response", unit="t")

    def made(self, name="a.png", **more) -> np.ndarray:
        self.table = picture(self.anatomy, to=self.place / name, **more)
        return np.asarray(Picture.open(self.place / name).convert("RGB")).astype(int)

    def test_a_map_on_another_grid_lies_where_the_world_says(self):
        at = float(self.map.space.to_world((7, 5, 4))[2])
        look = {"over_low": 4.0, "over_high": 8.0, "over_colours": "Ember", "below_colours": "Deep water"}
        found = self.made(over=[self.map], at=at, size="600x500", written=False, **look)
        self.assertEqual(found.shape, (500, 600, 3))
        view = fitted(AXIAL, self.anatomy.space, 600, 500)
        view = view.moved(centre=(*view.centre[:2], at))
        for voxel, sign in (((7, 5, 4), 1), ((4, 5, 4), -1)):
            x, y = (round(v) for v in view.to_pixel(self.map.space.to_world(voxel)))
            r, g, b = found[y, x]
            self.assertGreater(sign * (r - b), 20, (voxel, found[y, x]))
        x, y = (round(v) for v in view.to_pixel(self.map.space.to_world((5.5, 5, 4))))
        self.assertEqual(len(set(found[y, x])), 1)  # grey: what is near to zero is not drawn
        self.assertEqual(self.table.rows[0][1:3], ("axial", at))
        self.assertAlmostEqual(self.table.rows[0][3], view.pixel)

    def test_it_is_what_the_table_shows_at_first(self):
        at = float(self.map.space.to_world((7, 5, 4))[2])
        found = self.made(over=[self.map], at=at, size="200x160", written=False)
        view = fitted(AXIAL, self.anatomy.space, 200, 160)
        view = view.moved(centre=(*view.centre[:2], at))
        look = over_look(self.map)
        layers = [Drawn(self.anatomy, first_look(self.anatomy)), Drawn(self.map, look, over_opacity(look))]
        np.testing.assert_array_equal(found, channels(draw(view, layers)))

    def test_what_is_written_on_it(self):
        plain, written = self.made(written=False), self.made("b.png", over=[self.map])
        chip = np.array([0xE8, 0xB6, 0x8C])
        is_chip = (np.abs(written - chip).max(-1) < 3).any(0)
        self.assertTrue(is_chip[:40].any() and is_chip[-40:].any())  # left and right stand in chips
        self.assertFalse((np.abs(plain - chip).max(-1) < 3).any())
        length = (np.abs(written[-16:-10, 10:200] - np.array([0xE8, 0xED, 0xEE])).max(-1) < 3).any(0).sum()
        mm = length * self.table.rows[0][3]
        self.assertLess(min(abs(mm - n) for n in (1, 2, 5, 10)), 0.15)
        flipped = self.made("c.png", written=False, left_on_left=False)
        np.testing.assert_array_equal(flipped, plain[:, ::-1])

    def test_labels_and_other_ways(self):
        table, _ = LabelTable().with_new("Box", "#FF0000")
        numbers = np.zeros(self.anatomy.space.shape, np.uint16)
        numbers[20:30, 20:30, 15:25] = 1
        labels = LabelMap(self.anatomy.space, numbers, table)
        red = self.made(labels=labels, written=False)
        self.assertGreater(((red[..., 0] - red[..., 1]) > 60).sum(), 500)
        ways = [self.made(f"{way}.png", over=[self.map], compare=way, written=False) for way in ("squares", "fade")]
        self.assertFalse(np.array_equal(*ways))

    def test_what_cannot_be_is_a_sentence(self):
        far = Image(np.zeros((5, 5, 5), np.int16), Space((5, 5, 5), np.eye(4)), "Far").space
        moved = np.eye(4)
        moved[:3, 3] = (100, 0, 0)
        far = Image(np.zeros((5, 5, 5), np.int16), Space((5, 5, 5), moved), "Far")
        for more, words in (
            ({"over": [far]}, r"does not overlap.* mm lie between"),
            ({"at": 900.0}, "lies outside"),
            ({"size": "900"}, "no size"),
            ({"size": "900000x900000"}, "too large"),
            ({"colours": "Rainbows"}, "no colour map"),
            ({"low": 5.0, "high": 1.0}, "range from 5 to 1 is none"),
            ({"over": [self.map], "over_low": 9.0, "over_high": 1.0}, "range from 9 to 1 is none"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                self.made(**more)
        self.made()
        for name, words in (("a.png", "something of this name"), ("a.gif", "png")):
            with self.assertRaisesRegex(Trouble, words):
                self.made(name)
        self.assertEqual([p.name for p in self.place.iterdir()], ["a.png"])

    def test_odd_values_and_sizes(self):
        space = Space((1, 1, 1), np.diag([1e-6, 1e-6, 1e-6, 1.0]))
        for n, values in enumerate((np.nan, np.inf, -5.0, 0.0, 1e30)):
            one = Image(np.full((1, 1, 1), values, np.float32), space, "One")
            picture(one, to=self.place / f"{n}.png", size="64x48")
            self.assertEqual(Picture.open(self.place / f"{n}.png").size, (64, 48))

    def test_on_the_command_line(self):
        save_image(self.place / "head.nii.gz", self.anatomy)
        save_image(self.place / "map.nii.gz", self.map)
        table, _ = LabelTable().with_new("Box", "#FF0000")
        labels = LabelMap(self.anatomy.space, np.ones(self.anatomy.space.shape, np.uint16), table)
        write_label_map(self.place / "l.nii.gz", labels)
        kestrelmist(
            *("picture", self.place / "head.nii.gz", "--over", self.place / "map.nii.gz", "--plane", "coronal"),
            *("--labels", self.place / "l.nii.gz", "--size", "300x200", "--to", self.place / "p.png"),
        )
        self.assertEqual(Picture.open(self.place / "p.png").size, (300, 200))


if __name__ == "__main__":
    unittest.main()
