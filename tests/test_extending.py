"""Follows the page "How to add" from outside the package, one section after another."""

import importlib.util
import json
import re
import sys
import unittest
from pathlib import Path

import click
import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from kestrelmist.checks.notice import CHECKS, Subject, run_checks
from kestrelmist.core.camera import CAMERAS, setup_of
from kestrelmist.core.errors import Trouble
from kestrelmist.core.finding import Finding
from kestrelmist.core.geometry.hits import hit
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import MarkEdit, Marks
from kestrelmist.core.geometry.shape import SHAPES
from kestrelmist.core.image import Image
from kestrelmist.core.kind import KINDS
from kestrelmist.core.mapping_kinds import MAPPINGS
from kestrelmist.core.operation import OPERATIONS, find_operation, operation
from kestrelmist.core.registry import Registry
from kestrelmist.core.synonyms import forget_synonyms
from kestrelmist.core.world import World
from kestrelmist.demo.scene import SCENES, Station
from kestrelmist.desk.shell.lines import fixed_lines
from kestrelmist.desk.tool import TOOLS
from kestrelmist.formats.format import FORMATS
from kestrelmist.formats.mark_geojson import read_geojson, write_geojson
from kestrelmist.formats.mark_table import read_mark_table, write_mark_table
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.measure.camera.take_pictures import take_pictures
from kestrelmist.measure.section import profile
from kestrelmist.report.picture import picture
from kestrelmist.scene.laid import laid
from kestrelmist.scene.layer import Layer
from kestrelmist.scene.layer_type import LAYER_TYPES
from kestrelmist.scene.painting import PAINTERS
from kestrelmist.study.recipes.of_logbook import recipe_of
from kestrelmist.study.store import STORES
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase
from tests.making import PlaceCase, keep_thing, straight_space, two_balls

ROOT = Path(__file__).parent.parent
PAGE = (ROOT / "docs" / "how-to-add.md").read_text()


def follow(case: unittest.TestCase, title: str, folder: Path):
    """The module that a section of the page tells to write, imported from a folder outside the package."""
    section = PAGE.split(f"\n## {title}\n")[1].split("\n## ")[0]
    code = re.search(r"```python\n(.*?)```", section, re.S).group(1)
    path = folder / f"added_{title.split()[-1].lower()}.py"
    path.write_text(code)
    spec = importlib.util.spec_from_file_location(path.stem, path)
    module = importlib.util.module_from_spec(spec)
    sys.modules[path.stem] = module
    case.addCleanup(sys.modules.pop, path.stem, None)
    spec.loader.exec_module(module)
    return module


class AddedTest(PlaceCase):
    def test_an_operation(self):
        self.addCleanup(OPERATIONS.remove, "invert-values")
        follow(self, "An operation", self.place)
        from kestrelmist import cli

        added = find_operation("invert-values")
        told = cli.command_of(added).get_help(click.Context(cli.program))
        self.assertIn("Mirror every value about one value", told)
        self.assertIn("The value that stays", told)
        self.assertIn("invert-values", cli.program.get_help(click.Context(cli.program)))
        with self.study_with_balls() as study:
            (key,) = study.run("invert-values", about=100)
            np.testing.assert_array_equal(study.image(key).data, 200 - two_balls().data)
            self.assertIn("invert-values", [s.operation for s in recipe_of(study.logbook.entries()).steps])

    def test_a_kind(self):
        for registry in (KINDS, STORES):
            self.addCleanup(registry.remove, "note")
        added = follow(self, "A kind", self.place)

        @operation("report", "Write a note", name="write-note")
        def write_note(image: Image, text: str) -> added.Note:
            """Write a note on an image."""
            return added.Note("Remark", text)

        @operation("report", "Read a note", name="read-note")
        def read_note(note: added.Note) -> added.Note:
            """Write it once more, louder."""
            return added.Note("Louder", note.text.upper())

        write_note.__annotations__["return"] = added.Note
        read_note.__annotations__ |= {"return": added.Note, "note": added.Note}
        for name in ("write-note", "read-note"):
            self.addCleanup(OPERATIONS.remove, name)
        with self.study_with_balls() as study:
            key = study.run("write-note", text="swollen")
            self.assertEqual((study.thing(key).text, study.thing(key).subject), ("swollen", "T-1"))
            loud = study.run("read-note", note="T-1/Remark")
            self.assertEqual(study.thing(loud).text, "SWOLLEN")
            study.history.undo()
            self.assertTrue(study.items.get(loud).removed)
            study.run("rename", thing="T-1/Remark", name="Finding")
        # by a program that does not know the kind it is shown, kept and not opened
        KINDS.remove("note"), STORES.remove("note")
        with Study(self.place / "study") as study:
            record = study.items.get(key)
            self.assertEqual((record.name, record.kind, record.known), ("Finding", "note", False))
            with self.assertRaisesRegex(Trouble, "does not know things of the kind “note”"):
                study.thing(key)
            study.run("smooth", fwhm=1.0)
        STORES.add("note", added.NoteStore())
        KINDS.add("note", added.register.__globals__["Kind"]("note", added.Note, "thing"))
        with Study(self.place / "study") as study:
            self.assertEqual(study.thing(key).text, "swollen")

    def test_a_mapping(self):
        self.addCleanup(MAPPINGS.remove, "twist")
        added = follow(self, "A mapping", self.place)
        points = np.random.default_rng(1).normal(size=(50, 3))
        with self.study_with_balls() as study:
            record = study.records()[0]
            twist = added.Twist(2.0, World("1.2", "scanner"), World("3.4", "atlas"), "Twist", record.subject)
            key = keep_thing(study, twist)
            found = study.thing(key)
            np.testing.assert_allclose(found.to(points), twist.to(points))
            np.testing.assert_allclose(found.back(found.to(points)), points, atol=1e-9)
            back = study.thing(study.run("invert-transform", transform=key))
            np.testing.assert_allclose(back.to(found.to(points)), points, atol=1e-9)
            way = study.way(World("3.4"), World("1.2"))  # the study finds it, either way round
            np.testing.assert_allclose(way.mapping.to(found.to(points)), points, atol=1e-9)

    def test_a_shape(self):
        self.addCleanup(SHAPES.remove, "cross")
        follow(self, "A shape", self.place)
        mark = Mark("cross", ((0, 0, 0), (2, 0, 0)), name="here")
        marks = Marks.numbered([mark])
        both = (("m.geojson", write_geojson, read_geojson), ("m.csv", write_mark_table, read_mark_table))
        for name, write, read in both:
            write(self.place / name, marks)
            self.assertEqual(list(read(self.place / name)), list(marks))
        self.assertEqual(hit(marks, (0.0, 1.9), lambda p: np.asarray(p)[..., :2], near=0.3).mark.id, 1)
        self.assertIsNone(hit(marks, (1.5, 1.5), lambda p: np.asarray(p)[..., :2], near=0.3))
        with self.study_with_balls() as study:
            image = study.records()[0].id
            study.marks.keep_edit(image, MarkEdit.adding("Draw", study.marks.on(image), [mark]), image=True)
            study.run("picture", image=image, marks=[study.marks.in_hand(image)], at=0.0, to=self.place / "p.svg")
        self.assertIn("here", (self.place / "p.svg").read_text())

    def test_a_layer_type(self):
        self.addCleanup(LAYER_TYPES.remove, "curve")
        follow(self, "A layer type", self.place)
        image = two_balls()
        curve = profile(image, (-5.0, 0.0, 0.0), (5.0, 0.0, 0.0), colour="#112233")
        kept = {"version": 1, "layers": [{"thing": "image"}, {"thing": "curve", "kind": "curve"}]}
        stack = laid(kept, {"image": image, "curve": curve}.__getitem__, "Both")
        self.assertEqual(stack.layers[1].look.colour, "#112233")
        picture(stack=stack, to=self.place / "s.svg", at=0.0)
        self.assertIn('stroke="#112233"', (self.place / "s.svg").read_text())
        layer = Layer("curve", look=stack.layers[1].look)
        self.assertEqual(Layer.from_dict(json.loads(json.dumps(layer.as_dict()))), layer)

    def test_a_painter(self):
        self.addCleanup(PAINTERS.remove, "Telling")
        follow(self, "A painter", self.place)
        picture(image=two_balls(), to=self.place / "p.telling", at=0.0)
        lines = (self.place / "p.telling").read_text().splitlines()
        self.assertIn("words: 2 mm", lines)
        self.assertEqual(sum(line == "words: L" for line in lines), 1)
        self.assertFalse((self.place / "p.telling.part").exists())

    def test_a_synonym(self):
        self.addCleanup(forget_synonyms, "smooth")
        follow(self, "A synonym", self.place)
        finding = Finding([(line, line.name) for line, _ in fixed_lines()])
        for words in ("low-pass", "fuzzing out"):
            self.assertEqual(finding.found(words)[0], "Smooth")

    def test_a_check(self):
        self.addCleanup(CHECKS.remove, "negative_values")
        follow(self, "A check", self.place)
        space = straight_space((6, 6, 6))
        below = Image(np.linspace(-5, 5, 216).reshape(6, 6, 6), space, "Below")
        (notice,) = [n for n in run_checks(Subject(below), "prepare") if "below zero" in n.sentence]
        self.assertEqual((notice.level, notice.mend.operation), ("look", "scale"))
        above = Image(np.linspace(1, 5, 216).reshape(6, 6, 6), space, "Above")
        self.assertNotIn("below zero", str(run_checks(Subject(above), "prepare")))
        self.assertNotIn("below zero", str(run_checks(Subject(below), "measure")))

    def test_a_camera(self):
        self.addCleanup(CAMERAS.remove, "grey")
        follow(self, "A camera", self.place)
        taken = take_pictures("grey", count=2)
        self.assertEqual((taken.space.shape, taken.count, taken.colour), ((64, 48, 1), 2, False))
        self.assertEqual(int(taken.frame((1,)).data[3, 4, 0]), 128)
        self.assertEqual(setup_of(taken).nominal, 5.0)

    def test_a_format(self):
        self.addCleanup(FORMATS.remove, "grid of numbers")
        follow(self, "A format", self.place)
        values = np.arange(12.0).reshape(3, 4)
        np.savetxt(self.place / "leaf.grid", values)
        image = open_image(self.place / "leaf.grid")
        np.testing.assert_array_equal(image.data[:, :, 0].T, values)
        save_image(self.place / "again.grid", image)
        np.testing.assert_array_equal(open_image(self.place / "again.grid").data, image.data)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "leaf.grid", subject="T-1")
            np.testing.assert_array_equal(study.image(1).data, image.data)
        (self.place / "bad.grid").write_text("1 2\n3 x\n")
        with self.assertRaisesRegex(Trouble, "grid of numbers file is damaged.*bad.grid"):
            open_image(self.place / "bad.grid")

    def test_a_scene(self):
        self.addCleanup(SCENES.remove, "Weight")
        follow(self, "A scene", self.place)
        names = [s.name for s in SCENES]
        self.assertEqual(names[-1], "Weight")
        self.assertEqual(names[0], "Head CT")
        station = Station(self.place / "made", animal=None)
        SCENES.get("Weight").make(station)
        self.assertEqual(station.truth["weight_g"], 92)
        self.assertIn("92 g", (station.incoming / "weight.txt").read_text())

    def test_modules_of_another_package_are_found_by_their_entry_points(self):
        import subprocess

        (self.place / "my_package").mkdir()
        (self.place / "my_package" / "__init__.py").write_text("")
        code = re.search(r"```python\n(.*?)```", PAGE, re.S).group(1)
        (self.place / "my_package" / "my_module.py").write_text(code)
        info = self.place / "my_package-1.0.dist-info"
        info.mkdir()
        (info / "METADATA").write_text("Metadata-Version: 2.1\nName: my-package\nVersion: 1.0\n")
        (info / "entry_points.txt").write_text("[kestrelmist]\nmine = my_package.my_module\n")
        ran = subprocess.run(
            [sys.executable, "-m", "kestrelmist.cli", "--help"],
            capture_output=True,
            text=True,
            env={"PYTHONPATH": f"{self.place}:{ROOT / 'src'}", "PATH": "/usr/bin:/bin"},
        )
        self.assertIn("invert-values", ran.stdout, ran.stderr)
        # one that fails is named and left out, and the program goes on
        (self.place / "my_package" / "my_module.py").write_text("raise OSError('no such device')\n")
        ran = subprocess.run(
            [sys.executable, "-m", "kestrelmist.cli", "find", "smooth"],
            capture_output=True,
            text=True,
            env={"PYTHONPATH": f"{self.place}:{ROOT / 'src'}", "PATH": "/usr/bin:/bin", "QT_QPA_PLATFORM": "offscreen"},
        )
        self.assertEqual(ran.returncode, 0, ran.stderr)
        self.assertIn("Smooth", ran.stdout)
        said = "The plug-in “mine” (my_package.my_module) could not be loaded (OSError: no such device)"
        self.assertIn(said, ran.stderr)


class AddedToolTest(DeskCase):
    def test_a_tool(self):
        self.addCleanup(TOOLS.remove, "count")
        follow(self, "A tool", self.place)
        self.study_with_balls().close()
        window = self.open(self.place / "study")
        said = []
        window.desk.session.said.connect(said.append)
        self.assertIn("Count", [line.name for line, _ in window.findable.fixed()])
        window.desk.viewing.set_stage("Measure")
        window.desk.hand.set_tool("count")
        canvas = window.table.lead.canvas
        QTest.mousePress(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(100, 100))
        QTest.mouseMove(canvas, QPoint(120, 110))
        window.desk.viewing.set_stage(
            "Outline"
        )  # a change of stage ends the gesture, and the tool is no longer in hand
        self.assertEqual(len(said), 1)
        self.assertRegex(said[0], r"\d places")
        self.assertEqual(window.desk.hand.tool, "point")
        QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(120, 110))
        self.assertEqual(len(said), 1)


class RegistryTest(unittest.TestCase):
    def test_names_are_taken_once_and_all_is_found(self):
        some = Registry("thing")
        some.add("a", 1)
        with self.assertRaisesRegex(ValueError, "a thing “a” already"):
            some.add("a", 2)
        self.assertIsNone(some.get("b"))
        self.assertIn("a", some)
        self.assertEqual(Registry("format", "kestrelmist.formats").packages, ("kestrelmist.formats",))

    def test_a_second_thread_waits_until_all_is_there(self):
        import subprocess

        code = (
            "import threading\nfrom kestrelmist.core.operation import OPERATIONS\nfound = []\n"
            "ts = [threading.Thread(target=lambda: found.append(len(OPERATIONS.values()))) for _ in range(4)]\n"
            "[t.start() for t in ts]; [t.join() for t in ts]\nprint(len(set(found)), min(found))"
        )
        ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=ROOT)
        self.assertEqual(ran.stdout.split()[0], "1", ran.stderr)
        self.assertGreater(int(ran.stdout.split()[1]), 40)


class CirclesTest(unittest.TestCase):
    def test_no_module_imports_itself_round_about(self):
        """Imports inside functions and those for the type checker count too."""
        import ast

        source = ROOT / "src"
        names = {
            ".".join(p.relative_to(source).with_suffix("").parts).removesuffix(".__init__"): p
            for p in source.rglob("*.py")
        }

        def imported(name: str, path: Path) -> set[str]:
            package = name if path.name == "__init__.py" else name.rpartition(".")[0]
            found: set[str] = set()
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.ImportFrom):
                    parts = package.split(".")
                    base = ".".join(parts[: len(parts) - node.level + 1]) if node.level else ""
                    whole = ".".join(filter(None, (base, node.module)))
                    found |= {f"{whole}.{a.name}" if f"{whole}.{a.name}" in names else whole for a in node.names}
                elif isinstance(node, ast.Import):
                    found |= {a.name for a in node.names}
            return {n for n in found & names.keys() - {name} if names[n].name != "__init__.py"}

        graph = {name: imported(name, path) for name, path in names.items()}
        self.assertGreater(sum(map(len, graph.values())), 500)
        done: set[str] = set()

        def walk(name: str, way: tuple[str, ...]):
            self.assertNotIn(name, way, " → ".join((*way, name)))
            if name not in done:
                for other in graph[name]:
                    walk(other, (*way, name))
                done.add(name)

        for name in graph:
            walk(name, ())
