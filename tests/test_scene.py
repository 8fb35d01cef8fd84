import subprocess
import sys
import unittest
import unittest.mock

import numpy as np
from scipy import ndimage

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.scene.colours import packed
from kestrelmist.scene.drawing import draw
from kestrelmist.scene.layer import ImageLook, LabelLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.sampling import sample_numbers
from kestrelmist.scene.view import AXIAL, CORONAL, PLANES, SAGITTAL, View, fitted, plane_view
from tests.making import straight_space, tilted_space, two_balls


def grey(picture: np.ndarray) -> np.ndarray:
    return (picture & 255).astype(int)


class ViewTest(unittest.TestCase):
    def test_pixel_and_world_are_inverse(self):
        for plane in PLANES:
            for left in (True, False):
                view = plane_view(plane, (1.0, -2.0, 3.0), 0.3, 120, 90, left)
                x, y = view.to_pixel(view.to_world(17.25, 60.5))
                self.assertAlmostEqual(x, 17.25)
                self.assertAlmostEqual(y, 60.5)

    def test_letters_say_where_the_sides_are(self):
        view = plane_view(CORONAL, (0, 0, 0), 1.0, 101, 101)
        self.assertEqual(view.letters(), {"left": "L", "right": "R", "top": "S", "bottom": "I"})
        self.assertGreater(view.to_world(100, 50)[0], 0)  # the picture's right is the subject's right
        other = plane_view(CORONAL, (0, 0, 0), 1.0, 101, 101, left_on_left=False)
        self.assertEqual((other.letters()["left"], other.letters()["right"]), ("R", "L"))
        self.assertLess(other.to_world(100, 50)[0], 0)
        self.assertEqual(
            plane_view(AXIAL, (0, 0, 0), 1, 9, 9).letters(), {"left": "L", "right": "R", "top": "A", "bottom": "P"}
        )
        for left in (True, False):
            self.assertEqual(
                plane_view(SAGITTAL, (0, 0, 0), 1, 9, 9, left).letters(),
                {"left": "P", "right": "A", "top": "S", "bottom": "I"},
            )


class DrawTest(unittest.TestCase):
    """Drawn pixels against an independent interpolation."""

    def expected(self, image: Image, view: View, order: int) -> tuple[np.ndarray, np.ndarray]:
        y, x = np.indices((view.height, view.width))
        world = view.corner + x[..., None] * view.right + y[..., None] * view.down
        voxel = image.space.to_voxel(world.reshape(-1, 3))
        inside = np.all((voxel > -0.499) & (voxel < np.array(image.space.shape) - 0.501), axis=1)
        clipped = np.clip(voxel, 0, np.array(image.space.shape) - 1)
        values = ndimage.map_coordinates(
            image.data.astype(float), (clipped if order else np.floor(clipped + 0.5)).T, order=order
        )
        return values.reshape(x.shape), inside.reshape(x.shape)

    def compare(self, space, kind, smooth):
        rng = np.random.default_rng(0)
        image = Image(ndimage.gaussian_filter(rng.normal(100, 300, space.shape), 1).astype(kind), space)
        look = ImageLook(-50.0, 250.0, smooth=smooth)
        for plane in PLANES:
            view = fitted(plane, space, 83, 71)
            view = view.moved(centre=tuple(np.array(view.centre) + 0.17), pixel=view.pixel * 0.6)
            values, inside = self.expected(image, view, 1 if smooth else 0)
            wanted = np.clip((values + 50) / 300 * 255, 0, 255)
            drawn = grey(draw(view, [Drawn(image, look)]))
            self.assertGreater(inside.sum(), 1000)
            wrong = np.abs(drawn - wanted)[inside] > 1.01
            # rounding may put a few pixels that lie between two voxels on either side
            self.assertLessEqual(wrong.mean(), 0.0 if smooth else 0.01)

    def test_straight_grid(self):
        for kind in (np.int16, np.float32):
            for smooth in (True, False):
                self.compare(straight_space((30, 28, 26)), kind, smooth)

    def test_tilted_grid(self):
        for smooth in (True, False):
            self.compare(tilted_space((30, 34, 26)), np.int16, smooth)

    def test_grid_with_swapped_axes(self):
        affine = np.eye(4)
        affine[:3, :3] = np.array([[0, 0, 0.5], [-0.4, 0, 0], [0, 0.3, 0]])
        from kestrelmist.core.space import Space

        self.compare(Space((22, 30, 26), affine), np.int16, True)

    def test_outside_is_the_ground_colour(self):
        image = two_balls()
        view = fitted(AXIAL, image.space, 60, 60).moved(centre=(0, 0, 500.0))
        self.assertTrue((draw(view, [Drawn(image, ImageLook(0, 1))]) == packed("#0B1013")).all())

    def test_labels_are_filled_and_edged_and_hidden(self):
        image = Image(np.zeros((20, 20, 20), np.int16), straight_space((20, 20, 20), 1.0))
        table, _ = LabelTable().with_new("Box", "#FF0000")
        numbers = np.zeros((20, 20, 20), np.uint16)
        numbers[5:15, 5:15, 5:15] = 1
        labels = LabelMap(image.space, numbers, table)
        view = plane_view(AXIAL, (0.0, 0.0, 0.5), 0.25, 80, 80)
        look = ImageLook(0, 1)
        np.testing.assert_array_equal(sample_numbers(view, labels) == 1, np.pad(np.ones((40, 40), bool), 20))
        picture = draw(view, [Drawn(image, look), Drawn(labels, LabelLook(0.5, True))])
        red = (picture >> 16) & 255
        self.assertEqual((red == 255).sum(), 4 * 39)  # the edge: a frame of 40 × 40 one pixel wide
        self.assertEqual(((red > 120) & (red < 135)).sum(), 38 * 38)
        labels.table = table.changed(1, hidden=True)
        self.assertTrue((draw(view, [Drawn(image, look), Drawn(labels, LabelLook())]) & 0xFFFFFF == 0).all())

    def test_the_range_is_tinted_live(self):
        image = two_balls()
        view = fitted(CORONAL, image.space, 90, 90)
        plain, tinted = (
            draw(view, [Drawn(image, ImageLook(0, 2000, smooth=False, tint=t))]) for t in (None, (500.0, 2000.0))
        )
        values, inside = self.expected(image, view, 0)
        np.testing.assert_array_equal(plain != tinted, (values >= 500) & inside)


class StartTest(unittest.TestCase):
    def test_nothing_heavy_is_loaded_with_the_desk(self):
        code = (
            "import sys, kestrelmist.desk.app; from kestrelmist.core.operation import all_operations; all_operations();"
            "heavy = ('vtkmodules', 'SimpleITK', 'sklearn', 'dask', 'scipy.ndimage', 'pydicom', 'nibabel');"
            "print([m for m in heavy if m in sys.modules])"
        )
        self.assertEqual(
            subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout.strip(), "[]"
        )
