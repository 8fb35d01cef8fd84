import unittest

import numpy as np
from scipy import ndimage
from scipy.spatial import cKDTree

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.outline.vessels.follow_vessel import follow_vessel
from kestrelmist.outline.vessels.list_gaps import vessel_gaps
from tests.making import straight_space
from tests.test_shaping import after, mapped, voxels


def tube(space: Space, line: np.ndarray, radius) -> np.ndarray:
    """How much of each voxel lies within a tube, about: 1 inside, 0 outside, [k, j, i]."""
    world = space.to_world(np.indices(space.shape).reshape(3, -1).T)
    away, nearest = cKDTree(line).query(world)
    r = np.broadcast_to(radius, len(line))[nearest]
    soft = 1 / (1 + np.exp((away - r) / (0.2 * space.spacing[0])))
    return soft.reshape(space.shape).T


def text_of(places) -> str:
    return "; ".join(",".join(f"{v:.4f}" for v in p) for p in places)


class FollowVesselTest(unittest.TestCase):
    """Two winding vessels side by side, whose middle lines and radii are known."""

    def setUp(self):
        self.space = straight_space((70, 64, 60), 0.25)
        t = np.linspace(0, 1, 600)
        self.artery = np.stack((-7 + 14 * t, 3 * np.sin(5 * t), -3 + 5 * t), 1)
        self.vein = self.artery + np.array((0.0, 1.7, 0.3))
        self.radius = 0.75 - 0.25 * t
        both = np.maximum(tube(self.space, self.artery, self.radius), tube(self.space, self.vein, 0.6))
        rng = np.random.default_rng(3)
        values = 100 + 400 * both + rng.normal(0, 25, both.shape)
        self.image = Image(values.T.astype(np.float32), self.space, "Head", "T-1")
        self.labels = mapped(self.space)

    def follow(self, labels, line, name, marks=(0, 300, 599), image=None, **more):
        made = follow_vessel(image or self.image, labels, text_of(line[list(marks)]), name, **more)
        return after(labels, made.labels), made.course

    def near(self, course, line) -> float:
        """Share of a true middle line that a course passes within a voxel of."""
        places = np.array([row[:3] for row in course.rows])
        return float(np.mean(cKDTree(places).query(line)[0] <= 0.25))

    def test_keeps_to_the_middle_and_finds_the_radius(self):
        made, course = self.follow(self.labels, self.artery, "Artery")
        self.assertGreater(self.near(course, self.artery), 0.97)
        radii = np.array([row[3] for row in course.rows])
        where = cKDTree(self.artery).query(np.array([row[:3] for row in course.rows]))[1]
        self.assertLess(np.abs(radii - self.radius[where])[3:-3].mean(), 0.08)
        truth = tube(self.space, self.artery, self.radius) > 0.5
        found = voxels(made, "Artery")
        self.assertGreater(2 * np.count_nonzero(found & truth) / (found.sum() + truth.sum()), 0.85)
        self.assertEqual(ndimage.label(found, np.ones((3, 3, 3)))[1], 1)

    def test_artery_and_vein_stay_apart(self):
        made, _ = self.follow(self.labels, self.artery, "Artery")
        made, course = self.follow(made, self.vein, "Vein")
        self.assertGreater(self.near(course, self.vein), 0.95)
        for name, line, other in (("Artery", self.artery, self.vein), ("Vein", self.vein, self.artery)):
            places = self.space.to_world(np.argwhere(voxels(made, name))[:, ::-1])
            nearer = cKDTree(other).query(places)[0] < cKDTree(line).query(places)[0]
            self.assertLess(nearer.mean(), 0.03)

    def test_dark_vessels_a_branch_and_a_picture(self):
        dark = Image(1000 - self.image.data, self.space)
        _, course = self.follow(self.labels, self.artery, "Artery", image=dark)
        self.assertGreater(self.near(course, self.artery), 0.97)
        first, _ = self.follow(self.labels, self.artery, "Artery", (0, 200, 320))
        made, _ = self.follow(first, self.artery, "Artery", (310, 450, 599))
        self.assertEqual(ndimage.label(voxels(made, "Artery"), np.ones((3, 3, 3)))[1], 1)
        flat = Space((140, 100, 1), np.diag([0.01, 0.01, 1.0, 1.0]))
        t = np.linspace(0, 1, 500)
        line = np.stack((0.1 + 1.2 * t, 0.5 + 0.25 * np.sin(6 * t), 0 * t), 1)
        values = 200 - 120 * tube(flat, line, 0.03) + np.random.default_rng(1).normal(0, 10, (1, 100, 140))
        picture = Image(values.T.astype(np.float32), flat)
        labels = mapped(flat)
        made = follow_vessel(picture, labels, text_of(line[[0, 499]]), "Vessel")
        places = np.array([row[:3] for row in made.course.rows])
        self.assertGreater(float(np.mean(cKDTree(places).query(line)[0] <= 0.012)), 0.97)
        self.assertLess(abs(np.median([row[3] for row in made.course.rows]) - 0.03), 0.004)

    def test_gaps_are_listed(self):
        first, _ = self.follow(self.labels, self.artery, "Artery", (0, 150, 300))
        table = vessel_gaps(self.image, first, "Artery")
        missing = [row for row in table.rows if row[0] == "not labelled"]
        self.assertGreaterEqual(len(missing), 1)
        self.assertLess(cKDTree(self.artery[320:]).query(missing[0][1:4])[0], 1.0)
        self.assertGreater(missing[0][4], 4.0)
        strayed = first.copied()
        strayed.kji[40:44, 10:30, 30:34] = 1
        strayed.recount()
        leaves = [row for row in vessel_gaps(self.image, strayed, "Artery").rows if row[0] == "leaves the vessel"]
        self.assertEqual(len(leaves), 1)
        whole, _ = self.follow(self.labels, self.artery, "Artery")
        left = [row for row in vessel_gaps(self.image, whole, "Artery").rows if row[0] == "leaves the vessel"]
        self.assertEqual(left, [])

    def test_wrong_input(self):
        locked = mapped(self.space, Artery=tube(self.space, self.vein, 0.3) > 0.5)
        locked.table = locked.table.changed(1, locked=True)
        for labels, points, words in (
            (self.labels, "0,0,0", "two places"),
            (self.labels, "0,0,0; 99,0,0", "lies outside"),
            (locked, "0,0,0; 1,0,0", "is locked"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                follow_vessel(self.image, labels, points, "Artery")
        with self.assertRaisesRegex(Trouble, "no voxel"):
            vessel_gaps(self.image, mapped(self.space, A=np.zeros((60, 64, 70), bool)), "A")
        unknown = Image(np.full(self.space.shape, np.nan, np.float32), self.space, "Blank")
        with self.assertRaisesRegex(Trouble, "“Blank” has no value within “A”"):
            vessel_gaps(unknown, mapped(self.space, A=tube(self.space, self.vein, 0.3) > 0.5), "A")
        one = straight_space((1, 1, 1), 1.0)
        point = vessel_gaps(Image(np.ones((1, 1, 1)), one), mapped(one, A=np.ones((1, 1, 1), bool)), "A")
        self.assertEqual([row[0] for row in point.rows if row[0] == "not labelled"], [])
        even = Image(np.zeros(self.space.shape, np.float32), self.space)
        made = follow_vessel(even, self.labels, "0,0,0; 3,0,0", "Vessel")
        self.assertGreater(made.labels.patch.voxels, 5)
        self.assertEqual(max(row[4] for row in made.course.rows), 0.0)


if __name__ == "__main__":
    unittest.main()
