"""Other grids: resampled, cropped, padded, turned; against formulas and scipy."""

import numpy as np
from scipy import ndimage

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.resampling import frame_between, resampled
from kestrelmist.core.space import Space
from kestrelmist.core.spline import spline_coefficients
from kestrelmist.formats.label_files import read_label_map, write_label_map
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.prepare.grid.bring_labels import bring_labels
from kestrelmist.prepare.grid.crop import crop, turn
from kestrelmist.prepare.grid.resample import resample, with_spacing
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space, tilted_space

RNG = np.random.default_rng(12)


def smooth_field(shape=(24, 28, 32)) -> np.ndarray:
    """Values [k, j, i] without sharp changes."""
    return (ndimage.gaussian_filter(RNG.standard_normal(shape), 2.0) * 100).astype(np.float32)


def place_image(space: Space) -> Image:
    """Values that are linear in the place: 3 x − 2 y + 5 z."""
    world = space.to_world(np.indices(space.shape).reshape(3, -1).T)
    return Image(np.asfortranarray((world @ (3, -2, 5)).reshape(space.shape).astype(np.float32)), space, "Place", "T-1")


class KernelTest(PlaceCase):
    def setUp(self):
        super().setUp()
        a = np.radians(10)
        self.frame = np.array([[np.cos(a), -np.sin(a), 0.02, 4], [np.sin(a), np.cos(a), 0, -2.3], [0, 0.03, 1, 0.4]])

    def scipy(self, values, order):
        matrix, start = self.frame[:, :3], self.frame[:, 3]
        return ndimage.affine_transform(
            values.T.astype(float), matrix, start, values.shape[::-1], order=order, mode="mirror"
        ).T

    def test_the_same_as_an_independent_library(self):
        values = smooth_field()
        shape = values.shape[::-1]
        world = np.indices(shape).reshape(3, -1).T @ self.frame[:, :3].T + self.frame[:, 3]
        inner = ((world > 1) & (world < np.array(shape) - 2)).all(1).reshape(shape).T
        for how, order, delta in (("nearest", 0, 0.0), ("linear", 1, 1e-3), ("cubic", 3, 2e-3)):
            found = resampled(values, self.frame, shape, how)
            np.testing.assert_allclose(found[inner], self.scipy(values, order)[inner], atol=delta)
        sinc = resampled(values, self.frame, shape, "sinc")
        deep = ((world > 4) & (world < np.array(shape) - 5)).all(1).reshape(shape).T
        np.testing.assert_allclose(sinc[deep], self.scipy(values, 3)[deep], atol=0.3)
        outside = ((world < -0.5) | (world >= np.array(shape) - 0.5)).any(1).reshape(shape).T
        self.assertTrue(np.isnan(found[outside]).all())
        coefficients = spline_coefficients(values)
        np.testing.assert_allclose(coefficients, ndimage.spline_filter(values.astype(float)), atol=1e-3)

    def test_voxels_on_voxels_are_kept_and_missing_values_stay_missing(self):
        values, same = smooth_field(), np.eye(4)[:3]
        values[3, 4, 5] = np.nan
        for how in ("nearest", "linear", "cubic", "sinc"):
            found = resampled(values, same, values.shape[::-1], how)
            there = np.isfinite(values)
            np.testing.assert_allclose(found[there], values[there], atol=2e-3)
            self.assertTrue(np.isnan(found[3, 4, 5]))
        for shape in ((1, 1, 1), (5, 1, 1), (1, 6, 2)):
            one = np.ones(shape[::-1], np.int16) * 7
            for how in ("nearest", "linear", "cubic", "sinc"):
                np.testing.assert_allclose(resampled(one, same, shape, how), 7, rtol=1e-5)
        nothing = np.full((3, 3, 3), np.nan, np.float32)
        self.assertTrue(np.isnan(resampled(nothing, same, (3, 3, 3), "cubic")).all())


class ResampleTest(PlaceCase):
    def test_onto_another_grid_by_world_position(self):
        image, other = (
            place_image(tilted_space((30, 26, 22), (0.5, 0.4, 0.6))),
            place_image(straight_space((20, 18, 16), 0.4)),
        )
        other = Image(
            other.data, other.space.moved(np.array([[1, 0, 0, 7], [0, 1, 0, -3], [0, 0, 1, 12], [0, 0, 0, 1.0]]))
        )
        for how in ("linear", "cubic"):
            made = resample(image, onto=other, how=how)
            self.assertTrue(made.space.same_grid(other.space))
            wanted = place_image(other.space).data
            inside = image.space.to_voxel(other.space.to_world(np.indices(other.space.shape).reshape(3, -1).T))
            inner = ((inside > 5) & (inside < np.array(image.space.shape) - 6)).all(1).reshape(other.space.shape)
            self.assertGreater(inner.sum(), 50)
            np.testing.assert_allclose(made.data[inner], wanted[inner], atol=0.02)

    def test_a_spacing_keeps_the_extent(self):
        space = straight_space((40, 30, 21), 0.5)
        coarse = with_spacing(space, (1.0, 1.0, 1.0))
        self.assertEqual(coarse.shape, (20, 15, 11))
        np.testing.assert_allclose(coarse.centre, space.centre)
        made = resample(place_image(space), spacing=(1.0, 1.0, 1.0), how="linear")
        wanted = place_image(made.space).data
        inner = (slice(3, -3),) * 3  # at the faces the smoothing has one side only
        np.testing.assert_allclose(made.data[inner], wanted[inner], atol=0.01)
        back = resample(made, onto=place_image(space))
        np.testing.assert_allclose(
            back.data[10:-10, 10:-10, 8:-8], place_image(space).data[10:-10, 10:-10, 8:-8], atol=0.05
        )

    def test_coarser_voxels_hold_what_lies_in_them(self):
        values = np.zeros((64, 64, 64), np.float32)
        values[::2] = 100.0  # stripes that are finer than the new voxels
        image = Image(np.asfortranarray(values), straight_space((64, 64, 64), 0.5))
        soft = resample(image, spacing=(2.0, 2.0, 2.0), how="linear").data[2:-2, 2:-2, 2:-2]
        hard = resample(image, spacing=(2.0, 2.0, 2.0), how="linear", soften=False).data[2:-2, 2:-2, 2:-2]
        self.assertLess(np.abs(soft - 50).max(), 1.0)
        self.assertAlmostEqual(float(image.data.mean()), float(soft.mean()), delta=0.5)
        self.assertGreaterEqual(np.abs(hard - 50).max(), np.abs(soft - 50).max())

    def test_series_and_wrong_input(self):
        data = np.stack([place_image(straight_space((8, 8, 8), 1.0)).data * (t + 1) for t in range(4)], -1)
        image = Image(np.asfortranarray(data), straight_space((8, 8, 8), 1.0), "Run", axes=(Axis("time", 4),))
        made = resample(image, spacing=(0.5, 0.5, 0.5), how="linear")
        self.assertEqual(made.shape, (16, 16, 16, 4))
        np.testing.assert_allclose(made.frame((2,)).data, 3 * made.frame((0,)).data, rtol=1e-4, atol=1e-3)
        one = place_image(straight_space((8, 8, 8), 1.0))
        far = Image(one.data, one.space.moved(np.array([[1, 0, 0, 500], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]])))
        bare = Image(one.data, Space((8, 8, 8), np.eye(4), "px"), "Bare")
        for given, said in (
            ({}, "which grid is wanted"),
            ({"onto": one, "spacing": (1, 1, 1)}, "which grid is wanted"),
            ({"onto": far}, "does not overlap"),
            ({"spacing": (1e-7, 1e-7, 1e-7)}, "choose larger voxels"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                resample(one, **given)
        with self.assertRaisesRegex(Trouble, "no scale"):
            resample(bare, spacing=(1, 1, 1))
        save_image(self.place / "one.nii.gz", one)
        kestrelmist(
            "resample", self.place / "one.nii.gz", "--spacing", "2,2,2", "--how", "cubic", "--out", self.place / "o.nii"
        )
        self.assertEqual(open_image(self.place / "o.nii").space.shape, (4, 4, 4))


class CropTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.image = place_image(tilted_space())
        self.labels = LabelMap(self.image.space, table=LabelTable().with_new("Box")[0])
        self.labels.data[5:9, 6:14, 3:8] = 1
        self.labels.recount()

    def require_places(self, made: Image) -> None:
        """Every voxel of the new image has the value of its place."""
        inside = made.space.to_world(np.argwhere(np.isfinite(made.data)))
        there = np.array([self.image.space.nearest_voxel(p) is not None for p in inside[::7]])
        values = made.data[np.isfinite(made.data)][::7]
        np.testing.assert_allclose(values[there], (inside[::7] @ (3, -2, 5))[there], atol=1e-3)

    def test_voxels_a_label_a_box_and_not_air(self):
        made = crop(self.image, self.labels, voxels=(2, 3, 4, 10, 12, 9))
        np.testing.assert_array_equal(made.data, self.image.data[2:11, 3:13, 4:10])
        self.require_places(made)
        made = crop(self.image, self.labels, label="Box")
        self.assertEqual(made.space.shape, (4, 8, 5))
        made = crop(self.image, self.labels, label="Box", margin=0.8)  # of 0.5, 0.4 and 0.7 mm: 2, 2 and 1 voxels
        self.assertEqual(made.space.shape, (8, 12, 7))
        self.require_places(made)
        straight = place_image(straight_space((20, 20, 20), 0.5))
        labels = LabelMap(straight.space)
        made = crop(straight, labels, box=(-1.0, -2.0, 0.0, 2.0, 1.0, 3.0))
        low, high = made.space.corners().min(0), made.space.corners().max(0)
        np.testing.assert_allclose(low, (-1, -2, 0))
        np.testing.assert_allclose(high, (2, 1, 3))
        bright = Image(np.zeros((30, 30, 30), np.int16), straight_space((30, 30, 30), 1.0))
        bright.data[8:20, 9:15, 3:25] = 900
        made = crop(bright, LabelMap(bright.space), air=True)
        self.assertEqual(made.space.shape, (12, 6, 22))

    def test_padded_beyond_the_image(self):
        made = crop(self.image, self.labels, voxels=(-2, 0, 0, 19, 23, 15), fill=-5.0)
        self.assertEqual(made.space.shape, (22, 24, 16))
        self.assertTrue((made.data[:2] == -5).all())
        np.testing.assert_array_equal(made.data[2:], self.image.data)
        self.require_places(Image(made.data[2:], self.image.space))
        np.testing.assert_allclose(made.space.to_world((2, 0, 0)), self.image.space.to_world((0, 0, 0)))
        colour = Image(np.zeros((4, 4, 1, 3), np.uint8), straight_space((4, 4, 1), 1.0), colour=True)
        self.assertEqual(crop(colour, LabelMap(colour.space), margin=1.0).space.shape, (6, 6, 1))

    def test_wrong_input(self):
        for given, said in (
            ({}, "which part is wanted"),
            ({"label": "Box", "air": True}, "which part is wanted"),
            ({"label": "Nothing"}, "Nothing"),
            ({"voxels": (50, 50, 50, 60, 60, 60)}, "would be left"),
            ({"voxels": (0.5, 0, 0, 3, 3, 3)}, "whole numbers"),
            ({"label": "Box", "margin": -50.0}, "would be left"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                crop(self.image, self.labels, **given)

    def test_turned_and_flipped_without_touching_a_value(self):
        middle = self.image.space.centre
        for about, axis in (("x", 0), ("y", 1), ("z", 2)):
            made = turn(self.image, about, 1)
            np.testing.assert_array_equal(made.data, self.image.data)
            np.testing.assert_allclose(made.space.centre, middle)
            before, after = (s.to_world((0, 0, 0)) - middle for s in (self.image.space, made.space))
            self.assertAlmostEqual(before[axis], after[axis])
            other = [(1, 2), (2, 0), (0, 1)][axis]
            np.testing.assert_allclose(after[list(other)], (-before[other[1]], before[other[0]]), atol=1e-9)
        four = self.image
        for _ in range(4):
            four = turn(four, "y", 1)
        np.testing.assert_allclose(four.space.affine, self.image.space.affine, atol=1e-9)
        flipped = turn(self.image, "x", flip=True)
        before, after = (s.to_world((0, 0, 0)) - middle for s in (self.image.space, flipped.space))
        np.testing.assert_allclose(after, before * (-1, 1, 1), atol=1e-9)
        with self.assertRaisesRegex(Trouble, "Nothing is to be turned"):
            turn(self.image, "z", 0)


class LabelsAlongTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.space = straight_space((40, 36, 32), 0.5)
        away = np.linalg.norm(self.space.to_world(np.indices(self.space.shape).reshape(3, -1).T), axis=1)
        self.away = away.reshape(self.space.shape)
        table = LabelTable().with_new("Core")[0].with_new("Shell")[0]
        data = np.where(self.away < 4, 1, np.where(self.away < 6, 2, 0)).astype(np.uint16)
        self.source = LabelMap(self.space, np.asfortranarray(data), table, "Source")

    def brought(self, space: Space, labels: LabelMap | None = None) -> LabelMap:
        image = Image(np.zeros(space.shape, np.float32, order="F"), space, "Image")
        labels = labels or LabelMap(space)
        bring_labels(image, labels, self.source).apply(labels)
        return labels

    def test_onto_another_spacing_by_majority(self):
        turned = tilted_space((44, 44, 40), (0.4, 0.4, 0.4), 25.0)
        affine = turned.affine.copy()
        affine[:3, 3] -= turned.centre
        for space in (straight_space((15, 14, 13), 1.3), Space(turned.shape, affine)):
            labels = self.brought(space)
            self.assertEqual([row.name for row in labels.table], ["Core", "Shell"])
            for row, true in zip(labels.table, (4 / 3 * np.pi * 64, 4 / 3 * np.pi * (216 - 64))):
                volume = float(labels.counts[row.number]) * space.voxel_volume
                self.assertAlmostEqual(volume / true, 1.0, delta=0.06)
            self.assertEqual([r.colour for r in labels.table], [r.colour for r in self.source.table])

    def test_a_crop_keeps_every_voxel_and_labels_here_stay(self):
        affine = self.space.affine.copy()
        affine[:3, 3] = self.space.to_world((10, 10, 10))
        space = Space((20, 18, 12), affine)
        labels = LabelMap(space, table=LabelTable().with_new("Mine")[0].with_new("Core")[0])
        labels.data[0, 0, 0] = 1
        labels.data[10, 8, 6] = 1
        labels.recount()
        self.brought(space, labels)
        part = self.source.data[10:30, 10:28, 10:22]
        self.assertEqual([row.name for row in labels.table], ["Mine", "Core", "Shell"])
        wanted = np.where(part == 1, 2, np.where(part == 2, 3, 0))
        wanted[0, 0, 0] = wanted[10, 8, 6] = 1
        np.testing.assert_array_equal(labels.data, wanted)

    def test_wrong_input(self):
        far = Space((4, 4, 4), self.space.affine + np.array([[0, 0, 0, 500]] + [[0] * 4] * 3))
        with self.assertRaisesRegex(Trouble, "does not lie where"):
            self.brought(far)
        self.source = LabelMap(self.space, name="Empty")
        with self.assertRaisesRegex(Trouble, "no voxel"):
            self.brought(self.space)

    def test_on_the_command_line(self):
        write_label_map(self.place / "labels.nii.gz", self.source)
        image = Image(np.zeros((15, 14, 13), np.float32, order="F"), straight_space((15, 14, 13), 1.3), "Image")
        save_image(self.place / "image.nii.gz", image)
        out = self.place / "out.nii.gz"
        kestrelmist("bring-labels", self.place / "image.nii.gz", "--source", self.place / "labels.nii.gz", "--out", out)
        self.assertEqual([row.name for row in read_label_map(out).table], ["Core", "Shell"])


class FramesTest(PlaceCase):
    def test_between_two_grids(self):
        a, b = tilted_space(), straight_space()
        frame = frame_between(a, b)
        np.testing.assert_allclose(frame @ (3, 4, 5, 1), a.to_voxel(b.to_world((3, 4, 5))))
