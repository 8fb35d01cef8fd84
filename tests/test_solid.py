"""Solid scenes as frozen data, how they are drawn, what a click meets, and the picture that is written of one."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image as Picture

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import Label, LabelMap, LabelTable
from kestrelmist.core.progress import silent
from kestrelmist.core.space import Space
from kestrelmist.core.surface.blocks import block_surface, changed_blocks, states_of
from kestrelmist.core.world import World
from kestrelmist.report.render import render
from kestrelmist.report.scene_choice import SceneChoice, scene_for
from kestrelmist.scene.layer import ImageLook
from kestrelmist.scene.solid.eye import SIDES, Camera, Eye, Frame
from kestrelmist.scene.solid.figure import cube
from kestrelmist.scene.solid.making import made
from kestrelmist.scene.solid.rendering import drawing
from kestrelmist.scene.solid.scene import OUTLINE, VOLUME, Body, Solid, bodies_of_image, bodies_of_labels
from kestrelmist.scene.solid.shown import Shown
from kestrelmist.scene.solid.stage import SolidScene
from kestrelmist.scene.solid.volume_look import VolumeLook
from kestrelmist.study.study import Study
from tests.making import keep_thing, two_balls
from tests.test_level import height_map

FRONT = Camera(0, 0)
HARD = VolumeLook(((50.0, "#000000", 0.0), (60.0, "#FFFFFF", 1.0)))


def ball(image, centre, radius: float, number: int, name: str, colour: str) -> LabelMap:
    """A label map with one ball."""
    i, j, k = np.indices(image.space.shape)
    away = np.sqrt(sum((axis - c) ** 2 for axis, c in zip((i, j, k), centre)))
    data = np.where(away <= radius, number, 0).astype(np.uint16)
    return LabelMap(image.space, data, LabelTable([Label(number, name, colour)]), name)


def put(scene: SolidScene, body: Body, thing, find=None) -> None:
    word, *rest = made(body, thing, find or (lambda key: thing))
    {"mesh": scene.set_mesh, "volume": scene.set_volume, "picture": scene.set_picture, "lines": scene.set_lines}[word](
        *rest
    )


class DataTest(unittest.TestCase):
    def test_kept_and_read_again(self):
        look = VolumeLook(((0.0, "#102030", 0.1), (9.5, "#FFFFFF", 1.0)), "highest", False)
        bodies = (
            Body(3, 0, OUTLINE, opacity=0.2),
            Body("x#y", 4, colour="#112233", shift=(1.0, 2.0, 3.0)),
            Body(7, look=ImageLook(1, 2)),
            Body(8, way=VOLUME, look=look, inside=(4, 2)),
        )
        ends = ((-1.0, -2.0, -3.0), (1.0, 2.0, 3.0))
        solid = Solid(bodies, Camera(10, 20, 2), ends, (0.0, 0.6, 0.8, 1.5))
        self.assertEqual(Solid.from_dict(json.loads(json.dumps(solid.as_dict()))), solid)
        for damaged in (
            {},
            {"bodies": 3, "crop": [1]},
            {"bodies": [{"thing": None}, 4]},
            {"camera": "x", "bodies": None},
        ):
            self.assertEqual(Solid.from_dict(damaged) if damaged.get("bodies") != 3 else Solid(), Solid())
        self.assertEqual(Camera(350, 80).turned(20, 20), Camera(10, 90))
        shown = Shown("volume", look, crop=ends, cut=(1.0, 0.0, 0.0, 2.0), camera=Camera(1, 2))
        self.assertEqual(Shown.from_dict(json.loads(json.dumps(shown.as_dict()))), shown)
        self.assertEqual(Shown.from_dict({"image": 4, "look": "x", "crop": [1], "camera": None}), Shown())

    def test_an_image_is_an_outline_and_a_height_map_a_relief(self):
        self.assertEqual(bodies_of_image(1, two_balls(), ImageLook(0, 1)).way, "outline")
        self.assertEqual(bodies_of_image(1, height_map(np.zeros((9, 9))), ImageLook(0, 1)).way, "relief")


class EyeTest(unittest.TestCase):
    def test_sides_are_where_they_say(self):
        frame = Frame((1.0, 2.0, 3.0), 10.0)
        seen = {  # what is to the right and up in each of the six views
            "front": ((-1, 0, 0), (0, 0, 1)),
            "back": ((1, 0, 0), (0, 0, 1)),
            "right": ((0, 1, 0), (0, 0, 1)),
            "left": ((0, -1, 0), (0, 0, 1)),
            "top": ((-1, 0, 0), (0, -1, 0)),
            "bottom": ((-1, 0, 0), (0, 1, 0)),
        }
        for name in SIDES:
            right, up, _ = Eye(Camera().side(name), frame, 100, 100).axes
            np.testing.assert_allclose((right, up), seen[name], atol=1e-12)

    def test_a_place_and_its_ray_meet(self):
        for parallel in (False, True):
            camera = Camera(31, -40, 1.7, 12, 0.2, -0.1, parallel)
            eye = Eye(camera, Frame((1.0, 2.0, 3.0), 10.0), 640, 480)
            place = np.array((3.0, -1.0, 5.0))
            x, y, depth = eye.to_page(place)
            start, ahead = eye.ray(x, y)
            along = (place - start) @ ahead
            np.testing.assert_allclose(start + along * ahead, place, atol=1e-9)
            self.assertAlmostEqual(float(-eye.axes[2] @ (place - eye.place)), float(depth))

    def test_the_cube_shows_the_sides_that_are_seen(self):
        letters = [one.text for one in cube(Eye(Camera(0, 0), Frame(), 90, 90), 90, 90) if hasattr(one, "text")]
        self.assertEqual(letters, ["A"])
        letters = [one.text for one in cube(Eye(Camera(45, 30), Frame(), 90, 90), 90, 90) if hasattr(one, "text")]
        self.assertEqual(sorted(letters), ["A", "R", "S"])
        self.assertEqual(cube(Eye(Camera(), Frame(), 90, 90), 90, 90, sides_known=False), [])


class SceneTest(unittest.TestCase):
    def setUp(self):
        self.image = two_balls()
        self.red = ball(self.image, (12, 18, 16), 6, 1, "red", "#FF0000")
        self.blue = ball(self.image, (28, 18, 16), 6, 1, "blue", "#0000FF")

    def drawn(self, solid: Solid, things, camera=FRONT, size=(320, 240)):
        with drawing(solid, things.__getitem__, silent()) as drawn:
            pixels, eye = drawn.picture(camera, *size, False, silent())
            return pixels.astype(int), eye, dict(drawn.triangles)

    def test_maps_of_one_number_stand_in_one_scene(self):
        things = {"image": self.image, 5: self.red, 6: self.blue}
        bodies = [*bodies_of_labels(5, self.red), *bodies_of_labels(6, self.blue)]
        self.assertEqual([b.key for b in bodies], [(5, 1), (6, 1)])
        pixels, _, triangles = self.drawn(Solid(tuple(bodies)), things)
        red, blue = pixels[..., 0], pixels[..., 2]
        seen = [np.argwhere(red - blue > 60), np.argwhere(blue - red > 60)]
        self.assertGreater(min(map(len, seen)), 500)
        # seen from the front the subject's right is on the left: blue lies at larger i, which is to the right of it
        sides = [points[:, 1].mean() for points in seen]
        rightward = self.image.space.affine[0, 0] > 0
        self.assertEqual(sides[1] < sides[0], rightward)
        self.assertGreater(min(triangles.values()), 300)
        # what is cropped away, by a box or a plane, is gone
        middle = float(self.image.space.to_world((20, 0, 0))[0])
        low, high = self.image.space.corners().min(0), self.image.space.corners().max(0)
        keep = ((middle, *low[1:]), tuple(high)) if rightward else (tuple(low), (middle, *high[1:]))
        sign = 1.0 if rightward else -1.0
        for how in ({"crop": keep}, {"cut": (sign, 0.0, 0.0, sign * middle)}):
            cut, _, _ = self.drawn(Solid(tuple(bodies), **how), things)
            self.assertEqual(int((cut[..., 0] - cut[..., 2] > 60).sum()), 0)
            self.assertGreater(int((cut[..., 2] - cut[..., 0] > 60).sum()), 500)

    def test_a_label_inside_a_translucent_one_reads_as_inside(self):
        inner = ball(self.image, (20, 18, 16), 4, 1, "inner", "#FF0000")
        outer = ball(self.image, (20, 18, 16), 12, 1, "outer", "#FFFFFF")
        things = {1: inner, 2: outer}
        bodies = (*bodies_of_labels(1, inner), *bodies_of_labels(2, outer, opacity=0.3))
        pixels, eye, _ = self.drawn(Solid(bodies), things)
        at = tuple(int(v) for v in eye.to_page(self.image.space.to_world((20, 18, 16)))[1::-1])
        alone, _, _ = self.drawn(Solid(bodies[:1]), things)
        within, beside = pixels[at][:3], pixels[at[0], at[1] + 70][:3]
        self.assertGreater(within[0] - within[1], 50)  # red, seen through
        self.assertGreater(within[1], alone[120, 160, 1] + 20)  # and paler than by itself
        self.assertLess(abs(int(beside[0]) - int(beside[1])), 12)  # beside it only the outer one
        for order in (bodies, bodies[::-1]):  # whatever was handed over first
            again, _, _ = self.drawn(Solid(order), things)
            self.assertLess(np.abs(again - pixels).mean(), 0.5)

    def test_the_silhouette_is_the_projection(self):
        labels = ball(self.image, (18, 20, 14), 10, 1, "ball", "#FF0000")
        scene = SolidScene()
        put(scene, bodies_of_labels(1, labels)[0], labels)
        eye = scene.eye(Camera(40, 25, parallel=True), 400, 300)
        mask = scene.picture(eye, clear=True)[..., 3] > 127
        centre = eye.to_page(labels.space.to_world((18, 20, 14)))
        y, x = np.indices(mask.shape) + 0.5
        voxel = labels.space.spacing[0]
        radius = (3 * labels.counts[1] * voxel**3 / (4 * np.pi)) ** (1 / 3) / eye.pixel
        true = np.hypot(x - centre[0], y - centre[1]) < radius
        self.assertGreater(2 * (mask & true).sum() / (mask.sum() + true.sum()), 0.985)

    def test_a_click_meets_the_surface_and_the_visible_part_of_a_volume(self):
        """Within a voxel of the place, by perspective and parallel, through tiles of a large picture as well."""
        space = Space((60, 60, 60), np.array([[0.5, 0.1, 0, -15], [0, 0.5, 0, -12], [0, 0, 0.5, 40], [0, 0, 0, 1]]))
        at = np.moveaxis(np.indices(space.shape), 0, -1)
        depth = 20 - np.linalg.norm(at - (30, 30, 30), axis=-1)
        values = (100 * np.clip(depth + 0.5, 0, 1)).astype(np.float32)
        image = Image(np.asfortranarray(values), space, "Ball")
        labels = LabelMap(space, (depth > 0).astype(np.uint16), LabelTable([Label(1, "ball", "#FF0000")]))
        for body, thing in ((Body(1, 0, VOLUME, look=HARD), image), (bodies_of_labels(1, labels)[0], labels)):
            scene = SolidScene()
            put(scene, body, thing)
            for camera in (Camera(30, 20), Camera(30, 20, 1.5, parallel=True)):
                eye = scene.eye(camera, 500, 400)
                for x, y in ((250.0, 200.0), (200.0, 230.0), (300.0, 150.0)):
                    met = scene.place_at(eye, x, y)
                    self.assertAlmostEqual(np.linalg.norm(space.to_voxel(met) - 30), 20, delta=1.0)
                    np.testing.assert_allclose(eye.to_page(met)[:2], (x, y), atol=0.01)
                self.assertIsNone(scene.place_at(eye, 2.0, 2.0))
            scene.set_planes(np.array([[*eye.axes[2] * -1, float(-eye.axes[2] @ space.to_world((30, 30, 30)))]]))
            cut = scene.place_at(eye, 250.0, 200.0)  # the half towards who looks is gone
            self.assertIsNotNone(cut)
            away = (space.to_world((30, 30, 30)) - cut) @ eye.axes[2]
            self.assertGreater(away, -0.6)

    def test_rays_end_at_what_is_solid(self):
        scene = SolidScene()
        space = Space((40, 40, 40), np.eye(4))
        image = Image(np.asfortranarray(np.full((40, 40, 40), 100, np.float32)), space, "Block")
        green = VolumeLook(((99.0, "#00FF00", 1.0), (101.0, "#00FF00", 1.0)), lit=False)
        labels = ball(Image(image.data, space), (20, 38, 20), 6, 1, "red", "#FF0000")
        put(scene, Body(1, 0, VOLUME, look=green), image)
        put(scene, bodies_of_labels(2, labels)[0], labels)
        for parallel in (False, True):
            front = scene.picture(scene.eye(Camera(0, 0, parallel=parallel), 200, 200)).astype(int)
            back = scene.picture(scene.eye(Camera(180, 0, parallel=parallel), 200, 200)).astype(int)
            self.assertGreater((front[..., 0] - front[..., 1] > 60).sum(), 200)  # the ball stands out of the front
            self.assertEqual((back[..., 0] - back[..., 1] > 60).sum(), 0)

    def test_a_picture_in_tiles_is_the_picture(self):
        from unittest import mock

        from kestrelmist.scene.solid import stage

        scene = SolidScene()
        put(scene, bodies_of_labels(1, self.red)[0], self.red)
        put(
            scene,
            Body(3, 0, VOLUME, look=replace(HARD, points=((500.0, "#000000", 0.0), (900.0, "#FFFFFF", 0.2)))),
            self.image,
        )
        for parallel in (False, True):
            eye = scene.eye(Camera(parallel=parallel), 300, 260)
            whole = scene.picture(eye).astype(int)
            with mock.patch.object(stage, "TILE", 128):
                tiled = scene.picture(eye).astype(int)
            self.assertLess((np.abs(whole - tiled).max(2) > 24).mean(), 0.01)

    def test_a_brush_changes_blocks_alone(self):
        space = Space((120, 100, 100), np.eye(4))
        at = np.moveaxis(np.indices(space.shape), 0, -1)
        numbers = (np.linalg.norm(at - (60, 50, 50), axis=-1) < 40).astype(np.uint16)
        labels = LabelMap(space, numbers, LabelTable([Label(1, "ball", "#FF0000")]))
        scene, before = SolidScene(), states_of(labels, 1)
        body = bodies_of_labels(1, labels)[0]
        put(scene, body, labels)
        eye = scene.eye(Camera(0, 90, parallel=True), 400, 400)
        scene.picture(eye, moving=True)
        labels.kji[45:55, 45:55, 95:110] = 1  # towards the subject's right: left in a view from above
        changed = changed_blocks(before, states_of(labels, 1))
        scene.patch_mesh(body.key, {block: block_surface(labels, 1, block) for block in changed})
        after = scene.picture(eye, moving=True, clear=True)[..., 3] > 127
        self.assertLessEqual(len(changed), 8)
        put(scene, body, labels)
        fine = scene.picture(eye.resized(*after.shape[::-1]), clear=True)[..., 3] > 127
        self.assertGreater(2 * (after & fine).sum() / (after.sum() + fine.sum()), 0.98)
        self.assertGreater(after[:, : after.shape[1] // 2].sum(), after[:, after.shape[1] // 2 :].sum() + 40)

    def test_what_is_seen_through_a_mapping_lies_where_it_is_led(self):
        from kestrelmist.core.displacement import DisplacementField
        from kestrelmist.core.through import seen_through

        space = Space((30, 30, 30), np.eye(4))
        away = np.linalg.norm(np.moveaxis(np.indices(space.shape), 0, -1) - (10, 15, 15), axis=-1)
        image = Image(np.asfortranarray((100.0 * (away < 5)).astype(np.float32)), space, "Other")
        shift = np.zeros((30, 30, 30, 3), np.float32)
        shift[..., 0] = 8.0
        seen = seen_through(image, DisplacementField(shift, space))
        lead = Image(np.asfortranarray(np.zeros((30, 30, 30), np.float32)), space, "Lead")
        body = Body("other", 0, VOLUME, look=HARD, onto="lead")
        levels = made(body, seen, {"lead": lead}.__getitem__)[2]
        at = np.argwhere(levels.voxels > 3000)[:, ::-1].mean(0)
        np.testing.assert_allclose(at, (18, 15, 15), atol=0.2)

    def test_explode_moves_parts_away_from_the_middle(self):
        both = LabelMap(
            self.image.space,
            np.maximum(self.red.data, 2 * self.blue.data),
            LabelTable([Label(1, "a", "#FF0000"), Label(2, "b", "#0000FF")]),
        )
        near, far = bodies_of_labels(1, both), bodies_of_labels(1, both, apart=1.0)
        self.assertEqual([b.shift for b in near], [(0.0, 0.0, 0.0)] * 2)
        self.assertAlmostEqual(abs(far[0].shift[0] - far[1].shift[0]), 16 * self.image.space.spacing[0])
        self.assertAlmostEqual(far[0].shift[0], -far[1].shift[0])


class RenderTest(unittest.TestCase):
    def setUp(self):
        self.image = two_balls()
        self.place = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_by_every_door(self):
        place = self.place
        with Study(place / "S", create=True) as study:
            key = keep_thing(study, self.image)
            study.run("threshold", label="Ball", low=500.0, high=2000.0)
            labels = study.in_hand(key)
            table = study.run("render", labels=labels, to=place / "s.png", size="200x150")
            self.assertEqual([row[0] for row in table.rows], [self.image.name, "Ball"])
            self.assertGreater(min(row[1] for row in table.rows), 300)
            self.assertTrue((place / "s.png").exists())
            with self.assertRaisesRegex(Trouble, "a file of this name already"):
                study.run("render", to=place / "s.png")
            with self.assertRaisesRegex(Trouble, "Pictures are written as"):
                study.run("render", to=place / "s.obj")
            study.run("solid-picture", to=place / "old.png")  # as it was called in older recipes
        empty = LabelMap(self.image.space)
        with self.assertRaisesRegex(Trouble, "There is nothing to be seen"):
            render(self.image, empty, to=place / "n.png", choice=SceneChoice(image_as="none"))
        self.assertFalse((place / "n.png").exists())
        here = self.image.like(self.image.data)
        here.space = replace(here.space, world=World("1.2"))
        red = ball(self.image, (12, 18, 16), 6, 1, "red", "#FF0000")
        red.space = replace(red.space, world=World("3.4"))
        with self.assertRaisesRegex(Trouble, "lies in another space"):
            render(here, red, to=place / "n.png")
        with self.assertRaisesRegex(Trouble, "There is no look “Nose”: choose one of: Skin, Bone"):
            render(self.image, choice=SceneChoice(look="Nose"), to=place / "n.png")
        with self.assertRaisesRegex(Trouble, "is too large: ask for 8000"):
            render(self.image, choice=SceneChoice(look="Bone"), to=place / "n.png", size="9000x100")

    def test_a_clear_ground_and_what_the_file_tells(self):
        file = self.place / "c.png"
        render(
            self.image,
            choice=SceneChoice(look="bone"),
            to=file,
            clear=True,
            parallel=True,
            from_="left",
            size="240x200",
        )
        picture = Picture.open(file)
        pixels = np.asarray(picture)
        self.assertEqual((picture.mode, pixels[0, 0, 3], pixels[..., 3].max()), ("RGBA", 0, 255))
        self.assertGreater((pixels[..., 3] > 200).mean(), 0.05)
        words = picture.info["XML:com.adobe.xmp"]
        for said in ("Bone", "parallel", self.image.name, "PixelSize"):
            self.assertIn(said, words)
        a_metre = picture.info["dpi"][0] / 0.0254
        pixel = float(words.partition("<k:PixelSize>")[2].partition("<")[0])
        self.assertAlmostEqual(1000 / a_metre / pixel, 1, delta=0.01)
        with self.assertRaisesRegex(Trouble, "has no transparent ground"):
            render(self.image, to=self.place / "c.pdf", clear=True)

    def test_what_a_scene_holds(self):
        scene, _ = scene_for(self.image, SceneChoice("Skin"))
        self.assertEqual([b.way for b in scene.bodies], ["volume"])
        scene, _ = scene_for(self.image, SceneChoice(slices=True))
        self.assertEqual([b.way for b in scene.bodies], ["volume", "slice", "slice", "slice"])


if __name__ == "__main__":
    unittest.main()
