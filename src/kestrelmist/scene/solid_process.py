"""The Solid view's own process: takes surfaces and camera positions, sends back pictures.

Software rendering takes longer than a window may wait and a broken graphics driver takes its process down; here it can
do both without the window noticing. Messages are (word, …) tuples over a pipe; of several waiting camera positions only
the last is drawn.
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


class SolidProcess:
    """The window's end of the pipe."""

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
        self._waiting: queue.SimpleQueue[tuple | None] = queue.SimpleQueue()
        # a pipe that is full would hold up who writes to it, and the process may be writing a picture just then
        self._sender = threading.Thread(target=self._send_all, name="Solid view", daemon=True)
        self._sender.start()

    def send(self, *message) -> None:
        """Hand over a message; nothing happens when the process is gone."""
        self._waiting.put(message)

    def _send_all(self) -> None:
        while (message := self._waiting.get()) is not None:
            try:
                self.pipe.send(message)
            except OSError:
                return

    def close(self) -> None:
        self.send("stop")
        self._waiting.put(None)
        self._sender.join(1)
        self.pipe.close()
        try:
            self.process.wait(2)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()


def main(descriptor: int) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the window ends it, and the keys of a terminal reach both
    from .solid_scene import SolidScene

    pipe, scene = Connection(descriptor), SolidScene()
    pipe.send(("ready",))
    while True:
        view = None
        while view is None or pipe.poll():
            try:
                word, *rest = pipe.recv()
            except (EOFError, OSError):
                return
            if word == "stop":
                return
            if word == "clear":
                scene.clear()
            elif word == "surface":
                triangles = scene.set_surface(*rest)
                pipe.send(("surface", rest[0], triangles))
            elif word == "relief":
                pipe.send(("surface", rest[0], scene.set_relief(*rest)))
            elif word == "crop":
                scene.set_crop(*rest)
            elif word == "view":
                view = rest
        picture = scene.picture(*view[1:])
        pipe.send(("picture", view[0], picture.shape[1], picture.shape[0], picture.tobytes()))


if __name__ == "__main__":
    main(int(sys.argv[1]))
