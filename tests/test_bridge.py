import unittest

import numpy as np
from scipy import ndimage
from scipy.spatial.transform import Rotation

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelTable
from kestrelmist.core.space import Space
from kestrelmist.outline.slices.bridge import bridge_slices
from kestrelmist.outline.slices.drawn_slices import families
from kestrelmist.outline.slices.fellows import fellows, pieces
from kestrelmist.outline.slices.flat_distance import signed_distance
from kestrelmist.outline.slices.looked_at import bridged_fine, left_unseen
from kestrelmist.outline.slices.unseen import unseen
from tests.making import straight_space, tilted_space
from tests.test_shaping import after, mapped, voxels


def dice(one, other) -> float:
    return 2 * np.count_nonzero(one & other) / (np.count_nonzero(one) + np.count_nonzero(other))


def every(mask: np.ndarray, step: int, first: int = 0, axis: int = 0) -> np.ndarray:
    """The mask in every so many slices alone."""
    found = np.zeros_like(mask)
    np.moveaxis(found, axis, 0)[first::step] = np.moveaxis(mask, axis, 0)[first::step]
    return found


def places(space: Space) -> np.ndarray:
    """World x, y, z of each voxel [k, j, i]."""
    return np.moveaxis(space.to_world(np.indices(space.shape).reshape(3, -1).T).reshape(*space.shape, 3).T, 0, 0)


def ellipsoid(space: Space, middle, half) -> np.ndarray:
    away = (places(space) - np.reshape(middle, (3, 1, 1, 1))) / np.reshape(half, (3, 1, 1, 1))
    return (away**2).sum(0) <= 1


def layers(space: Space, axis: int, gap: float, shift: float = 0.0) -> np.ndarray:
    """The voxels that planes across a world axis run through, a gap apart; the first through the middle."""
    away = places(space)[axis] - space.centre[axis] + shift
    return np.abs(np.mod(away + gap / 2, gap) - gap / 2) <= np.abs(space.affine[axis, :3]).sum() / 2


class FlatDistanceTest(unittest.TestCase):
    def test_against_an_independent_library(self):
        rng = np.random.default_rng(0)
        for spacing in ((1.0, 1.0), (0.5, 2.0), (3.0, 0.7), (1e-6, 1e-6), (1e3, 2e3)):
            for share in (0.5, 0.9, 0.999):
                field = ndimage.gaussian_filter(rng.standard_normal((60, 71)), 3)
                mask, half = field > np.quantile(field, share), min(spacing) / 2
                inside, outside = (ndimage.distance_transform_edt(m, sampling=spacing) for m in (mask, ~mask))
                wanted = np.where(mask, inside - half, half - outside)
                np.testing.assert_allclose(signed_distance(mask, spacing), wanted, rtol=1e-5, atol=1e-5 * half)


class BridgeTest(unittest.TestCase):
    """Against bodies whose every slice is known."""

    def bridged(self, space, mask, step, plane=None, axis=0, first=0, **more):
        labels = mapped(space, Body=every(mask, step, first, axis))
        edit = bridge_slices(labels, "Body", plane, **more)
        made = after(labels, edit)
        found = voxels(made, "Body")
        drawn = np.moveaxis(mask, axis, 0)[first::step]
        kept = np.moveaxis(found, axis, 0)[first::step]
        np.testing.assert_array_equal(kept[drawn.any((1, 2))], drawn[drawn.any((1, 2))])
        return found, made

    def test_an_ellipsoid_in_every_plane_and_on_a_tilted_grid(self):
        straight = straight_space((60, 70, 80), 0.5)
        body = ellipsoid(straight, (0.7, -1.1, 0.4), (11, 14, 16))
        for plane, axis in (("axial", 0), ("coronal", 1), ("sagittal", 2), (None, 0), (None, 1), (None, 2)):
            found, _ = self.bridged(straight, body, 10, plane, axis, 3)
            self.assertGreater(dice(found, body), 0.97)
            self.assertLess(abs(found.sum() / body.sum() - 1), 0.03)
        tilted = tilted_space((50, 60, 44), (0.5, 0.4, 0.7))
        body = ellipsoid(tilted, tilted.centre, (8, 9, 13))
        found, _ = self.bridged(tilted, body, 6)
        self.assertGreater(dice(found, body), 0.98)

    def test_two_balls_one_behind_the_other_stay_apart(self):
        space = straight_space((40, 40, 120), 0.5)
        one, other = (ellipsoid(space, (0, 0, z), (8, 8, 9)) for z in (-17, 17))
        labels = mapped(space, Body=every(one | other, 5))
        edit = bridge_slices(labels, "Body")
        made = voxels(after(labels, edit), "Body")
        self.assertGreater(dice(made, one | other), 0.985)
        self.assertIn("leaving wide gaps between bodies open", edit.title)
        # a rod between them that is drawn as densely at both ends goes on through the gap
        rod = ellipsoid(space, (0, 0, 0), (3, 3, 1e6))
        drawn = every(rod, 5)
        drawn[40:80] = False
        edit = bridge_slices(mapped(space, Body=drawn), "Body")
        made = voxels(after(mapped(space, Body=drawn), edit), "Body")
        np.testing.assert_array_equal(made[:116], rod[:116])
        self.assertNotIn("open", edit.title)

    def test_slices_of_the_world_on_a_grid_that_lies_askew(self):
        space = tilted_space((60, 70, 56), (0.4, 0.4, 0.5))
        body, at = ellipsoid(space, space.centre, (9, 10, 10)), places(space)
        for plane, axis in (("sagittal", 0), ("coronal", 1), ("axial", 2), (None, 1), (None, 2)):
            drawn = body & layers(space, axis, 3.0)
            labels = mapped(space, Body=drawn)
            edit = bridge_slices(labels, "Body", plane)
            made = voxels(after(labels, edit), "Body")
            self.assertGreater(dice(made, body), 0.96, (plane, axis))
            self.assertLess(abs(made.sum() / body.sum() - 1), 0.03)
            self.assertTrue((made[drawn]).all())
            self.assertTrue(unseen(edit.table_after[1], space))
        # the same from slices of two planes that cross, further apart
        drawn = body & (layers(space, 1, 6.0) | layers(space, 2, 6.0))
        labels = mapped(space, Body=drawn)
        made = voxels(after(labels, bridge_slices(labels, "Body")), "Body")
        self.assertGreater(dice(made, body), 0.93)
        # and along the edges of an image, of a body that is no ball
        bent = body & (np.hypot(*(at[n] - space.centre[n] for n in (0, 2))) > 3 + np.sin(at[1]))
        image = Image((1000.0 * bent).astype(np.float32).T, space)
        drawn = bent & layers(space, 1, 4.0)
        labels = mapped(space, Body=drawn)
        made = voxels(after(labels, bridge_slices(labels, "Body", image=image)), "Body")
        self.assertGreater(dice(made, bent), 0.97)

    def test_grids_that_lie_a_little_or_far_askew(self):
        """Voxels that are long, lie mirrored, are turned by half a degree or many, of every size, far from the middle
        of the world; from slices of each plane, and of two."""
        for spacing, angles, scale, mirrored in (
            ((0.3, 0.3, 1.0), (4, 3, 2), 1.0, False),
            ((1.2, 0.3, 0.3), (6, 5, 2), 1.0, False),
            ((0.3, 0.3, 1.0), (15, 10, 20), 1.0, False),
            ((0.4, 0.4, 0.4), (0.6, 0.5, 0.4), 1.0, False),
            ((0.4, 0.4, 0.5), (8, -3, 5), 1.0, True),
            ((0.4, 0.4, 0.4), (4, 3, 2), 1e-6, False),
            ((0.4, 0.4, 0.4), (4, 3, 2), 1e3, False),
        ):
            affine = np.eye(4)
            affine[:3, :3] = Rotation.from_euler("xyz", angles, True).as_matrix() * np.array(spacing) * scale
            affine[:3, 0] *= -1 if mirrored else 1
            affine[:3, 3] = np.array((40.0, -20.0, 100.0)) * scale
            space = Space(tuple(int(23 / s) + 2 for s in spacing), affine)
            body = ellipsoid(space, space.centre, np.array((9, 10, 10)) * scale)
            one, other, last = (layers(space, n, 3 * scale, 0.013 * scale) for n in range(3))
            two = layers(space, 0, 4 * scale, 0.013 * scale) | layers(space, 1, 4 * scale, 0.013 * scale)
            for drawn in (one, other, last, two):
                labels = mapped(space, Body=body & drawn)
                made = voxels(after(labels, bridge_slices(labels, "Body")), "Body")
                with self.subTest(spacing=spacing, angles=angles, scale=scale):
                    self.assertGreater(dice(made, body), 0.965)
                    self.assertLess(abs(made.sum() / body.sum() - 1), 0.03)

    def test_one_slice_askew_is_told(self):
        space = tilted_space((60, 70, 56), (0.4, 0.4, 0.5))
        one = ellipsoid(space, space.centre, (9, 10, 10)) & layers(space, 1, 100.0)
        for plane, told in (
            (None, "is drawn in one slice only"),
            ("coronal", "is drawn in one coronal slice only"),
            ("axial", "No axial slice of “Body” is left out"),
        ):
            with self.assertRaisesRegex(Trouble, told):
                bridge_slices(mapped(space, Body=one), "Body", plane)

    def test_ends_as_drawn_add_nothing_beyond(self):
        space = straight_space((50, 50, 60), 0.5)
        body = ellipsoid(space, (0, 0, 0), (10, 10, 12))
        found, _ = self.bridged(space, body, 9, ends="as drawn")
        drawn = np.flatnonzero(every(body, 9).any((1, 2)))
        used = np.flatnonzero(found.any((1, 2)))
        self.assertEqual((used[0], used[-1]), (drawn[0], drawn[-1]))
        rounded, _ = self.bridged(space, body, 9)
        self.assertLess(abs(rounded.sum() / body.sum() - 1), abs(found.sum() / body.sum() - 1))

    def test_a_cylinder_that_was_cut_off_is_not_carried_on(self):
        space = straight_space((40, 40, 50), 0.5)
        x, y, _ = places(space)
        body = x**2 + y**2 <= 36
        body[:10] = body[41:] = False
        found, _ = self.bridged(space, body, 10)
        np.testing.assert_array_equal(found, body)

    def test_blunt_ends_close_by_the_first_slice_with_nothing(self):
        """Parabolas through slices of a body like a barrel close too late: 0.1 to 0.4 of a gap behind the empty one."""
        space = straight_space((60, 60, 90), 0.5)
        x, y, z = places(space)
        for half in (13.6, 14.4, 15.2, 16.0):
            body = x**2 + y**2 <= 80 * (1 - np.minimum(np.abs(z / half), 1) ** 4)
            for first in (4, 7):
                found, _ = self.bridged(space, body, 10, first=first)
                empty = np.flatnonzero(~body[first::10].any((1, 2))) * 10 + first
                self.assertFalse(found[empty].any())
                self.assertGreater(dice(found, body), 0.96)
                self.assertLess(abs(found.sum() / body.sum() - 1), 0.05)

    def test_two_drawn_slices_will_do(self):
        space = straight_space((40, 40, 41), 0.5)
        x, y, z = places(space)
        body = (x**2 + y**2 <= (5 + 0.2 * z) ** 2) & (np.abs(z) <= 5)
        sparse = np.zeros_like(body)
        sparse[[10, 30]] = body[[10, 30]]
        found = voxels(after(mapped(space, A=sparse), bridge_slices(mapped(space, A=sparse))), "A")
        self.assertGreater(dice(found, body), 0.97)

    def test_branches(self):
        space = straight_space((80, 40, 51), 0.5)
        x, y, z = places(space)
        apart = np.clip(z + 12, 0, None) * 0.45
        body = ((np.abs(x) - apart) ** 2 + y**2 <= 16) & (np.abs(z) <= 12)
        found, _ = self.bridged(space, body, 8, first=1)
        inside = np.zeros_like(body)
        inside[1:50] = True
        self.assertGreater(dice(found & inside, body & inside), 0.96)
        for plane in found[2:49]:
            self.assertIn(pieces(plane)[1], (1, 2))
        self.assertEqual([pieces(found[k])[1] for k in (4, 45)], [1, 2])

    def test_a_slanted_rod_moves_instead_of_breaking(self):
        space = straight_space((100, 30, 41), 0.5)
        x, y, z = places(space)
        body = (x - 2.0 * z) ** 2 + y**2 <= 9  # moves by 8 mm from one drawn slice to the next, and is 6 mm wide
        found, _ = self.bridged(space, body, 8)
        self.assertGreater(dice(found, body), 0.97)
        self.assertEqual(ndimage.label(found)[1], 1)

    def test_two_labels_share_their_border(self):
        space = straight_space((50, 40, 41), 0.5)
        body = ellipsoid(space, (0, 0, 0), (11, 9, 14))
        left = places(space)[0] + 0.2 * places(space)[2] < 0
        labels = mapped(space, A=every(body & left, 8), B=every(body & ~left, 8))
        made = after(labels, bridge_slices(labels))
        for name, mask in (("A", body & left), ("B", body & ~left)):
            self.assertGreater(dice(voxels(made, name), mask), 0.97)
        both = voxels(made, "A") | voxels(made, "B")
        inner = ndimage.binary_erosion(body, iterations=3)
        inner[:1] = inner[-1:] = False
        self.assertLess(np.count_nonzero(inner & ~both) / inner.sum(), 0.001)

    def test_slices_of_two_planes_go_together(self):
        space = straight_space((60, 60, 60), 0.5)
        rng = np.random.default_rng(3)
        bump = ndimage.gaussian_filter(rng.standard_normal((60, 60, 60)), 5)
        away = np.sqrt((places(space) ** 2).sum(0))
        body = away + 12 * bump / np.abs(bump).max() <= 9
        body = ndimage.label(body)[0] == ndimage.label(body)[0][30, 30, 30]
        sparse = every(body, 12, 6, 0)
        one = voxels(after(mapped(space, A=sparse), bridge_slices(mapped(space, A=sparse))), "A")
        crossed = sparse | every(body, 12, 6, 1)
        labels = mapped(space, A=crossed)
        self.assertEqual([f.axis for f in families(crossed, space)], [2, 1])
        edit = bridge_slices(labels)
        both = voxels(after(labels, edit), "A")
        self.assertGreater(dice(both, body), dice(one, body) + 0.005)
        for axis in (0, 1):
            drawn = np.moveaxis(body, axis, 0)[6::12]
            np.testing.assert_array_equal(
                np.moveaxis(both, axis, 0)[6::12][drawn.any((1, 2))], drawn[drawn.any((1, 2))]
            )

    def test_along_the_edges_of_an_image(self):
        """A winding body of which every eighth slice shows little, and an image that shows all of it."""
        space = straight_space((70, 66, 60), 0.5)
        field = ndimage.gaussian_filter(np.random.default_rng(4).standard_normal(space.shape[::-1]), 3.2)
        near = ellipsoid(space, (0, 0, 0), (14, 13, 11))
        pieces_, _ = ndimage.label((field > np.quantile(field, 0.62)) & near)
        body = pieces_ == 1 + int(np.argmax(np.bincount(pieces_.ravel())[1:]))
        values = 100 + 200.0 * body + np.random.default_rng(1).normal(0, 40, body.shape)
        image = Image(values.T.astype(np.float32), space, "Head")
        alone, _ = self.bridged(space, body, 8, first=2)
        found, made = self.bridged(space, body, 8, first=2, image=image)
        self.assertLess(dice(alone, body), 0.9)
        self.assertGreater(dice(found, body), 0.96)
        for factor, shift in ((1e-6, 0.0), (1e4, -1e6)):  # brightness of any kind
            other = Image((values.T * factor + shift).astype(np.float32), space)
            again, _ = self.bridged(space, body, 8, first=2, image=other)
            self.assertGreater(dice(again, found), 0.995)
        filled = {n for _, a, b in unseen(made.table[1], space) for n in range(a, b + 1)}
        used = set(np.flatnonzero((found & ~every(body, 8, 2)).any((1, 2))).tolist())
        self.assertEqual(used - filled, set())  # all of it waits to be looked at
        ended, _ = self.bridged(space, body, 8, first=2, image=image, ends="as drawn")
        drawn = np.flatnonzero(every(body, 8, 2).any((1, 2)))
        self.assertEqual((ended[: drawn[0]].any(), ended[drawn[-1] + 1 :].any()), (False, False))

    def test_an_image_that_does_not_fit_or_says_nothing(self):
        space = straight_space((30, 28, 26), 0.5)
        labels = mapped(space, Body=every(ellipsoid(space, (0, 0, 0), (5, 5, 5)), 6, 1))
        small = Image(np.zeros((9, 9, 9), np.float32), straight_space((9, 9, 9), 0.5))
        with self.assertRaisesRegex(Trouble, "another grid"):
            bridge_slices(labels, "Body", image=small)
        with self.assertRaisesRegex(Trouble, "no value where the label lies"):
            bridge_slices(labels, "Body", image=Image(np.full(space.shape, np.nan, np.float32), space))
        even = after(labels, bridge_slices(labels, "Body", image=Image(np.ones(space.shape, np.float32), space)))
        plain = after(labels, bridge_slices(labels, "Body"))
        self.assertGreater(dice(voxels(even, "Body"), voxels(plain, "Body")), 0.93)

    def test_others_and_locked_ones_stay(self):
        space = straight_space((40, 40, 41), 0.5)
        body = ellipsoid(space, (0, 0, 0), (8, 8, 9))
        wall = np.zeros_like(body)
        wall[:, :, 20] = True
        wall[::8] = False
        labels = mapped(space, A=every(body, 8), Wall=wall)
        made = after(labels, bridge_slices(labels, "A"))
        np.testing.assert_array_equal(voxels(made, "Wall"), wall)
        labels.table = labels.table.changed(1, locked=True)
        with self.assertRaisesRegex(Trouble, "“A” is locked"):
            bridge_slices(labels, "A")

    def test_what_was_bridged_waits_to_be_looked_at(self):
        space = straight_space((40, 40, 41), 0.5)
        body = ellipsoid(space, (0, 0, 0), (8, 8, 9))
        labels = mapped(space, A=every(body, 8))
        made = after(labels, bridge_slices(labels, "A", ends="as drawn"))
        row = made.table.named("A")
        self.assertEqual(unseen(row, space), [(2, 9, 15), (2, 17, 23), (2, 25, 31)])
        self.assertEqual(LabelTable.from_list(made.table.as_list()), made.table)
        self.assertEqual(unseen(row, straight_space((40, 40, 40))), [])
        seen = {(2, n) for n in range(9, 20)}
        made.table = made.table.changed(1, bridged=left_unseen(row, space, seen))
        self.assertEqual(unseen(made.table.named("a"), space), [(2, 17, 23), (2, 25, 31)])
        self.assertEqual(after(made, bridged_fine(made)).table.named("A").bridged, "")
        with self.assertRaisesRegex(Trouble, "No slice of “A” waits"):
            bridged_fine(labels, "A")

    def test_wrong_input(self):
        space = straight_space((30, 30, 30))
        body = ellipsoid(space, (0, 0, 0), (5, 5, 5))
        one, full = mapped(space, A=every(body, 100, 15)), mapped(space, A=body)
        eyes = mapped(space, A=ellipsoid(space, (-4, 0, 0), (2, 2, 2)) | ellipsoid(space, (4, 0, 0), (2, 2, 2)))
        flat = mapped(Space((9, 9, 1), np.eye(4)), A=np.ones((1, 9, 9), bool))
        for labels, given, words in (
            (one, {}, "one slice only"),
            (one, {"plane": "axial"}, "one axial slice only"),
            (full, {}, "No slice of “A” is left out"),
            (full, {"plane": "coronal"}, "No coronal slice"),
            (eyes, {}, "No slice of “A” is left out"),
            (flat, {}, "picture"),
            (mapped(space), {}, "no label that is drawn"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                bridge_slices(labels, **given)


class FellowsTest(unittest.TestCase):
    def test_parts_that_overlap_or_lie_near_go_together(self):
        below, above = np.zeros((20, 60), bool), np.zeros((20, 60), bool)
        below[5:15, 5:25] = True  # divides
        above[5:15, 5:13] = above[5:15, 17:25] = True
        below[5:9, 40:43] = True  # moves
        above[11:14, 40:43] = True
        above[1:3, 56:58] = True  # begins
        found = fellows(pieces(below)[0], pieces(above)[0], 4.0, (1.0, 1.0))
        sides = sorted((len(f.below), len(f.above)) for f in found)
        self.assertEqual(sides, [(0, 1), (1, 1), (1, 2)])


if __name__ == "__main__":
    unittest.main()
