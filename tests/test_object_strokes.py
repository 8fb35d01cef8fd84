import unittest
from unittest import mock

import numpy as np
from scipy import ndimage

from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.progress import Progress, silent
from kestrelmist.core.space import Space
from kestrelmist.outline.strokes.geodesic import geodesic
from kestrelmist.outline.strokes.object_from_strokes import object_from_strokes
from kestrelmist.outline.strokes.walker import walked
from tests.making import straight_space
from tests.test_bridge import dice, ellipsoid
from tests.test_shaping import after, mapped, voxels


class GeodesicTest(unittest.TestCase):
    def test_even_cost_gives_plain_distances_and_dear_walls_are_gone_round(self):
        start = np.zeros((20, 24, 28), bool)
        start[10, 12, 3] = True
        away = geodesic(start, np.ones(start.shape, np.float32), (1.0, 1.0, 1.0), silent().stop)
        plain = ndimage.distance_transform_edt(~start)
        self.assertLess(np.abs(away / np.maximum(plain, 1) - 1)[plain > 0].max(), 0.14)  # steps to 26 neighbours
        self.assertGreaterEqual((away - plain).min(), -1e-4)
        cost = np.ones(start.shape, np.float32)
        cost[:, :20, 14] = 1e4
        behind = float(geodesic(start, cost, (1.0, 1.0, 1.0), silent().stop)[10, 12, 20])
        self.assertTrue(20 < behind < 40)

    def test_against_an_independent_library(self):
        from skimage.graph import MCP_Geometric

        rng = np.random.default_rng(2)
        cost = np.exp(ndimage.gaussian_filter(rng.standard_normal((12, 14, 16)), 1.5) * 6).astype(np.float32)
        start = np.zeros(cost.shape, bool)
        start[2, 3, 4] = start[9, 9, 12] = True
        wanted = MCP_Geometric(cost.astype(float)).find_costs([(2, 3, 4), (9, 9, 12)])[0]
        np.testing.assert_allclose(geodesic(start, cost, (1.0, 1.0, 1.0), silent().stop), wanted, rtol=1e-4)


class WalkerTest(unittest.TestCase):
    def test_solves_its_equations(self):
        """Against the same equations put down as a matrix and solved directly."""
        for shape, weight in (((5, 6, 7), 0.05), ((26, 19, 21), 0.01)):  # the second from a coarser grid
            self.compare(shape, weight)

    def compare(self, shape, weight):
        from scipy.sparse import coo_array, diags_array
        from scipy.sparse.linalg import spsolve

        rng = np.random.default_rng(3)
        values, ease, prior = (rng.random(shape).astype(np.float32) for _ in range(3))
        ease += 0.3
        seeds = np.full(values.shape, -1, np.int8)
        seeds[0, 0, 0], seeds[-1, -1, -1] = 1, 0
        spacing, beta = (2.0, 1.0, 1.0), 3.0
        found = walked(values, ease, prior, weight, seeds, beta, spacing, silent().stop)
        number = np.arange(values.size).reshape(values.shape)
        rows, columns, held = [], [], []
        for axis, near in enumerate(((1 / 2.0) ** 2, 1.0, 1.0)):
            a, b = (np.moveaxis(number, axis, 0)[part].ravel() for part in (slice(None, -1), slice(1, None)))
            between = (ease.ravel()[a] + ease.ravel()[b]) / 2
            w = near * between * (np.exp(-beta * (values.ravel()[a] - values.ravel()[b]) ** 2) + 1e-4)
            rows += [a, b]
            columns += [b, a]
            held += [w, w]
        w = coo_array((np.concatenate(held), (np.concatenate(rows), np.concatenate(columns)))).tocsr()
        hold = weight * ease.ravel().astype(float)
        matrix = (diags_array(w.sum(0) + hold) - w).tolil()
        right = hold * prior.ravel()
        for n, value in ((0, 1.0), (values.size - 1, 0.0)):
            matrix[n] = 0
            matrix[n, n], right[n] = 1, value
        wanted = spsolve(matrix.tocsr(), right)
        np.testing.assert_allclose(found.ravel(), wanted, atol=0.02)


class ObjectFromStrokesTest(unittest.TestCase):
    def setUp(self):
        self.space = straight_space((60, 56, 50), 0.5)
        self.body = ellipsoid(self.space, (1, 0, 0), (7, 6, 5))
        rng = np.random.default_rng(0)
        values = np.where(self.body, 300, 100) + rng.normal(0, 40, self.body.shape)
        twin = ellipsoid(self.space, (-10, 9, 6), (3, 3, 3))  # looks alike and lies elsewhere
        values[twin] += 200
        self.image = Image(values.T.astype(np.float32), self.space, "Head", "T-1")
        inside, outside = np.zeros_like(self.body), np.zeros_like(self.body)
        inside[25, 28, 22:42] = inside[25, 20:36, 32] = inside[18:32, 28, 30] = True
        ring = ndimage.distance_transform_edt(~self.body[25], sampling=0.5)
        outside[25] = (ring > 2) & (ring <= 2.6)
        outside[:, 28] |= (lambda d: (d > 2) & (d <= 2.6))(
            ndimage.distance_transform_edt(~self.body[:, 28], sampling=0.5)
        )
        self.strokes = mapped(self.space, Organ=inside, Outside=outside)
        self.labels = mapped(self.space)

    def test_three_strokes_find_a_noisy_body(self):
        edit = object_from_strokes(self.image, self.labels, self.strokes)
        made = after(self.labels, edit)
        self.assertGreater(dice(voxels(made, "Organ"), self.body), 0.97)
        self.assertEqual([row.name for row in made.table], ["Organ"])

    def test_strokes_in_one_slice_find_all_of_a_body_or_say_where_they_end(self):
        inside, outside = np.zeros_like(self.body), np.zeros_like(self.body)
        inside[25, 28, 22:42] = inside[25, 20:36, 32] = True
        ring = ndimage.distance_transform_edt(~self.body[25], sampling=0.5)
        outside[25] = (ring > 2) & (ring <= 2.6)
        space = straight_space((60, 56, 100), 0.5)

        def tall(mask):
            return np.pad(mask, ((25, 25), (0, 0), (0, 0)))

        strokes = mapped(space, Organ=tall(inside), Outside=tall(outside))
        long = ellipsoid(space, (1, 0, 0), (7, 6, 19))  # far beyond what strokes in one slice reach
        noise = np.random.default_rng(2).normal(0, 30, long.shape)
        image = Image((np.where(long, 300, 100) + noise).T.astype(np.float32), space, "Head", "T-1")
        edit = object_from_strokes(image, mapped(space), strokes)
        self.assertGreater(dice(voxels(after(mapped(space), edit), "Organ"), long), 0.95)
        self.assertNotIn("cut off", edit.title)
        endless = Image(np.broadcast_to(image.data[:, :, 50:51], image.data.shape).copy(), space, "Head", "T-1")
        told = object_from_strokes(endless, mapped(space), strokes)  # a rod: it ends where the image does
        self.assertGreater(int(after(mapped(space), told).kji[0].sum()), 100)
        with mock.patch("kestrelmist.outline.strokes.object_from_strokes.WIDER", 0):
            cut = object_from_strokes(image, mapped(space), strokes)
        self.assertEqual(cut.title, "“Organ” from strokes, cut off beyond the strokes: draw some there too")
        used = np.flatnonzero(voxels(after(mapped(space), cut), "Organ").any((1, 2)))
        self.assertEqual((int(used[0]), int(used[-1])), (38, 62))

    def test_a_ring_close_by_does_not_shrink_a_large_body_to_its_stroke(self):
        """A body with a brighter core, as an eye has its lens: a stroke through both, a line round it just outside."""
        core = ellipsoid(self.space, (3, 0, 0), (2.5, 2.5, 2.5))
        values = np.where(self.body, 300, 100) + np.where(core, 150, 0.0)
        values += np.random.default_rng(1).normal(0, 30, values.shape)
        image = Image(values.T.astype(np.float32), self.space, "Head", "T-1")
        for near in (1.0, 2.5):
            inside, outside = np.zeros_like(self.body), np.zeros_like(self.body)
            inside[25, 28, 26:38] = inside[25, 26:31, 34] = inside[23:28, 28, 34] = True
            for axis, n in enumerate((25, 28, 33)):
                away = ndimage.distance_transform_edt(~np.take(self.body, n, axis), sampling=0.5)
                np.moveaxis(outside, axis, 0)[n] |= (away >= near) & (away < near + 0.5)
            strokes = mapped(self.space, Organ=inside, Outside=outside)
            made = after(self.labels, object_from_strokes(image, self.labels, strokes))
            self.assertGreater(dice(voxels(made, "Organ"), self.body), 0.96)

    def test_marks_do_as_well_and_the_other_names(self):
        z = 0.25
        marks = Marks.numbered(
            [
                Mark("polyline", ((-4, 0, z), (6, 0, z)), name="Organ"),
                Mark("polyline", ((1, -4, z), (1, 4, z)), name="Organ"),
                Mark("ellipse", ((10.5, 0.25, z), (1, 9.5, z), (-8.5, 0.25, z), (1, -9.5, z)), name="background"),
            ],
            world=self.space.world,
        )
        lines = [
            m if m.shape == "polyline" else Mark("polyline", tuple(map(tuple, m.outline)), name=m.name) for m in marks
        ]
        edit = object_from_strokes(self.image, self.labels, None, Marks.numbered(lines, world=self.space.world))
        self.assertGreater(dice(voxels(after(self.labels, edit), "Organ"), self.body), 0.93)

    def test_more_strokes_mend_it_and_nothing_of_an_earlier_try_stays(self):
        far = ellipsoid(self.space, (-10, -9, -6), (2, 2, 2))
        labels = mapped(self.space, Organ=far)
        made = after(labels, object_from_strokes(self.image, labels, self.strokes))
        self.assertFalse((voxels(made, "Organ") & far).any())
        again = after(made, object_from_strokes(self.image, made, self.strokes))
        np.testing.assert_array_equal(again.kji, made.kji)
        cut = self.strokes.copied()
        cut.kji[:, :, 44:46] = np.where(self.body[:, :, 44:46], 2, cut.kji[:, :, 44:46])
        cut.recount()
        less = voxels(after(made, object_from_strokes(self.image, made, cut)), "Organ")
        self.assertFalse(less[:, :, 44:].any())

    def test_two_objects_and_a_picture(self):
        space = Space((80, 60, 1), np.diag([0.5, 0.5, 1.0, 1.0]))
        left, right = ellipsoid(space, (10, 15, 0), (6, 8, 1)), ellipsoid(space, (28, 15, 0), (7, 9, 1))
        values = np.where(left, 300, np.where(right, 500, 100)) + np.random.default_rng(1).normal(0, 30, left.shape)
        image = Image(values.T.astype(np.float32), space)
        strokes = {n: np.zeros(left.shape, bool) for n in ("A", "B", "Outside")}
        strokes["A"][0, 30, 12:28] = strokes["B"][0, 30, 48:64] = True
        strokes["Outside"][0, 3, 3:77] = strokes["Outside"][0, 57, 3:77] = True
        strokes["Outside"][0, 3:57, 3] = strokes["Outside"][0, 3:57, 76] = True
        labels = mapped(space)
        made = after(labels, object_from_strokes(image, labels, mapped(space, **strokes)))
        self.assertGreater(dice(voxels(made, "A"), left), 0.96)
        self.assertGreater(dice(voxels(made, "B"), right), 0.96)

    def test_others_and_locked_ones_stay(self):
        wall = np.zeros_like(self.body)
        wall[:, :, 30] = True
        labels = mapped(self.space, Wall=wall)
        labels.table = labels.table.changed(1, locked=True)
        made = after(labels, object_from_strokes(self.image, labels, self.strokes))
        np.testing.assert_array_equal(voxels(made, "Wall"), wall)
        labels = mapped(self.space, Organ=wall)
        labels.table = labels.table.changed(1, locked=True)
        with self.assertRaisesRegex(Trouble, "“Organ” is locked"):
            object_from_strokes(self.image, labels, self.strokes)

    def test_odd_values(self):
        for values in (np.zeros(self.space.shape), np.full(self.space.shape, 1e30), self.image.data * 1e-9):
            image = Image(values.astype(np.float32), self.space)
            made = after(self.labels, object_from_strokes(image, self.labels, self.strokes))
            self.assertGreater(int(made.counts[1]), 40)
        holed = self.image.data.copy()
        holed[30:34, 30:34, 20:24] = np.nan
        made = after(self.labels, object_from_strokes(Image(holed, self.space), self.labels, self.strokes))
        self.assertGreater(dice(voxels(made, "Organ"), self.body), 0.95)

    def test_wrong_input(self):
        one = mapped(self.space, Organ=voxels(self.strokes, "Organ"))
        out = mapped(self.space, Outside=voxels(self.strokes, "Outside"))
        for strokes, words in (
            (one, "All strokes are of “Organ”"),
            (out, "All strokes are outside"),
            (self.labels, "no strokes"),
            (None, "no strokes"),
            (mapped(straight_space((9, 9, 9)), A=np.ones((9, 9, 9), bool)), "another grid"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                object_from_strokes(self.image, self.labels, strokes)
        empty = Image(np.full(self.space.shape, np.nan, np.float32), self.space)
        with self.assertRaisesRegex(Trouble, "no value"):
            object_from_strokes(empty, self.labels, self.strokes)
        progress = Progress()
        progress.cancel()
        with self.assertRaises(Cancelled):
            object_from_strokes(self.image, self.labels, self.strokes, progress=progress)


if __name__ == "__main__":
    unittest.main()
