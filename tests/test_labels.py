import unittest

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.patch import LabelEdit, Patch, patch_from_indices, patch_from_mask
from tests.making import straight_space


def random_map(seed: int = 0, shape=(12, 10, 8)) -> LabelMap:
    numbers = np.random.default_rng(seed).integers(0, 4, shape).astype(np.uint16)
    table = LabelTable()
    for name in ("One", "Two", "Three"):
        table, _ = table.with_new(name)
    return LabelMap(straight_space(shape), numbers, table)


class TableTest(unittest.TestCase):
    def test_new_labels_take_the_lowest_free_number(self):
        table, first = LabelTable().with_new("Skull")
        table, second = table.with_new("Jaw")
        table, third = table.without(first.number).with_new("Teeth")
        self.assertEqual((first.number, second.number, third.number), (1, 2, 1))
        self.assertNotEqual(first.colour, second.colour)

    def test_names_are_unique_whatever_their_capitals(self):
        table, _ = LabelTable().with_new("Skull")
        for wrong in ("skull", " SKULL ", ""):
            with self.assertRaises(Trouble):
                table.with_new(wrong)
        with self.assertRaises(Trouble):
            table.with_new("Jaw")[0].changed(2, name="Skull")

    def test_unknown_name_says_which_there_are(self):
        with self.assertRaisesRegex(Trouble, "Skull"):
            LabelTable().with_new("Skull")[0].named("Jaw")

    def test_numbers_without_a_row_get_one(self):
        numbers = np.zeros((3, 3, 3), np.uint16)
        numbers[1, 1, 1] = 300
        labels = LabelMap(straight_space((3, 3, 3)), numbers)
        self.assertEqual([(row.number, row.name) for row in labels.table], [(300, "Label 300")])


class PatchTest(unittest.TestCase):
    def test_patch_does_undoes_and_keeps_counts(self):
        labels = random_map()
        before, counts = labels.data.copy(), labels.counts.copy()
        mask = (np.random.default_rng(1).random(labels.kji.shape) < 0.3).astype(np.uint8)
        patch = patch_from_mask(labels, mask, 2)
        patch.apply(labels)
        wanted = np.where(mask.T > 0, 2, before)
        np.testing.assert_array_equal(labels.data, wanted)
        np.testing.assert_array_equal(labels.counts[:5], np.bincount(wanted.ravel(), minlength=5))
        patch.reversed().apply(labels)
        np.testing.assert_array_equal(labels.data, before)
        np.testing.assert_array_equal(labels.counts, counts)

    def test_bytes_come_back_the_same(self):
        labels = random_map(2)
        patch = patch_from_mask(labels, np.ones(labels.kji.shape, np.uint8), 3)
        again = Patch.from_bytes(patch.to_bytes())
        for name in ("starts", "lengths", "old", "new"):
            np.testing.assert_array_equal(getattr(again, name), getattr(patch, name))

    def test_locked_labels_are_left_alone(self):
        labels = random_map()
        labels.table = labels.table.changed(1, locked=True)
        before = labels.data.copy()
        patch_from_mask(labels, np.ones(labels.kji.shape, np.uint8), 2).apply(labels)
        np.testing.assert_array_equal(labels.data == 1, before == 1)
        self.assertTrue((labels.data[before != 1] == 2).all())

    def test_indices_in_any_order(self):
        labels = random_map(3)
        flat = labels.flat.copy()
        index = np.array([9, 7, 8, 100, 3])
        patch = patch_from_indices(index, flat[index], 1)
        self.assertEqual(patch.starts.tolist(), [3, 7, 100])
        self.assertEqual(patch.lengths.tolist(), [1, 3, 1])
        patch.apply(labels)
        self.assertTrue((labels.flat[index] == 1).all())
        patch.reversed().apply(labels)
        np.testing.assert_array_equal(labels.flat, flat)

    def test_mask_of_a_part_and_its_box(self):
        labels = LabelMap(straight_space((12, 10, 8)))
        patch = patch_from_mask(labels, np.ones((2, 3, 4), np.uint8), 1, corner=(5, 6, 7))
        patch.apply(labels)
        self.assertEqual(int(labels.counts[1]), 24)
        self.assertTrue((labels.data[7:11, 6:9, 5:7] == 1).all())
        self.assertEqual(patch.box(labels.space.shape), (slice(7, 11), slice(6, 9), slice(5, 7)))

    def test_a_compact_patch_for_a_large_region(self):
        labels = LabelMap(straight_space((128, 128, 128)))
        k, j, i = np.ogrid[:128, :128, :128]
        ball = ((k - 64) ** 2 + (j - 64) ** 2 + (i - 64) ** 2 < 60**2).astype(np.uint8)
        patch = patch_from_mask(labels, ball, 1)
        self.assertEqual(patch.voxels, int(ball.sum()))
        self.assertLess(len(patch.to_bytes()), patch.voxels / 20)

    def test_an_edit_of_the_table_alone(self):
        labels = random_map()
        after = labels.table.changed(2, name="Renamed")
        edit = LabelEdit("Rename", None, labels.table, after)
        edit.apply(labels)
        self.assertEqual(labels.table[2].name, "Renamed")
        edit.reversed().apply(labels)
        self.assertEqual(labels.table[2].name, "Two")


class LargePatchTest(unittest.TestCase):
    def test_two_halves_write_what_one_would(self):
        """Of more than a million voxels both cores write half of the runs."""
        random = np.random.default_rng(1)
        lengths = random.integers(1, 4, 700_000).astype(np.int32)
        starts = (np.cumsum(lengths + random.integers(1, 3, lengths.size)) - lengths).astype(np.int64)
        before = np.cumsum(lengths) - lengths
        inside = np.repeat(starts - before, lengths) + np.arange(lengths.sum())
        space = straight_space((200, 200, 100))
        for new in (np.array([7], np.uint16), random.integers(1, 60_000, inside.size).astype(np.uint16)):
            labels, wanted = LabelMap(space), np.zeros(4_000_000, np.uint16)
            wanted[inside] = new
            Patch(starts, lengths, np.zeros(1, np.uint16), new).apply(labels)
            np.testing.assert_array_equal(labels.flat, wanted)
            self.assertEqual(int(labels.counts[7]), int((wanted == 7).sum()))
