import os
import shutil
import subprocess
import sys
import time
import unittest

from tests.making import PlaceCase


@unittest.skipUnless(shutil.which("Xvfb"), "needs Xvfb, which ./kestrel test brings")
class RealWindowTest(PlaceCase):
    """The program as a person starts it, on a display of its own."""

    def setUp(self):
        super().setUp()
        number = 97
        while os.path.exists(f"/tmp/.X11-unix/X{number}"):
            number += 1
        self.server = subprocess.Popen(
            ["Xvfb", f":{number}", "-screen", "0", "1280x800x24", "-nolisten", "tcp"],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        self.addCleanup(self.server.wait)
        self.addCleanup(self.server.terminate)
        for _ in range(100):
            if os.path.exists(f"/tmp/.X11-unix/X{number}"):
                break
            time.sleep(0.1)
        self.env = {
            **os.environ,
            "DISPLAY": f":{number}",
            "QT_QPA_PLATFORM": "xcb",
            "KESTRELMIST_HOME": str(self.place / "home"),
        }

    def test_opens_settles_saves_its_picture_and_leaves(self):
        self.study_with_balls().close()
        picture = self.place / "window.png"
        ran = subprocess.run(
            [sys.executable, "-m", "kestrelmist.cli", "desk", str(self.place / "study"), "--picture", str(picture)],
            env=self.env,
            capture_output=True,
            text=True,
            timeout=120,
        )
        self.assertEqual(ran.returncode, 0, ran.stderr)
        from PySide6.QtGui import QImage

        image = QImage(str(picture))
        self.assertEqual((image.width(), image.height()), (1280, 800))
        lead = [image.pixelColor(x, 400).lightness() for x in range(230, 730, 5)]
        self.assertGreater(max(lead), 200)  # the ball
        self.assertLess(min(lead), 40)  # and the dark around it
        self.assertEqual(image.pixelColor(5, 795).name(), "#1f2c35")

    def test_without_a_display_it_says_so(self):
        env = {k: v for k, v in self.env.items() if k not in ("DISPLAY", "QT_QPA_PLATFORM")}
        ran = subprocess.run(
            [sys.executable, "-m", "kestrelmist.cli", "desk", str(self.place)],
            env=env,
            capture_output=True,
            text=True,
            timeout=60,
        )
        self.assertEqual(ran.returncode, 1)
        self.assertIn("no display", ran.stderr)
