"""What is drawn with kernels and without is the same; compiled code is kept, and found again."""

import os
import subprocess
import sys
import unittest

import numpy as np

from kestrelmist.core import kernel
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.scene.drawing import draw
from kestrelmist.scene.layer import ImageLook, LabelLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.sampling import sample_colours, sample_numbers, sample_values
from kestrelmist.scene.view import PLANES, fitted
from tests.making import PlaceCase, straight_space, tilted_space

RNG = np.random.default_rng(9)
SPACES = (straight_space((40, 36, 32)), tilted_space((30, 40, 20)), straight_space((60, 50, 1)))


def both(work):
    """Something drawn by numpy, and by the kernels."""
    plain = work()
    with kernel.used_here():
        return plain, work()


class AlikeTest(unittest.TestCase):
    def views(self, space: Space):
        for plane in PLANES:
            for width, height in ((230, 210), (300, 80)):
                yield fitted(plane, space, width, height)

    def test_values(self):
        for space in SPACES:
            for kind in (np.int16, np.float32, np.uint8, np.uint16):
                image = Image(RNG.integers(0, 200, space.shape).astype(kind), space, "Made")
                for view in self.views(space):
                    for smooth in (False, True):
                        plain, quick = both(lambda v=view, s=smooth: sample_values(v, image, s))  # noqa: B023
                        np.testing.assert_array_equal(np.isnan(plain), np.isnan(quick))
                        np.testing.assert_allclose(plain, quick, atol=2e-3)
                        self.assertGreater(np.isfinite(plain).sum(), 100)

    def test_numbers_and_colours(self):
        for space in SPACES:
            labels = LabelMap(space, RNG.integers(0, 5, space.shape).astype(np.uint16))
            packed = (RNG.integers(0, 1 << 24, space.shape) | 0xFF000000).astype(np.uint32)
            image = Image(packed, space, "Colours", colour=True)
            for view in self.views(space):
                plain, quick = both(lambda v=view: sample_numbers(v, labels))  # noqa: B023
                np.testing.assert_array_equal(plain, quick)
                for smooth in (False, True):
                    plain, quick = both(lambda v=view, s=smooth: sample_colours(v, image, s))  # noqa: B023
                    np.testing.assert_array_equal(plain, quick)

    def test_tilted_colours_are_mixed_channel_by_channel(self):
        space = tilted_space((30, 40, 20))
        red = RNG.integers(0, 256, space.shape)
        image = Image((red << 16 | 0xFF0000FF).astype(np.uint32), space, "Red and blue", colour=True)
        grey = Image(red.astype(np.float32), space, "Red")
        view = fitted(PLANES[0], space, 230, 210)
        mixed, values = sample_colours(view, image, True), sample_values(view, grey, True)
        there = np.isfinite(values)
        self.assertLess(np.abs(((mixed >> 16) & 255)[there] - values[there]).max(), 3.0)
        np.testing.assert_array_equal((mixed & 255)[there], 255)
        self.assertGreater(len(np.unique(mixed)), 150)

    def test_a_whole_stack(self):
        for space in SPACES:
            image = Image(RNG.normal(100, 30, space.shape).astype(np.float32), space, "Made")
            image.data[3:6, 3:6] = np.nan
            numbers = np.zeros(space.shape, np.uint16)
            numbers[5:20, 5:20] = 1
            labels = LabelMap(space, numbers, LabelTable().with_new("A")[0])
            for look in (ImageLook(0, 200), ImageLook(50, 120, "Glow")):
                layers = [Drawn(image, look), Drawn(image, look, opacity=0.5), Drawn(labels, LabelLook())]
                for view in self.views(space):
                    plain, quick = both(lambda v=view, d=tuple(layers): draw(v, list(d)))
                    apart = np.stack([((p >> s) & 255).astype(int) for p in (plain, quick) for s in (0, 8, 16)])
                    # a value that lies on the border of two shades may fall to either side
                    self.assertLessEqual(np.abs(apart[:3] - apart[3:]).max(), 4)
                    self.assertLess((plain != quick).mean(), 0.02)

    def test_a_first_picture_may_be_rough_and_is_soon_drawn_again(self):
        space = tilted_space((30, 40, 20))
        image = Image(RNG.integers(0, 200, space.shape).astype(np.int16), space, "Made")
        view = fitted(PLANES[0], space, 230, 210)
        kernel.expect(True)
        self.addCleanup(kernel.expect, False)
        if kernel.ready():
            self.skipTest("kernels are loaded in this process")
        np.testing.assert_array_equal(sample_values(view, image, True), sample_values(view, image, False))
        small = fitted(PLANES[0], space, 60, 50)
        self.assertFalse(np.array_equal(sample_values(small, image, True), sample_values(small, image, False)))


TWO = """
import sys
sys.path.insert(0, {place!r})
import one
print(one.twice(3.0), one.thrice(2.0), sum(one.twice.stats.cache_hits.values()))
"""


FULL = """
import resource
resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
"""
TOLD = """
from kestrelmist.core.kernel import not_kept
print(not_kept())
"""


class CacheTest(PlaceCase):
    def run_once(self, kept: str = "kept", before: str = "", after: str = "") -> str:
        env = {**os.environ, "KESTRELMIST_KERNELS": str(self.place / kept)}
        program = before + TWO.format(place=str(self.place)) + after
        ran = subprocess.run([sys.executable, "-B", "-c", program], capture_output=True, text=True, env=env)
        self.assertEqual(ran.returncode, 0, ran.stderr)
        return ran.stdout.strip()

    def write_one(self) -> None:
        (self.place / "one.py").write_text(
            "from kestrelmist.core.kernel import kernel\n\n"
            "@kernel\ndef twice(x):\n    return x * 2\n\n@kernel\ndef thrice(x):\n    return x * 3\n"
        )

    def test_without_a_place_to_keep_them_they_run_and_it_is_said(self):
        self.write_one()
        (self.place / "file").write_text("no folder")
        for kept, before in (("file", ""), ("kept", FULL)):  # nowhere to make the folder; no room for what goes in it
            numbers, told = self.run_once(kept, before, TOLD).split("\n")
            self.assertEqual(numbers, "6.0 6.0 0")
            self.assertIn(f"cannot be kept in {self.place / kept}", told)
        self.assertEqual(self.run_once(after=TOLD), "6.0 6.0 0")  # with room, nothing is said

    def test_a_damaged_one_is_compiled_anew(self):
        self.write_one()
        self.run_once()
        for path in (self.place / "kept").rglob("*.nb?"):
            path.write_bytes(path.read_bytes()[:20])
        self.assertEqual(self.run_once(), "6.0 6.0 0")

    def test_kept_found_again_and_made_anew_when_a_source_changes(self):
        (self.place / "two.py").write_text(
            "from kestrelmist.core.kernel import kernel\n\n@kernel\ndef add(a, b):\n    return a + b\n"
        )
        (self.place / "one.py").write_text(
            "from kestrelmist.core.kernel import kernel\nfrom two import add\n\n"
            "@kernel\ndef twice(x):\n    return add(x, x)\n\n@kernel\ndef thrice(x):\n    return x * 3\n"
        )
        self.assertEqual(self.run_once().split()[:2], ["6.0", "6.0"])
        self.assertEqual(self.run_once(), "6.0 6.0 1")  # from the cache
        kept = set((self.place / "kept").rglob("*.nbc"))
        self.assertGreaterEqual(len(kept), 2)
        source = (self.place / "two.py").read_text()
        (self.place / "two.py").write_text(source.replace("a + b", "a + b + 1"))
        self.assertEqual(self.run_once(), "7.0 6.0 0")  # the kernel below has changed
        thrice = {p for p in (self.place / "kept").rglob("*.nbc") if "thrice" in p.name}
        self.assertEqual(thrice, {p for p in kept if "thrice" in p.name})

    def test_without_a_place_to_keep_them(self):
        (self.place / "kept").write_text("a file where a folder should be")
        (self.place / "one.py").write_text(
            "from kestrelmist.core.kernel import kernel\n\n"
            "@kernel\ndef twice(x):\n    return 2 * x\n\n@kernel\ndef thrice(x):\n    return x * 3\n"
        )
        self.assertEqual(self.run_once().split()[:2], ["6.0", "6.0"])
