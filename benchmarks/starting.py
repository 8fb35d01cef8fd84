"""From the command to a usable window with the cached demo."""

from __future__ import annotations

import os
import subprocess
import sys

from .row import Row, in_turn

USABLE = """
import time
from kestrelmist.demo.overwintering import demo_study
from kestrelmist.desk.app import application, open_window
app = application()
window = open_window(demo_study())
window.show()
window.start()
while not window.desk.ready:
    app.processEvents()
    time.sleep(0.001)
window.table.lead.canvas.render_pixels()
import os
os._exit(0)
"""


def rows() -> list[Row]:
    env = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}

    def run(code: str) -> None:
        subprocess.run([sys.executable, "-c", code], env=env, check=True)

    from kestrelmist.demo.overwintering import demo_study

    demo_study(progress=None)
    run(USABLE)
    mine, theirs = in_turn(lambda: run(USABLE), lambda: run("import PySide6.QtWidgets"), 4)
    return [Row("start to usable window, demo study", mine, theirs, 'python -c "import PySide6.QtWidgets"', "printed only")]
