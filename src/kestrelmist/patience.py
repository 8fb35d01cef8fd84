"""On the command line: say which file gives nothing, and let Ctrl+C end even what nothing can wake."""

from __future__ import annotations

import os
import signal
import sys
import threading
import time
from pathlib import Path

from .core.waiting import Watch, waiting_sentence

LOOK = 0.25
GRACE = 0.75
"""Seconds that the main thread is given to answer Ctrl+C by itself."""


class Patience:
    """While its block runs, the main thread is looked at by another one.

    Python answers a signal in the main thread, which cannot be woken from a read of a drive that is gone. The system
    writes the signal's number to a pipe as well, and there it is read by the other thread.
    """

    def __enter__(self) -> None:
        self._active = threading.current_thread() is threading.main_thread()
        if not self._active:
            return
        self._over = threading.Event()
        self._asked, self._write = os.pipe()
        for end in (self._asked, self._write):
            os.set_blocking(end, False)
        self._before = signal.set_wakeup_fd(self._write, warn_on_full_buffer=False)
        self._watch = Watch(threading.get_ident())
        self._thread = threading.Thread(target=self._look, name="patience", daemon=True)
        self._thread.start()

    def __exit__(self, *_) -> None:
        if not self._active:
            return
        self._over.set()
        self._thread.join()
        signal.set_wakeup_fd(self._before)
        os.close(self._asked)
        os.close(self._write)

    def _look(self) -> None:
        said: Path | None = None
        asked = 0.0
        while not self._over.wait(LOOK):
            path = self._watch.waits_for()
            if path is not None and path != said:
                said = path
                print(f"{waiting_sentence(path)} Ctrl+C ends this.", file=sys.stderr, flush=True)
            asked = asked or (time.monotonic() if self._interrupted() else 0.0)
            # a read that nothing can wake, or work of a library that looks at nothing until it is done
            if asked and time.monotonic() - asked >= GRACE:
                print("Stopped; nothing was kept of this step.", file=sys.stderr, flush=True)
                os._exit(130)

    def _interrupted(self) -> bool:
        try:
            return signal.SIGINT in os.read(self._asked, 64)
        except BlockingIOError:
            return False
