"""The system asks the program to end: a signal, or the end of a desktop session. All windows close as by *Close*."""

from __future__ import annotations

import os
import signal
from collections.abc import Callable, Iterable
from contextlib import suppress

from PySide6.QtCore import QObject, QSocketNotifier, Qt
from PySide6.QtWidgets import QApplication, QWidget

SIGNALS = (signal.SIGTERM, signal.SIGINT, signal.SIGHUP)


class Ending(QObject):
    """Closes windows when the program is to end.

    Python answers a signal between two of its own instructions, and there are none while Qt waits for events. The
    system writes the number of the signal to a pipe as well, which Qt watches.

    Parameters
    ----------
    windows : callable
        Gives the windows that are open.
    close : callable
        Closes one of them without asking anything.
    """

    def __init__(self, app: QApplication, windows: Callable[[], Iterable[QWidget]], close: Callable[[QWidget], object]):
        super().__init__(app)
        self.windows, self.close_window = windows, close
        self._asked, self._write = os.pipe()
        for end in (self._asked, self._write):
            os.set_blocking(end, False)
        self._before = signal.set_wakeup_fd(self._write, warn_on_full_buffer=False)
        self._handlers = {number: signal.signal(number, lambda *_: None) for number in SIGNALS}
        self._notifier = QSocketNotifier(self._asked, QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._read)
        # answered before the desktop goes on with ending
        app.commitDataRequest.connect(self._session_ends, Qt.ConnectionType.DirectConnection)

    def _read(self) -> None:
        with suppress(BlockingIOError):
            if any(number in SIGNALS for number in os.read(self._asked, 64)):
                self.end()

    def _session_ends(self, _) -> None:
        self.end()

    def end(self) -> None:
        """Close everything. Whoever asks a second time does not wait for it."""
        for number in SIGNALS:
            signal.signal(number, signal.SIG_DFL)
        while (dialog := QApplication.activeModalWidget()) is not None:
            dialog.close()
            if QApplication.activeModalWidget() is dialog:
                dialog.deleteLater()
                break
        for window in list(self.windows()):
            self.close_window(window)
        QApplication.exit(0)

    def let_go(self) -> None:
        """Signals are the program's own again."""
        signal.set_wakeup_fd(self._before)
        for number, handler in self._handlers.items():
            signal.signal(number, handler)
        self._notifier.setEnabled(False)
        self.parent().commitDataRequest.disconnect(self._session_ends)
        os.close(self._asked)
        os.close(self._write)
