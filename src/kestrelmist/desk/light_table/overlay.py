"""What is written over a pane's picture: crosshair, side letters, scale bar, brush outline."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QImage, QPainter, QPen

from ...core.space import Space
from ...measure.section import Line
from ...scene.colour_bars import WIDTH, colour_bars
from ...scene.view import View
from ...scene.writing import scale_bar
from ..sections import Sections
from ..theme.theme import Theme, figures, words
from .navigator import MARGIN, SIDE, navigator_frame

LINE = "#C9C49B"
BACKING = QColor(11, 16, 19, 150)
"""Behind words that may come to stand on something bright."""


def draw_crosshair(
    painter: QPainter, view: View, world, gap: float = 0.0, colour: str = LINE, wide: float = 1.0
) -> None:
    """Two lines through the crosshair, with a gap around it so that what is looked at stays free."""
    x, y = view.to_pixel(world)
    x, y = x + 0.5, y + 0.5
    painter.setPen(QPen(QColor(colour), wide))
    for a, b in (
        ((x, 0), (x, y - gap)),
        ((x, y + gap), (x, view.height)),
        ((0, y), (x - gap, y)),
        ((x + gap, y), (view.width, y)),
    ):
        painter.drawLine(QPointF(*a), QPointF(*b))


def draw_preview(painter: QPainter, title: str) -> None:
    """Says that what is seen is no result yet, at the top left."""
    painter.setFont(words(12))
    text = f"Preview: {title}"
    wide = painter.fontMetrics().horizontalAdvance(text) + 18
    box = QRectF(8, 6, wide, 20)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(Theme.tokens.chip))
    painter.drawRoundedRect(box, 3, 3)
    painter.setPen(QColor(Theme.tokens.night))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


def draw_picked(painter: QPainter, view: View, points) -> None:
    """Picked places, numbered."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setFont(figures(12))
    for n, world in enumerate(points, 1):
        x, y = (v + 0.5 for v in view.to_pixel(world))
        painter.setPen(QPen(QColor(Theme.tokens.night), 3))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(x, y), 5, 5)
        painter.setPen(QPen(QColor(Theme.tokens.chip), 1.5))
        painter.drawEllipse(QPointF(x, y), 5, 5)
        painter.drawText(QPointF(x + 8, y + 4), str(n))


def draw_sections(painter: QPainter, view: View, sections: Sections) -> None:
    """The line in hand with its width, its ends and its cursors; those that are kept as thin lines."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    half = QPointF(0.5, 0.5)
    for curve in sections.on_lead():
        line = Line.of(curve.line)
        a, b = (QPointF(*view.to_pixel(w)) + half for w in (line.start, line.end))
        for colour, wide in ((Theme.tokens.night, curve.width + 2.5), (curve.colour, curve.width)):
            painter.setPen(QPen(QColor(colour), wide))
            painter.drawLine(a, b)
    line = sections.line
    if line is None:
        return
    start, end = np.array(line.start), np.array(line.end)
    a, b = (QPointF(*view.to_pixel(w)) + half for w in (start, end))
    chip = QColor(Theme.tokens.chip)
    if line.width > 0 and line.length > 0:
        side = line.across * line.width / 2
        corners = [start + side, end + side, end - side, start - side]
        painter.setPen(QPen(chip, 1, Qt.PenStyle.DashLine))
        painter.drawPolygon([QPointF(*view.to_pixel(w)) + half for w in corners])
    for pen in (QPen(QColor(Theme.tokens.night), 4), QPen(chip, 1.8)):
        painter.setPen(pen)
        painter.drawLine(a, b)
    painter.setBrush(QColor(Theme.tokens.night))
    painter.drawEllipse(a, 4.5, 4.5)
    painter.drawEllipse(b, 4.5, 4.5)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if sections.cursors is None or sections.chosen or line.length <= 0:
        return
    way = b - a
    length = math.hypot(way.x(), way.y()) or 1.0
    tick = QPointF(-way.y(), way.x()) / length * 9
    painter.setFont(figures(12))
    for n, place in enumerate(sections.cursors, 1):
        at = a + way * (place / line.length)
        painter.setPen(QPen(QColor(Theme.tokens.lit), 2.4))
        painter.drawLine(at - tick, at + tick)
        painter.drawText(at + tick * 1.6 - QPointF(4, -4), str(n))


def draw_letters(painter: QPainter, view: View, width: int, height: int) -> None:
    """Side letters: left and right in solid chips, the others plain."""
    places = {
        "left": (14, height / 2),
        "right": (width - 14, height / 2),
        "top": (width / 2, 13),
        "bottom": (width / 2, height - 13),
    }
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    if not view.sides_known:
        painter.setFont(words(12))
        box = QRectF(width / 2 - 48, 5, 96, 18)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(BACKING)
        painter.drawRoundedRect(box, 3, 3)
        painter.setPen(QColor("#E8EDEE"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, "sides unknown")
        return
    for edge, letter in view.letters().items():
        x, y = places[edge]
        box = QRectF(x - 9, y - 9, 18, 18)
        if letter in "LR":
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(Theme.tokens.chip))
            painter.drawRoundedRect(box, 3, 3)
            painter.setPen(QColor("#1F2C35"))
            painter.setFont(words(14, QFont.Weight.Bold))
        else:
            painter.setPen(QColor("#0B1013"))
            painter.setFont(words(14, QFont.Weight.DemiBold))
            painter.drawText(box.translated(1, 1), Qt.AlignmentFlag.AlignCenter, letter)
            painter.setPen(QColor("#D3DCDF"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, letter)


def draw_scale_bar(painter: QPainter, view: View, width: int, height: int, unit: str = "mm") -> None:
    """A bar of round length at the lower left that follows the zoom."""
    length, text = scale_bar(view.pixel, min(width * 0.22, 110), unit)
    long = length / view.pixel
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setFont(figures(12))
    painter.fillRect(QRectF(8, height - 34, max(long, 8 * len(text)) + 10, 27), BACKING)
    for shift, colour in ((1, "#0B1013"), (0, "#E8EDEE")):
        painter.setPen(QPen(QColor(colour), 2))
        painter.drawLine(QPointF(13 + shift, height - 13 + shift), QPointF(13 + long + shift, height - 13 + shift))
        painter.setPen(QColor(colour))
        painter.drawText(QPointF(13 + shift, height - 19 + shift), text)


def decimals(space: Space) -> int:
    """Decimals of a position that tell a tenth of a voxel apart, two at least."""
    return min(9, max(2, math.ceil(-math.log10(min(space.spacing) / 10) - 1e-9)))


def draw_framed(painter: QPainter, view: View, corners) -> None:
    """The framed area: a dashed box through four world positions; nothing when there are none."""
    if not corners:
        return
    points = [QPointF(x + 0.5, y + 0.5) for x, y in (view.to_pixel(c) for c in corners)]
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for colour, pattern in (("#0B1013", None), (Theme.tokens.chip, [5, 4])):
        pen = QPen(QColor(colour), 2)
        if pattern:
            pen.setDashPattern(pattern)
        painter.setPen(pen)
        painter.drawPolygon(points)


def draw_brush(painter: QPainter, view: View, world, diameter: float, erasing: bool) -> None:
    """The outline of the brush under the pointer."""
    x, y = view.to_pixel(world)
    radius = diameter / 2 / view.pixel
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for colour, width in (("#0B1013", 3), ("#FFFFFF", 1.4)):
        pen = QPen(QColor(colour), width)
        if erasing:
            pen.setDashPattern([4, 3])
        painter.setPen(pen)
        painter.drawEllipse(QPointF(x + 0.5, y + 0.5), radius, radius)


def draw_colour_bars(painter: QPainter, view: View, looks, grid: Space) -> None:
    """A bar for every look with its limits and unit, left of the navigator when that is there."""
    right = SIDE + MARGIN if navigator_frame(view, grid) is not None else 0.0
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setFont(figures(12))
    for bar in colour_bars(looks, view.width, view.height, right):
        column = np.ascontiguousarray(bar.colours[:, None])
        picture = QImage(column.data, 1, bar.height, 4, QImage.Format.Format_RGB32)
        painter.drawImage(QRectF(bar.x, bar.y, WIDTH, bar.height), picture)
        for text, y in ((bar.upper, bar.y), (bar.lower, bar.y + bar.height), (bar.unit, bar.y - 14)):
            box = QRectF(bar.x + WIDTH + 3, y - 8, 8 * len(text) + 6, 16)
            if text == bar.unit:
                box.moveLeft(bar.x - 2)
            if text:
                painter.fillRect(box, BACKING)
                painter.setPen(QColor("#E8EDEE"))
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


def draw_part_in_view(painter: QPainter, view: View, grid: Space, picture: np.ndarray | None = None) -> None:
    """The navigator: the whole image small, the part in view framed."""
    frame = navigator_frame(view, grid)
    if frame is None:
        return
    whole, part = frame
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setBrush(BACKING if picture is None else Qt.BrushStyle.NoBrush)
    if picture is not None:
        high, wide = picture.shape
        painter.drawImage(whole, QImage(picture.data, wide, high, 4 * wide, QImage.Format.Format_RGB32))
    painter.setPen(QPen(QColor("#8FA1AA"), 1))
    painter.drawRect(whole)
    part = part.intersected(whole)
    lit = QColor(Theme.tokens.chip)
    painter.setPen(QPen(lit, 1.5))
    lit.setAlpha(45)
    painter.setBrush(lit)
    painter.drawRect(QRectF(part.left(), part.top(), max(part.width(), 4), max(part.height(), 4)))
    painter.setBrush(Qt.BrushStyle.NoBrush)


def draw_swipe_line(painter: QPainter, view: View, share: float) -> None:
    """Where what lies above begins, with a grip."""
    x = round((1 - share) * view.width) + 0.5
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(QColor(Theme.tokens.chip), 1.5))
    painter.drawLine(QPointF(x, 0), QPointF(x, view.height))
    painter.setBrush(QColor(Theme.tokens.chip))
    painter.drawRoundedRect(QRectF(x - 4, view.height * 0.72, 8, 26), 3, 3)
    painter.setBrush(Qt.BrushStyle.NoBrush)
