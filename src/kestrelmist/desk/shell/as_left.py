"""The window as it was left: its size, the Drawer, panes that float, what part of each image was seen. A study
remembers it, and what cannot be made out is passed over."""

from __future__ import annotations

from contextlib import suppress
from typing import Any

import numpy as np
from PySide6.QtCore import QRect, QSize
from PySide6.QtWidgets import QApplication

from ...core.errors import Trouble
from .on_screen import TITLE_BAR, within

KEY = "as left"
MOST = 200
"""Views of images that are kept for each pane."""


def remember(window: Any) -> None:
    """Keep how the window stands."""
    study = window.desk.study
    if study.read_only or window.session.closed:
        return
    drawer = window.drawer.page if window.drawer.isVisible() else ""
    kept = {
        "size": [window.width(), window.height()],
        "whole_screen": window.isMaximized(),
        "drawer": drawer,
        "floating": [one.pane.name for one in window.table.floating],
        "views": {pane.name: _views(pane.canvas.seen_of_images()) for pane in window.table.slices},
    }
    with suppress(Trouble):  # what cannot be remembered is no reason to stop anyone
        study.catalogue.remember(KEY, kept)


def _views(seen: dict[int, tuple[Any, bool]]) -> dict[str, list]:
    near = [(key, view) for key, (view, following) in seen.items() if not following]
    return {str(key): [*map(float, view.centre), float(view.pixel)] for key, view in near[-MOST:]}


def put_back(window: Any) -> None:
    """Let the window stand as it was left."""
    kept = window.desk.study.catalogue.recall(KEY, {})
    if not isinstance(kept, dict):
        return
    size = kept.get("size")
    if isinstance(size, list) and len(size) == 2 and all(isinstance(n, int) and 200 <= n <= 20_000 for n in size):
        wanted = QSize(size[0], size[1] + TITLE_BAR)
        if QApplication.platformName() != "offscreen":  # where there is no screen to fit
            wanted = within(QRect(window.pos(), wanted), window.screen().availableGeometry()).size()
        window.resize(wanted.width(), wanted.height() - TITLE_BAR)
    if kept.get("whole_screen") is True:
        window.showMaximized()
    views = kept.get("views")
    for pane in window.table.slices:
        own = views.get(pane.name) if isinstance(views, dict) else None
        pane.canvas.see_again(_sound(own) if isinstance(own, dict) else {})
    floating = kept.get("floating")
    for pane in window.table.slices:
        if isinstance(floating, list) and pane.name in floating:
            window.table.set_floating(pane, True)
    page = kept.get("drawer")
    if isinstance(page, str) and page in window.drawer.page_names():
        window.drawer.open_page(page)


def _sound(kept: dict) -> dict[int, tuple[tuple[float, float, float], float]]:
    found = {}
    for key, numbers in kept.items():
        with suppress(TypeError, ValueError):
            x, y, z, pixel = map(float, numbers)
            if str(key).isdigit() and np.isfinite((x, y, z, pixel)).all() and pixel > 0:
                found[int(key)] = (x, y, z), pixel
    return found
