import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space
from kestrelmist.outline.shaping.combine_labels import combine_labels
from kestrelmist.outline.shaping.grow_shrink import close_label, dilate, erode, open_label
from kestrelmist.outline.shaping.holes import fill_holes
from kestrelmist.outline.shaping.near import near
from kestrelmist.outline.shaping.smooth_labels import smooth_label
from tests.making import straight_space, tilted_space


def blobs(shape, seed=0, smooth=2.0, share=0.6):
    field = ndimage.gaussian_filter(np.random.default_rng(seed).standard_normal(shape[::-1]), smooth)
    return field > np.quantile(field, share)


def mapped(space: Space, **masks) -> LabelMap:
    """A label map of masks [k, j, i], later ones over earlier ones."""
    table, data = LabelTable(), np.zeros(space.shape[::-1], np.uint16)
    for name, mask in masks.items():
        table, row = table.with_new(name)
        data[mask] = row.number
    return LabelMap(space, data.T, table)


def after(labels: LabelMap, edit) -> LabelMap:
    made = labels.copied()
    edit.apply(made)
    return made


def voxels(labels: LabelMap, name: str) -> np.ndarray:
    return labels.kji == labels.table.named(name).number


def sheared() -> Space:
    affine = np.diag([0.5, 0.5, 1.0, 1.0])
    affine[1, 2] = 0.4
    return Space((22, 20, 14), affine)


class NearTest(unittest.TestCase):
    """Against distances of an independent library, on grids of every kind."""

    def test_balls_of_every_size_and_grid(self):
        for spacing in ((0.5, 0.5, 0.5), (0.3, 0.7, 1.1), (1e-6, 2e-6, 1e-6), (800.0, 900.0, 1000.0)):
            space = tilted_space((31, 26, 22), spacing)
            mask = blobs(space.shape, 3, share=0.93)
            away = ndimage.distance_transform_edt(~mask, sampling=spacing[::-1])
            for steps in (0.4, 1.0, 2.3, 6.0, 60.0):
                wanted = away <= steps * spacing[0] * (1 + 1e-6)
                np.testing.assert_array_equal(near(mask, steps * spacing[0], space).view(bool), wanted)

    def test_sheared_grid(self):
        space = sheared()
        mask = blobs(space.shape, 1, share=0.95)
        at = np.argwhere(mask)[:, ::-1]
        every = space.to_world(np.argwhere(np.ones_like(mask))[:, ::-1])
        away = np.linalg.norm(every[:, None] - space.to_world(at)[None], axis=-1).min(1).reshape(mask.shape)
        np.testing.assert_array_equal(near(mask, 1.3, space).view(bool), away <= 1.3)

    def test_long_balls_and_nothing(self):
        space = straight_space((120, 90, 4), 0.1)
        mask = blobs(space.shape, 5, share=0.999)
        away = ndimage.distance_transform_edt(~mask, sampling=0.1)
        np.testing.assert_array_equal(near(mask, 5.5, space).view(bool), away <= 5.5 * (1 + 1e-6))
        for length in (0.5, 9.0):
            self.assertFalse(near(np.zeros_like(mask), length, space).any())
            self.assertTrue(near(np.ones_like(mask), length, space).all())

    def test_cancel(self):
        progress = Progress()
        progress.cancel()
        with self.assertRaises(Cancelled):
            near(np.ones((9, 9, 9), bool), 1.0, straight_space((9, 9, 9)), progress)


class GrowShrinkTest(unittest.TestCase):
    def setUp(self):
        self.space = tilted_space((30, 28, 24), (0.5, 0.4, 0.7))
        self.mask = blobs(self.space.shape, 7)
        self.mask[:3] = self.mask[-3:] = False
        self.labels = mapped(self.space, Fat=self.mask)
        self.outside = ndimage.distance_transform_edt(~self.mask, sampling=(0.7, 0.4, 0.5))
        self.inside = ndimage.distance_transform_edt(np.pad(self.mask, 1, mode="edge"), sampling=(0.7, 0.4, 0.5))[
            1:-1, 1:-1, 1:-1
        ]

    def test_each_is_what_distances_say(self):
        by = 0.9
        grown, shrunk = self.outside <= by, self.inside > by
        np.testing.assert_array_equal(voxels(after(self.labels, dilate(self.labels, "Fat", by=by)), "Fat"), grown)
        np.testing.assert_array_equal(voxels(after(self.labels, erode(self.labels, "fat", by=by)), "Fat"), shrunk)
        opened = ndimage.distance_transform_edt(~shrunk, sampling=(0.7, 0.4, 0.5)) <= by
        found = voxels(after(self.labels, open_label(self.labels, "Fat", by=by)), "Fat")
        np.testing.assert_array_equal(found, opened & self.mask)
        self.assertLess(found.sum(), self.mask.sum())
        closed = voxels(after(self.labels, close_label(self.labels, "Fat", by=by)), "Fat")
        self.assertTrue(closed[self.mask].all())
        self.assertGreater(closed.sum(), self.mask.sum())
        again = mapped(self.space, Fat=closed)
        edit = close_label(again, "Fat", by=by)
        self.assertEqual((edit.patch.voxels, edit.title), (0, "Close “Fat” by 0.9 mm: nothing changed"))

    def test_inputs_stay(self):
        before = self.labels.content_hash()
        dilate(self.labels, by=1.0)
        smooth_label(self.labels, by=1.0)
        self.assertEqual(self.labels.content_hash(), before)

    def test_in_slices_a_disc(self):
        grown = voxels(after(self.labels, dilate(self.labels, "Fat", by=1.1, within="axial")), "Fat")
        for plane, was in zip(grown, self.mask):
            away = ndimage.distance_transform_edt(~was, sampling=(0.4, 0.5)) if was.any() else np.full(was.shape, 9e9)
            np.testing.assert_array_equal(plane, away <= 1.1)

    def test_a_picture_of_one_slice_shrinks_from_its_sides_only(self):
        space = Space((40, 30, 1), np.diag([0.001, 0.001, 1.0, 1.0]))
        mask = np.zeros((1, 30, 40), bool)
        mask[0, 5:25, 10:30] = True
        labels = mapped(space, Cell=mask)
        shrunk = voxels(after(labels, erode(labels, by=0.003)), "Cell")
        self.assertEqual(np.argwhere(shrunk).min(0).tolist(), [0, 8, 13])
        self.assertEqual(int(shrunk.sum()), 14 * 14)

    def test_the_image_edge_takes_nothing(self):
        labels = mapped(straight_space((10, 10, 10)), All=np.ones((10, 10, 10), bool))
        self.assertIn("nothing changed", erode(labels, by=1.0).title)

    def test_of_two_that_want_a_voxel_the_nearest_takes_it_in_any_order(self):
        space = straight_space((31, 9, 9), 1.0)
        one, other = np.zeros((9, 9, 31), bool), np.zeros((9, 9, 31), bool)
        one[4, 4, 5], other[4, 4, 15] = True, True
        for masks in ({"A": one, "B": other}, {"B": other, "A": one}):
            made = after(mapped(space, **masks), dilate(mapped(space, **masks), by=8.0))
            row = made.kji[4, 4]
            a, b = made.table.named("A").number, made.table.named("B").number
            self.assertEqual([int(n) for n in row[:24]], [a] * 10 + [row[10]] + [b] * 13)

    def test_locked_labels_neither_gain_nor_lose(self):
        rest = ~self.mask & blobs(self.space.shape, 2, share=0.5)
        labels = mapped(self.space, Fat=self.mask, Bone=rest)
        labels.table = labels.table.changed(2, locked=True)
        for over in (False, True):
            made = after(labels, dilate(labels, by=1.0, over=over))
            np.testing.assert_array_equal(voxels(made, "Bone"), rest)
        with self.assertRaisesRegex(Trouble, "“Bone” is locked"):
            dilate(labels, "Bone", by=1.0)
        labels.table = labels.table.changed(2, locked=False)
        made = after(labels, dilate(labels, "Fat", by=1.0, over=True))
        np.testing.assert_array_equal(voxels(made, "Fat"), self.outside <= 1.0)

    def test_wrong_input(self):
        for work, words in (
            (lambda: dilate(self.labels, "Fat", by=0.1), "less than a voxel"),
            (lambda: erode(self.labels, "Fat", by=50.0), "no voxel of “Fat” is left"),
            (lambda: open_label(self.labels, "Fat", by=50.0), "fits nowhere"),
            (lambda: dilate(self.labels, "Bone", by=1.0), "no label “Bone”"),
            (lambda: dilate(LabelMap(self.space), by=1.0), "no label that is drawn"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                work()


class FillHolesTest(unittest.TestCase):
    def setUp(self):
        self.space = straight_space((24, 22, 20), 0.5)
        self.mask = blobs(self.space.shape, 11, 1.2, 0.35)
        self.labels = mapped(self.space, Bone=self.mask)

    def test_against_an_independent_library(self):
        found = voxels(after(self.labels, fill_holes(self.labels, "Bone")), "Bone")
        np.testing.assert_array_equal(found, ndimage.binary_fill_holes(self.mask))
        for plane, axis in (("axial", 0), ("coronal", 1), ("sagittal", 2)):
            wanted = np.stack([ndimage.binary_fill_holes(p) for p in np.moveaxis(self.mask, axis, 0)], axis)
            found = voxels(after(self.labels, fill_holes(self.labels, within=plane)), "Bone")
            np.testing.assert_array_equal(found, wanted)

    def test_small_ones_only_and_a_thousand_of_them(self):
        holes = ndimage.binary_fill_holes(self.mask) & ~self.mask
        pieces, count = ndimage.label(holes)
        sizes = np.bincount(pieces.ravel())
        small = holes & (sizes[pieces] < 3)
        found = voxels(after(self.labels, fill_holes(self.labels, below=3 * 0.125)), "Bone")
        np.testing.assert_array_equal(found, self.mask | small)
        self.assertGreater(count, 1)
        speckled = np.ones((40, 40, 40), bool)
        speckled[1:-1:2, 1:-1:2, 1:-1:2] = False
        labels = mapped(straight_space((40, 40, 40)), A=speckled)
        self.assertTrue(voxels(after(labels, fill_holes(labels)), "A").all())

    def test_other_labels_in_a_hole(self):
        shell = np.zeros((20, 22, 24), bool)
        shell[4:14, 4:14, 4:14] = True
        core = np.zeros_like(shell)
        core[7:11, 7:11, 7:11] = True
        shell[6:12, 6:12, 6:12] = False
        labels = mapped(self.space, Shell=shell, Core=core)
        made = after(labels, fill_holes(labels, "Shell"))
        self.assertEqual(int(voxels(made, "Core").sum()), 64)
        self.assertEqual(int(voxels(made, "Shell").sum()), 1000 - 64)
        self.assertEqual(int(voxels(after(labels, fill_holes(labels, "Shell", over=True)), "Shell").sum()), 1000)

    def test_a_picture(self):
        space = Space((20, 20, 1), np.eye(4), "px")
        ring = np.zeros((1, 20, 20), bool)
        ring[0, 5:15, 5:15] = True
        ring[0, 8:12, 8:12] = False
        labels = mapped(space, Cell=ring)
        self.assertEqual(int(voxels(after(labels, fill_holes(labels)), "Cell").sum()), 100)
        self.assertIn("nothing changed", fill_holes(mapped(space, Cell=np.ones((1, 20, 20), bool))).title)


class SmoothTest(unittest.TestCase):
    def test_stairs_go_and_the_volume_stays(self):
        space = straight_space((60, 60, 60), 0.5)
        z, y, x = np.indices((60, 60, 60)) * 0.5 - 14.75
        ball = x**2 + y**2 + z**2 <= 100
        rough = ball ^ (np.random.default_rng(4).random(ball.shape) < 0.2) & (
            np.abs(np.sqrt(x**2 + y**2 + z**2) - 10) < 1
        )
        labels = mapped(space, Eye=rough)
        smooth = voxels(after(labels, smooth_label(labels, "Eye", by=2.0)), "Eye")
        self.assertEqual(int(smooth.sum()), int(rough.sum()))

        def edges(mask):
            return sum(int(np.count_nonzero(np.diff(mask.astype(np.int8), axis=n))) for n in range(3))

        self.assertLess(edges(smooth), 0.75 * edges(rough))
        self.assertLess(abs(edges(smooth) / edges(ball) - 1), 0.03)

    def test_two_that_touch_leave_no_gap_and_keep_their_volumes(self):
        space = straight_space((40, 30, 20), 0.5)
        rng = np.random.default_rng(2)
        wall = 20 + rng.integers(-2, 3, (20, 30))
        i = np.arange(40)[None, None]
        inside = np.zeros((20, 30, 40), bool)
        inside[3:-3, 4:-4, 5:-5] = True
        labels = mapped(space, A=inside & (i < wall[..., None]), B=inside & (i >= wall[..., None]))
        made = after(labels, smooth_label(labels, by=2.0))
        middle = made.kji[7:-7, 8:-8, 9:-9]
        self.assertEqual(int(np.count_nonzero(middle == 0)), 0)
        for number in (1, 2):
            self.assertLess(abs(made.counts[number] / labels.counts[number] - 1), 0.005)

    def test_others_stay(self):
        space = straight_space((30, 30, 30))
        labels = mapped(space, A=blobs(space.shape, 1), B=blobs(space.shape, 2, share=0.8))
        made = after(labels, smooth_label(labels, "A", by=1.5))
        np.testing.assert_array_equal(voxels(made, "B"), voxels(labels, "B"))
        self.assertEqual(int(made.counts[1]), int(labels.counts[1]))


class CombineTest(unittest.TestCase):
    def setUp(self):
        self.space = straight_space((20, 18, 16))
        self.one, self.other = blobs(self.space.shape, 1, share=0.5), blobs(self.space.shape, 2, share=0.5)

    def test_two_maps(self):
        mine, theirs = mapped(self.space, A=self.one), mapped(self.space, A=self.other, New=~self.other & ~self.one)
        for how, wanted in (
            ("join", self.one | self.other),
            ("subtract", self.one & ~self.other),
            ("intersect", self.one & self.other),
        ):
            made = after(mine, combine_labels(mine, theirs, how))
            np.testing.assert_array_equal(voxels(made, "A"), wanted)
        made = after(mine, combine_labels(mine, theirs, "join"))
        self.assertEqual(int(voxels(made, "New").sum()), int(np.count_nonzero(~self.other & ~self.one)))

    def test_two_labels_of_a_map(self):
        labels = mapped(self.space, A=self.one, B=self.other & ~self.one)
        made = after(labels, combine_labels(labels, how="join", label="A", other_label="B"))
        np.testing.assert_array_equal(voxels(made, "A"), self.one | self.other)
        self.assertFalse(voxels(made, "B").any())
        labels.table = labels.table.changed(2, locked=True)
        self.assertEqual(combine_labels(labels, how="join", label="A", other_label="B").patch.voxels, 0)

    def test_wrong_input(self):
        labels = mapped(self.space, A=self.one, B=self.other & ~self.one)
        for given, words in (
            ({}, "which labels"),
            ({"label": "A", "other_label": "a"}, "with itself"),
            ({"label": "A", "other_label": "B", "how": "intersect"}, "No voxel of “A” would be left"),
            ({"other": mapped(self.space, C=self.one), "how": "subtract"}, "no label of the same name"),
            ({"other": mapped(self.space, A=self.one), "how": "intersect"}, "has no “B”"),
        ):
            with self.subTest(given=given), self.assertRaisesRegex(Trouble, words):
                combine_labels(labels, **given)


if __name__ == "__main__":
    unittest.main()
