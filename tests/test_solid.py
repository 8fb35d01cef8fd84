"""Solid scenes as frozen data, and the picture that is drawn of one without a window."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.labels import Label, LabelMap, LabelTable
from kestrelmist.core.progress import silent
from kestrelmist.core.world import World
from kestrelmist.report.solid_picture import rendered, solid_picture
from kestrelmist.scene.layer import ImageLook
from kestrelmist.scene.solid import OUTLINE, Body, Camera, Solid, bodies_of_image, bodies_of_labels
from kestrelmist.study.study import Study
from tests.making import keep_thing, two_balls
from tests.test_level import height_map


def ball(image, centre, radius: float, number: int, name: str, colour: str) -> LabelMap:
    """A label map with one ball."""
    i, j, k = np.indices(image.space.shape)
    away = np.sqrt(sum((axis - c) ** 2 for axis, c in zip((i, j, k), centre)))
    data = np.where(away <= radius, number, 0).astype(np.uint16)
    return LabelMap(image.space, data, LabelTable([Label(number, name, colour)]), name)


class SolidTest(unittest.TestCase):
    def setUp(self):
        self.image = two_balls()
        self.red = ball(self.image, (12, 18, 16), 6, 1, "red", "#FF0000")
        self.blue = ball(self.image, (28, 18, 16), 6, 1, "blue", "#0000FF")

    def test_kept_and_read_again(self):
        bodies = (Body(3, 0, OUTLINE, opacity=0.2), Body("x#y", 4, colour="#112233"), Body(7, look=ImageLook(1, 2)))
        solid = Solid(bodies, Camera(10, 20, 2), ((-1.0, -2.0, -3.0), (1.0, 2.0, 3.0)))
        self.assertEqual(Solid.from_dict(json.loads(json.dumps(solid.as_dict()))), solid)
        for damaged in (
            {},
            {"bodies": 3, "crop": [1]},
            {"bodies": [{"thing": None}, 4]},
            {"camera": "x", "bodies": None},
        ):
            self.assertEqual(Solid.from_dict(damaged) if damaged.get("bodies") != 3 else Solid(), Solid())
        self.assertEqual(Camera(350, 80).turned(20, 20), Camera(10, 89))

    def test_maps_of_one_number_stand_in_one_scene(self):
        things = {"image": self.image, 5: self.red, 6: self.blue}
        bodies = [*bodies_of_labels(5, self.red), *bodies_of_labels(6, self.blue)]
        self.assertEqual([b.key for b in bodies], [(5, 1), (6, 1)])
        pixels, triangles = rendered(Solid(tuple(bodies), Camera(0, 0)), things, 320, 240, silent())
        red, blue = (((pixels >> shift) & 255).astype(int) for shift in (16, 0))
        seen = [np.argwhere(red - blue > 60), np.argwhere(blue - red > 60)]
        self.assertGreater(min(map(len, seen)), 500)
        # seen from the front the subject's right is on the left: blue lies at larger i, which is to the right of it
        sides = [points[:, 1].mean() for points in seen]
        rightward = self.image.space.affine[0, 0] > 0
        self.assertEqual(sides[1] < sides[0], rightward)
        self.assertGreater(min(triangles.values()), 300)
        # what is cropped away is gone
        middle = self.image.space.to_world((20, 0, 0))[0]
        low, high = self.image.space.corners().min(0), self.image.space.corners().max(0)
        keep = ((float(middle), *low[1:]), tuple(high)) if rightward else (tuple(low), (float(middle), *high[1:]))
        cut, _ = rendered(Solid(tuple(bodies), Camera(0, 0), keep), things, 320, 240, silent())
        red, blue = (((cut >> shift) & 255).astype(int) for shift in (16, 0))
        self.assertEqual(int((red - blue > 60).sum()), 0)
        self.assertGreater(int((blue - red > 60).sum()), 500)

    def test_an_image_is_an_outline_and_a_height_map_a_relief(self):
        self.assertEqual(bodies_of_image(1, self.image, ImageLook(0, 1)).way, "outline")
        self.assertEqual(bodies_of_image(1, height_map(np.zeros((9, 9))), ImageLook(0, 1)).way, "relief")

    def test_by_every_door(self):
        place = Path(self.enterContext(tempfile.TemporaryDirectory()))
        with Study(place / "S", create=True) as study:
            key = keep_thing(study, self.image)
            study.run("threshold", label="Ball", low=500.0, high=2000.0)
            labels = study.in_hand(key)
            table = study.run("solid-picture", labels=labels, to=place / "s.png", size="200x150")
            self.assertEqual([row[0] for row in table.rows], [self.image.name, "Ball"])
            self.assertGreater(min(row[1] for row in table.rows), 300)
            self.assertTrue((place / "s.png").exists())
            with self.assertRaisesRegex(Trouble, "something of this name already"):
                study.run("solid-picture", to=place / "s.png")
            with self.assertRaisesRegex(Trouble, "Pictures are written as"):
                study.run("solid-picture", to=place / "s.obj")
        empty = LabelMap(self.image.space)
        with self.assertRaisesRegex(Trouble, "There is nothing to be seen"):
            solid_picture(self.image, empty, to=place / "n.png", outline=False)
        self.assertFalse((place / "n.png").exists())
        here = self.image.like(self.image.data)
        here.space = replace(here.space, world=World("1.2"))
        self.red.space = replace(self.red.space, world=World("3.4"))
        with self.assertRaisesRegex(Trouble, "lies in another space"):
            solid_picture(here, self.red, to=place / "n.png")


if __name__ == "__main__":
    unittest.main()
