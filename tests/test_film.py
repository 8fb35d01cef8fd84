"""Films: frames, sizes, seconds, what they show, and what is wrong in a sentence with nothing half written."""

from __future__ import annotations

import subprocess
import unittest
from pathlib import Path
from unittest import mock

import imageio_ffmpeg
import numpy as np
from PIL import Image as Picture

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import Progress, silent
from kestrelmist.core.space import Space
from kestrelmist.report import film_files
from kestrelmist.report.film import _turned, film
from kestrelmist.report.scene_choice import SceneChoice
from kestrelmist.scene.solid.eye import Camera, Eye, Frame
from tests.command import kestrelmist
from tests.making import PlaceCase, two_balls
from tests.test_sheet import ramp


def series() -> Image:
    """Six volumes, each of a value of its own."""
    values = np.zeros((20, 20, 10, 6), np.float32)
    values[4:16, 4:16] = 10 * (np.arange(6) + 1)
    axis = Axis("time", 6, "s", tuple(2.0 * n for n in range(6)))
    return Image(np.asfortranarray(values), Space((20, 20, 10), np.eye(4)), "Series", axes=(axis,))


def frames_of(path: Path) -> np.ndarray:
    """The frames of an MP4 as the packer's own program reads them: uint8 (n, height, width, 3)."""
    reader = imageio_ffmpeg.read_frames(str(path))
    facts = next(reader)
    wide, tall = facts["size"]
    return np.stack([np.frombuffer(one, np.uint8).reshape(tall, wide, 3) for one in reader])


class FilmTest(PlaceCase):
    def test_through_slices_as_mp4(self):
        path = self.place / "z.mp4"
        table = film(ramp(), to=path, through="axial", seconds=1.2, rate=10, size="160x121", written=False)
        self.assertEqual(table.rows[0][1:3], (12, 1.2))
        found = frames_of(path)
        self.assertEqual(found.shape, (12, 122, 160, 3))
        middle = found[:, 60, 80, 0].astype(float)
        self.assertTrue((np.diff(middle) > 0).all())  # slices are brighter the higher they lie
        self.assertEqual([p.name for p in self.place.iterdir()], ["z.mp4"])

    def test_in_time_as_pictures_that_move(self):
        for ending in ("gif", "apng"):
            path = self.place / f"t.{ending}"
            film(series(), to=path, through="time", seconds=0.6, rate=10, size="120x90", low=0.0, high=70.0)
            with Picture.open(path) as moving:
                self.assertEqual((moving.n_frames, moving.size), (6, (120, 90)))
                seen = []
                for n in range(6):
                    moving.seek(n)
                    seen.append(int(np.asarray(moving.convert("RGB"))[45, 60, 0]))
            self.assertEqual(seen, sorted(seen))
            np.testing.assert_allclose(seen, np.arange(1, 7) / 7 * 255, atol=8)

    def test_fade_and_path(self):
        image = ramp()
        other = image.like(100 - image.data, name="Other")
        path = self.place / "f.mp4"
        film(
            image,
            None,
            [other],
            to=path,
            through="fade",
            at=4.0,
            seconds=1.0,
            rate=9,
            size="120x90",
            choice=SceneChoice(opacity=1.0),
        )
        found = frames_of(path)[:, 45, 60, 0].astype(float)
        self.assertLess(abs(found[0] - found[-1]), 6)  # there and back
        self.assertGreater(abs(found[0] - found[4]), 40)
        path = self.place / "p.mp4"
        film(image, to=path, through="path", path="10,12,2; 10,12,20", seconds=1.0, rate=8, size="160x120")
        found = frames_of(path)
        self.assertEqual(len(found), 8)
        self.assertGreater(float(found[-1, 30, 60, 0]), float(found[0, 30, 60, 0]) + 20)

    def test_a_scene_turns(self):
        path = self.place / "s.gif"
        film(two_balls(), to=path, choice=SceneChoice(look="Bone"), seconds=0.8, rate=10, turn=360.0, size="100x80")
        with Picture.open(path) as moving:
            self.assertEqual(moving.n_frames, 8)
            frames = []
            for n in range(8):
                moving.seek(n)
                frames.append(np.asarray(moving.convert("RGB")).astype(int))
        for one, next_one in zip(frames, frames[1:]):
            self.assertGreater(np.abs(one - next_one).max(), 30)

    def test_turning_over_the_top(self):
        eye = lambda camera: Eye(camera, Frame(), 10, 10).axes  # noqa: E731
        before = eye(Camera(0, 15))
        for by in range(5, 360, 5):
            after = eye(_turned(Camera(0, 15), "right", by))
            self.assertAlmostEqual(float(after[0] @ before[0]), 1.0, places=6)  # the picture's right stays
            angle = np.degrees(np.arccos(np.clip(after[2] @ before[2], -1, 1)))
            self.assertAlmostEqual(angle, min(by, 360 - by), places=4)

    def test_what_cannot_be_is_said_and_nothing_is_left(self):
        image = ramp()
        for settings, said in (
            ({"to": "a.avi"}, "Films are written as .mp4, .gif or .apng"),
            ({"to": "a.mp4", "through": "time"}, "has one volume only"),
            ({"to": "a.mp4", "through": "fade"}, "needs something to fade into"),
            ({"to": "a.mp4", "through": "path", "path": "1,2"}, "A path has two places at least"),
            ({"to": "a.mp4", "through": "axial", "size": "9000x9000"}, "is too large"),
            ({"to": "a.gif", "through": "axial", "seconds": 200.0}, "holds at most 1500 frames"),
            ({"to": "a.mp4", "through": "axial", "seconds": 3000.0}, "is too long"),
            ({"to": "gone/a.mp4", "through": "axial", "seconds": 0.2}, "The folder to write into does not exist"),
        ):
            with self.subTest(said=said), self.assertRaisesRegex(Trouble, said):
                film(image, to=self.place / settings.pop("to"), **settings)
        self.assertEqual(list(self.place.iterdir()), [])

    def test_cancel_and_a_packer_that_ends_leave_nothing(self):
        progress = Progress()
        seen = []

        def listener(share, what):
            seen.append(share)
            if share > 0.5:
                progress.cancel()

        progress.listener = listener
        for ending in ("mp4", "gif"):
            progress.stop[0] = 0
            with self.assertRaises(Cancelled):
                film(
                    ramp(), to=self.place / f"c.{ending}", through="axial", seconds=1.0, size="64x48", progress=progress
                )
            self.assertEqual(list(self.place.iterdir()), [])

        real = imageio_ffmpeg.write_frames

        def ending_early(*given, **more):
            film = real(*given, **more)
            yield film.send(None)
            film.close()
            raise OSError("No space left on device")

        with mock.patch.object(imageio_ffmpeg, "write_frames", ending_early):
            with self.assertRaisesRegex(Trouble, "The disk is full .*: make room on it"):
                film(ramp(), to=self.place / "d.mp4", through="axial", seconds=1.0, size="64x48", progress=silent())
        self.assertEqual(list(self.place.iterdir()), [])
        self.assertIn(".mp4", film_files.ENDINGS)

    def test_on_the_command_line(self):
        file = self.nifti(two_balls())
        kestrelmist(
            "film", file, "--through", "coronal", "--seconds", "0.4", "--size", "64x48", "--out", self.place / "k.mp4"
        )
        told = subprocess.run(
            [imageio_ffmpeg.get_ffmpeg_exe(), "-i", str(self.place / "k.mp4")], capture_output=True, text=True
        ).stderr
        self.assertIn("one pixel is", told.lower())
        self.assertIn("64x48", told)


if __name__ == "__main__":
    unittest.main()
