import os
import shutil
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

from PySide6.QtGui import QImage

from kestrelmist.study.study import Study
from tests.making import PlaceCase, two_balls
from tests.test_operations import ROOT

PARTS = ("benchmarks", "docs", "environment", "src", "tests", "trial", "truth")


class WheelTest(PlaceCase):
    def test_the_source_package_has_all_that_its_two_commands_need(self):
        copy = self.place / "copy"
        copy.mkdir()
        leave = shutil.ignore_patterns("__pycache__", "*.egg-info")
        for name in (*PARTS, ".ci"):
            if (ROOT / name).is_dir():
                shutil.copytree(ROOT / name, copy / name, ignore=leave)
        for path in ROOT.iterdir():
            if path.is_file() and not path.name.startswith("."):
                shutil.copy(path, copy / path.name)
        wanted = {str(p.relative_to(copy)) for p in copy.rglob("*") if p.is_file()}
        ran = subprocess.run(
            [sys.executable, "-m", "build", "--sdist", "--no-isolation", "--outdir", str(self.place), str(copy)],
            capture_output=True,
            text=True,
        )
        self.assertEqual(ran.returncode, 0, ran.stdout[-2000:] + ran.stderr[-2000:])
        (made,) = self.place.glob("*.tar.gz")
        with tarfile.open(made) as packed:
            there = {name.partition("/")[2]: packed.getmember(name) for name in packed.getnames()}
        self.assertEqual(sorted(wanted - set(there)), [])
        self.assertTrue(there["kestrel"].mode & 0o100)
        self.assertLessEqual({"requirements.lock", "tests/data/study-layout-3.tar.gz"}, set(there))

    def test_it_builds_holds_everything_and_opens_a_study(self):
        copy = self.place / "copy"  # building leaves things behind
        shutil.copytree(ROOT / "src", copy / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
        for name in ("pyproject.toml", "README.md"):
            shutil.copy(ROOT / name, copy / name)
        ran = subprocess.run(
            [sys.executable, "-m", "build", "--wheel", "--no-isolation", "--outdir", str(self.place), str(copy)],
            capture_output=True,
            text=True,
        )
        self.assertEqual(ran.returncode, 0, ran.stdout[-2000:] + ran.stderr[-2000:])
        (wheel,) = self.place.glob("*.whl")
        unpacked = self.place / "unpacked"
        with zipfile.ZipFile(wheel) as packed:
            names = set(packed.namelist())
            packed.extractall(unpacked)
        source = ROOT / "src"
        for path in source.rglob("*"):
            if path.is_file() and path.suffix in (".py", ".svg", ".ttf", ".txt", ".desktop"):
                if "egg-info" not in str(path):
                    self.assertIn(str(path.relative_to(source)), names)
        self.assertFalse([n for n in names if n.startswith("tests")])
        points = next(n for n in names if n.endswith("entry_points.txt"))
        self.assertIn("kestrelmist = kestrelmist.cli:main", (unpacked / points).read_text())
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.nifti(two_balls()), subject="T-1")
            study.run("threshold", image="balls", label="Ball", low=500.0, high=2000.0)
        env = {**os.environ, "PYTHONPATH": str(unpacked), "QT_QPA_PLATFORM": "offscreen"}
        listed = "from kestrelmist.demo.scene import SCENES; print(sorted(s.name for s in SCENES))"
        scenes = [
            subprocess.run([sys.executable, "-c", listed], capture_output=True, text=True, cwd=self.place, env=one)
            for one in (env, os.environ | {"QT_QPA_PLATFORM": "offscreen"})
        ]
        self.assertEqual([s.returncode for s in scenes], [0, 0], scenes[0].stderr[-2000:])
        self.assertEqual(scenes[0].stdout, scenes[1].stdout)  # every part of the demo is there
        code = "import kestrelmist, sys; print(kestrelmist.__file__); from kestrelmist.cli import main; main()"
        picture = self.place / "demo.png"
        ran = subprocess.run(
            [sys.executable, "-c", code, "desk", str(self.place / "study"), "--picture", str(picture)],
            capture_output=True,
            text=True,
            env=env,
            cwd=self.place,
        )
        self.assertEqual(ran.returncode, 0, ran.stderr[-2000:])
        self.assertTrue(Path(ran.stdout.splitlines()[0]).is_relative_to(unpacked), ran.stdout)
        image = QImage(str(picture))
        self.assertEqual((image.width(), image.height()), (1280, 800))
        colours = {image.pixel(x, y) for x in range(0, 1280, 16) for y in range(0, 800, 16)}
        self.assertGreater(len(colours), 60)
