"""From the command to a usable window with the cached demo, and to the first words of the command line."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

from .row import Row, in_turn

USABLE = """
import time
from kestrelmist.demo.overwintering import demo_study
from kestrelmist.desk.app import application, show_window
app = application()
window = show_window(demo_study())
while not window.viewing.ready:
    app.processEvents()
    time.sleep(0.001)
assert window.table.lead.canvas.render_pixels() is not None
app.processEvents()
import os
os._exit(0)
"""
IMPORT = "import PySide6.QtWidgets"


def rows() -> list[Row]:
    """Start of the window and of the command line, each against a bare import in the same run."""
    env = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    env.pop("PYTHONDONTWRITEBYTECODE", None)  # a person's Python keeps what it has compiled

    def run(*words: str) -> None:
        subprocess.run([sys.executable, *words], env=env, check=True, stdout=subprocess.DEVNULL)

    from kestrelmist.demo.overwintering import demo_study

    demo_study(progress=None)
    run("-c", USABLE)
    mine, theirs = in_turn(lambda: run("-c", USABLE), lambda: run("-c", IMPORT), 6)
    ratio = mine / theirs
    found = [
        Row("start to usable window, demo study", mine, theirs, f'python -c "{IMPORT}"', "ratio ≤ 4", met=ratio <= 4)
    ]
    found.append(_command("help of the command line", ["--help"], run, 0.35))
    with tempfile.TemporaryDirectory() as place:
        from kestrelmist.core.space import Space
        from kestrelmist.formats.nifti import write_nifti

        small = Path(place) / "small.nii.gz"
        write_nifti(small, np.zeros((8, 8, 8), np.int16), Space((8, 8, 8), np.eye(4)))
        found.append(_command("facts of a small file", ["facts", str(small)], run, 0.7))
    return found


def _command(name: str, words: list[str], run, goal: float) -> Row:
    """A command against a Python that does nothing but import numpy."""
    mine, theirs = in_turn(lambda: run("-m", "kestrelmist.cli", *words), lambda: run("-c", "import numpy"), 6)
    return Row(name, mine, theirs, "python -c 'import numpy'", f"at most {goal} s", met=mine <= goal)
