import os
import shutil
import signal
import subprocess
import sys
import unittest
from pathlib import Path

from kestrelmist.study.study import Study
from tests.making import PlaceCase


@unittest.skipUnless(shutil.which("Xvfb"), "needs Xvfb, which ./kestrel test brings")
class RealWindowTest(PlaceCase):
    """The program as a person starts it, on a display of its own."""

    def setUp(self):
        super().setUp()
        self.server = subprocess.Popen(
            ["Xvfb", "-displayfd", "1", "-noreset", "-screen", "0", "1280x800x24", "-nolisten", "tcp"],
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
        )
        self.addCleanup(self.server.communicate)
        self.addCleanup(self.server.terminate)
        number = int(self.server.stdout.readline())  # of a display that is free, told when it answers
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

    def desk(self, **more) -> subprocess.CompletedProcess:
        """The program on no display but those that are named."""
        env = {k: v for k, v in self.env.items() if k not in ("DISPLAY", "QT_QPA_PLATFORM")} | more
        words = [sys.executable, "-m", "kestrelmist.cli", "desk", str(self.place)]
        return subprocess.run(words, env=env, capture_output=True, text=True, timeout=60)

    def test_without_a_display_it_says_so(self):
        ran = self.desk()
        self.assertEqual(ran.returncode, 1)
        self.assertIn("no display", ran.stderr)

    def test_displays_where_nobody_answers_are_named(self):
        for name, value in (("WAYLAND_DISPLAY", "wayland-77"), ("DISPLAY", ":7777")):
            ran = self.desk(**{name: value})
            self.assertEqual((ran.returncode, ran.stdout), (1, ""))
            self.assertRegex(ran.stderr, f"^There is no display .*{name} is “{value}”, where nobody answers")

    def test_a_signal_ends_it_like_close(self):
        """In the middle of a stroke: what is drawn is kept, the session and children end, no trace is said."""
        with self.study_with_balls() as study:
            key = study.records()[0].id
            study.run("paint", image=key, label="Ball", point=(0.0, 0.0, 0.0), diameter=1.0)
        code = (
            "import sys; from pathlib import Path; from kestrelmist.desk import app;"
            "from tests.stroke_in_hand import begin;"
            "opened = app.show_window;"
            "app.show_window = lambda folder, stays=True: begin(opened(folder, stays), int(sys.argv[1]));"
            f"sys.exit(app.start([Path({str(self.place / 'study')!r})]))"
        )
        for n, number in enumerate((signal.SIGTERM, signal.SIGINT)):
            before = self.painted()
            window = subprocess.Popen(
                [sys.executable, "-X", "faulthandler", "-c", code, str(n)],
                env=self.env,
                cwd=Path(__file__).parent.parent,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                text=True,
            )
            self.addCleanup(window.kill)
            said = window.stdout.readline()
            if not said:
                self.fail(f"it ended with {window.wait(60)}: {window.stderr.read()}")
            child = int(said.split()[1])  # the stroke is in hand, and the Solid view drawn
            self.assertTrue(Path(f"/proc/{child}").exists())
            window.send_signal(number)
            said, failed = window.communicate(timeout=60)
            self.assertEqual((window.returncode, said.strip()), (0, ""), failed)
            self.assertNotIn("Traceback", failed)
            self.assertFalse(Path(f"/proc/{child}").exists())
            self.assertGreater(self.painted(), before)

    def painted(self) -> int:
        """Voxels of the label, in a study that every window has left in order."""
        with Study(self.place / "study", read_only=True) as study:
            (record,) = study.label_maps(study.records()[0].id)
            self.assertEqual(study.catalogue.rows("SELECT * FROM session WHERE ended IS NULL"), [])
            return int(study.label_map(record.id).counts[1])
