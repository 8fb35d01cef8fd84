"""Primitives come out alike from every painter: in the window, as pixels, as SVG and as PDF."""

import io
import re
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path as File
from xml.etree import ElementTree

import numpy as np
from PySide6.QtGui import QImage, QPainter
from PySide6.QtSvg import QSvgRenderer

from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.world import World
from kestrelmist.desk.app import application
from kestrelmist.desk.light_table.qt_painter import QtPainter
from kestrelmist.report.picture import picture
from kestrelmist.scene import pieces
from kestrelmist.scene.colours import packed
from kestrelmist.scene.layer import ImageLook
from kestrelmist.scene.painters.raster import RasterPainter, dashed
from kestrelmist.scene.painting import PAINTERS, painter_for, write_page
from kestrelmist.scene.primitives import Bitmap, Oval, Page, Panel, Path, Stroke, Words, paint, rgba
from kestrelmist.scene.view import AXIAL, plane_view
from tests.making import straight_space

SVG = "{http://www.w3.org/2000/svg}"
WIDE, HIGH = 120, 90
RED = "#FF0000"


def ground(colour: str = "#000000") -> np.ndarray:
    return np.full((HIGH, WIDE), packed(colour), np.uint32)


def in_window(over) -> np.ndarray:
    """What the window's painter draws on black, uint8 (height, width, 3)."""
    application()
    image = QImage(WIDE, HIGH, QImage.Format.Format_RGB32)
    image.fill(0)
    with QPainter(image) as painter:
        paint(QtPainter(painter), over)
    return pixels_of(image)


def pixels_of(image: QImage) -> np.ndarray:
    found = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.width(), 4)
    return found[:, :, 2::-1].copy()


def as_pixels(over) -> np.ndarray:
    painter = RasterPainter(ground())
    paint(painter, over)
    return painter.rgb()


def as_svg(over) -> np.ndarray:
    application()
    stream = io.BytesIO()
    painter_for(File("x.svg")).write(Page(ground(), over), stream, ".svg")
    image = QImage(WIDE, HIGH, QImage.Format.Format_RGB32)
    with QPainter(image) as painter:
        QSvgRenderer(stream.getvalue()).render(painter)
    return pixels_of(image)


def weight(rgb: np.ndarray) -> tuple[float, float, float]:
    """How much red there is, in whole pixels, and the middle of it."""
    red = rgb[:, :, 0] / 255
    total = float(red.sum())
    y, x = np.mgrid[: red.shape[0], : red.shape[1]] + 0.5
    return total, float((red * x).sum()) / total, float((red * y).sum()) / total


class PaintersTest(unittest.TestCase):
    def alike(self, one, area: float, middle: tuple[float, float], share: float = 0.04) -> None:
        """All painters lay so much red, there."""
        for draws in (in_window, as_pixels, as_svg):
            total, x, y = weight(draws([one]))
            self.assertAlmostEqual(total, area, delta=max(share * area, 2.0), msg=f"{draws.__name__} {one}")
            self.assertAlmostEqual(x, middle[0], delta=0.35, msg=f"{draws.__name__} {one}")
            self.assertAlmostEqual(y, middle[1], delta=0.35, msg=f"{draws.__name__} {one}")

    def test_areas_are_as_large_as_geometry_says_and_lie_where_it_says(self):
        self.alike(Oval((50.0, 40.0), (20.0, 12.0), fill=RED), np.pi * 20 * 12, (50, 40))
        self.alike(Oval((50.0, 40.0), (20.0, 12.0), fill=RED, turn=30), np.pi * 20 * 12, (50, 40))
        triangle = ((20.0, 10.0), (80.0, 20.0), (40.0, 70.0))
        area = abs((80 - 20) * (70 - 10) - (40 - 20) * (20 - 10)) / 2
        self.alike(Path(triangle, closed=True, fill=RED), area, tuple(np.mean(triangle, 0)))
        self.alike(Panel((10.0, 20.0, 40.0, 30.0), RED), 1200, (30, 35))
        self.alike(Panel((10.0, 20.0, 40.0, 30.0), RED, 8.0), 1200 - (4 - np.pi) * 64, (30, 35))

    def test_lines_have_their_width(self):
        line = Path(((10.0, 10.0), (90.0, 70.0)), Stroke(RED, 4))
        self.alike(line, 400, (50, 40), share=0.06)
        crisp = Path(((10.0, 40.5), (90.0, 40.5)), Stroke(RED, 1), crisp=True)
        for draws in (in_window, as_pixels):  # on whole pixels, in full colour
            self.assertEqual(int((draws([crisp])[40, 12:88, 0] == 255).sum()), 76, draws.__name__)

    def test_dashes(self):
        self.assertEqual(dashed([(0.0, 0.0), (10.0, 0.0)], (4, 2)), [((0, 0), (4, 0)), ((6, 0), (10, 0))])
        around = dashed([(0.0, 0.0), (3.0, 0.0), (3.0, 3.0)], (4, 2))  # a dash goes round a corner
        self.assertEqual(around, [((0, 0), (3, 0)), ((3, 0), (3, 1)), ((3, 3), (3, 3))][:2])
        whole = Path(((10.0, 40.0), (110.0, 40.0)), Stroke(RED, 4, (10, 10)))
        self.alike(whole, 200, (55, 40), share=0.15)

    def test_words_stand_where_their_anchor_says(self):
        for anchor, at in (("mm", (60.0, 45.0)), ("ls", (10.0, 60.0)), ("rs", (110.0, 60.0))):
            words = Words(at, "HHHH", 16, RED, "700", anchor)
            seen = {}
            for draws in (in_window, as_pixels):
                red = draws([words])[:, :, 0] > 100
                columns, rows = np.flatnonzero(red.any(0)), np.flatnonzero(red.any(1))
                seen[draws.__name__] = np.array((columns[0], columns[-1], rows[0], rows[-1]))
            one, other = seen.values()
            self.assertLessEqual(np.abs(one - other).max(), 2, f"{anchor} {seen}")
            if anchor == "mm":
                self.assertAlmostEqual((one[0] + one[1] + 1) / 2, 60, delta=1.5)
                self.assertAlmostEqual((one[2] + one[3] + 1) / 2, 45, delta=1.5)
            else:
                self.assertLessEqual(abs(one[3] + 1 - 60), 1)
                self.assertLessEqual(abs(one[0] - 10) if anchor == "ls" else abs(one[1] + 1 - 110), 3)

    def test_small_pictures_and_what_shines_through(self):
        column = Bitmap(np.array([[packed("#FF0000")], [packed("#00FF00")]], np.uint32), (10.0, 10.0, 20.0, 40.0))
        for draws in (in_window, as_pixels):
            rgb = draws([column])
            self.assertEqual(rgb[20, 20].tolist(), [255, 0, 0], draws.__name__)
            self.assertEqual(rgb[40, 20].tolist(), [0, 255, 0], draws.__name__)
        half = Panel((10.0, 10.0, 20.0, 20.0), "#FF000080")
        for draws in (in_window, as_pixels, as_svg):
            self.assertAlmostEqual(int(draws([half])[20, 20, 0]), 128, delta=2, msg=draws.__name__)
        self.assertEqual(rgba("#A44E28"), (164, 78, 40, 255))

    def test_words_of_a_large_picture_grow_with_it(self):
        painter = RasterPainter(np.full((3 * HIGH, 3 * WIDE), packed("#000000"), np.uint32), 3.0)
        paint(painter, [Panel((10.0, 20.0, 40.0, 30.0), RED)])
        self.assertAlmostEqual(weight(painter.rgb())[0], 9 * 1200, delta=30)


class FilesTest(unittest.TestCase):
    def setUp(self):
        self.place = File(self.enterContext(tempfile.TemporaryDirectory()))
        values = np.arange(24 * 20 * 4, dtype=np.float32).reshape((24, 20, 4), order="F")
        self.image = Image(values, straight_space((24, 20, 4), 0.5), name="Head <T1> & more", unit="HU")

    def test_svg_keeps_words_and_lines_as_such(self):
        path = self.place / "p.svg"
        told = picture(image=self.image, to=str(path), over=[self.image], at=0.5)
        root = ElementTree.fromstring(path.read_bytes())
        said = [e.text for e in root.iter(f"{SVG}text")]
        self.assertIn("z +0.50 mm", said)
        self.assertIn("HU", said)
        self.assertIn("Head <T1> & more", said)
        self.assertTrue({"L", "R", "A", "P"} <= set(said))
        self.assertEqual(root.find(f"{SVG}title").text, "Head <T1> & more")
        self.assertEqual(root.get("viewBox"), "0 0 900 700")
        bar = next(e for e in root.iter(f"{SVG}path") if e.get("stroke-width") == "2" and e.get("stroke") == "#e8edee")
        x = [float(v) for v in re.findall(r"[\d.]+", bar.get("d"))][::2]
        pixel = dict(zip([c.name for c in told.columns], told.rows[0]))["pixel"]
        length = next(float(t.split()[0]) for t in said if t.endswith(" mm") and not t.startswith("z"))
        self.assertAlmostEqual((x[1] - x[0]) * pixel, length, places=2)  # the bar is as long as it says

    def test_marks_come_into_pictures_where_they_lie(self):
        square = Mark(
            "rectangle", ((-2, -2, 0.5), (2, -2, 0.5), (2, 2, 0.5), (-2, 2, 0.5)), normal=(0, 0, 1), name="window"
        )
        away = Mark("line", ((-3, -3, 40), (3, 3, 40)), name="not here")
        marks = Marks.numbered([square, away], world=self.image.space.world)
        path = self.place / "m.svg"
        told = picture(image=self.image, to=str(path), marks=[marks], at=0.5)
        root = ElementTree.fromstring(path.read_bytes())
        said = [e.text for e in root.iter(f"{SVG}text")]
        self.assertIn("window", said)
        self.assertNotIn("not here", said)
        line = next(e for e in root.iter(f"{SVG}path") if e.get("stroke") == "#e8b68c")
        x = [float(v) for v in re.findall(r"-?[\d.]+", line.get("d"))][::2]
        pixel = dict(zip([c.name for c in told.columns], told.rows[0]))["pixel"]
        self.assertAlmostEqual((max(x) - min(x)) * pixel, 4.0, places=3)
        elsewhere = replace(marks, world=World("1.2"))
        there = self.image.like(self.image.data)
        there.space = replace(there.space, world=World("3.4"))
        with self.assertRaisesRegex(Trouble, "lies in another space"):
            picture(image=there, to=str(self.place / "n.svg"), marks=[elsewhere])

    def test_pdf_is_one_page_of_the_picture_with_its_fonts(self):
        path = self.place / "p.pdf"
        picture(image=self.image, to=str(path), size="600x400")
        data = path.read_bytes()
        self.assertTrue(data.startswith(b"%PDF"))
        box = re.search(rb"/MediaBox \[ ([\d. ]+)\]", data)
        self.assertEqual([float(v) for v in box[1].split()], [0, 0, 450, 300])  # at 96 pixels an inch
        self.assertEqual(len(re.findall(rb"/Type /Page\b(?!s)", data)), 1)
        self.assertGreaterEqual(data.count(b"/FontFile2"), 2)
        page = Page(ground(), [Panel((0, 0, 10, 10), RED)], millimetres=0.5)
        write_page(page, self.place / "q.pdf")
        box = re.search(rb"/MediaBox \[ ([\d. ]+)\]", (self.place / "q.pdf").read_bytes())
        wide, high = [float(v) for v in box[1].split()][2:]
        self.assertAlmostEqual(wide, WIDE * 0.5 / 25.4 * 72, places=2)
        self.assertAlmostEqual(high, HIGH * 0.5 / 25.4 * 72, places=2)

    def test_pixels_of_pictures_are_those_of_the_pane(self):
        from PIL import Image as Picture

        for ending in ("png", "tif", "jpg"):
            path = self.place / f"p.{ending}"
            picture(image=self.image, to=str(path), size="300x200", written=False)
            with Picture.open(path) as found:
                self.assertEqual(found.size, (300, 200))
        write_page(Page(ground("#A44E28"), millimetres=0.1), self.place / "d.png")
        with Picture.open(self.place / "d.png") as found:
            self.assertEqual(found.getpixel((5, 5)), (164, 78, 40))
            self.assertAlmostEqual(found.info["dpi"][0], 254, delta=0.1)

    def test_endings_that_are_none_are_told_and_nothing_is_written(self):
        for name in ("p.bmp", "p", "p.svgz"):
            with self.assertRaises(Trouble) as raised:
                picture(image=self.image, to=str(self.place / name))
            self.assertIn("Pictures are written as .jpg, .pdf, .png, .svg or .tif", str(raised.exception))
        with self.assertRaises(Trouble) as raised:
            write_page(Page(np.zeros((2, 70_000), np.uint32)), self.place / "wide.jpg")
        self.assertIn("at most 65500 pixels", str(raised.exception))
        self.assertEqual(list(self.place.iterdir()), [])
        self.assertEqual(PAINTERS.names(), ["JPEG", "PDF", "PNG", "SVG", "TIFF"])

    def test_odd_words_harm_no_file(self):
        for text in ("\x00\ud800", "<b>&amp;", "Хазел 睡鼠", "=1+1", "x" * 300):
            page = Page(ground(), [Words((10, 10), text)], title=text)
            for ending in ("svg", "pdf", "png"):
                path = self.place / f"o.{ending}"
                write_page(page, path)
                self.assertGreater(path.stat().st_size, 100)
            ElementTree.fromstring((self.place / "o.svg").read_bytes())


class PiecesTest(unittest.TestCase):
    def test_the_part_in_view_and_bars_of_a_narrow_page(self):
        grid = straight_space((100, 100, 10), 1.0)
        whole = plane_view(AXIAL, grid.centre, 1.0, 200, 200)
        self.assertEqual(pieces.navigator(whole, grid), [])
        near = plane_view(AXIAL, grid.centre, 0.25, 200, 200)
        home, part = pieces.navigator_frame(near, grid)
        self.assertAlmostEqual(part[2] / home[2], 0.5, places=6)
        self.assertAlmostEqual(part[0] + part[2] / 2, home[0] + home[2] / 2, places=6)
        self.assertEqual(pieces.bars_of_colour(whole.moved(width=60), [(ImageLook(0, 1), "", "a")]), [])

    def test_the_plane_is_told_where_there_is_one(self):
        grid = straight_space((10, 10, 10), 0.001)
        self.assertEqual(pieces.plane_text(plane_view(AXIAL, (0, 0, 0.0042), 1, 9, 9), grid), "z +0.0042 mm")
        flat = straight_space((10, 10, 1), 0.5)
        self.assertEqual(pieces.plane_text(plane_view(AXIAL, (0, 0, 0), 1, 9, 9), flat), "")
        tilted = plane_view(AXIAL, (0, 0, 0), 1, 9, 9, along=None).moved(downward=(0.0, -0.8, 0.6))
        self.assertEqual(pieces.plane_text(tilted, grid), "")


if __name__ == "__main__":
    unittest.main()
