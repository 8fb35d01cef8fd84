"""What the README and the guide promise."""

import os
import re
import shlex
import subprocess
import sys
import unittest
from pathlib import Path

from kestrelmist.cli import command_of, program
from kestrelmist.core.operation import all_operations
from kestrelmist.demo.overwintering import EDITION, Scenes
from kestrelmist.result_files import beside_results, flag_of
from tests.making import PlaceCase, dicom_folder, two_balls

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]


class PagesTest(unittest.TestCase):
    def test_links_and_pictures_lead_somewhere(self):
        for page in PAGES:
            for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
                self.assertTrue((page.parent / target).exists(), f"{page.name}: {target}")

    def test_every_picture_is_shown_and_there_are_few(self):
        pictures = {p.name for p in (ROOT / "docs" / "screenshots").glob("*.png")}
        shown = set(re.findall(r"screenshots/([\w-]+\.png)", (ROOT / "README.md").read_text()))
        self.assertEqual(pictures, shown)
        self.assertLess(len(pictures), 20)
        for name in ("gather.png", "outline.png", "measure.png", "dusk.png"):
            self.assertIn(name, pictures)

    def test_commands_in_the_guide_exist(self):
        own = program.commands
        names = {*all_operations(), *own, "demo", "open", "test", "bench", "shots"}
        for page in PAGES:
            text = re.sub(r"\\\n\s+", "", page.read_text())  # commands that go on in the next line
            for line in re.findall(r"^    \./kestrel (?!-)(.+)$", text, re.M):
                first, *rest = line.split()
                self.assertTrue(first in names or f"{first} {rest[0]}" in names, line)
                operation = all_operations().get(first) or all_operations().get(" ".join([first, *rest[:1]]))
                if first in own and first not in all_operations() and "--help" not in line:
                    own[first].make_context(first, shlex.split(line)[1:])
                if operation and "--help" not in line:
                    words = shlex.split(line)[1 + operation.name.count(" ") :]
                    command_of(operation).make_context(operation.name, words)  # as it stands, it is understood
                    known = {f"--{p.flag}" for p in operation.parameters}
                    known |= {f"--no-{p.flag}" for p in operation.parameters if p.kind.type is bool}
                    known |= {"--study", "--out", "--json", "--dry-run", "--help"}
                    known |= {flag_of(r.name) for r in beside_results(operation)}
                    known |= {name for o in command_of(operation).params for name in o.opts}
                    for option in re.findall(r"--[\w-]+", line):
                        self.assertIn(option, known, line)

    def test_lock_file_has_hashes_and_no_addresses(self):
        both = []
        for name in ("requirements.lock", "requirements-test.lock"):
            text = (ROOT / name).read_text()
            self.assertNotRegex(text, r"https?://|--index|--find-links|file:")
            for line in re.findall(r"^\S+==.*$", text, re.M):
                self.assertIn("\\", line)
            self.assertGreater(text.count("--hash=sha256:"), 100)
            both += re.findall(r"^([\w.-]+)==", text, re.M)
        self.assertEqual(len(both), len(set(both)))
        self.assertFalse({"matplotlib", "networkx"} & set(both))

    def test_packaged_fonts_and_icons_have_their_licences(self):
        theme = ROOT / "src/kestrelmist/desk/theme"
        self.assertIn("SIL OPEN FONT LICENSE", (ROOT / "src/kestrelmist/scene/fonts/LICENSE.txt").read_text().upper())
        self.assertIn("ISC", (theme / "icons/LICENSE.txt").read_text())
        used = set()
        for page in (ROOT / "src/kestrelmist/desk").rglob("*.py"):
            text = page.read_text()
            used |= set(re.findall(r"icon(?:_pixmap)?\(\"([\w-]+)\"", text)) | set(
                re.findall(r"HandTool|Tool\(\"\w+\", \"[^\"]+\", \"([\w-]+)\"", text)
            )
        for name in filter(None, used):
            self.assertTrue((theme / "icons" / f"{name}.svg").exists(), name)
        desktop = (theme / "kestrelmist.desktop").read_text()
        self.assertIn("Exec=kestrelmist desk %F", desktop)


class ReadmeCodeTest(PlaceCase):
    def test_the_five_lines_of_python_run_as_they_stand(self):
        block = re.search(r"```python\n(.*?)```", (ROOT / "README.md").read_text(), re.S).group(1)
        self.assertEqual(len(block.strip().splitlines()), 5)
        dicom_folder(self.place / "FOLDER", two_balls(), "Head CT")
        # the two balls stand in for the head: only the point differs
        block = block.replace("(-0.6, 3.45, -1.8)", "(-4, 0, 0)")
        ran = subprocess.run([sys.executable, "-c", block], capture_output=True, text=True, cwd=self.place)
        self.assertEqual(ran.returncode, 0, ran.stderr)
        head, line = ran.stdout.strip().splitlines()
        found = dict(zip(head.split(","), line.split(",")))
        self.assertEqual(int(found["voxels"]), int((two_balls().data > 0).sum()))
        self.assertEqual((found["volume_unit"], found["mean_unit"]), ("mm3", "HU"))

    def test_it_names_the_folder_of_the_demo_scans(self):
        self.assertIn(f"/scenes-{EDITION}/{Scenes(Path('.')).incoming}`", (ROOT / "README.md").read_text())


class StarterTest(unittest.TestCase):
    def test_the_starter_is_sound_and_tells_its_words(self):
        self.assertEqual(subprocess.run(["bash", "-n", str(ROOT / "kestrel")]).returncode, 0)
        said = subprocess.run([str(ROOT / "kestrel"), "help"], capture_output=True, text=True).stderr
        for word in ("demo", "open", "test", "truth", "trial", "bench", "shots"):
            self.assertIn(word, said)

    def test_missing_packages_without_rights_give_the_line_to_type(self):
        # neither apt nor sudo can be found, and every library is said to be missing
        script = (
            (ROOT / "kestrel")
            .read_text()
            .split("word=${1:-help}")[0]
            .replace('$(readlink -f "$0")', str(ROOT / "kestrel"))
        )
        code = (
            script
            + "\nldconfig() { :; }\ncommand() { return 1; }\nid() { echo 1000; }\npython="
            + sys.executable
            + "\nget_packages window\n"
        )
        ran = subprocess.run(["bash", "-c", code], capture_output=True, text=True, env={"PATH": os.environ["PATH"]})
        self.assertEqual(ran.returncode, 1)
        self.assertRegex(ran.stderr, r"Type this line.*\n\s+sudo apt-get install .*libegl1")

    def test_kernels_are_kept_on_disk(self):
        from kestrelmist.warm import all_kept, warm_beside

        ran = subprocess.run([sys.executable, "-m", "kestrelmist.warm"], capture_output=True, text=True)
        self.assertEqual(ran.returncode, 0, ran.stderr)
        self.assertTrue(all_kept())
        self.assertEqual(warm_beside(), [])
