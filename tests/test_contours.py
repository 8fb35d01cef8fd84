import unittest

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.filled import covered
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.geometry.sound import crossing
from kestrelmist.core.geometry.typed_points import points_of
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.core.world import World
from kestrelmist.outline.contours.draw import draw
from kestrelmist.outline.contours.edge_line import EdgeLine, along_edges, tile_round
from kestrelmist.outline.contours.fill_marks import fill_marks
from kestrelmist.outline.contours.marks_of import marks_of
from tests.making import straight_space, tilted_space
from tests.test_shaping import after, blobs, mapped, sheared, voxels


def image_on(space: Space, values=None) -> Image:
    values = np.zeros(space.shape, np.int16) if values is None else values
    return Image(np.asfortranarray(values), space, "Head", "T-1")


def none_on(image: Image) -> Marks:
    return Marks({}, image.space.world, image.space.unit, of=image.name)


def mask_of(mark: Mark, space: Space) -> np.ndarray:
    found = np.zeros(space.shape[::-1], bool)
    cover = covered(mark, space)
    if cover is not None:
        found[cover.part] = cover.mask.view(bool)
    return found


class CoveredTest(unittest.TestCase):
    """Voxels of every shape against what their formula says of each middle."""

    def setUp(self):
        self.space = straight_space((40, 36, 32), 0.5)
        self.world = self.space.to_world(np.indices(self.space.shape).reshape(3, -1).T).reshape(*self.space.shape, 3)

    def slice_at(self, k):
        return self.world[:, :, k].transpose(1, 0, 2)

    def test_ellipse_rectangle_and_polygon_in_a_slice(self):
        z = float(self.world[0, 0, 10, 2])
        x, y = self.slice_at(10)[..., 0], self.slice_at(10)[..., 1]
        for shape, points, wanted in (
            ("ellipse", ((-4.0, -3.0, z), (5.0, 4.0, z)), ((x - 0.5) / 4.5) ** 2 + ((y - 0.5) / 3.5) ** 2 <= 1),
            ("rectangle", ((-4.1, -3.1, z), (5.1, 4.2, z)), (x > -4.1) & (x < 5.1) & (y > -3.1) & (y < 4.2)),
        ):
            image = image_on(self.space)
            text = "; ".join(",".join(map(str, p)) for p in points)
            mark = draw(image, none_on(image), "Eye", shape, text).after[1]
            found = mask_of(mark, self.space)
            self.assertLess(np.count_nonzero(found[10] != wanted), 5 if shape == "ellipse" else 1)
            found[10] = False
            self.assertFalse(found.any())
        triangle = Mark("polygon", ((-5.05, -5.05, z), (6.05, -4.05, z), (0.05, 6.05, z)))
        a, b, c = (np.array(p[:2]) for p in triangle.points)

        def side(p, q):
            return (q[0] - p[0]) * (y - p[1]) - (q[1] - p[1]) * (x - p[0]) > 0

        np.testing.assert_array_equal(mask_of(triangle, self.space)[10], side(a, b) & side(b, c) & side(c, a))

    def test_neighbours_share_no_voxel_and_leave_none(self):
        space = Space((30, 20, 1), np.diag([1.0, 1.0, 1.0, 1.0]), "px")
        left = Mark("polygon", ((-0.5, -0.5, 0), (12.0, -0.5, 0), (12.0, 19.5, 0), (-0.5, 19.5, 0)))
        right = Mark("polygon", ((12.0, -0.5, 0), (29.5, -0.5, 0), (29.5, 19.5, 0), (12.0, 19.5, 0)))
        one, other = mask_of(left, space), mask_of(right, space)
        self.assertFalse((one & other).any())
        self.assertTrue((one | other).all())

    def test_oblique_plane_and_every_grid(self):
        turn = np.radians(33.0)
        normal = np.array((np.sin(turn), 0.0, np.cos(turn)))
        right, down = np.array((np.cos(turn), 0, -np.sin(turn))), np.array((0.0, 1.0, 0.0))
        ring = [5 * np.cos(a) * right + 4 * np.sin(a) * down for a in np.linspace(0, 2 * np.pi, 400, endpoint=False)]
        for space in (self.space, sheared()):
            middle = space.centre
            mark = Mark("polygon", tuple(tuple(p + middle) for p in ring), normal=tuple(normal))
            every = space.to_world(np.indices(space.shape).reshape(3, -1).T) - middle
            half = np.abs(normal @ space.affine[:3, :3]).sum() / 2
            wanted = (np.abs(every @ normal) < half) & ((every @ right / 5) ** 2 + (every @ down / 4) ** 2 < 1)
            found = mask_of(mark, space).transpose(2, 1, 0).reshape(-1)
            self.assertGreater(wanted.sum(), 150)
            self.assertLessEqual(np.count_nonzero(found != wanted), 0.01 * wanted.sum())

    def test_depth_takes_more_slices(self):
        z = float(self.world[0, 0, 10, 2])
        points = ((-4.0, -3.0, z), (5.0, -3.0, z), (5.0, 4.0, z), (-4.0, 4.0, z))
        counts = [
            len(np.flatnonzero(mask_of(Mark("polygon", points, depth=d), self.space).any((1, 2))))
            for d in (0.0, 0.5, 1.1, 2.0)
        ]
        self.assertEqual(counts, [1, 1, 3, 5])

    def test_box_line_and_point(self):
        box = Mark("box", ((-2.1, -3.1, 0.1), (4.2, -3.1, 0.1), (-2.1, 5.3, 0.1), (-2.1, -3.1, 4.4)))
        x, y, z = np.moveaxis(self.world, -1, 0)
        wanted = (x > -2.1) & (x < 4.2) & (y > -3.1) & (y < 5.3) & (z > 0.1) & (z < 4.4)
        np.testing.assert_array_equal(mask_of(box, self.space), wanted.T)
        line = Mark("polyline", ((-5.0, -4.0, 0.25), (5.0, 4.0, 0.25)), across=2.0)
        way = np.array((10.0, 8.0, 0.0)) / np.hypot(10, 8)
        away = self.world - np.array((-5.0, -4.0, 0.25))
        along = np.clip(away @ way, 0, np.hypot(10, 8))
        wanted = np.linalg.norm(away - along[..., None] * way, axis=-1) <= 1.0
        self.assertLessEqual(np.count_nonzero(mask_of(line, self.space) != wanted.T), 6)
        thin = mask_of(Mark("polyline", ((-5.0, -4.0, 0.25), (5.0, 4.0, 0.25))), self.space)
        self.assertTrue(20 <= thin.sum() <= 40)
        self.assertEqual(int(mask_of(Mark("point", ((0.3, 0.3, 0.3),)), self.space).sum()), 1)


class FillAndBackTest(unittest.TestCase):
    def test_contours_of_labels_fill_the_same_voxels_again(self):
        for space in (straight_space((26, 24, 22)), tilted_space((26, 24, 22)), sheared()):
            labels = mapped(space, A=blobs(space.shape, 4, 1.5, 0.5), B=blobs(space.shape, 9, 1.5, 0.8))
            for plane in ("axial", "coronal", "sagittal"):
                marks = marks_of(labels, None, plane)
                image = image_on(space)
                empty = mapped(space)
                edit = fill_marks(marks, image, empty)
                made = after(empty, edit)
                for name in ("A", "B"):
                    np.testing.assert_array_equal(voxels(made, name), voxels(labels, name))
                self.assertEqual(made.table.named("B").colour, labels.table.named("B").colour)
        self.assertTrue(any(mark.notes.get("hole") for mark in marks))

    def test_a_picture_and_fewer_points(self):
        space = Space((60, 50, 1), np.diag([0.001, 0.001, 1.0, 1.0]))
        labels = mapped(space, Cell=blobs(space.shape, 3, (0, 6, 6), 0.6))
        exact = marks_of(labels)
        fewer = marks_of(labels, simplify=0.0008)
        self.assertLess(sum(len(m.points) for m in fewer), 0.5 * sum(len(m.points) for m in exact))
        found = voxels(after(mapped(space), fill_marks(fewer, image_on(space), mapped(space))), "Cell")
        wanted = voxels(labels, "Cell")
        self.assertGreater(2 * np.count_nonzero(found & wanted) / (found.sum() + wanted.sum()), 0.98)

    def test_onto_other_labels_and_locked_ones(self):
        space = straight_space((20, 20, 20), 1.0)
        image, labels = image_on(space), mapped(space, Bone=blobs(space.shape, 1, share=0.5))
        bone = voxels(labels, "Bone")
        marks = none_on(image).with_edit(draw(image, none_on(image), "Eye", "rectangle", "-5,-5,0.5 5,5,0.5"))
        made = after(labels, fill_marks(marks, image, labels))
        np.testing.assert_array_equal(voxels(made, "Bone"), bone)
        self.assertEqual(int(voxels(made, "Eye").sum()), 100 - int(bone[10, 5:15, 5:15].sum()))
        self.assertEqual(int(voxels(after(labels, fill_marks(marks, image, labels, over=True)), "Eye").sum()), 100)
        labels.table = labels.table.changed(1, locked=True)
        made = after(labels, fill_marks(marks, image, labels, over=True))
        np.testing.assert_array_equal(voxels(made, "Bone"), bone)
        with self.assertRaisesRegex(Trouble, "“Bone” is locked"):
            fill_marks(marks, image, labels, "Bone")

    def test_wrong_input(self):
        space = straight_space((20, 20, 20), 1.0)
        image, labels = image_on(space), mapped(space)
        z = 0.5

        def with_(*marks):
            return Marks.numbered(marks, world=space.world, unit="mm")

        bow = Mark("polygon", ((-4, -4, z), (4, 4, z), (4, -4, z), (-4, 4, z)), name="Eye")
        tiny = Mark("polygon", ((0.1, 0.1, z), (0.2, 0.1, z), (0.2, 0.2, z)), name="Eye")
        away = Mark("polygon", ((90, 90, z), (99, 90, z), (99, 99, z)), name="Eye")
        bent = Mark("polygon", ((-4, -4, z), (4, -4, z + 5), (4, 4, z), (-4, 4, z + 5)), name="Eye")
        nameless = Mark("polygon", ((-4, -4, z), (4, -4, z), (4, 4, z)))
        for marks, words in (
            (with_(bow), r"crosses itself near \(0, 0, 0.5\)"),
            (with_(tiny), "encloses no middle of a voxel"),
            (with_(away), "encloses no middle of a voxel"),
            (with_(bent), "do not lie in one plane"),
            (with_(nameless), "has no name"),
            (with_(Mark("point", ((0, 0, 0),))), "no contour to fill"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                fill_marks(marks, image, labels)
        self.assertIsNone(crossing(tiny))
        here, there = World("1"), World("2")
        with self.assertRaisesRegex(Trouble, "space"):
            fill_marks(Marks.numbered([tiny], world=there), image_on(space.in_world(here)), labels)
        for given, words in (
            ({"points": "0,0,0.5"}, "has 3 or more points"),
            ({"points": "-4,-4,0.5 4,4,0.5 4,-4,0.5 -4,4,0.5"}, "crosses itself"),
            ({"points": "-4,-4,0.5 4,4,3 4,-4,0.5 -4,4,6"}, "one plane"),
            ({"points": "90,90,90 95,90,90 95,95,90"}, "outside"),
            ({"points": "0,0,0", "shape": "ellipse", "size": "3"}, "no size"),
            ({"points": "0,0,0", "shape": "box", "size": "3, 2"}, "three sizes"),
            ({"points": "0,0,0 1,1,0", "shape": "ellipse", "edges": True}, "does not cling"),
            ({"points": ""}, "no points"),
        ):
            with self.subTest(given=given), self.assertRaisesRegex(Trouble, words):
                draw(image, none_on(image), "Eye", **given)
        with self.assertRaisesRegex(Trouble, "no label"):
            draw(image, none_on(image), " ", points="0,0,0 1,0,0 1,1,0")


class TypedTest(unittest.TestCase):
    def test_points_with_blanks_between(self):
        for text in ("1,2,3 4,5,6", "1, 2, 3; 4, 5, 6", "1 2 3;4 5 6", "1,2,3;4,5,6"):
            np.testing.assert_array_equal(points_of(text), [[1, 2, 3], [4, 5, 6]])
        np.testing.assert_array_equal(points_of("1, 2, 3"), [[1, 2, 3]])
        np.testing.assert_array_equal(points_of("1,2 3,4"), [[1, 2, 0], [3, 4, 0]])

    def test_sizes_round_a_point(self):
        image = image_on(straight_space((20, 20, 20), 1.0))
        mark = draw(image, none_on(image), "Eye", "ellipse", "1, 2, 0.5", size="6, 4").after[1]
        np.testing.assert_allclose(mark.outline.min(0), (-2, 0, 0.5), atol=0.01)
        np.testing.assert_allclose(mark.outline.max(0), (4, 4, 0.5), atol=0.01)
        mark = draw(image, none_on(image), "Eye", "rectangle", "1, 2, 0.5", size="0, 4, 3").after[1]
        self.assertEqual(np.ptp(mark.array, 0).tolist(), [0, 4, 3])


class EdgeLineTest(unittest.TestCase):
    """The line keeps to the edge of a disc in noise, though the clicks do not."""

    def disc(self, space, noise=40.0):
        x, y, _ = space.to_world(np.indices(space.shape).reshape(3, -1).T).T
        away = np.hypot(x, y).reshape(space.shape)
        soft = 1 / (1 + np.exp((away - 20) / 0.35))
        values = 1000 * soft + np.random.default_rng(1).normal(0, noise, space.shape)
        return image_on(space, values.astype(np.int16))

    def test_clicks_far_apart_give_the_edge(self):
        space = straight_space((110, 110, 5), 0.5)
        image = self.disc(space)
        turns = np.radians(np.arange(0, 360, 60))
        clicks = np.stack((20 * np.cos(turns), 20 * np.sin(turns), np.zeros(6)), 1)
        line = along_edges(image, clicks, closed=True)
        away = np.hypot(line[:, 0], line[:, 1]) - 20
        self.assertLess(np.sqrt((away**2).mean()), 0.5)
        self.assertLess(np.abs(away).max(), 1.1)
        edit = draw(image, none_on(image), "Disc", points="; ".join(",".join(map(str, p)) for p in clicks), edges=True)
        labels = mapped(space)
        marks = none_on(image).with_edit(edit)
        found = voxels(after(labels, fill_marks(marks, image, labels)), "Disc")
        self.assertLess(abs(found.sum() * 0.25 / (np.pi * 400) - 1), 0.03)

    def test_a_line_to_where_it_starts_and_out_of_reach(self):
        space = straight_space((40, 40, 3), 0.5)
        image = self.disc(space)
        ends = np.array(((-5.0, -5.0, 0.0), (5.0, 5.0, 0.0)))
        line = EdgeLine(tile_round(image, ends), ends[0])
        np.testing.assert_allclose(line.to(ends[1])[-1], ends[1])
        self.assertEqual(len(line.to(ends[0])), 1)
        np.testing.assert_allclose(line.to((40.0, 5.0, 0.0))[-1], (40.0, 5.0, 0.0))

    def test_flat_and_missing_values(self):
        space = straight_space((40, 40, 3), 0.5)
        for values in (np.zeros(space.shape), np.full(space.shape, np.nan), np.full(space.shape, 1e30)):
            image = image_on(space, values.astype(np.float32))
            line = along_edges(image, np.array(((-5.0, -5.0, 0.0), (5.0, 4.0, 0.0))), closed=False)
            self.assertTrue(np.isfinite(line).all())
            np.testing.assert_allclose(line[[0, -1]], ((-5, -5, 0), (5, 4, 0)), atol=0.3)


if __name__ == "__main__":
    unittest.main()
