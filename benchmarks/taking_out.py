"""Brain and tissues of a large head, and how much memory a long series takes while its motion is corrected."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from .row import Row

SERIES = """
import sys
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.prepare.series.motion import correct_motion
save_image(sys.argv[2], correct_motion(open_image(sys.argv[1])).image)
print(next(line.split()[1] for line in open("/proc/self/status") if line.startswith("VmHWM")))
"""
VOLUMES = 726


def rows() -> list[Row]:
    return [*_head(), _long_series()]


def _head() -> list[Row]:
    from kestrelmist.core.image import Image
    from kestrelmist.core.labels import LabelMap
    from kestrelmist.core.space import Space
    from kestrelmist.demo.animal import make_animal
    from kestrelmist.demo.scans import scan_mr
    from kestrelmist.prepare.tissue.brain import take_out_brain
    from kestrelmist.prepare.tissue.tissues import split_tissues

    affine = np.diag([0.1, 0.1, 0.1, 1.0])
    affine[:3, 3] = (-12.8, -14.0, -12.0)
    space = Space((256, 256, 256), affine)
    image, labels = Image(scan_mr(make_animal("B", 5), space), space, "Head"), LabelMap(space)
    started = time.perf_counter()
    take_out_brain(image, labels).apply(labels)
    brain = time.perf_counter() - started
    started = time.perf_counter()
    split_tissues(image, labels)
    tissues = time.perf_counter() - started
    return [
        Row("brain of a head of 256³", brain, 10.0, "goal", "≤ 10 s", met=brain <= 10),
        Row(f"tissues of its {labels.counts[1] / 1e6:.1f} million voxels", tissues, 20.0, "goal", "≤ 20 s",
            met=tissues <= 20),
    ]  # fmt: skip


def _long_series() -> Row:
    """Read, corrected and written, in a process of its own."""
    from kestrelmist.core.axis import Axis
    from kestrelmist.core.image import Image
    from kestrelmist.formats.saving import save_image

    from .preparing import moved_head

    space, head, volumes, _ = moved_head()
    frames = [np.asfortranarray(v.T.clip(0, 4000).astype(np.int16)) for v in (head, *volumes)]
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "run.nii"
        axes = (Axis.even("time", VOLUMES, 1.0, "s"),)
        series = Image(lambda index, progress: frames[index[0] % len(frames)], space, "Run", axes=axes)
        save_image(path, series)
        ran = subprocess.run(
            [sys.executable, "-c", SERIES, str(path), str(Path(place) / "still.nii")],
            capture_output=True,
            text=True,
            check=True,
        )
    peak = int(ran.stdout.split()[-1]) / 2**20
    return Row(f"memory for {VOLUMES} volumes", peak, 1.5, "goal", "≤ 1.5 GB", "GB", met=peak <= 1.5)
