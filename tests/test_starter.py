"""The starter at the top of the project, with an environment that is made up."""

import hashlib
import os
import shutil
import signal
import subprocess
import time
import unittest
from pathlib import Path

from tests.making import PlaceCase

ROOT = Path(__file__).parent.parent
NEEDED = ("kestrel", "requirements.lock", "requirements-test.lock", "pyproject.toml")


class StarterTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.home = self.place / "Größe ü"
        (self.home / "environment").mkdir(parents=True)
        for name in (*NEEDED, "environment/leave_out.py"):
            shutil.copy(ROOT / name, self.home / name)
        (self.home / "src").mkdir()
        self.bin = self.home / ".venv" / "bin"
        self.bin.mkdir(parents=True)
        self.script(self.bin / "python", "exit 0")
        self.script(self.bin / "kestrelmist", 'echo "$*"; env')
        stamp = hashlib.sha256()
        for name in ("requirements.lock", "pyproject.toml", "environment/leave_out.py"):
            stamp.update((self.home / name).read_bytes())
        (self.home / ".venv" / "set-up-program").write_text(stamp.hexdigest()[:16] + "\n")
        compiled = hashlib.sha256(b"").hexdigest()[:16]
        (self.home / ".venv" / "kernels").write_text(f"first {compiled}\nfirst demo {compiled}\n")
        other = self.place / "other"
        other.mkdir()
        self.script(other / "python3", "echo the other Python was asked >&2; exit 1")
        self.env = {
            **{k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")},
            "PATH": f"{other}:{os.environ['PATH']}",
            "PYTHONHOME": "/nowhere",
            "PYTHONPATH": str(other),
            "LC_ALL": "C",
        }

    def script(self, path: Path, text: str) -> None:
        path.write_text(f"#!/bin/bash\n{text}\n")
        path.chmod(0o755)

    def test_what_a_shell_says_of_another_python_is_passed_over(self):
        ran = subprocess.run([self.home / "kestrel", "facts", "ä.nii"], env=self.env, capture_output=True)
        said = dict(line.split("=", 1) for line in ran.stdout.decode().split("\n")[1:] if "=" in line)
        self.assertEqual((ran.returncode, ran.stderr, ran.stdout[:12].decode()), (0, b"", "facts ä.nii"))
        self.assertEqual((said["PYTHONUTF8"], said["LC_ALL"]), ("1", "C.UTF-8"))
        self.assertFalse({"PYTHONHOME", "PYTHONPATH"} & set(said))

    def test_a_locale_that_is_utf_8_stays(self):
        env = self.env | {"LC_ALL": "C.utf8"}
        ran = subprocess.run([self.home / "kestrel", "facts"], env=env, capture_output=True, text=True)
        self.assertIn("LC_ALL=C.utf8\n", ran.stdout)

    def test_no_python_of_the_right_age(self):
        shutil.rmtree(self.home / ".venv")
        for n in range(11, 14):
            self.script(self.place / "other" / f"python3.{n}", "exit 1")
        ran = subprocess.run([self.home / "kestrel", "facts"], env=self.env, capture_output=True, text=True)
        self.assertEqual(ran.returncode, 1)
        self.assertIn("Python 3.11 or newer is needed", ran.stderr)

    def test_who_ends_it_ends_the_window(self):
        said = self.place / "said"
        self.script(
            self.bin / "kestrelmist",
            f"trap 'echo closed >> {said}; exit 7' TERM; echo begun >> {said}; sleep 60 & wait",
        )
        environments = [{"QT_QPA_PLATFORM": "offscreen"}]
        if shutil.which("Xvfb"):
            environments.append({})
        for more in environments:
            said.unlink(missing_ok=True)
            started = subprocess.Popen(
                [self.home / "kestrel", "demo"],
                env=self.env | more,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
            self.addCleanup(started.kill)
            for _ in range(300):
                if said.exists():
                    break
                time.sleep(0.1)
            started.send_signal(signal.SIGTERM)
            self.assertEqual(started.wait(30), 7, more)
            self.assertEqual(said.read_text().split(), ["begun", "closed"])


if __name__ == "__main__":
    unittest.main()
