"""As many labels as there are numbers: made, written, read and opened on an image without a pass for each."""

import numpy as np

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LARGEST, LabelMap
from kestrelmist.formats.label_files import read_label_map, write_label_map
from kestrelmist.formats.saving import save_image
from kestrelmist.study.study import Study
from tests.making import PlaceCase, straight_space

SIDE = 42


class ManyTest(PlaceCase):
    def test_all_numbers(self):
        space = straight_space((SIDE,) * 3)
        numbers = (np.arange(SIDE**3) % (LARGEST + 1)).astype(np.uint16).reshape(space.shape, order="F")
        labels = LabelMap(space, numbers)
        self.assertEqual((len(labels.table), labels.table[LARGEST].name), (LARGEST, f"Label {LARGEST}"))
        path = self.place / "labels.nii.gz"
        write_label_map(path, labels)
        read = read_label_map(path)
        self.assertEqual(read.table, labels.table)
        (self.place / "scans").mkdir()
        save_image(self.place / "scans" / "a.nii.gz", Image(numbers.astype(np.float32), space))
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "scans", subject="S")
            key = study.records()[0].id
            study.run("add-label", labels=key, label="Label 7")  # which gets the number 1
            study.run("open-labels", image=key, file=path)
            opened = study.labels(key)
            self.assertEqual((len(opened.table), opened.table.named("Label 7").number), (LARGEST, 1))
            other = opened.table.named("Label 1").number
            self.assertEqual(opened.table[other].name, "Label 1")
            np.testing.assert_array_equal(opened.data[numbers == 7], 1)
            np.testing.assert_array_equal(opened.data[numbers == 1], other)
            np.testing.assert_array_equal(opened.data[numbers > 7], numbers[numbers > 7])
