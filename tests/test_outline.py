import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.core import patch
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.progress import Progress
from kestrelmist.outline import runs
from kestrelmist.outline.brush import Brush, Stroke
from kestrelmist.outline.flood import flood
from kestrelmist.outline.grow import grow
from kestrelmist.outline.paint import erase, paint
from kestrelmist.outline.pieces import list_pieces, pieces_of, remove_pieces
from kestrelmist.outline.ranges import half_way_limit, ready_ranges
from kestrelmist.outline.renumber import renumber
from kestrelmist.outline.runs import find_runs
from kestrelmist.outline.threshold import threshold
from tests.making import labelled, straight_space, tilted_space, two_balls


def structure(neighbours: int) -> np.ndarray:
    return ndimage.generate_binary_structure(3, {6: 1, 18: 2, 26: 3}[neighbours])


class ConnectedRegionsTest(unittest.TestCase):
    """Against an independent implementation, on noise of several densities."""

    def test_flood_is_one_component(self):
        rng = np.random.default_rng(0)
        for neighbours in (6, 18, 26):
            # sparse noise goes by runs, dense noise has more runs than fit and goes by scan lines
            for density in (0.02, 0.2, 0.35, 0.6):
                volume = np.where(rng.random((22, 25, 27)) < density, 500, -20).astype(np.int16)
                components, _ = ndimage.label(volume > 0, structure(neighbours))
                for seed in map(tuple, np.argwhere(volume > 0)[::997]):
                    mask, voxels, box = flood(volume, seed, 100, 900, neighbours)
                    wanted = components == components[seed]
                    np.testing.assert_array_equal(mask, wanted)
                    self.assertEqual(voxels, int(wanted.sum()))
                    self.assertEqual(box, ndimage.find_objects(wanted.astype(int))[0])

    def test_both_ways_agree_on_every_number_type(self):
        rng = np.random.default_rng(1)
        for kind in (np.uint8, np.int16, np.uint16, np.float32):
            volume = (rng.random((15, 16, 17)) * 200).astype(kind)
            seed = tuple(np.argwhere((volume >= 50.5) & (volume <= 150.5))[5])
            by_lines = flood(volume, seed, 50.5, 150.5)[0]
            runs = find_runs(volume, 51 if kind != np.float32 else 50.5, 150 if kind != np.float32 else 150.5, 6)
            by_runs = np.zeros(volume.shape, np.uint8)
            runs.fill(int(runs.root[runs.at(seed)]), by_runs)
            np.testing.assert_array_equal(by_lines, by_runs)

    def test_all_regions_are_counted(self):
        volume = (np.random.default_rng(2).random((20, 21, 22)) < 0.2).astype(np.uint16)
        for neighbours in (6, 18, 26):
            components, count = ndimage.label(volume, structure(neighbours))
            roots, sizes = find_runs(volume, 1, 1, neighbours).regions()
            self.assertEqual(len(roots), count)
            self.assertEqual(sorted(sizes), sorted(np.bincount(components.ravel())[1:]))

    def test_a_volume_that_is_drawn_on_between_two_looks_is_never_written_past(self):
        """What is counted and then filled may have changed between: a hand draws while a check looks."""
        rng = np.random.default_rng(5)
        shape, stop = (12, 13, 40), np.zeros(1, np.uint8)
        walls, labels = np.zeros((1, 1, 1), np.uint8), LabelMap(straight_space(shape[::-1]))
        allowed, none = np.ones(65536, np.uint8), np.zeros((0, 0, 0), np.uint16)
        for before, after in ((0.2, 0.8), (0.8, 0.2), (0.5, 0.5)):
            counted, drawn = ((rng.random(shape) < share).astype(np.uint16) for share in (before, after))
            rows = np.zeros(shape[0] * shape[1] + 1, np.int64)
            runs._count(counted, 1, 1, False, walls, rows, stop)
            room = int(rows[-1])
            first, last, root = (np.full(room + 2000, -77, np.int32) for _ in range(3))
            self.assertTrue(
                runs._join(drawn, 1, 1, False, walls, 1, 1, rows, first[:room], last[:room], root[:room], stop)
            )
            self.assertTrue((root[:room] >= 0).all() and (root[:room] < room).all())
            counts = np.zeros((shape[0], 2), np.int64)
            patch._count_runs(labels.kji, counted.astype(np.uint8), 0, 0, 0, allowed, counts, 0, shape[0])
            many, voxels = (int(n) for n in counts.sum(0))
            starts, lengths = np.full(many + 2000, -77, np.int64), np.zeros(many + 2000, np.int32)
            old, new = np.full(voxels + 9000, 7, np.uint16), np.zeros(0, np.uint16)
            given = starts[:many], lengths[:many], old[:voxels], none, new, np.cumsum(counts, 0) - counts
            patch._fill_runs(labels.kji, drawn.astype(np.uint8), 0, 0, 0, allowed, *given, 0, shape[0])
            for array, size in ((first, room), (last, room), (root, room), (starts, many), (lengths, many)):
                self.assertEqual(len(set(array[size:].tolist())), 1)  # nothing behind it was touched
            self.assertTrue((old[voxels:] == 7).all())
            self.assertLessEqual(int(lengths[:many].sum()), voxels)

    def test_walls_are_not_entered(self):
        walls = np.zeros((9, 9, 9), np.uint8)
        walls[:, :, 4] = 1
        mask, voxels, _ = flood(np.ones((9, 9, 9), np.int16), (2, 2, 2), 1, 1, 26, walls)
        self.assertEqual(voxels, 9 * 9 * 4)
        self.assertTrue((mask[:, :, 5:] == 0).all())

    def test_cancel_is_heeded(self):
        progress = Progress()
        progress.cancel()
        for density in (0.05, 0.5):
            volume = (np.random.default_rng(3).random((30, 30, 30)) < density).astype(np.int16)
            volume[0] = 1
            with self.assertRaises(Cancelled):
                flood(volume, (0, 0, 0), 1, 1, 6, None, progress.stop)


class GrowTest(unittest.TestCase):
    def setUp(self):
        self.image = two_balls()
        self.labels = labelled(self.image, "Ball")

    def grown(self, **changes):
        given = {"label": "Ball", "point": (-4, 0, 0), "low": 500, "high": 2000} | changes
        edit = grow(self.image, self.labels, **given)
        edit.apply(self.labels)
        return edit

    def test_fills_all_that_is_joined(self):
        self.grown()
        np.testing.assert_array_equal(self.labels.data == 1, self.image.data == 1000)

    def test_erase_the_bridge_and_grow_again(self):
        self.grown()
        for x in (0.25, 0.75):
            erase(self.image, self.labels, "Ball", (x, 0, 0), 2.4).apply(self.labels)
        self.grown(through="label")
        x = self.image.space.to_world(np.argwhere(self.labels.data == 1))[:, 0]
        self.assertLess(x.max(), 0.5)
        volume = int(self.labels.counts[1]) * 0.125
        self.assertAlmostEqual(volume, 4 / 3 * np.pi * 64, delta=0.02 * volume)

    def test_makes_the_label_when_there_is_none(self):
        edit = self.grown(label="New one")
        self.assertEqual(edit.table_after.named("new one").number, 2)

    def test_locked_labels_are_walls(self):
        paint(self.image, self.labels, "Wall", (0, 0, 0), 2.5).apply(self.labels)
        self.labels.table = self.labels.table.changed(2, locked=True)
        wall = self.labels.data == 2
        self.grown()
        np.testing.assert_array_equal(self.labels.data == 2, wall)
        x = self.image.space.to_world(np.argwhere(self.labels.data == 1))[:, 0]
        self.assertLess(x.max(), 0)

    def test_each_wrong_input_has_its_sentence(self):
        self.labels.table = self.labels.table.with_new("Locked")[0].changed(2, locked=True)
        for changes, words in (
            ({"point": (99, 0, 0)}, "outside"),
            ({"low": 1500}, "outside the range"),
            ({"low": 9, "high": 3}, "lower value first"),
            ({"label": "Locked"}, "locked"),
            ({"through": "label"}, "does not lie in"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                self.grown(**changes)
        with self.assertRaisesRegex(Trouble, "another grid"):
            grow(
                self.image,
                labelled(two_balls(straight_space((41, 36, 32))), "Ball"),
                "Ball",
                (-4, 0, 0),
                low=500,
                high=2000,
            )

    def test_the_inputs_stay_as_they_were(self):
        before = self.labels.data.copy()
        for operation in (
            lambda: grow(self.image, self.labels, "Ball", (-4, 0, 0), low=500, high=2000),
            lambda: paint(self.image, self.labels, "Ball", (0, 0, 0), 3.0),
            lambda: threshold(self.image, self.labels, "Ball", 500, 2000),
        ):
            operation()
            np.testing.assert_array_equal(self.labels.data, before)
            self.assertEqual(int(self.labels.counts[1]), 0)


class BrushTest(unittest.TestCase):
    def test_a_ball_is_every_voxel_within_its_radius(self):
        for space in (straight_space((30, 30, 30), 0.4), tilted_space((26, 30, 22))):
            image = Image(np.zeros(space.shape, np.int16), space)
            labels = labelled(image, "A")
            centre = space.centre + 0.13
            stroke = Stroke(image, labels, Brush(4.2), 1)
            stroke.to(centre)
            away = np.linalg.norm(space.to_world(np.indices(space.shape).reshape(3, -1).T) - centre, axis=1).reshape(
                space.shape
            )
            np.testing.assert_array_equal(labels.data == 1, away <= 2.1)

    def test_a_stroke_is_a_rod_without_gaps(self):
        space = straight_space((60, 20, 20), 0.3)
        image = Image(np.zeros(space.shape, np.int16), space)
        labels = labelled(image, "A")
        stroke = Stroke(image, labels, Brush(1.8), 1)
        stroke.to((-6, 0, 0))
        stroke.to((6, 1, 0))
        p = space.to_world(np.indices(space.shape).reshape(3, -1).T)
        a, along = np.array([-6, 0, 0.0]), np.array([12, 1, 0.0])
        t = np.clip((p - a) @ along / (along @ along), 0, 1)
        away = np.linalg.norm(p - a - t[:, None] * along, axis=1).reshape(space.shape)
        np.testing.assert_array_equal(labels.data == 1, away <= 0.9)

    def test_a_disc_is_one_voxel_thick_in_its_plane(self):
        space = straight_space((24, 24, 24), 0.5)
        image = Image(np.zeros(space.shape, np.int16), space)
        for axis in range(3):
            labels = labelled(image, "A")
            normal = np.eye(3)[axis]
            stroke = Stroke(image, labels, Brush(5.0, "disc"), 1, tuple(normal))
            centre = space.to_world((10, 11, 12))
            stroke.to(centre)
            found = np.argwhere(labels.data == 1)
            self.assertEqual(set(found[:, axis]), {(10, 11, 12)[axis]})
            self.assertEqual(
                len(found), sum((a * a + b * b) * 0.25 <= 6.25 for a in range(-6, 7) for b in range(-6, 7))
            )

    def test_a_range_on_another_grid_is_refused(self):
        """A coarser level of a large picture, or labels of another image: values and labels must lie on one grid."""
        image = two_balls()
        coarse = Image(image.data[::2, ::2, ::2], image.space.sampled(2))
        labels = labelled(image, "A")
        with self.assertRaisesRegex(Trouble, "another grid"):
            Stroke(coarse, labels, Brush(3.0, "ball", 500, 2000), 1)
        stroke = Stroke(coarse, labels, Brush(3.0), 1)  # without a range no value is looked up
        self.assertGreater(stroke.to((0.0, 0.0, 0.0)), 10)

    def test_only_in_range_and_never_a_locked_label(self):
        image = two_balls()
        labels = labelled(image, "A", "B")
        labels.data[:20] = 2
        labels.counts[:3] = np.bincount(labels.flat, minlength=3)
        labels.table = labels.table.changed(2, locked=True)
        stroke = Stroke(image, labels, Brush(60.0, "ball", 500, 2000), 1)
        stroke.to((0, 0, 0))
        np.testing.assert_array_equal(labels.data == 1, (image.data == 1000) & (np.indices(image.space.shape)[0] >= 20))
        edit = stroke.finish("x")
        edit.patch.reversed().apply(labels)
        self.assertEqual(int((labels.data == 1).sum()), 0)
        self.assertEqual(int(labels.counts[1]), 0)

    def test_eraser_takes_one_label_only(self):
        image = two_balls()
        labels = labelled(image, "A", "B")
        labels.data[:20], labels.data[20:] = 1, 2
        labels.counts[:3] = np.bincount(labels.flat, minlength=3)
        Stroke(image, labels, Brush(8.0), 0, erase_only=1).to((0, 0, 0))
        self.assertTrue((labels.data[20:] == 2).all())
        self.assertGreater(int(labels.counts[0]), 0)

    def test_wrong_brushes(self):
        image = two_balls()
        labels = labelled(image, "A")
        with self.assertRaisesRegex(Trouble, "brush of 0"):
            Stroke(image, labels, Brush(0.0), 1)
        with self.assertRaisesRegex(Trouble, "no label"):
            Stroke(image, labels, Brush(1.0), 5)
        labels.table = labels.table.changed(1, locked=True)
        with self.assertRaisesRegex(Trouble, "locked"):
            Stroke(image, labels, Brush(1.0), 1)
        self.assertEqual(Stroke(image, labelled(image, "A"), Brush(1.0), 1).to((500, 0, 0)), 0)


class PiecesTest(unittest.TestCase):
    def test_pieces_are_listed_and_removed(self):
        image = two_balls()
        labels = labelled(image, "A")
        for point, size in (((-4, 0, 0), 6.0), ((5, 0, 0), 2.0), ((5, 6, 5), 1.0)):
            paint(image, labels, "A", point, size).apply(labels)
        sizes = [p.voxels for p in pieces_of(labels, 1)[0]]
        self.assertEqual(len(sizes), 3)
        table = list_pieces(labels, "A")
        self.assertEqual(table.column("voxels"), sizes)
        self.assertAlmostEqual(table.column("volume")[0], sizes[0] * 0.125)
        remove_pieces(image, labels, "A", below=sizes[2] + 1).apply(labels)
        self.assertEqual([p.voxels for p in pieces_of(labels, 1)[0]], sizes[:2])
        remove_pieces(image, labels, "A").apply(labels)
        self.assertEqual([p.voxels for p in pieces_of(labels, 1)[0]], sizes[:1])

    def test_renumber_closes_gaps_and_can_be_undone(self):
        image = two_balls()
        labels = labelled(image, "A", "B", "C", "D")
        rng = np.random.default_rng(0)
        labels.data[...] = rng.choice([0, 1, 4], labels.space.shape)
        labels.counts[:5] = np.bincount(labels.flat, minlength=5)
        labels.table = labels.table.without(2).without(3).changed(4, locked=True)
        before = labels.data.copy()
        edit = renumber(image, labels).labels
        edit.apply(labels)
        np.testing.assert_array_equal(labels.data, np.where(before == 4, 2, before))
        self.assertEqual([(r.number, r.name, r.locked) for r in labels.table], [(1, "A", False), (2, "D", True)])
        edit.reversed().apply(labels)
        np.testing.assert_array_equal(labels.data, before)


class RangesTest(unittest.TestCase):
    def test_half_way_lies_between_two_tissues(self):
        rng = np.random.default_rng(0)
        values = rng.normal(50, 30, (60, 60, 60))
        values[20:40, 20:40, 20:40] = rng.normal(1250, 60, (20, 20, 20))
        image = Image(np.rint(values).astype(np.int16), straight_space((60, 60, 60)), unit="HU")
        for guess in (300, 600, 900):
            self.assertAlmostEqual(half_way_limit(image, guess), 650, delta=25)
        with self.assertRaises(Trouble):
            half_way_limit(image, 5000)

    def test_ready_ranges_follow_the_unit(self):
        self.assertEqual(ready_ranges(two_balls())[0].name, "Bone")
        self.assertNotIn("Bone", [r.name for r in ready_ranges(two_balls(unit=""))])
