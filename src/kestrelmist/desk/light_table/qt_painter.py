"""Primitives drawn in the window."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QFont, QFontMetricsF, QImage, QPainter, QPainterPath, QPen, QPolygonF

from ...scene.primitives import FIGURES, Bitmap, Oval, Panel, Path, Stroke, Words, rgba
from ..theme.theme import figures, words

WEIGHTS = {"400": QFont.Weight.Normal, "600": QFont.Weight.DemiBold, "700": QFont.Weight.Bold}


class QtPainter:
    """Draws on a QPainter; see `scene.primitives.Painter`."""

    def __init__(self, painter: QPainter):
        self.painter = painter

    def path(self, path: Path) -> None:
        self._style(path.stroke, path.fill, not path.crisp)
        if path.breaks:
            whole = QPainterPath()
            for part in path.parts:
                whole.moveTo(*part[0])
                for point in part[1:]:
                    whole.lineTo(*point)
            self.painter.drawPath(whole)
            return
        points = QPolygonF([QPointF(x, y) for x, y in path.points])
        if path.closed:
            self.painter.drawPolygon(points)
        else:
            self.painter.drawPolyline(points)

    def oval(self, oval: Oval) -> None:
        self._style(oval.stroke, oval.fill, True)
        if not oval.turn:
            self.painter.drawEllipse(QPointF(*oval.centre), *oval.radii)
            return
        self.painter.save()
        self.painter.translate(QPointF(*oval.centre))
        self.painter.rotate(oval.turn)
        self.painter.drawEllipse(QPointF(0, 0), *oval.radii)
        self.painter.restore()

    def panel(self, panel: Panel) -> None:
        self._style(panel.stroke, panel.fill, bool(panel.radius))
        if panel.radius:
            self.painter.drawRoundedRect(QRectF(*panel.box), panel.radius, panel.radius)
        else:
            self.painter.drawRect(QRectF(*panel.box))

    def words(self, words: Words) -> None:
        font = font_of(words)
        metrics = QFontMetricsF(font)
        x, y = words.at
        wide = metrics.horizontalAdvance(words.text)
        x -= {"l": 0.0, "m": wide / 2, "r": wide}[words.anchor[0]]
        y += {"a": metrics.ascent(), "m": metrics.capHeight() / 2, "s": 0.0}[words.anchor[1]]
        self.painter.setFont(font)
        self.painter.setPen(colour_of(words.colour))
        self.painter.drawText(QPointF(x, y), words.text)

    def bitmap(self, bitmap: Bitmap) -> None:
        pixels = np.ascontiguousarray(bitmap.pixels)
        high, wide = pixels.shape
        self.painter.drawImage(
            QRectF(*bitmap.box), QImage(pixels.data, wide, high, 4 * wide, QImage.Format.Format_RGB32)
        )

    def _style(self, stroke: Stroke | None, fill: str, smooth: bool) -> None:
        self.painter.setRenderHint(QPainter.RenderHint.Antialiasing, smooth)
        self.painter.setBrush(brush_of(fill))
        self.painter.setPen(pen_of(stroke))


@lru_cache(maxsize=256)
def pen_of(stroke: Stroke | None) -> QPen:
    """A pen of Qt; thousands of marks share a few."""
    if stroke is None:
        return QPen(Qt.PenStyle.NoPen)
    pen = QPen(colour_of(stroke.colour), stroke.width)
    pen.setCapStyle(Qt.PenCapStyle.FlatCap)
    if stroke.dashes:
        pen.setDashPattern([v / max(stroke.width, 0.1) for v in stroke.dashes])
    return pen


@lru_cache(maxsize=256)
def brush_of(fill: str) -> QBrush:
    """A brush of Qt, none for no colour."""
    return QBrush(colour_of(fill)) if fill else QBrush(Qt.BrushStyle.NoBrush)


def colour_of(text: str) -> QColor:
    """A colour of Qt from "#RRGGBB" or "#RRGGBBAA"."""
    return QColor(*rgba(text))


def font_of(said: Words) -> QFont:
    """The font of the window that words are set in."""
    return figures(round(said.size)) if said.weight == FIGURES else words(round(said.size), WEIGHTS[said.weight])


def width_of(text: str, size: float = 12.0, weight: str = "400") -> float:
    """How wide words are, in page units."""
    return QFontMetricsF(font_of(Words((0, 0), text, size, weight=weight))).horizontalAdvance(text)
