"""Pages as PDF, with the fonts in the file: one page, of the picture's size."""

from __future__ import annotations

import io
from importlib.resources import files
from typing import IO, Any

from ..painting import FilePainter, register
from ..primitives import Bitmap, Oval, Page, Panel, Path, Stroke, Words, font_file, paint, rgba
from .raster import rgb_of

POINT = 72.0
RISE = {"a": 0.74, "m": 0.26, "s": 0.0}
WEIGHTS = ("400", "600", "700", "figures")
PLAIN = 96.0
"""Page units an inch of a page that has no size on paper."""


class PdfPainter:
    """Draws on a canvas of reportlab whose unit is the page's, and whose y runs up."""

    def __init__(self, canvas: Any, height: float):
        self.canvas, self.height = canvas, height

    def path(self, path: Path) -> None:
        if len(path.points) < 2:
            return
        way = self.canvas.beginPath()
        for part in path.parts:
            for n, (x, y) in enumerate(part):
                (way.lineTo if n else way.moveTo)(x, self.height - y)
        if path.closed:
            way.close()
        with _Kept(self.canvas):
            self.canvas.drawPath(way, **self._style(path.stroke, path.fill))

    def oval(self, oval: Oval) -> None:
        (x, y), (a, b) = oval.centre, oval.radii
        with _Kept(self.canvas):
            style = self._style(oval.stroke, oval.fill)
            self.canvas.translate(x, self.height - y)
            self.canvas.rotate(-oval.turn)
            self.canvas.ellipse(-a, -b, a, b, **style)

    def panel(self, panel: Panel) -> None:
        x, y, width, height = panel.box
        with _Kept(self.canvas):
            style = self._style(panel.stroke, panel.fill)
            self.canvas.roundRect(x, self.height - y - height, width, height, panel.radius, **style)

    def words(self, words: Words) -> None:
        x, y = words.at
        name = font_name(words.weight)
        down = self.height - y - RISE[words.anchor[1]] * words.size
        draws = {"l": "drawString", "m": "drawCentredString", "r": "drawRightString"}[words.anchor[0]]
        with _Kept(self.canvas):
            self._fill(words.colour)
            self.canvas.setFont(name, words.size)
            getattr(self.canvas, draws)(x, down, words.text)

    def bitmap(self, bitmap: Bitmap) -> None:
        from PIL import Image as Picture
        from reportlab.lib.utils import ImageReader

        x, y, width, height = bitmap.box
        picture = ImageReader(Picture.fromarray(rgb_of(bitmap.pixels)))
        self.canvas.drawImage(picture, x, self.height - y - height, width, height)

    def _style(self, stroke: Stroke | None, fill: str) -> dict[str, int]:
        if fill:
            self._fill(fill)
        if stroke is not None:
            red, green, blue, opacity = (v / 255 for v in rgba(stroke.colour))
            self.canvas.setStrokeColorRGB(red, green, blue, opacity)
            self.canvas.setLineWidth(stroke.width)
            self.canvas.setDash(list(stroke.dashes) or [])
        return {"stroke": int(stroke is not None), "fill": int(bool(fill))}

    def _fill(self, colour: str) -> None:
        red, green, blue, opacity = (v / 255 for v in rgba(colour))
        self.canvas.setFillColorRGB(red, green, blue, opacity)


class _Kept:
    """What is set for one primitive holds for that one alone."""

    def __init__(self, canvas: Any):
        self.canvas = canvas

    def __enter__(self) -> None:
        self.canvas.saveState()

    def __exit__(self, *_) -> None:
        self.canvas.restoreState()


def font_name(weight: str) -> str:
    """Name of a font of ours as reportlab knows it."""
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    name = font_file(weight).removesuffix(".ttf")
    if name not in pdfmetrics.getRegisteredFontNames():
        place = files("kestrelmist.scene").joinpath("fonts", font_file(weight))
        pdfmetrics.registerFont(TTFont(name, io.BytesIO(place.read_bytes())))
    return name


def _write(page: Page, stream: IO[bytes], ending: str) -> None:
    from reportlab.pdfgen.canvas import Canvas

    unit = POINT / PLAIN if page.millimetres is None else page.millimetres * page.scale / 25.4 * POINT
    canvas = Canvas(stream, (page.width * unit, page.height * unit), invariant=1)
    canvas.setTitle(page.title)
    canvas.setCreator("Kestrelmist")
    canvas.setSubject(page.caption)
    canvas.setKeywords("; ".join(f"{name}: {value}" for name, value in page.facts))
    canvas.scale(unit, unit)
    painter = PdfPainter(canvas, page.height)
    painter.bitmap(Bitmap(page.ground, (0, 0, page.width, page.height)))
    paint(painter, page.over)
    canvas.showPage()
    canvas.save()


register(FilePainter("PDF", (".pdf",), _write))
