"""The process that draws solid scenes: takes bodies and cameras, sends back pictures.

Software rendering takes longer than a window may wait and a broken graphics driver takes its process down; here it can
do both without the window noticing. Messages are (word, …) tuples over a pipe; of several waiting views only the last
is drawn.
"""

from __future__ import annotations

import os
import queue
import signal
import socket
import subprocess
import sys
import threading
from multiprocessing.connection import Connection
from typing import Any


class SolidProcess:
    """The other end of the pipe, for a window or an operation."""

    def __init__(self):
        ours, theirs = socket.socketpair()
        env = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY")}
        self.process = subprocess.Popen(
            [sys.executable, "-m", __name__, str(theirs.fileno())],
            pass_fds=[theirs.fileno()],
            env=env,
            stderr=subprocess.DEVNULL,
            stdin=subprocess.DEVNULL,
        )
        theirs.close()
        self.pipe = Connection(ours.detach())
        self._held: dict[Any, Any] = {}
        self._waiting: queue.SimpleQueue[tuple | None] = queue.SimpleQueue()
        # a pipe that is full would hold up who writes to it, and the process may be writing a picture just then
        self._sender = threading.Thread(target=self._send_all, name="Solid view", daemon=True)
        self._sender.start()

    def send(self, *message) -> None:
        """Hand over a message; nothing happens when the process is gone."""
        word, *rest = message
        if word == "volume":  # the other process looks into its memory, which is here
            self._held[rest[0]] = rest[1]
        elif word == "drop":
            self._held.pop(rest[0], None)
        elif word == "clear":
            self._held.clear()
        self._waiting.put(message)

    def _send_all(self) -> None:
        while (message := self._waiting.get()) is not None:
            try:
                self.pipe.send(message)
            except OSError:
                return

    def close(self) -> None:
        self._held.clear()
        self.send("stop")
        self._waiting.put(None)
        self._sender.join(1)
        self.pipe.close()
        try:
            self.process.wait(2)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()


class _Drawing:
    """What the process does with each word."""

    def __init__(self, pipe: Connection):
        from .stage import SolidScene

        self.pipe, self.scene = pipe, SolidScene()

    def mesh(self, key, corners, triangles, finish, grid, colours) -> None:
        self.pipe.send(("made", key, self.scene.set_mesh(key, corners, triangles, finish, grid, colours)))

    def patch(self, key, blocks) -> None:
        self.pipe.send(("made", key, self.scene.patch_mesh(key, blocks)))

    def dress(self, key, finish) -> None:
        self.scene.dress(key, finish)

    def volume(self, key, levels, look) -> None:
        self.scene.set_volume(key, levels, look)
        self.pipe.send(("made", key, 0))

    def look(self, key, look) -> None:
        self.scene.set_look(key, look)

    def lines(self, key, lines, points) -> None:
        self.scene.set_lines(key, lines, points)

    def picture(self, key, pixels, corners, opacity) -> None:
        self.scene.set_picture(key, pixels, corners, opacity)

    def drop(self, key) -> None:
        self.scene.drop(key)

    def clear(self) -> None:
        self.scene.clear()

    def quality(self, word) -> None:
        self.scene.quality = word

    def planes(self, planes) -> None:
        self.scene.set_planes(planes)

    def pick(self, number, width, height, camera, frame, x, y) -> None:
        met = self.scene.place_at(self.scene.eye(camera, width, height, frame), x, y)
        self.pipe.send(("met", number, met))

    def view(self, number, width, height, camera, frame, moving, clear) -> None:
        eye = self.scene.eye(camera, width, height, frame)
        picture = self.scene.picture(eye, moving, clear)
        self.pipe.send(("picture", number, eye, picture.tobytes()))


def main(descriptor: int) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the window ends it, and the keys of a terminal reach both
    pipe = Connection(descriptor)
    drawing = _Drawing(pipe)
    pipe.send(("ready", drawing.scene.drawn_by))
    while True:
        view = None
        while view is None or pipe.poll():
            try:
                word, *rest = pipe.recv()
            except (EOFError, OSError):
                return
            if word == "stop":
                return
            if word == "view":
                view = rest
            else:
                getattr(drawing, word)(*rest)
        drawing.view(*view)


if __name__ == "__main__":
    main(int(sys.argv[1]))
