"""What holds for every file: form, types, examples in docstrings, signatures of operations."""

import ast
import contextlib
import doctest
import importlib
import inspect
import io
import pkgutil
import re
import subprocess
import sys
import unittest
from pathlib import Path
from unittest import mock

import kestrelmist
from kestrelmist.core.kind import KINDS
from kestrelmist.core.operation import all_operations
from tests.making import PlaceCase
from tests.side_by_side import modules, run_side_by_side

ROOT = Path(__file__).parent.parent
BIN = Path(sys.executable).parent


def run(*words: str) -> subprocess.CompletedProcess:
    return subprocess.run([str(BIN / words[0]), *words[1:]], capture_output=True, text=True, cwd=ROOT)


class FormTest(unittest.TestCase):
    def test_lint_and_format(self):
        for words in (("ruff", "check", "--no-cache", "."), ("ruff", "format", "--check", "--no-cache", ".")):
            ran = run(*words)
            self.assertEqual(ran.returncode, 0, ran.stdout[-3000:] + ran.stderr[-500:])

    def test_types(self):
        ran = run("mypy")
        self.assertEqual(ran.returncode, 0, ran.stdout[-4000:] + ran.stderr[-500:])
        self.assertRegex(ran.stdout, r"no issues found in [2-9]\d\d source files")

    def test_rooms_are_small(self):
        for path in (ROOT / "src").rglob("*.py"):
            lines = len(path.read_text().splitlines())
            self.assertLessEqual(lines, 400, path.name)
            self.assertNotRegex(path.stem, r"util|helper|manager|misc|common")

    def test_painters_end_with_their_block(self):
        for path in (ROOT / "src").rglob("*.py"):
            for line in path.read_text().splitlines():
                if re.search(r"= QPainter\(|, QPainter\(", line):
                    self.fail(f"{path.name}: {line.strip()}")

    def test_nothing_is_passed_over_wholesale(self):
        for path in [*(ROOT / "src").rglob("*.py"), *(ROOT / "tests").glob("*.py")]:
            for n, line in enumerate(path.read_text().splitlines(), 1):
                self.assertNotRegex(
                    line, r"#\s*ruff:|#\s*mypy:|#\s*type:\s*ignore\s*$|#\s*noqa\s*$", f"{path.name}:{n}"
                )

    def test_kinds_are_asked_what_they_are_not_for_their_names(self):
        """Whoever compares with the name of a kind passes over those of others. Layouts of before, files and lists of
        one kind do."""
        # a subject is also a column of tables
        kinds = {k.name for k in KINDS.values() if k.family in ("thing", "change")} - {"subject"}

        def named(node: ast.AST) -> bool:
            if isinstance(node, (ast.Tuple, ast.List, ast.Set)):
                return any(map(named, node.elts))
            return isinstance(node, ast.Constant) and node.value in kinds

        found = []
        for path in sorted((ROOT / "src").rglob("*.py")):
            for node in ast.walk(ast.parse(path.read_text())):
                parts = [node.left, *node.comparators] if isinstance(node, ast.Compare) else []
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
                    parts = node.args if node.func.attr in ("first_input", "returns", "of_kind", "on") else []
                if any(map(named, parts)):
                    found.append(f"{path.name}:{node.lineno} {ast.unparse(node)[:60]}")
        self.assertGreater(len(found), 5)
        self.assertLessEqual(len(found), 14, "\n".join(found))


class OperationsTest(unittest.TestCase):
    def test_settings_beyond_the_first_three_are_named(self):
        for operation in all_operations().values():
            settings = {p.name for p in operation.settings}
            free = [
                p.name
                for p in inspect.signature(operation.function).parameters.values()
                if p.name in settings and p.kind is not inspect.Parameter.KEYWORD_ONLY
            ]
            self.assertLessEqual(len(free), 3, operation.name)

    def test_docstrings_tell_settings_units_and_errors(self):
        for operation in all_operations().values():
            doc = inspect.getdoc(operation.function)
            self.assertIsNotNone(doc, operation.name)
            for p in operation.settings:
                if p.unit and p.unit != "value":
                    self.assertTrue(p.unit in doc or p.unit in p.wanted, f"{operation.name}: {p.name}")
            source = inspect.getsource(operation.function)
            if "raise Trouble" in source:
                self.assertRegex(doc, r"Raises\n-+\nTrouble|Raises Trouble", operation.name)


class PublicTest(unittest.TestCase):
    def test_what_the_package_offers_is_there_and_told(self):
        for name in kestrelmist.__all__:
            self.assertTrue(inspect.getdoc(getattr(kestrelmist, name)) or name == "VERSION", name)


class SideBySideTest(PlaceCase):
    def test_a_file_whose_process_dies_has_failed_and_the_others_are_run(self):
        head = "import os, unittest\nclass T(unittest.TestCase):\n    def test_one(self): "
        for name, body in (("dying", "os._exit(0)"), ("failing", "self.fail()"), ("fine", "self.assertTrue(os)")):
            (self.place / f"{name}.py").write_text(head + body + "\n")
        with (
            mock.patch.object(sys, "path", [str(self.place), *sys.path]),
            contextlib.redirect_stdout(io.StringIO()) as said,
        ):
            counts = run_side_by_side(["dying", "failing", "fine"], 2)
        self.assertEqual(counts, (3, 2, 0))
        self.assertIn("The process ended in the middle of this file.", said.getvalue())

    def test_all_files_are_begun(self):
        there = {f"tests.{path.stem}" for path in Path(__file__).parent.glob("test_*.py")}
        self.assertEqual(sorted(modules()), sorted(there))


def load_tests(loader, tests, pattern):
    """The examples in docstrings are tests too."""
    found = 0
    for module in pkgutil.walk_packages(kestrelmist.__path__, "kestrelmist."):
        source = ROOT / "src" / Path(*module.name.split(".")).with_suffix(".py")
        if source.exists() and re.search(r"^\s+>>> ", source.read_text(), re.M):
            suite = doctest.DocTestSuite(importlib.import_module(module.name))
            found += suite.countTestCases()
            tests.addTests(suite)
    assert found >= 10, "the examples in docstrings were not found"
    return tests
