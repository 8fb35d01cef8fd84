"""Starting the desk."""

from __future__ import annotations

import gc
import os
import subprocess
import sys
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QApplication, QWidget

from ..core import kernel
from ..core.errors import Cancelled, Trouble
from ..core.home import home
from ..core.person import opened, recent_studies
from .models.desk_model import CATALOGUE, study_folder_of
from .shell.display import require_display
from .shell.ending import Ending
from .shell.lost_study import study_at
from .shell.on_screen import fit
from .shell.tidying import EVERY
from .shell.window import Window
from .theme.theme import Theme, apply_theme, dressed_afterwards
from .theme.type_size import suit_type_size

WINDOWS: list[Window] = []
"""Open windows; Qt does not keep Python's side of them alive."""
COMPILING: list[subprocess.Popen] = []
"""Processes that compile beside the window."""


def application() -> QApplication:
    """The one QApplication, dressed."""
    gc.set_threshold(*EVERY)  # widgets that have gone are not to wait until a worker comes upon them
    app = QApplication.instance()
    if app is None:
        suit_type_size()
        app = QApplication(sys.argv[:1])
    app.setLayoutDirection(Qt.LayoutDirection.LeftToRight)  # its words are English, and sides are not to be turned
    app.setApplicationName("Kestrelmist")
    app.setDesktopFileName("kestrelmist")
    if Theme.name != "mist" or not app.styleSheet():
        apply_theme(app, "mist")
    return app


def open_window(folder: Path, parent: QWidget | None = None) -> Window:
    """A window on a study; the study is made when the folder holds none.

    Raises Trouble when it cannot be opened, Cancelled when it needs to be rebuilt and the person would rather not.
    """
    study = study_at(folder, parent)
    if study is None:
        raise Cancelled()
    with dressed_afterwards():
        window = Window(study)
    WINDOWS.append(window)
    window.closed.connect(lambda: _forget(window))
    window.study_wanted.connect(lambda folder: _go_over(window, folder))
    return window


def _forget(window: Window) -> None:
    """Let go of a closed window, so that the next theme does not dress it too."""
    if window in WINDOWS:
        WINDOWS.remove(window)
        window.deleteLater()


def _go_over(window: Window, folder: Path) -> None:
    """Open another study; this window closes when that has worked."""
    try:
        other = open_window(folder, window)
    except Cancelled:
        return
    except Trouble as trouble:
        window.session.trouble.emit(str(trouble))
        return
    opened(folder)
    fit(other)
    other.show()
    QTimer.singleShot(0, other.start)
    window.close()


def start(places: list[Path], picture: Path | None = None, demo: bool = False) -> int:
    """Open the window and run until it is closed; with `picture`, save the settled window and leave."""
    try:
        require_display()
    except Trouble:
        if picture is None:
            raise
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
    folder = study_folder_of(places)
    if demo:
        from ..demo.overwintering import demo_study

        folder = demo_study()
    given = [p for p in places if folder not in (p, p.parent if p.name == CATALOGUE else p)]
    for place in given:
        if not place.exists():
            raise Trouble("There is no file or folder of this name", "check the name", place)
    if folder is None:
        folder = next(iter(recent_studies()), home() / "My first study")
    app = application()
    try:
        window = show_window(folder, stays=picture is None)
    except Cancelled:
        return 1
    if given:
        QTimer.singleShot(50, lambda: window.gather(given))
    if picture is not None:
        _picture_when_settled(window, picture)
    ending = Ending(app, lambda: WINDOWS, Window.leave)
    try:
        return app.exec()
    finally:
        ending.let_go()
        for process in COMPILING:
            process.terminate()


def show_window(folder: Path, stays: bool = True) -> Window:
    """A window on a study, on the screen, that begins its work when the loop of events runs. One that does not stay
    draws without kernels, unless they are there: nobody would see what is compiled."""
    kernel.expect(stays)
    window = open_window(folder)
    fit(window)
    window.show()
    QTimer.singleShot(0, window.start)
    if stays:
        opened(folder)
        QTimer.singleShot(600, lambda: _load_kernels(window))
    return window


def _load_kernels(window: Window) -> None:
    """Load what draws, beside the window, and then have what is still missing compiled."""
    from ..warm import load_drawing, warm_beside

    def loaded(_) -> None:
        for pane in window.table.slices:
            pane.canvas.picture.forget()
            pane.canvas.update()
        COMPILING.extend(warm_beside())
        gc.freeze()  # what is loaded by now lives as long as the window: it need not be looked through again and again
        if kernel.not_kept():
            window.session.said.emit(f"{kernel.not_kept()}.")

    window.session.work.start("Loading", load_drawing, loaded, lane="preview")


def _picture_when_settled(window: Window, picture: Path) -> None:
    window.resize(1280, 800)
    calm = {"beats": 0}
    timer = QTimer(window, interval=150)

    def beat():
        calm["beats"] = calm["beats"] + 1 if window.settled else 0
        if calm["beats"] >= 6:
            timer.stop()
            saved = window.grab().save(str(picture))
            window.close()
            QApplication.exit(0 if saved else 1)
            if not saved:
                print(Trouble("The picture could not be written", "choose another place", picture), file=sys.stderr)

    timer.timeout.connect(beat)
    timer.start()


def main() -> None:
    """Entry point of kestrelmist-desk."""
    try:
        raise SystemExit(start([Path(a) for a in sys.argv[1:]]))
    except Trouble as trouble:
        print(trouble, file=sys.stderr)
        raise SystemExit(1) from None
