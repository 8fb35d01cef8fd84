"""Scale bars as marks, and how numbers of marks are told: unit, decimals, type size, of one or of all."""

import subprocess
import sys
import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.geometry.measured import Measured
from kestrelmist.core.geometry.shape import Plane, shape_named
from kestrelmist.core.scale import Scale
from kestrelmist.core.space import picture_space
from kestrelmist.formats.mark_files import read_marks
from kestrelmist.formats.saving import save_thing
from kestrelmist.measure.mark_looks import style_marks
from kestrelmist.scene.layer import MarkLook
from kestrelmist.scene.layer_types.marks import drawn_mark
from kestrelmist.scene.painters.raster import drawn as painted
from kestrelmist.scene.primitives import Page, Panel, Path, Words
from kestrelmist.scene.view import AXIAL, fitted
from tests.command import kestrelmist
from tests.drawing_case import DrawingCase
from tests.making import PlaceCase

FLAT = Plane(np.array((1.0, 0, 0)), np.array((0, -1.0, 0)))
SURE = Scale("mm", "by header", (0.001, 0.001, 0.0)).fact


def words_of(mark: Mark, **look) -> list[str]:
    view = fitted(AXIAL, picture_space(400, 300, (0.01, 0.01)), 800, 600)
    drawn = drawn_mark(view, mark, "#E8B68C", MarkLook(scale=SURE, placed=0.003, **look))
    return list(dict.fromkeys(one.text for one in drawn if isinstance(one, Words)))  # an edge is the same words again


class ToldTest(unittest.TestCase):
    def test_by_unit_decimals_and_spread(self):
        line = Mark("line", ((0, 0, 0), (1.23456, 0, 0)))
        self.assertEqual("".join(words_of(line)), "1.2346 ± 0.0087 mm")
        for facts, told in (
            ({"unit": "um"}, "1234.6 ± 8.7 µm"),
            ({"unit": "cm", "digits": 2}, "0.12 cm"),  # which would be ± 0.00
            ({"digits": 3, "spread": False}, "1.235 mm"),
            ({"spread": False}, "1.2346 mm"),
            ({"unit": "s"}, "1.2346 ± 0.0087 mm"),  # no length
        ):
            given = Mark("line", line.points, **facts)
            self.assertEqual("".join(words_of(given)), told, facts)
        square = Mark(
            "polygon", ((0, 0, 0), (0.1, 0, 0), (0.1, 0.1, 0), (0, 0.1, 0)), unit="um", digits=0, spread=False
        )
        self.assertEqual("".join(words_of(square)), "10000 µm²")

    def test_digits_from_where_the_uncertainty_begins_are_soft(self):
        one = Measured("length", 12.345, "mm", 0.0102 / 1.96)
        self.assertEqual(one.parts_of(None, True), ("12.3", "45 ± 0.010", "mm"))
        self.assertEqual(one.parts_of(3, False), ("12.3", "45", "mm"))
        self.assertEqual(one.parts_of(1, True), ("12.3", "", "mm"))
        self.assertEqual(Measured("length", 12.345, "mm", 2.3 / 1.96).parts, ("1", "2.3 ± 2.3", "mm"))
        self.assertEqual(Measured("length", 1234.5, "mm", 23 / 1.96).parts, ("12", "34 ± 23", "mm"))
        self.assertEqual(Measured("length", 0.4, "mm", 230 / 1.96).parts, ("", "0 ± 230", "mm"))

    def test_no_library_of_units_is_loaded_for_a_mark_that_says_none(self):
        code = (
            "import sys; from tests.test_mark_looks import Mark, words_of;"
            "words_of(Mark('line', ((0, 0, 0), (1, 0, 0)))); print('pint' in sys.modules)"
        )
        ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertEqual(ran.stdout.strip(), "False", ran.stderr)

    def test_letters_grow_with_their_chip(self):
        view = fitted(AXIAL, picture_space(400, 300, (0.01, 0.01)), 800, 600)
        sizes = {}
        for letters in (12.0, 24.0):
            mark = Mark("line", ((0, 0, 0), (1, 0, 0)), letters=letters)
            drawn = drawn_mark(view, mark, "#FFFFFF", MarkLook(scale=SURE, placed=0.002))
            (chip,) = [one for one in drawn if isinstance(one, Panel)]
            sizes[letters] = chip.box[3], {one.size for one in drawn if isinstance(one, Words)}
        self.assertEqual(sizes[24.0], (2 * sizes[12.0][0], {24.0}))


class ScaleBarMarkTest(unittest.TestCase):
    def test_it_has_the_round_length_that_fits(self):
        shape = shape_named("scale-bar")
        for to, length in (((0.07, 0.3, 0), 0.05), ((-0.3, 0, 0), -0.2), ((1.0, 0, 0), 1.0), ((0.0999, 0, 0), 0.05)):
            points = shape.begun(np.zeros(3), np.array(to), FLAT, False)
            np.testing.assert_allclose(points[1] - points[0], (length, 0, 0), atol=1e-12)
        longer = shape.pulled(np.array(((0, 0, 0), (0.05, 0, 0))), 1, np.array((0.13, 0.2, 0)), FLAT, False)
        np.testing.assert_allclose(longer[1], (0.1, 0, 0))
        np.testing.assert_allclose(shape.sized(longer, "length", 0.03)[1], (0.03, 0, 0))

    def test_it_is_as_long_on_the_page_as_it_says(self):
        space = picture_space(400, 300, (0.01, 0.01))
        view = fitted(AXIAL, space, 800, 600)
        mark = Mark("scale-bar", ((-0.5, -1, 0), (0.5, -1, 0)), colour="#00FF00", width=4.0)
        page = Page(np.full((600, 800), 0xFF404040, np.uint32), drawn_mark(view, mark, "#00FF00", MarkLook(scale=SURE)))
        drawn = painted(page)
        green = (drawn[..., 1] > 200) & (drawn[..., 0] < 60)
        found, _ = ndimage.label(green)
        largest = ndimage.find_objects(found)[int(np.bincount(found.ravel())[1:].argmax())]
        wide = largest[1].stop - largest[1].start
        self.assertAlmostEqual(wide * view.pixel, 1.0, delta=1.5 * view.pixel)
        self.assertEqual(words_of(mark), ["1 mm"])

    def test_what_it_says(self):
        for length, facts, told in (
            (0.05, {}, "50 µm"),
            (0.05, {"unit": "mm"}, "0.05 mm"),
            (0.0005, {}, "0.5 µm"),
            (20.0, {"unit": "cm"}, "2 cm"),
            (0.05, {"text": "half a hair"}, "half a hair"),
        ):
            mark = Mark("scale-bar", ((0, 0, 0), (length, 0, 0)), **facts)
            self.assertEqual(words_of(mark, measured=False), [told])
        pixels = Mark("scale-bar", ((0, 0, 0), (100, 0, 0)))
        view = fitted(AXIAL, picture_space(400, 300, None), 800, 600)
        drawn = drawn_mark(view, pixels, "#FFFFFF", MarkLook(scale=Scale("px", "no scale").fact))
        self.assertEqual({one.text for one in drawn if isinstance(one, Words)}, {"100 px"})
        self.assertEqual(len({one.fill for one in drawn if isinstance(one, Path)}), 2)  # an edge that contrasts


class StyleTest(PlaceCase):
    def marks(self) -> Marks:
        ends = ((0, 0, 0), (1.5, 0, 0))
        return Marks.numbered(
            [Mark("line", ends), Mark("scale-bar", ends), Mark("text", ends[:1], text="here")], name="M"
        )

    def test_of_all_and_of_some(self):
        edit = style_marks(self.marks(), letters=20.0, unit="um", digits="1", spread="no")
        made = self.marks().with_edit(edit)
        self.assertEqual([(m.letters, m.unit, m.digits, m.spread) for m in made], [(20.0, "um", 1, False)] * 3)

    def test_what_is_none(self):
        for given, told in (
            ({"unit": "kg"}, "“kg” is no unit of length"),
            ({"digits": "ten"}, "is no number of decimals"),
            ({"colour": "red"}, "“red” is no colour"),
            ({"which": "9", "width": 2.0}, "9"),
            ({"width": 1.8}, "look so already"),
        ):
            with self.assertRaisesRegex(Trouble, told):
                style_marks(self.marks(), **given)

    def test_looks_go_through_files(self):
        path = self.place / "m.geojson"
        save_thing(path, self.marks())
        ran = kestrelmist("style-marks", path, "--letters", "18", "--digits", "2", "--unit", "um", "--spread", "no",
                          "--out", self.place / "o.csv")  # fmt: skip
        self.assertEqual(ran.returncode, 0, ran.stderr)
        again = ("--which", "1", "--digits", "as sure", "--out", self.place / "p.geojson")
        kestrelmist("style-marks", self.place / "o.csv", *again)
        made = read_marks(self.place / "p.geojson")
        self.assertEqual([(m.shape, m.letters, m.unit, m.digits, m.spread) for m in made],
                         [("line", 18.0, "um", None, False), ("scale-bar", 18.0, "um", 2, False),
                          ("text", 18.0, "um", 2, False)])  # fmt: skip


class LooksInTheWindowTest(DrawingCase):
    @property
    def group(self):
        return self.window.bench.page("Measure").groups["marks"]

    def test_a_bar_is_drawn_typed_and_all_get_its_letters(self):
        self.desk.hand.set_tool("mark-line")
        self.draw((-40, 0), (60, 0))
        self.marks.choose(None)
        self.desk.hand.set_tool("mark-scale-bar")
        self.draw((-90, 80), (-30, 60))
        bar = self.drawn()[1]
        pixel = self.canvas.current_view().pixel
        self.assertEqual(bar.shape, "scale-bar")
        length = np.linalg.norm(np.diff(bar.array, axis=0))
        self.assertLessEqual(length, 60 * pixel * 1.01)
        self.assertAlmostEqual(float(f"{length:.6g}"), float(f"{length:.0e}"))  # a round one
        self.group.sizes["length"].setValue(3.0 * self.group._unit[1])
        self.assertAlmostEqual(np.linalg.norm(np.diff(self.drawn()[1].array, axis=0)), 3.0)
        self.group.look.letters.setValue(22)
        self.group.look.unit.setCurrentIndex(self.group.look.unit.findData("um"))
        self.group.look.unit.activated.emit(0)
        self.assertEqual([(m.letters, m.unit) for m in self.drawn()], [(12.0, ""), (22.0, "um")])
        self.group.look.every.click()
        self.settle(self.window)
        self.assertEqual([(m.letters, m.unit) for m in self.drawn()], [(22.0, "um"), (22.0, "um")])
        said = [one.text for one in self.marks.drawn(self.canvas.current_view()) if isinstance(one, Words)]
        self.assertIn("3000 µm", said)
        self.desk.undoing.undo()
        self.settle(self.window)
        self.assertEqual([m.letters for m in self.drawn()], [12.0, 22.0])
        self.assertEqual(self.troubles, [])
