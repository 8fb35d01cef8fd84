"""Take out of a fresh environment what comes along with packages and nobody uses: half a gigabyte.

Run once by the starter, with the environment's own Python. What is taken out is named here, save for the drawing
library: of that, what is not loaded while a scene is drawn.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import sysconfig
from pathlib import Path

PATTERNS = (
    # declarative interfaces and their designer, of which no window here is made
    *("PySide6/Qt/qml", "PySide6/Qt/translations", "PySide6/Qt/metatypes", "PySide6/Qt/libexec"),
    *(f"PySide6/Qt/lib/libQt6{part}*" for part in ("Qml", "Quick", "Designer", "Labs", "WaylandCompositor", "Sql")),
    *("PySide6/Qt/plugins/qmltooling", "PySide6/Qt/plugins/qmllint", "PySide6/Qt/plugins/designer"),
    *("PySide6/Qt/plugins/sqldrivers", "PySide6/QtQml.abi3.so", "PySide6/QtQuick*.so", "PySide6/QtDesigner.abi3.so"),
    *("PySide6/QtSql.abi3.so", "PySide6/libpyside6qml*", "PySide6/typesystems"),
    *(f"PySide6/{tool}" for tool in ("qmlls", "qmlformat", "qmllint", "lupdate", "lrelease", "linguist", "assistant")),
    *("PySide6/designer", "PySide6/svgtoqml", "PySide6/balsam*", "PySide6/qmlimportscanner", "PySide6/qmlcachegen"),
    # services of a network, and sources to build against
    *("pyarrow/libarrow_flight*", "pyarrow/libarrow_python_flight*", "pyarrow/_flight*"),
    *("pyarrow/tests", "pyarrow/include", "numpy/_core/include", "numba/cuda", "*/tests"),
)
"""In the folder of packages."""
DRAWING = "vtkmodules"
DRAWN = """
import os
import numpy as np
from kestrelmist.core.surface.simplify import fewer
from kestrelmist.scene.solid.eye import Camera
from kestrelmist.scene.solid.stage import SolidScene
from kestrelmist.scene.solid.volume import Levels
from kestrelmist.scene.solid.volume_look import VolumeLook
scene = SolidScene()
corners = np.random.default_rng(0).random((9000, 3))
triangles = np.arange(9000, dtype=np.int32).reshape(-1, 3)
scene.set_mesh(1, corners, np.concatenate([triangles] * 2), ((1, 0, 0), 0.5, True, (0.0, 0.0, 0.0)))
scene.set_lines(2, [(corners[:4], (1, 0, 0), 2.0)], [(corners[0], (1, 0, 0), 5.0)])
scene.set_picture(3, np.full((4, 5), 0xFFFF0000, np.uint32), corners[:3], 1.0)
scene.set_planes(np.array([[1.0, 0, 0, 0.1]]))
os.environ["KESTRELMIST_DRAW"] = "card"
levels = Levels(np.arange(1, 513, dtype=np.uint16).reshape(8, 8, 8) * 7, np.eye(4), 0.0, 1.0)
scene.set_volume(4, levels, VolumeLook())
for moving in (False, True):
    assert scene.picture(scene.eye(Camera(), 64, 48), moving).any()
fewer(corners, triangles, 0.5)
assert scene.drawn_by is not None
print(*sorted({line.split()[-1] for line in open("/proc/self/maps") if "vtkmodules" in line}), sep="\\n")
"""


def main() -> None:
    packages = Path(sysconfig.get_paths()["purelib"])
    for pattern in PATTERNS:
        for path in packages.glob(pattern):
            remove(path)
    loaded = subprocess.run([sys.executable, "-c", DRAWN], check=False, capture_output=True, text=True)
    if loaded.returncode:  # it cannot be tried here: all of it stays
        print(f"The drawing library stays whole: {loaded.stderr.strip()[-200:]}", file=sys.stderr)
        return
    used = {Path(line).name for line in loaded.stdout.split()}
    for path in (packages / DRAWING).glob("*.so*"):
        if path.name not in used:
            remove(path)


def remove(path: Path) -> None:
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)


if __name__ == "__main__":
    main()
