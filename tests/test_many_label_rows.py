import unittest

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.outline.auto_threshold import auto_threshold
from kestrelmist.outline.brush import Brush, Stroke
from kestrelmist.outline.many_labels import change_labels, save_label_names, take_label_names
from kestrelmist.outline.otsu import otsu_limits
from kestrelmist.outline.ranges import ready_ranges
from tests.making import PlaceCase, straight_space
from tests.test_bridge import dice, ellipsoid
from tests.test_shaping import after, blobs, mapped, voxels


class OtsuTest(unittest.TestCase):
    def test_against_an_independent_library(self):
        from skimage.filters import threshold_multiotsu, threshold_otsu

        rng = np.random.default_rng(0)
        values = np.concatenate([rng.normal(m, 8, n) for m, n in ((50, 4000), (120, 3000), (220, 2000))])
        # between modes nothing lies, and any limit there parts values alike
        self.assertLess(np.mean((values > otsu_limits(values)[0]) != (values > threshold_otsu(values))), 0.002)
        for mine, theirs in zip(otsu_limits(values, 3), threshold_multiotsu(values, 3)):
            self.assertLess(np.mean((values > mine) != (values > theirs)), 0.002)
        for scale in (1e-6, 1e6):
            np.testing.assert_allclose(
                otsu_limits(values * scale, 3), np.array(otsu_limits(values, 3)) * scale, rtol=1e-9
            )
        for odd in (np.zeros(9), np.full(9, np.nan), np.array([])):
            self.assertEqual(otsu_limits(odd, 3), [])

    def test_thresholds_by_themselves(self):
        space = straight_space((40, 36, 32), 0.5)
        body, core = ellipsoid(space, (0, 0, 0), (8, 7, 6)), ellipsoid(space, (0, 0, 0), (4, 3, 3))
        rng = np.random.default_rng(1)
        values = 100.0 + 100 * body + 150 * core + rng.normal(0, 9, body.shape)
        image, labels = Image(values.T.astype(np.float32), space), mapped(space)
        for how, which, wanted in (
            ("three classes", "bright", core),
            ("three classes", "middle", body & ~core),
            ("three classes", "dark", ~body),
        ):
            made = after(labels, auto_threshold(image, labels, "A", how, which))
            self.assertGreater(dice(voxels(made, "A"), wanted), 0.98)
        self.assertRegex(auto_threshold(image, labels, "A").title, r"by itself, from \d")
        spots = blobs(space.shape, 4, 1.2, 0.9)
        # a slope that no single limit copes with
        shaded = Image(
            (np.where(spots, 120, 0) + 40.0 * np.arange(40)[None, None] + rng.normal(0, 5, spots.shape)).T.astype(
                np.float32
            ),
            space,
        )
        local = voxels(after(labels, auto_threshold(shaded, labels, "A", "local", size=4.0)), "A")
        whole = voxels(after(labels, auto_threshold(shaded, labels, "A")), "A")
        self.assertGreater(dice(local, spots), dice(whole, spots) + 0.3)
        with self.assertRaisesRegex(Trouble, "three classes only"):
            auto_threshold(image, labels, "A", "otsu", "middle")
        with self.assertRaisesRegex(Trouble, "one value everywhere"):
            auto_threshold(Image(np.zeros(space.shape, np.float32), space), labels, "A")

    def test_ready_ranges_name_classes(self):
        space = straight_space((20, 20, 20))
        values = np.repeat([0.0, 5.0, 9.0], [3000, 3000, 2000]).reshape(space.shape)
        found = {r.name: r for r in ready_ranges(Image(values.astype(np.float32), space))}
        self.assertTrue(0 < found["Middle of three"].low < 5 < found["Middle of three"].high < 9)


class ManyLabelsTest(PlaceCase):
    def setUp(self):
        super().setUp()
        space = straight_space((9, 9, 9))
        empty = np.zeros((9, 9, 9), bool)
        self.labels = mapped(space, **{"Cortex left": ~empty, "Cortex right": empty, "Eye": empty})

    def table(self, **given):
        return after(self.labels, change_labels(self.labels, **given)).table

    def test_names_colours_and_locks_of_many(self):
        self.assertEqual(
            [r.name for r in self.table(which="cortex*", find="Cortex", by="Grey")], ["Grey left", "Grey right", "Eye"]
        )
        self.assertEqual([r.locked for r in self.table(which="2-3", locked=True)], [False, True, True])
        self.assertEqual({r.colour for r in self.table(colours="one", colour="#123456")}, {"#123456"})
        for given, words in (
            ({"which": "Nose"}, "No label is called"),
            ({"which": "cortex*", "find": " left", "by": " right"}, "Two labels would be called"),
            ({"which": "Eye"}, "Nothing would change"),
            ({"colours": "one", "colour": "red"}, "no colour"),
        ):
            with self.subTest(given=given), self.assertRaisesRegex(Trouble, words):
                change_labels(self.labels, **given)

    def test_names_to_a_file_and_back(self):
        save_label_names(self.labels, self.place / "names.tsv")
        bare = mapped(self.labels.space, **{f"Label {n}": np.zeros((9, 9, 9), bool) for n in (1, 2)})
        made = after(bare, take_label_names(bare, self.place / "names.tsv"))
        self.assertEqual(
            [(r.number, r.name, r.colour) for r in made.table],
            [(r.number, r.name, r.colour) for r in self.labels.table],
        )
        with self.assertRaisesRegex(Trouble, "written as .tsv"):
            save_label_names(self.labels, self.place / "names.txt")
        other = mapped(self.labels.space, A=np.zeros((9, 9, 9), bool), B=np.zeros((9, 9, 9), bool))
        other.table = other.table.changed(2, name="Cortex left")
        (self.place / "one.tsv").write_text("index\tname\n1\tCortex left\n")
        with self.assertRaisesRegex(Trouble, "Two labels would be called"):
            take_label_names(other, self.place / "one.tsv")


class PaintOverTest(unittest.TestCase):
    def test_over_free_voxels_or_one_label_only(self):
        space = straight_space((20, 20, 20), 1.0)
        left = np.zeros((20, 20, 20), bool)
        left[:, :, :10] = True
        image = Image(np.zeros(space.shape, np.int16), space)
        for over, wanted in ((0, ~left), (1, left), (None, np.ones_like(left))):
            labels = mapped(space, Left=left, New=np.zeros_like(left))
            stroke = Stroke(image, labels, Brush(6.0, over=over), 2)
            stroke.to((0.0, 0.0, 0.0))
            painted = voxels(labels, "New")
            self.assertTrue(painted.any())
            self.assertFalse((painted & ~wanted).any())


if __name__ == "__main__":
    unittest.main()
