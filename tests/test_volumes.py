"""Volumes drawn by rays, against closed forms and NumPy; looks on values of every scale."""

import unittest
from dataclasses import replace
from unittest import mock

import numpy as np
from scipy import ndimage

from kestrelmist.core.image import Image
from kestrelmist.core.labels import Label, LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.scene.solid.cast_volumes import Bundle, Quality
from kestrelmist.scene.solid.eye import Camera, Eye, Frame
from kestrelmist.scene.solid.rays import LEVELS
from kestrelmist.scene.solid.ready_looks import READY, fitted
from kestrelmist.scene.solid.volume import DrawnVolume, coarser, levels_of
from kestrelmist.scene.solid.volume_look import MOST, VolumeLook, table_of

NO_PLANES = np.zeros((0, 4))


def image_of(values: np.ndarray, spacing: float = 1.0, unit: str = "") -> Image:
    space = Space(values.shape, np.diag([spacing] * 3 + [1.0]))
    return Image(np.asfortranarray(values), space, "Made", unit=unit)


def straight(image: Image, side: str = "front") -> Eye:
    """An eye whose pixels are the voxels, seen from a side."""
    shape, step = np.array(image.space.shape), image.space.spacing[0]
    middle = (shape - 1) / 2 * step
    eye = Eye(Camera(parallel=True).side(side), Frame(tuple(middle), 1.0), int(shape[0]), int(shape[2]))
    zoom = eye.whole / (shape[2] * step / 2)
    return replace(eye, camera=replace(eye.camera, zoom=zoom))


class RaysTest(unittest.TestCase):
    def test_light_is_taken_up_as_by_a_block(self):
        """Through n voxels of opacity a each, 1 − (1 − a)^n is taken up, whatever the length of a step."""
        image = image_of(np.full((12, 20, 14), 50, np.float32), 0.5)
        for alpha in (0.05, 0.3):
            look = VolumeLook(((40.0, "#FF8000", alpha), (60.0, "#FF8000", alpha)), lit=False)
            drawn = DrawnVolume(levels_of(image), look)
            for step in (0.25, 0.7, 1.4):
                for several in (
                    [drawn],
                    [drawn, DrawnVolume(drawn.levels, replace(look, points=((0.0, "#000000", 0.0),)))],
                ):
                    colours, reached = Bundle(several).cast(straight(image), Quality(step), NO_PLANES)
                    middle = colours[4:-4, 4:-4]
                    true = 1 - (1 - alpha) ** 20
                    np.testing.assert_allclose(middle[..., 3].mean(), true, atol=0.012)
                    np.testing.assert_allclose(middle[..., 0], middle[..., 3], rtol=1e-4)
                    np.testing.assert_allclose(middle[..., 1], middle[..., 3] * 128 / 255, rtol=1e-3)
                    self.assertLess(reached[5, 5], 1e29)

    def test_projections_are_those_of_numpy(self):
        rng = np.random.default_rng(0)
        values = rng.normal(100, 20, (14, 17, 12)).astype(np.float32)
        image = image_of(values)
        ramp = ((float(values.min()), "#000000", 1.0), (float(values.max()), "#FFFFFF", 1.0))
        for way, true, most in (
            ("highest", values.max(1), 2.0),
            ("lowest", values.min(1), 2.0),
            ("mean", values.mean(1), 3.0),
        ):
            drawn = DrawnVolume(levels_of(image), VolumeLook(ramp, way, False))
            for several in ([drawn], [drawn, drawn]):
                colours, _ = Bundle(several).cast(straight(image), Quality(0.1), NO_PLANES)
                found = values.min() + colours[..., 0] * np.ptp(values)
                wanted = true.T[::-1, ::-1]  # from the front the subject's right is on the left
                self.assertLess(np.abs(found - wanted)[1:-1, 1:-1].mean(), most, way)
                self.assertGreater(np.corrcoef(found[1:-1, 1:-1].ravel(), wanted[1:-1, 1:-1].ravel())[0, 1], 0.93, way)

    def test_two_volumes_share_the_light(self):
        """The nearer one is seen first, whatever their order."""
        left, right = (image_of(np.full((10, 10, 10), 9.0, np.float32)) for _ in range(2))
        right.space = replace(right.space, affine=np.array([[1, 0, 0, 0], [0, 1, 0, 12.0], [0, 0, 1, 0], [0, 0, 0, 1]]))
        red = DrawnVolume(levels_of(left), VolumeLook(((8.0, "#FF0000", 0.9), (10.0, "#FF0000", 0.9)), lit=False))
        blue = DrawnVolume(levels_of(right), VolumeLook(((8.0, "#0000FF", 0.9), (10.0, "#0000FF", 0.9)), lit=False))
        for several in ([red, blue], [blue, red]):
            eye = Eye(Camera(parallel=True), Frame((4.5, 10.5, 4.5), 9.0), 40, 40)
            front, _ = Bundle(several).cast(replace(eye, camera=eye.camera.side("front")), Quality(), NO_PLANES)
            back, _ = Bundle(several).cast(replace(eye, camera=eye.camera.side("back")), Quality(), NO_PLANES)
            self.assertGreater(front[20, 20, 2], 0.95)
            self.assertGreater(back[20, 20, 0], 0.95)

    def test_planes_and_what_is_nothing(self):
        image = image_of(np.full((20, 20, 20), 9.0, np.float32))
        look = VolumeLook(((8.0, "#FFFFFF", 1.0), (10.0, "#FFFFFF", 1.0)), lit=False)
        mask = np.zeros((20, 20, 20), np.uint16)
        mask[:10] = 3
        labels = LabelMap(image.space, mask, LabelTable([Label(3, "half", "#FF0000")]))
        eye = straight(image)
        planes = np.array([[1.0, 0, 0, 9.5]])
        cut, _ = Bundle([DrawnVolume(levels_of(image), look)]).cast(eye, Quality(), planes)
        inside, _ = Bundle([DrawnVolume(levels_of(image, labels, (3,)), look)]).cast(eye, Quality(), NO_PLANES)
        both = [np.broadcast_to(np.arange(20) < 10, (20, 20)), np.broadcast_to(np.arange(20) >= 10, (20, 20))]
        np.testing.assert_array_equal(cut[..., 3] > 0.5, both[0])  # columns run against x
        np.testing.assert_array_equal(inside[..., 3] > 0.5, both[1])
        hollow = image_of(np.where(mask > 0, np.nan, 9.0).astype(np.float32))
        seen, _ = Bundle([DrawnVolume(levels_of(hollow), look)]).cast(eye, Quality(), NO_PLANES)
        np.testing.assert_array_equal(seen[..., 3] > 0.5, both[0])

    def test_a_coarser_copy_lies_where_the_fine_one_does(self):
        values = np.zeros((40, 44, 36), np.float32)
        values[12:30, 10:34, 8:20] = 100
        levels = levels_of(image_of(values, 0.3))
        small = coarser(levels, 12)
        self.assertLessEqual(max(small.voxels.shape), 12)
        middles = []
        for one in (levels, small):
            weight = one.voxels.astype(float) - one.voxels[one.voxels > 0].min()
            at = [float((weight * axis).sum() / weight.sum()) for axis in np.indices(weight.shape)[::-1]]
            middles.append(one.affine[:3, :3] @ at + one.affine[:3, 3])
        np.testing.assert_allclose(middles[0], middles[1], atol=0.05)
        thin = coarser(levels_of(image_of(np.random.default_rng(0).random((90, 80, 2)).astype(np.float32))), 20)
        self.assertEqual(thin.voxels.shape[0], 2)


class CardTest(unittest.TestCase):
    def test_a_graphics_card_draws_the_same(self):
        """Here without one, by the library's own software: where the ball is, its colour, planes and looks."""
        from kestrelmist.scene.solid.stage import SolidScene

        at = np.linalg.norm(np.moveaxis(np.indices((28, 28, 28)), 0, -1) - 13.5, axis=-1)
        image = image_of((100 * np.clip(10.5 - at, 0, 1)).astype(np.float32))
        look = VolumeLook(((40.0, "#FF8000", 0.0), (60.0, "#FF8000", 1.0)), lit=False)
        found = []
        for by in ("processor", "card"):
            with mock.patch.dict("os.environ", {"KESTRELMIST_DRAW": by}):
                scene = SolidScene()
                scene.set_volume(1, levels_of(image), look)
                self.assertEqual((bool(scene.on_card), bool(scene.drawn_by)), (by == "card",) * 2)
                eye = scene.eye(Camera(20, 10, parallel=True), 120, 100, Frame((13.5, 13.5, 13.5), 14.0))
                whole = scene.picture(eye, clear=True)
                scene.set_planes(np.array([[1.0, 0, 0, 13.5]]))
                cut = scene.picture(eye, clear=True)
                met = scene.place_at(eye, 50.0, 50.0)
                scene.set_look(1, replace(look, points=((40.0, "#0000FF", 0.0), (60.0, "#0000FF", 1.0))))
                blue = scene.picture(eye, clear=True)
                scene.drop(1)
                self.assertEqual(int(scene.picture(eye, clear=True)[..., 3].max()), 0)
                found.append((whole, cut, blue, met))
        for one, other in zip(*(f[:3] for f in found)):
            a, b = one[..., 3] > 127, other[..., 3] > 127
            self.assertGreater(2 * (a & b).sum() / (a.sum() + b.sum()), 0.97)
            inside = ndimage.binary_erosion(a & b, iterations=3)
            self.assertLess(np.abs(one[inside].astype(int) - other[inside]).mean(), 8)
        np.testing.assert_allclose(found[0][3], found[1][3])


class LookTest(unittest.TestCase):
    def test_curves_are_mixed_between_their_points(self):
        look = VolumeLook(((10.0, "#000000", 0.0), (20.0, "#FF0000", 0.5), (30.0, "#FFFFFF", 1.0)))
        table = table_of(look, 0.0, 40.0)
        self.assertEqual(table.shape, (LEVELS, 4))
        at = lambda v: table[1 + round(v / 40 * (LEVELS - 2))]  # noqa: E731
        np.testing.assert_allclose(at(15), (0.5, 0, 0, 0.25), atol=2e-3)
        np.testing.assert_allclose(at(25), (1, 0.5, 0.5, 0.75), atol=2e-3)
        np.testing.assert_allclose(at(5), (0, 0, 0, 0), atol=1e-6)
        np.testing.assert_allclose(at(39), (1, 1, 1, 1), atol=1e-6)
        self.assertEqual(table[0].tolist(), [0, 0, 0, 0])
        self.assertEqual(look.at(15.0), ("#800000", 0.25))

    def test_points_keep_their_order_and_number(self):
        look = VolumeLook(((30.0, "#FFFFFF", 2.0), (10.0, "#000000", -1.0)))
        self.assertEqual(look.points, ((10.0, "#000000", 0.0), (30.0, "#FFFFFF", 1.0)))
        look = look.with_point(20.0, "#00FF00", 0.5)
        self.assertEqual(look.moved(1, 99.0, 0.5).points[1][0], 30.0)  # not past its neighbour
        self.assertEqual(look.without(1).without(0).points, look.without(1).points)  # two stay
        self.assertEqual(look.coloured(1, "#123456").points[1][1], "#123456")
        self.assertEqual(VolumeLook(((np.nan, "#000000", 0.0), (1.0, "red", 1.0))).points, VolumeLook().points)
        many = VolumeLook(tuple((float(n), "#000000", 0.1) for n in range(200)))
        self.assertEqual(len(many.points), MOST)
        self.assertIs(many.with_point(3.5, "#000000", 1.0), many)

    def test_ready_looks_suit_values_of_every_scale(self):
        rng = np.random.default_rng(1)
        at = np.linalg.norm(np.moveaxis(np.indices((24, 24, 24)), 0, -1) - 11.5, axis=-1)
        head = np.where(at < 5, 3.0, np.where(at < 9, 2.0, 0.0)) + rng.normal(0, 0.05, at.shape)
        self.assertGreaterEqual(len(list(READY)), 10)
        images = {
            "tiny": image_of((head * 0.003).astype(np.float32)),
            "huge": image_of((head * 3e5).astype(np.float32)),
            "below zero": image_of((head - 50).astype(np.float32)),
            "equal": image_of(np.full((9, 9, 9), 4.0, np.float32)),
            "HU": image_of((head * 700 - 1000).astype(np.int16), unit="HU"),
            "holes": image_of(np.where(at < 3, np.nan, head).astype(np.float32)),
            "infinite": image_of(np.where(at < 3, np.inf, head).astype(np.float32)),
            "nothing": image_of(np.full((9, 9, 9), np.nan, np.float32)),
        }
        for kind, image in images.items():
            for one in READY:
                look = fitted(one.name, image)
                self.assertEqual(look.name, one.name)
                self.assertTrue(np.isfinite([p[0] for p in look.points]).all())
                drawn = DrawnVolume(levels_of(image), look)
                eye = Eye(Camera(), Frame((11.5, 11.5, 11.5), 12.0), 24, 24)
                colours, _ = Bundle([drawn]).cast(eye, Quality(), NO_PLANES)
                self.assertTrue(np.isfinite(colours).all(), (kind, one.name))
                if kind in ("tiny", "huge", "below zero", "HU") and one.name in ("Skin", "Soft tissue", "Bone"):
                    self.assertGreater(colours[12, 12, 3], 0.3, (kind, one.name))
                    self.assertLess(colours[0, 0, 3], 0.1, (kind, one.name))


if __name__ == "__main__":
    unittest.main()
