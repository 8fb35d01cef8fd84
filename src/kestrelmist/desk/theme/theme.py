"""The theme in force: fonts, palette, style sheet and tinted icons."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from importlib import resources

from PySide6.QtCore import QByteArray, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPainter, QPalette, QPixmap
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import QApplication

from ... import scene
from .style import style_sheet
from .tokens import MIST, THEMES, Tokens

WORDS = "Atkinson Hyperlegible Next"
FIGURES = "Atkinson Hyperlegible Mono"


class Theme:
    """Holds the tokens in force; one for the application."""

    name = "mist"
    tokens: Tokens = MIST
    held = False
    """Whether the style sheet is kept back for now."""


@contextmanager
def dressed_afterwards() -> Iterator[None]:
    """Build a window without the style sheet, and put it on at the end, where no other window stands: else every widget
    is dressed again each time that it gets a parent, which takes a quarter of the time until a window is there."""
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    Theme.held = not any(window.isVisible() for window in app.topLevelWidgets())
    if Theme.held:
        app.setStyleSheet("")
    try:
        yield
    finally:
        if Theme.held:
            Theme.held = False
            app.setStyleSheet(style_sheet(Theme.tokens))


def apply_theme(app: QApplication, name: str) -> None:
    """Put a theme on the whole application."""
    Theme.name, Theme.tokens = name, THEMES[name]
    _load_fonts()
    icon_pixmap.cache_clear()
    app.setStyleSheet("")  # the old one is taken off first: to put another one over it takes five times as long
    if app.style().objectName().lower() != "fusion":
        app.setStyle("Fusion")
    app.setFont(words())
    t, palette = Theme.tokens, QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, t.panel),
        (QPalette.ColorRole.WindowText, t.ink),
        (QPalette.ColorRole.Base, t.field),
        (QPalette.ColorRole.AlternateBase, t.panel),
        (QPalette.ColorRole.Text, t.ink),
        (QPalette.ColorRole.Button, t.field),
        (QPalette.ColorRole.ButtonText, t.ink),
        (QPalette.ColorRole.Highlight, t.rust),
        (QPalette.ColorRole.HighlightedText, t.on_rust),
        (QPalette.ColorRole.ToolTipBase, t.field),
        (QPalette.ColorRole.ToolTipText, t.ink),
        (QPalette.ColorRole.PlaceholderText, t.soft),
    ):
        palette.setColor(role, QColor(colour))
    app.setPalette(palette)
    if not Theme.held:
        app.setStyleSheet(style_sheet(t))


@lru_cache(maxsize=1)
def _load_fonts() -> None:
    for file in resources.files(scene).joinpath("fonts").iterdir():
        if file.name.endswith(".ttf"):
            QFontDatabase.addApplicationFontFromData(QByteArray(file.read_bytes()))


def words(size: int = 14, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    font = QFont(WORDS)
    font.setPixelSize(size)
    font.setWeight(weight)
    return font


def figures(size: int = 13, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    font = QFont(FIGURES)
    font.setPixelSize(size)
    font.setWeight(weight)
    return font


@lru_cache(maxsize=512)
def icon_pixmap(name: str, colour: str, size: int = 18, scale: float = 2.0) -> QPixmap:
    """An icon of the set in a colour."""
    svg = resources.files(__package__).joinpath("icons", f"{name}.svg").read_text().replace("currentColor", colour)
    pixmap = QPixmap(int(size * scale), int(size * scale))
    pixmap.fill(Qt.GlobalColor.transparent)
    with QPainter(pixmap) as painter:
        QSvgRenderer(QByteArray(svg.encode())).render(painter, QRectF(0, 0, size * scale, size * scale))
    pixmap.setDevicePixelRatio(scale)
    return pixmap


def icon(name: str, size: int = 18, colour: str | None = None, on: str | None = None) -> QIcon:
    """An icon in the ink of the theme (or `colour`), in `on` when checked, soft when disabled."""
    t = Theme.tokens
    made = QIcon(icon_pixmap(name, colour or t.ink, size))
    made.addPixmap(icon_pixmap(name, t.hairline, size), QIcon.Mode.Disabled)
    if on:
        made.addPixmap(icon_pixmap(name, on, size), QIcon.Mode.Normal, QIcon.State.On)
    return made


def icon_or(name: str, other: str) -> str:
    """The name of an icon of the set, or another one's where there is none of that name: what others add has none."""
    return name if resources.files(__package__).joinpath("icons", f"{name}.svg").is_file() else other


def mark(size: int = 28) -> QPixmap:
    """The program's own mark."""
    svg = resources.files(__package__).joinpath("mark.svg").read_text().replace("currentColor", Theme.tokens.rust)
    pixmap = QPixmap(size * 2, size * 2)
    pixmap.fill(Qt.GlobalColor.transparent)
    with QPainter(pixmap) as painter:
        QSvgRenderer(QByteArray(svg.encode())).render(painter, QRectF(0, 0, size * 2, size * 2))
    pixmap.setDevicePixelRatio(2)
    return pixmap
