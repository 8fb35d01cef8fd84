import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.space import picture_space
from kestrelmist.prepare.sets.box_marks import save_boxes, take_boxes
from tests.making import PlaceCase, straight_space


class BoxMarksTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.space = picture_space(60, 40, (0.1, 0.1))
        self.image = Image(np.zeros(self.space.shape, np.uint8), self.space, "shot 1", "HM-07")
        self.table = self.place / "boxes.csv"
        self.table.write_text(
            "picture,class,left,top,width,height\nshot 1.png,skull,10,5,20,12\nshot 1.png,tooth,0,0,60,40\n"
            "shot 2.png,skull,1,1,5,5\n"
        )

    def test_boxes_come_onto_the_picture_and_go_back(self):
        marks = take_boxes(self.image, self.table)
        self.assertEqual([m.name for m in marks], ["skull", "tooth"])
        voxels = self.space.to_voxel(marks[1].array)[:, :2]
        np.testing.assert_allclose((voxels.min(0), voxels.max(0)), ([9.5, 4.5], [29.5, 16.5]), atol=1e-9)
        save_boxes(self.image, marks, self.place / "back.csv")
        again = take_boxes(self.image, self.place / "back.csv")
        for one, other in zip(marks, again):
            np.testing.assert_allclose(one.array, other.array, atol=1e-4)
            self.assertEqual(one.name, other.name)

    def test_wrong_input(self):
        far = self.place / "far.csv"
        far.write_text("picture,class,left,top,width,height\nshot 1,skull,50,5,20,12\n")
        volume = Image(np.zeros((5, 5, 5), np.uint8), straight_space((5, 5, 5)), "shot 1")
        other = Image(self.image.data, self.space, "shot 9")
        for image, file, words in (
            (self.image, far, "line 2 lies outside"),
            (volume, self.table, "is no picture"),
            (other, self.table, "no box of “shot 9”"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                take_boxes(image, file)
        turned = Mark("rectangle", ((0, 0, 0), (1, 1, 0), (0, 2, 0), (-1, 1, 0)))
        for mark, words in ((turned, "is turned"), (Mark("point", ((0, 0, 0),)), "no rectangle")):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                save_boxes(self.image, Marks.numbered([mark]), self.place / "x.csv")
        self.assertFalse((self.place / "x.csv").exists())
