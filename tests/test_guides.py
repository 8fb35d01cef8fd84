"""Warps guided by labels and landmarks, where the images alone do not tell."""

import unittest

import numpy as np

from kestrelmist.align.align_images import align_images
from kestrelmist.align.guides import MOST, Guides, PulledMarks, guides_of
from kestrelmist.align.label_agreement import agreements
from kestrelmist.align.landmarks import Pairs
from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.transform import Transform
from tests.test_align import INSIDE, SPACE, TISSUE
from tests.test_warp import apart, found_in, made_up, pair

TRUTH = made_up(3.0, 9)
PLACES = INSIDE[:: max(1, len(INSIDE) // 12)][:12]
FIXED, MOVING = pair(TRUTH)
BLANK = np.random.default_rng(1).normal(100, 3, TISSUE.shape).astype(np.float32)
"""What tells nothing."""


def marks(places: np.ndarray, of: str) -> Marks:
    points = {n: Mark("point", (tuple(place),), n, name=f"P{n}") for n, place in enumerate(places, 1)}
    return Marks(points, of=of, world=SPACE.world, unit="mm")


def label_map(numbers: np.ndarray, name: str) -> LabelMap:
    table = LabelTable()
    for tissue in ("Skin", "Outer", "Inner"):
        table, _ = table.with_new(tissue)
    return LabelMap(SPACE, np.asarray(numbers, np.uint16).T, table, name)


class GuidesTest(unittest.TestCase):
    def test_landmarks_are_brought_together(self):
        there = TRUTH.to(PLACES)
        before = np.linalg.norm(there - PLACES, axis=1).mean()
        found = found_in(BLANK, BLANK[::-1].copy(), guides=Guides(pairs=Pairs(PLACES, there, ("",) * len(PLACES)))).warp
        left = np.linalg.norm(found.to(PLACES) - there, axis=1)
        self.assertGreater(before, 2.0)
        self.assertLess(left.mean(), 0.25 * before)
        self.assertLess(np.linalg.norm(found.back(found.to(PLACES)) - PLACES, axis=1).max(), 0.1)

    def test_they_help_where_images_are_poor(self):
        random = np.random.default_rng(2)
        poor = [values + random.normal(0, 120, values.shape).astype(np.float32) for values in (FIXED, MOVING)]
        guided = Guides(pairs=Pairs(PLACES, TRUTH.to(PLACES), ("",) * len(PLACES)))
        self.assertLess(apart(found_in(*poor, guides=guided).warp, TRUTH), 1.5)  # of 3 mm; alone, 2.1 are left

    def test_labels_are_brought_together(self):
        moving = label_map(np.minimum(TISSUE, 3), "Moving")
        index = np.rint(SPACE.to_voxel(TRUTH.to(SPACE.to_world(np.indices(SPACE.shape).reshape(3, -1).T)))).astype(int)
        index = np.clip(index, 0, np.array(SPACE.shape) - 1)
        onto = label_map(np.minimum(TISSUE, 3)[tuple(index.T[::-1])].reshape(SPACE.shape).T, "Onto")
        found = found_in(BLANK, BLANK[::-1].copy(), guides=guides_of(None, None, moving, onto)).warp
        ways = Transform(np.eye(4)), found
        dice = [np.mean([one.dice for one in agreements(moving, onto, way)]) for way in ways]
        self.assertGreater(dice[1], dice[0] + 0.1)
        self.assertGreater(dice[1], 0.9)

    def test_the_pull_is_the_slope_of_the_cost(self):
        random = np.random.default_rng(3)
        here, there = random.uniform(3, 9, (2, 4, 3))
        pulled, velocity = PulledMarks(here, there, 0.1), np.zeros((12, 12, 12, 3), np.float32)
        step = np.zeros_like(velocity)
        cost = pulled.judged(velocity, step)
        self.assertAlmostEqual(cost, 0.1 * ((here - there) ** 2).sum(1).mean(), 6)
        way = random.normal(size=3).astype(np.float32) * np.float32(1e-3)
        grown = pulled.judged(velocity + way, np.zeros_like(velocity)) - cost  # an even velocity shifts all
        self.assertAlmostEqual(grown / -float((2 * step.sum((0, 1, 2)) * way).sum()), 0.5, delta=0.05)

    def test_doors_and_wrong_input(self):
        onto = Image(np.asfortranarray(FIXED.T), SPACE, "One")
        here, there = marks(PLACES, "One"), marks(TRUTH.to(PLACES), "Other")
        moving = Image(np.asfortranarray(MOVING.T), SPACE, "Other")
        way = align_images(moving, onto, freedom="warp", landmarks=there, onto_landmarks=here).transform
        self.assertLess(np.linalg.norm(way.to(PLACES) - TRUTH.to(PLACES), axis=1).mean(), 0.5)
        for words, given in (
            ("Landmarks guide a warp in pairs", {"landmarks": here, "freedom": "warp"}),
            ("Labels guide a warp in pairs", {"regions": label_map(TISSUE * 0 + 1, "L"), "freedom": "warp"}),
            ("guide warps alone", {"landmarks": there, "onto_landmarks": here, "freedom": "6"}),
        ):
            with self.subTest(words), self.assertRaisesRegex(Trouble, words):
                align_images(moving, onto, **given)
        one = label_map(np.minimum(TISSUE, 1), "L")
        with self.assertRaisesRegex(Trouble, "no label of one name"):
            guides_of(None, None, one, LabelMap(SPACE))
        many = LabelTable()
        for n in range(MOST + 1):
            many, _ = many.with_new(f"L{n}")
        numbers = np.arange(int(np.prod(SPACE.shape))).reshape(SPACE.shape) % (MOST + 1) + 1
        full = LabelMap(SPACE, numbers.astype(np.uint16), many, "Many")
        with self.assertRaisesRegex(Trouble, "25 labels are to guide the warp"):
            guides_of(None, None, full, full)
