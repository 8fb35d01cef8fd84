"""Pages as pixels: PNG, JPEG and TIFF."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache
from importlib.resources import files
from typing import IO, Any

import numpy as np

from ..painting import FilePainter, register
from ..primitives import Bitmap, Oval, Page, Panel, Path, Point, Primitive, Stroke, Words, font_file, paint, rgba
from .xmp import packet

FINER = 4
"""Times by which slanting lines and round things are drawn finer and made smooth."""


class RasterPainter:
    """Draws on a picture of Pillow, `scale` pixels a page unit."""

    def __init__(self, ground: np.ndarray, scale: float = 1.0):
        from PIL import Image as Picture

        self.picture: Any = Picture.fromarray(rgb_of(ground))
        self.scale = scale

    def rgb(self) -> np.ndarray:
        """What was drawn, uint8 (height, width, 3)."""
        return np.asarray(self.picture)

    def path(self, path: Path) -> None:
        if path.breaks:
            for part in path.parts:
                self.path(replace(path, points=part, breaks=()))
            return
        points = [self._at(p) for p in path.points]
        if path.crisp and path.stroke is not None and not path.fill:
            self._crisp(points, path.stroke, path.closed)
            return
        self._smooth(points, path.stroke, path.closed, path.fill)

    def oval(self, oval: Oval) -> None:
        a, b = (r * self.scale for r in oval.radii)
        x, y = self._at(oval.centre)
        steps = np.linspace(0, 2 * math.pi, max(24, min(720, int(4 * (a + b)))), endpoint=False)
        turn = math.radians(oval.turn)
        across, down = a * np.cos(steps), b * np.sin(steps)
        points = np.stack(
            (x + across * math.cos(turn) - down * math.sin(turn), y + across * math.sin(turn) + down * math.cos(turn)),
            -1,
        )
        self._smooth([tuple(p) for p in points.tolist()], oval.stroke, True, oval.fill)

    def panel(self, panel: Panel) -> None:
        left, top, width, height = (v * self.scale for v in panel.box)
        if panel.fill:
            shape = (left, top, left + width, top + height)

            def fill(draw, move, finer, colour):
                box = [(v - move[n % 2]) * finer for n, v in enumerate(shape)]
                box[2:] = [max(a, b - 1) for a, b in zip(box[:2], box[2:])]  # the last pixel is drawn too
                draw.rounded_rectangle(box, panel.radius * self.scale * finer, colour)

            self._blend(shape, panel.fill, fill)
        if panel.stroke is not None:
            right, bottom = left + width, top + height
            self._crisp([(left, top), (right, top), (right, bottom), (left, bottom)], panel.stroke, True)

    def words(self, words: Words) -> None:
        from PIL import ImageDraw

        red, green, blue, _ = rgba(words.colour)
        font = _font(max(1.0, words.size * self.scale), words.weight)
        ImageDraw.Draw(self.picture).text(
            self._at(words.at),
            words.text,
            (red, green, blue),
            font,
            words.anchor,
            features=["-liga"] if _raqm() else None,
        )

    def bitmap(self, bitmap: Bitmap) -> None:
        from PIL import Image as Picture

        left, top, width, height = (v * self.scale for v in bitmap.box)
        size = max(1, round(width)), max(1, round(height))
        small = Picture.fromarray(rgb_of(bitmap.pixels)).resize(size, Picture.Resampling.NEAREST)
        self.picture.paste(small, (round(left), round(top)))

    def _at(self, point: Point) -> Point:
        return point[0] * self.scale, point[1] * self.scale

    def _crisp(self, points: list[Point], stroke: Stroke, closed: bool) -> None:
        """Lines along the pixels: no smoothing, whole widths."""
        from PIL import ImageDraw

        draw, colour = ImageDraw.Draw(self.picture, "RGBA"), rgba(stroke.colour)
        ends = [*points, points[0]] if closed and points else points
        dashes = tuple(v * self.scale for v in stroke.dashes)
        for a, b in dashed(ends, dashes) if stroke.dashes else zip(ends[:-1], ends[1:]):
            draw.line((*map(math.floor, a), *map(math.floor, b)), colour, max(1, round(stroke.width * self.scale)))

    def _smooth(self, points: list[Point], stroke: Stroke | None, closed: bool, fill: str) -> None:
        if len(points) < 2:
            return
        xy = np.array(points)
        wide = stroke.width * self.scale if stroke is not None else 0.0
        around = (*(xy.min(0) - wide - 1), *(xy.max(0) + wide + 1))
        if fill and len(points) > 2:
            self._blend(
                around,
                fill,
                lambda draw, move, finer, colour: draw.polygon([tuple(p) for p in (xy - move) * finer], colour),
            )
        if stroke is None:
            return
        ends = np.vstack([xy, xy[:1]]) if closed else xy

        def line(draw, move, finer, colour):
            pieces: Any = [ends]
            if stroke.dashes:
                dashes = tuple(v * self.scale for v in stroke.dashes)
                pieces = [np.array(two) for two in dashed([tuple(p) for p in ends], dashes)]
            for piece in pieces:
                draw.line([tuple(p) for p in (piece - move) * finer], colour, max(1, round(wide * finer)), "curve")

        self._blend(around, stroke.colour, line)

    def _blend(self, around, colour: str, draws) -> None:
        """Draw a shape finer, as a mask, and lay its colour over the picture through it."""
        from PIL import Image as Picture
        from PIL import ImageDraw

        wide, high = self.picture.size
        left, top = max(0, math.floor(around[0])), max(0, math.floor(around[1]))
        right, bottom = min(wide, math.ceil(around[2]) + 1), min(high, math.ceil(around[3]) + 1)
        if right <= left or bottom <= top:
            return
        finer = FINER if (right - left) * (bottom - top) <= 4_000_000 else 1
        mask = Picture.new("L", ((right - left) * finer, (bottom - top) * finer), 0)
        red, green, blue, opacity = rgba(colour)
        draws(ImageDraw.Draw(mask), np.array((left, top)), finer, opacity)
        mask = mask.resize((right - left, bottom - top), Picture.Resampling.BOX)
        self.picture.paste((red, green, blue), (left, top), mask)


def rgb_of(pixels: np.ndarray) -> np.ndarray:
    """Packed colours (height, width) as uint8 (height, width, 3)."""
    return np.stack([(pixels >> np.uint32(shift)) & np.uint32(255) for shift in (16, 8, 0)], -1).astype(np.uint8)


def dashed(points: list[Point], dashes: tuple[float, ...]) -> list[tuple[Point, Point]]:
    """The pieces of a line that are drawn when it is cut into dashes and gaps."""
    found: list[tuple[Point, Point]] = []
    n, left = 0, dashes[0]
    for a, b in zip(points[:-1], points[1:]):
        start, end = np.array(a, float), np.array(b, float)
        length = float(np.hypot(*(end - start)))
        done = 0.0
        while length - done > 1e-9:
            step = min(left, length - done)
            if n % 2 == 0:
                ends = (start + (end - start) * share / length for share in (done, done + step))
                found.append(tuple(tuple(p.tolist()) for p in ends))  # type: ignore[arg-type]
            done, left = done + step, left - step
            if left <= 1e-9:
                n += 1
                left = max(dashes[n % len(dashes)], 0.1)
    return found


@lru_cache(maxsize=1)
def _raqm() -> bool:
    from PIL import features

    return features.check("raqm")


@lru_cache(maxsize=32)
def _font(size: float, weight: str) -> Any:
    from PIL import ImageFont

    return ImageFont.truetype(str(files("kestrelmist.scene").joinpath("fonts", font_file(weight))), size)


def drawn(page: Page) -> np.ndarray:
    """A page as uint8 (height, width, 3)."""
    painter = RasterPainter(page.ground, page.scale)
    paint(painter, page.over)
    return painter.rgb()


def overlay(primitives: Sequence[Primitive], size: tuple[int, int], scale: float = 1.0) -> np.ndarray:
    """Primitives alone, as colours with opacity: uint8 (rows, columns, 4).

    What shows through is told by drawing them over black and over white.
    """
    found = []
    for ground in (0xFF000000, 0xFFFFFFFF):
        painter = RasterPainter(np.full(size[::-1], ground, np.uint32), scale)
        paint(painter, primitives)
        found.append(painter.rgb().astype(np.float32))
    over_black, over_white = found
    opacity = np.clip(1 - (over_white - over_black).mean(2) / 255, 0, 1)
    with np.errstate(invalid="ignore", divide="ignore"):
        colour = np.where(opacity[..., None] > 0, over_black / opacity[..., None], 0)
    return np.dstack((np.clip(colour, 0, 255), 255 * opacity)).round().astype(np.uint8)


def drawn_clear(page: Page) -> np.ndarray:
    """A page whose ground is clear in places, as uint8 (height, width, 4)."""
    ground = np.stack([(page.ground >> np.uint32(s)) & np.uint32(255) for s in (16, 8, 0, 24)], -1).astype(np.float32)
    over = overlay(page.over, page.ground.shape[::-1], page.scale).astype(np.float32)
    a, b = over[..., 3:] / 255, ground[..., 3:] / 255
    alpha = a + b * (1 - a)
    colour = (over[..., :3] * a + ground[..., :3] * b * (1 - a)) / np.maximum(alpha, 1e-6)
    return np.dstack((colour, 255 * alpha)).round().astype(np.uint8)


def resolution(page: Page) -> float | None:
    """Pixels a metre: on paper when the page has a size there, else in the world; None when neither is known."""
    if page.millimetres is not None:
        return 1000 / page.millimetres
    if page.pixel is not None and page.pixel[1] == "mm":
        return 1000 / page.pixel[0]
    return None


def _write(page: Page, stream: IO[bytes], ending: str) -> None:
    from PIL import Image as Picture
    from PIL.PngImagePlugin import PngInfo

    form = {".png": "PNG", ".jpg": "JPEG", ".jpeg": "JPEG"}.get(ending, "TIFF")
    clear = form != "JPEG" and bool((page.ground >> np.uint32(24) < 255).any())
    picture = Picture.fromarray(drawn_clear(page) if clear else drawn(page))
    a_metre = resolution(page)
    more: dict[str, Any] = {}
    said, words = packet(page), f"{page.title}: {page.caption}" if page.caption else page.title
    if form == "TIFF":
        more = {"tiffinfo": {700: said.encode(), 270: words.encode("ascii", "replace").decode()}}
        more |= {"compression": "tiff_deflate"}
        if a_metre is not None:  # more pixels to a centimetre than a field holds are told in XMP alone
            more |= dict.fromkeys(("x_resolution", "y_resolution"), min(a_metre / 100, 4e9))
            more["resolution_unit"] = "cm"
    else:
        if a_metre is not None and (form == "PNG" or 1 <= a_metre * 0.0254 < 65_000):
            more["dpi"] = (min(a_metre, 4e9) * 0.0254,) * 2
        if form == "PNG":
            info = PngInfo()
            info.add_itxt("XML:com.adobe.xmp", said)
            info.add_itxt("Description", words)
            more["pnginfo"] = info
        else:
            more |= {"xmp": said.encode(), "quality": 92, "comment": words.encode()[:60_000]}
    picture.save(stream, form, **more)


register(FilePainter("PNG", (".png",), _write))
register(FilePainter("JPEG", (".jpg", ".jpeg"), _write, most=65_500))
register(FilePainter("TIFF", (".tif", ".tiff"), _write))
