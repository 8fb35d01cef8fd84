import subprocess
import sys
import time
import unittest
import unittest.mock

import numpy as np
from scipy import ndimage

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.scene import boxes, occupancy
from kestrelmist.scene.boxes import box_faces, cell_faces
from kestrelmist.scene.colours import packed
from kestrelmist.scene.drawing import draw
from kestrelmist.scene.layer import ImageLook, LabelLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.occupancy import image_field, label_field
from kestrelmist.scene.sampling import sample_numbers
from kestrelmist.scene.solid_process import SolidProcess
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


class SolidTest(unittest.TestCase):
    def test_coarse_fields_keep_volume_and_place(self):
        image = two_balls()
        labels = LabelMap(image.space, (image.data > 0).astype(np.uint16))
        for longest in (200, 12):
            field = label_field(labels, 1, longest)
            cell = abs(np.linalg.det(field.affine[:3, :3]))
            self.assertAlmostEqual(field.values.sum() / 255 * cell / (labels.counts[1] * 0.125), 1.0, delta=0.01)
            k, j, i = (
                float((field.values * axis).sum() / field.values.sum()) for axis in np.indices(field.values.shape)
            )
            place = field.affine @ (i, j, k, 1)
            truth = image.space.to_world(np.argwhere(labels.data == 1)).mean(0)
            np.testing.assert_allclose(place[:3], truth, atol=0.05)
        self.assertIsNone(label_field(labels, 7))
        self.assertLessEqual(max(image_field(image, 20).values.shape), 20)

    def extent(self, labels, longest=200):
        """The box of the surface of label 1 in voxels, and how many triangles it has."""
        from kestrelmist.scene.solid_scene import SolidScene

        field, scene = label_field(labels, 1, longest), SolidScene()
        how = (127.5, 18, 0.3 / field.factor, field.faces)
        triangles = scene.set_surface(1, field.values, field.affine, (1, 0, 0), 1.0, *how)
        if not triangles:
            return None, 0
        bounds = np.array(scene.surfaces[1].GetMapper().GetInput().GetBounds()).reshape(3, 2)
        return labels.space.to_voxel(bounds.T), triangles

    def test_what_is_labelled_is_seen_in_its_size(self):
        """Sheets, rods and specks of one voxel, at every factor between cells and voxels."""
        space = straight_space((60, 60, 60), 0.5)
        shapes = {
            "sheet": (slice(10, 50), slice(10, 50), slice(30, 31)),
            "rod": (slice(10, 50), slice(21, 22), slice(30, 31)),
            "speck": (slice(10, 11), slice(21, 22), slice(30, 31)),
            "block": (slice(10, 50), slice(10, 50), slice(20, 45)),
        }
        for name, box in shapes.items():
            for longest in (200, 25, 14, 10):
                for moved in (0, 1):
                    numbers = np.zeros(space.shape, np.uint16)
                    at = (box[0], box[1], slice(box[2].start + moved, box[2].stop + moved))
                    numbers[at] = 1
                    if name == "speck":
                        numbers[50, 50, 50] = 1  # so that the cells are large
                    (low, high), _ = self.extent(LabelMap(space, numbers), longest)
                    true = [(s.start - 0.5, s.stop - 0.5) for s in at]
                    if name == "speck":
                        true = [(a, 50.5) for a, _ in true]
                    away = np.abs(np.stack([low, high], 1) - np.array(true)).max()
                    self.assertLess(away, 0.5, f"{name}, {longest} cells, moved by {moved}")

    def test_faces_of_boxes_close_round_them(self):
        thin = np.array([[4, 5, 6], [5, 5, 6], [9, 9, 9]], np.int32)
        faces = box_faces(thin, np.eye(4))
        self.assertEqual(len(faces), 10 + 6)
        a, b, c = (faces[:, n + 1] - faces[:, 0] for n in range(3))
        normals = np.cross(a, b)
        volume = (faces.mean(1) * normals).sum() / 3  # the divergence theorem: faces look outward
        self.assertAlmostEqual(volume, 3.0)
        np.testing.assert_allclose(np.abs(normals).sum(1), 1)

    def test_noise_is_seen_without_a_face_for_each_voxel(self):
        random = np.random.default_rng(4)
        cells = random.random((40, 41, 43)) < 0.2
        with unittest.mock.patch.object(boxes, "MOST_FACES", 5000):
            faces = cell_faces(cells, np.diag([0.5, 0.5, 0.5, 1.0]))
        self.assertLessEqual(len(faces), 5000)
        box = np.argwhere(cells)[:, ::-1]
        np.testing.assert_allclose(faces.reshape(-1, 3).min(0), (box.min(0) - 0.5) * 0.5, atol=2)
        np.testing.assert_allclose(faces.reshape(-1, 3).max(0), (box.max(0) + 0.5) * 0.5, atol=4)
        numbers = (random.random((90, 90, 90)) < 0.15).astype(np.uint16)
        with unittest.mock.patch.object(occupancy, "MOST_BOXES", 1000):
            field = label_field(LabelMap(straight_space((90, 90, 90)), numbers), 1, 30)
        self.assertEqual(field.factor, 3)
        self.assertGreater(len(field.faces), 0)

    def test_its_own_process_draws_surfaces(self):
        image = two_balls()
        labels = LabelMap(image.space, (image.data > 0).astype(np.uint16))
        field = label_field(labels, 1)
        process = SolidProcess()
        self.addCleanup(process.close)
        process.send("surface", 1, field.values, field.affine, (1.0, 0.1, 0.1), 1.0)
        for n in range(1, 5):
            process.send("view", n, 160, 120, 20.0 * n, 20.0, 1.0)
        said, ends = [], time.monotonic() + 60
        while (not said or said[-1][:2] != ("picture", 4)) and time.monotonic() < ends:
            if process.pipe.poll(0.2):
                said.append(process.pipe.recv())
        triangles = next(m[2] for m in said if m[0] == "surface")
        self.assertGreater(triangles, 1000)
        picture = np.frombuffer(said[-1][4], np.uint8).reshape(120, 160, 3).astype(int)
        red = (picture[..., 0] - picture[..., 2]) > 60
        self.assertGreater(red.mean(), 0.05)
        self.assertLess(red.mean(), 0.6)
        self.assertFalse(red[0].any())

    def test_nothing_heavy_is_loaded_with_the_desk(self):
        code = (
            "import sys, kestrelmist.desk.app; from kestrelmist.core.operation import all_operations; all_operations();"
            "heavy = ('vtkmodules', 'SimpleITK', 'sklearn', 'dask', 'scipy.ndimage', 'pydicom', 'nibabel');"
            "print([m for m in heavy if m in sys.modules])"
        )
        self.assertEqual(
            subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout.strip(), "[]"
        )
