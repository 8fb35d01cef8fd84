"""What is alike and is not the same: labels that nobody named, results that equal what they were made of."""

import unittest

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.formats.label_files import write_label_map
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.gather.open_labels import open_labels
from kestrelmist.study.study import Study
from tests.making import PlaceCase, straight_space, two_balls

SPACE = straight_space((12, 10, 8))


class NamelessLabelsTest(PlaceCase):
    def file(self, name, *boxes):
        """A file of numbers without names, and their mask for each number."""
        numbers = np.zeros(SPACE.shape, np.uint16)
        for n, (low, high) in enumerate(boxes, 1):
            numbers[low:high, 2:7, 3:6] = n
        write_nifti(self.place / name, numbers, SPACE)
        return self.place / name, numbers

    def setUp(self):
        super().setUp()
        self.image = Image(np.zeros(SPACE.shape, np.int16), SPACE, "Head")

    def opened(self, labels, path):
        open_labels(self.image, labels, path).apply(labels)

    def test_two_files_are_two_labels(self):
        labels = LabelMap(SPACE)
        left, in_left = self.file("left.nii", (1, 4))
        right, in_right = self.file("right.nii", (6, 9))
        self.opened(labels, left)
        self.opened(labels, right)
        self.assertEqual([row.name for row in labels.table], ["Label 1", "Label 2"])
        np.testing.assert_array_equal(labels.data == 1, in_left == 1)
        np.testing.assert_array_equal(labels.data == 2, in_right == 1)
        for again in (left, right):  # the very same ones are there
            with self.assertRaisesRegex(Trouble, "Nothing of these labels"):
                open_labels(self.image, labels, again)

    def test_a_label_of_the_name_that_somebody_typed_is_another(self):
        labels = LabelMap(SPACE)
        labels.table, typed = labels.table.with_new("Label 2")
        path, numbers = self.file("two.nii", (1, 3), (4, 6))
        self.opened(labels, path)
        self.assertEqual((typed.number, labels.counts[1]), (1, 0))
        self.assertEqual(sorted(row.number for row in labels.table), [1, 3, 4])
        np.testing.assert_array_equal(labels.data == 3, numbers == 1)
        np.testing.assert_array_equal(labels.data == 4, numbers == 2)

    def test_named_ones_go_by_their_names(self):
        labels = LabelMap(SPACE)
        for name, boxes in (("a.nii.gz", (1, 4)), ("b.nii.gz", (6, 9))):
            _, numbers = self.file("plain.nii", boxes)
            made = LabelMap(SPACE, numbers)
            made.table = made.table.changed(1, name="Liver")
            write_label_map(self.place / name, made)
            self.opened(labels, self.place / name)
        self.assertEqual([row.name for row in labels.table], ["Liver"])
        self.assertEqual(labels.counts[1], 2 * 3 * 5 * 3)


class EqualResultTest(PlaceCase):
    def test_a_step_that_changes_nothing_has_made_an_image(self):
        with Study(self.place / "study", create=True) as study:
            image = two_balls()
            write_nifti(self.place / "Head.nii", image.data, image.space)
            study.run("gather", folder=self.place / "Head.nii", subject="S")
            (key,) = (r.id for r in study.records())
            limits = {"low": -1e6, "high": 1e6}
            (made,) = study.run("clip", image=key, **limits)
            self.assertEqual([r.name for r in study.records()][0], "Head")
            self.assertEqual(len(study.records()), 2)
            np.testing.assert_array_equal(study.image(made).data, study.image(key).data)
            with self.assertRaisesRegex(Trouble, "in the study already"):  # the same step again
                study.run("clip", image=key, **limits)
            study.run("clip", image=made, **limits)  # the next step of a recipe
            self.assertEqual(len(study.records()), 3)
            with self.assertRaisesRegex(Trouble, "in the study already"):  # and what comes in is taken in once
                study.run("gather", folder=self.place / "Head.nii", subject="S")


if __name__ == "__main__":
    unittest.main()
