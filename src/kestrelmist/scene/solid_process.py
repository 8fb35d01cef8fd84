"""The Solid view's own process: takes surfaces and camera positions, sends back pictures.

Software rendering takes longer than a window may wait and a broken graphics driver takes its process down; here it can
do both without the window noticing. Messages are (word, …) tuples over a pipe; of several waiting camera positions only
the last is drawn.
"""

from __future__ import annotations

import os
import socket
import subprocess
import sys
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

    def send(self, *message) -> bool:
        """Hand over a message; False when the process is gone."""
        try:
            self.pipe.send(message)
            return True
        except (BrokenPipeError, ConnectionResetError, OSError):
            return False

    def close(self) -> None:
        self.send("stop")
        self.pipe.close()
        try:
            self.process.wait(2)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()


def main(descriptor: int) -> None:
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
            elif word == "view":
                view = rest
        picture = scene.picture(*view[1:])
        pipe.send(("picture", view[0], picture.shape[1], picture.shape[0], picture.tobytes()))


if __name__ == "__main__":
    main(int(sys.argv[1]))
