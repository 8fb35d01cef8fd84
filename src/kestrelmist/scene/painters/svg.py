"""Pages as SVG 1.1: the picture embedded, lines and words as such, so that a figure can be finished elsewhere."""

from __future__ import annotations

import base64
import io
from typing import IO
from xml.sax.saxutils import escape, quoteattr

import numpy as np

from ..painting import FilePainter, register
from ..primitives import FIGURES, Bitmap, Oval, Page, Panel, Path, Stroke, Words, paint, rgba
from .raster import rgb_of
from .xmp import packet

NEXT, MONO = "'Atkinson Hyperlegible Next', sans-serif", "'Atkinson Hyperlegible Mono', monospace"
ANCHORS = {"l": "start", "m": "middle", "r": "end"}
RISE = {"a": 0.74, "m": 0.26, "s": 0.0}
"""How far below the point the words stand, as a share of their size."""
INCH = 25.4


class SvgPainter:
    """Collects the elements of a drawing."""

    def __init__(self) -> None:
        self.elements: list[str] = []

    def path(self, path: Path) -> None:
        if len(path.points) < 2:
            return
        ways = " M ".join(" L ".join(f"{_n(x)} {_n(y)}" for x, y in part) for part in path.parts)
        shape = ' shape-rendering="crispEdges"' if path.crisp else ""
        self._add(f'path d="M {ways}{" Z" if path.closed else ""}"{shape}', path.stroke, path.fill)

    def oval(self, oval: Oval) -> None:
        (x, y), (a, b) = oval.centre, oval.radii
        turn = f' transform="rotate({_n(oval.turn)} {_n(x)} {_n(y)})"' if oval.turn else ""
        self._add(f'ellipse cx="{_n(x)}" cy="{_n(y)}" rx="{_n(a)}" ry="{_n(b)}"{turn}', oval.stroke, oval.fill)

    def panel(self, panel: Panel) -> None:
        x, y, width, height = map(_n, panel.box)
        corner = f' rx="{_n(panel.radius)}"' if panel.radius else ""
        self._add(f'rect x="{x}" y="{y}" width="{width}" height="{height}"{corner}', panel.stroke, panel.fill)

    def words(self, words: Words) -> None:
        x, y = words.at
        family, weight = (MONO, "400") if words.weight == FIGURES else (NEXT, words.weight)
        across, rise = ANCHORS[words.anchor[0]], RISE[words.anchor[1]] * words.size
        said = f'x="{_n(x)}" y="{_n(y + rise)}" font-family="{family}" font-size="{_n(words.size)}"'
        said += f' font-weight="{weight}" text-anchor="{across}"{_paint("fill", words.colour)}'
        self.elements.append(f"<text {said}>{escape(words.text)}</text>")

    def bitmap(self, bitmap: Bitmap) -> None:
        x, y, width, height = map(_n, bitmap.box)
        place = f'x="{x}" y="{y}" width="{width}" height="{height}" preserveAspectRatio="none"'
        style = ' style="image-rendering:pixelated"'
        self.elements.append(f'<image {place}{style} xlink:href="{_embedded(bitmap.pixels)}"/>')

    def _add(self, element: str, stroke: Stroke | None, fill: str) -> None:
        said = _paint("fill", fill) if fill else ' fill="none"'
        if stroke is not None:
            said += f'{_paint("stroke", stroke.colour)} stroke-width="{_n(stroke.width)}"'
            if stroke.dashes:
                said += f' stroke-dasharray="{" ".join(map(_n, stroke.dashes))}"'
        self.elements.append(f"<{element}{said}/>")


def _paint(what: str, colour: str) -> str:
    red, green, blue, opacity = rgba(colour)
    share = f' {what}-opacity="{opacity / 255:.3g}"' if opacity < 255 else ""
    return f' {what}="#{red:02x}{green:02x}{blue:02x}"{share}'


def _n(value: float) -> str:
    return f"{value:.3f}".rstrip("0").rstrip(".") or "0"


def _embedded(pixels: np.ndarray) -> str:
    from PIL import Image as Picture

    stream = io.BytesIO()
    Picture.fromarray(rgb_of(pixels)).save(stream, "PNG")
    return f"data:image/png;base64,{base64.b64encode(stream.getvalue()).decode()}"


def _write(page: Page, stream: IO[bytes], ending: str) -> None:
    painter = SvgPainter()
    painter.bitmap(Bitmap(page.ground, (0, 0, page.width, page.height)))
    paint(painter, page.over)
    size = f'width="{_n(page.width)}" height="{_n(page.height)}"'
    if page.millimetres is not None:
        high, wide = page.ground.shape
        size = f'width="{_n(wide * page.millimetres)}mm" height="{_n(high * page.millimetres)}mm"'
    said = f'xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" version="1.1" {size}'
    title = f"<title>{escape(page.title)}</title>\n" if page.title else ""
    title += f"<desc>{escape(page.caption)}</desc>\n" if page.caption else ""
    title += f"<metadata>{packet(page)}</metadata>\n"
    body = "\n".join(painter.elements)
    box = quoteattr(f"0 0 {_n(page.width)} {_n(page.height)}")
    text = f'<?xml version="1.0" encoding="UTF-8"?>\n<svg {said} viewBox={box}>\n{title}{body}\n</svg>\n'
    stream.write(text.encode())


register(FilePainter("SVG", (".svg",), _write))
