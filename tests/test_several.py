"""Several images aligned at once: a group's mean, many onto one, sections of a block."""

import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.align.align_block import agreed, align_block
from kestrelmist.align.align_many import align_many
from kestrelmist.align.lay import hand_matrix
from kestrelmist.align.template import build_template
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space

SPACE = Space((40, 44, 36), np.diag([1.0, 1.0, 1.0, 1.0]))


def body(radii, centre=(20, 22, 18), name: str = "Body", subject: str = "", turn: float = 0.0) -> Image:
    """Two tissues in an ellipsoid with a lobe, the same in proportion."""
    places = SPACE.to_world(np.indices(SPACE.shape).reshape(3, -1).T) - centre
    places = places @ hand_matrix((0, 0, 0), (0, 0, turn), 1, (0, 0, 0))[:3, :3]
    u = places / radii
    r = np.sqrt((u**2).sum(1)) + 0.12 * u[:, 0] - 0.1 * u[:, 1] * u[:, 2]
    inner = np.sqrt(((u - (0.25, 0.1, 0.0)) ** 2).sum(1))
    values = 100 * np.clip((1 - r) * 8 + 0.5, 0, 1) + 60 * np.clip((0.4 - inner) * 8 + 0.5, 0, 1)
    noise = np.random.default_rng(int(sum(radii) * 10)).normal(0, 1.5, values.shape)
    return Image((values + noise).reshape(SPACE.shape).astype(np.float32), SPACE, name, subject=subject)


def extent(image: Image) -> np.ndarray:
    """Radii of what is brighter than half, along x, y, z."""
    places = np.argwhere(np.asarray(image.data) > 50)
    return (places.max(0) - places.min(0) + 1) / 2


class TemplateTest(unittest.TestCase):
    RADII = ((15, 11, 9), (13, 13, 11), (11, 15, 12), (12, 14, 10))

    def group(self) -> list[Image]:
        middles = ((20, 22, 18), (22, 21, 17), (19, 23, 18), (20, 21, 19))
        return [
            body(radii, middle, f"Head {n}", f"HM-{n}") for n, (radii, middle) in enumerate(zip(self.RADII, middles))
        ]

    def test_its_shape_is_the_mean_shape_and_not_the_first_one(self):
        group = self.group()
        found = build_template(group[0], group[1:], warps=1, name="Mean head")
        wanted = np.exp(np.log([extent(one) for one in group]).mean(0))
        np.testing.assert_allclose(extent(found.template), wanted, atol=0.8)
        self.assertGreater(np.abs(extent(group[0]) - wanted).max(), 1.5)
        self.assertEqual((found.template.name, found.template.space.world.id), ("Mean head", "mean:Mean head"))
        # the ways lead from its places to those of each image
        for way, image in zip(found.transforms, group):
            self.assertEqual((way.subject, way.target), (image.subject, image.space.world))
        inner = np.array([[20.0, 22.0, 18.0]])
        alike = [row[2] for row in found.report.rows]
        self.assertGreater(min(alike), 0.97)
        self.assertTrue(all(np.isfinite(way.to(inner)).all() for way in found.transforms))

    def test_wrong_input(self):
        with self.assertRaisesRegex(Trouble, "two images at least"):
            build_template(self.group()[0], [])
        flat = Image(np.zeros((20, 20, 1), np.float32), Space((20, 20, 1), np.eye(4)), "Flat")
        with self.assertRaisesRegex(Trouble, "is a picture and"):
            build_template(self.group()[0], [flat])


class ManyTest(unittest.TestCase):
    def test_each_is_aligned_and_told(self):
        onto = body((12, 14, 10), name="Onto")
        moves = [hand_matrix((2, -1, 1), (0, 0, turn), 1, onto.space.centre) for turn in (4, -6)]
        others = [
            Image(np.asarray(onto.data), SPACE.moved(move), f"Moved {n}", subject=f"S{n}")
            for n, move in enumerate(moves)
        ]
        found = align_many(onto, others, freedom="6")
        for way, move in zip(found.transforms, moves):
            np.testing.assert_allclose(way.matrix, move, atol=0.03)
        self.assertEqual([row[:2] for row in found.report.rows], [("Moved 0", "S0"), ("Moved 1", "S1")])
        empty = Image(np.zeros(SPACE.shape, np.float32), SPACE, "Empty")
        with self.assertRaisesRegex(Trouble, "“Empty” cannot be aligned: “Empty” is the same everywhere"):
            align_many(onto, [empty])
        with self.assertRaisesRegex(Trouble, "nothing to align"):
            align_many(onto, [])


class BlockTest(unittest.TestCase):
    """Sections through a body that changes from one to the next, each laid down on the glass in its own way."""

    COUNT = 7

    def sections(self) -> tuple[list[Image], list[np.ndarray]]:
        rng = np.random.default_rng(3)
        volume = ndimage.gaussian_filter(rng.normal(size=(self.COUNT * 4, 110, 120)), (5, 3, 3))
        j, i = np.indices((110, 120))
        middle = np.array([60.0, 55.0, 0.0])
        found, poses = [], []
        for n in range(self.COUNT):
            wide = 34 + 2 * np.sin(n)
            inside = np.clip(wide - np.hypot(i - 60, (j - 55) * 1.2), 0, 4) / 4
            picture = (inside * (100 + 600 * volume[4 * n])).astype(np.float32)
            move = hand_matrix((*rng.uniform(-6, 6, 2), 0), (0, 0, rng.uniform(-8, 8)), 1, middle)
            back = np.linalg.inv(move)
            shown = ndimage.affine_transform(picture, back[1::-1, 1::-1], back[1::-1, 3], order=1)
            found.append(Image(shown.T[:, :, None], Space((120, 110, 1), np.eye(4)), f"Section {n + 1}"))
            poses.append(move)
        return found, poses

    def test_poses_are_found_with_little_drift(self):
        sections, poses = self.sections()
        found = align_block(sections[0], sections[1:])
        stays = self.COUNT // 2
        places = np.array([[x, y, 0.0] for x in (35, 60, 85) for y in (35, 55, 75)])
        for n, (way, pose) in enumerate(zip(found.transforms, poses)):
            wanted = pose @ np.linalg.inv(poses[stays])
            off = np.linalg.norm(way.to(places) - places @ wanted[:3, :3].T - wanted[:3, 3], axis=1)
            self.assertLess(off.mean(), 1.0, n)  # pixels; sections differ from one to the next
        np.testing.assert_allclose(found.transforms[stays].matrix, np.eye(4), atol=1e-12)
        self.assertEqual([row[-1] for row in found.report.rows], ["", "", "", "yes", "", "", ""])
        last = align_block(sections[0], sections[1:3], reference=3)
        np.testing.assert_allclose(last.transforms[2].matrix, np.eye(4), atol=1e-12)

    def test_one_wrong_pair_is_made_up_for(self):
        """Closed form: pairs that agree but for one of little weight give the poses that the others agree on."""
        rng = np.random.default_rng(5)
        centre = np.zeros(3)
        poses = [hand_matrix((*rng.uniform(-5, 5, 2), 0), (0, 0, rng.uniform(-20, 20)), 1, centre) for _ in range(5)]
        poses[2] = np.eye(4)
        pairs = [(a, b) for a in range(5) for b in (a + 1, a + 2) if b < 5]
        ways = {(a, b): poses[b] @ np.linalg.inv(poses[a]) for a, b in pairs}
        for found, pose in zip(agreed(ways, dict.fromkeys(pairs, 1.0), 5, 2, centre), poses):
            np.testing.assert_allclose(found, pose, atol=1e-9)
        ways[0, 1] = hand_matrix((9, 0, 0), (0, 0, 30), 1, centre) @ ways[0, 1]
        found = agreed(ways, {pair: 1e-6 if pair == (0, 1) else 1.0 for pair in pairs}, 5, 2, centre)
        for one, pose in zip(found, poses):
            np.testing.assert_allclose(one, pose, atol=1e-3)

    def test_wrong_input(self):
        sections, _ = self.sections()
        with self.assertRaisesRegex(Trouble, "two sections at least"):
            align_block(sections[0], [])
        with self.assertRaisesRegex(Trouble, "There are 2 sections, and number 9"):
            align_block(sections[0], [sections[1]], reference=9)
        with self.assertRaisesRegex(Trouble, "is a volume"):
            align_block(body((9, 9, 9)), [body((9, 9, 9))])
