import unittest

import numpy as np

from kestrelmist.checks.notice import Subject, run_checks
from kestrelmist.core.caveat import SIDES_UNKNOWN, SLICES_MISSING, Caveat
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.operation import find_operation
from kestrelmist.core.patch import LabelEdit
from kestrelmist.core.space import Space
from kestrelmist.outline.paint import paint
from kestrelmist.prepare.grid.spacing import set_spacing
from tests.making import labelled, straight_space, two_balls


class ChecksTest(unittest.TestCase):
    def setUp(self):
        self.image = two_balls()
        self.labels = labelled(self.image, "A", "B", "C", "D", "E")

    def found(self, stage="outline"):
        return run_checks(Subject(self.image, self.labels), stage)

    def mended(self, notice):
        operation = find_operation(notice.mend.operation)
        given = {"image": self.image, "labels": self.labels}
        given = {p.name: given[p.name] for p in operation.inputs}
        made = operation(None, **given, **operation.checked(notice.mend.settings))
        edit = next(value for value in made.values() if isinstance(value, LabelEdit))
        edit.apply(self.labels)

    def test_nothing_wrong_is_said_too(self):
        self.assertEqual([(n.level, n.mend) for n in self.found()], [("fine", None)])

    def test_gap_in_the_numbers_and_its_mend(self):
        self.labels.table = self.labels.table.without(3).without(4)
        (notice,) = self.found()
        self.assertEqual((notice.level, notice.sentence), ("look", "Labels 3 and 4 are not used."))
        self.mended(notice)
        self.assertEqual([row.number for row in self.labels.table], [1, 2, 3])
        self.assertEqual(self.found()[0].level, "fine")

    def test_loose_pieces_and_their_mend(self):
        for point, size in (((-4, 0, 0), 6.0), ((5, 0, 0), 1.5), ((5, 6, 5), 1.0)):
            paint(self.image, self.labels, "A", point, size).apply(self.labels)
        (notice,) = self.found()
        self.assertRegex(notice.sentence, r"^A has 2 loose pieces, 2(\.\d+)? mm³\.$")
        self.mended(notice)
        self.assertEqual(self.found()[0].level, "fine")

    def test_two_parts_of_like_size_are_no_loose_pieces(self):
        for x in (-4, 4):
            paint(self.image, self.labels, "A", (x, 0, 0), 4.0).apply(self.labels)
        self.assertEqual(self.found()[0].level, "fine")

    def test_labels_of_another_grid(self):
        self.labels = LabelMap(straight_space((40, 36, 31)))
        self.assertEqual((self.found()[0].level, self.found()[0].mend.operation), ("wrong", "new-labels"))

    def test_spacing_that_is_missing_or_was_uneven(self):
        for code, note, level, mend in (
            (
                SIDES_UNKNOWN,
                "The file gives a voxel size but no position, so sides are unknown",
                "wrong",
                "set-spacing",
            ),
            (SLICES_MISSING, "1 slice is missing in the stack, at place 3 of 9", "look", "gather"),
        ):
            self.image.caveats = [Caveat(code, note)]
            self.assertEqual(
                [(n.level, n.mend.operation, n.mend.ask) for n in self.found("gather")], [(level, mend, True)]
            )

    def test_voxel_size_can_be_set(self):
        image = self.image.placed(set_spacing(self.image, (0.25, 1.0, 2.0)))
        self.assertEqual(image.space.spacing, (0.25, 1.0, 2.0))
        np.testing.assert_allclose(image.space.centre, self.image.space.centre, atol=1e-12)
        np.testing.assert_array_equal(image.data, self.image.data)

    def test_very_thick_slices(self):
        self.image = Image(np.zeros((5, 5, 5), np.int16), Space((5, 5, 5), np.diag([0.2, 0.2, 1.2, 1])))
        self.labels = None
        self.assertIn("6.0 times longer", self.found("gather")[0].sentence)
