"""Compile the kernels once and keep them, so that no first click waits for a compiler.

Run as `python -m kestrelmist.warm`: the set-up does it, and the window starts it in a process of its own when it finds
the kernels missing. Compiled code is kept beside the modules (or in the user's cache when they cannot be written).
"""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import numpy as np


def warm() -> None:
    """Call every kernel once, on next to nothing, with each number type it meets."""
    from .core.image import KERNEL_TYPES, Image
    from .core.labels import LabelMap, LabelTable
    from .core.patch import Patch, patch_from_mask
    from .core.space import Space
    from .measure.labels import measure_labels
    from .outline.brush import Brush, Stroke
    from .outline.flood import flood
    from .outline.pieces import pieces_of
    from .scene.occupancy import image_field, label_field
    from .scene.slices import warm as warm_panes

    warm_panes()
    space = Space((4, 4, 4), np.eye(4))
    for kind in KERNEL_TYPES:
        image = Image(np.asfortranarray(np.arange(64).reshape(4, 4, 4).astype(kind)), space)
        table, label = LabelTable().with_new("warm")
        labels = LabelMap(space, table=table)
        mask, _, _ = flood(image.kji, (1, 1, 1), 0.0, 100.0)
        noise = Image(np.asfortranarray(np.indices((8, 8, 8)).sum(0).astype(kind) % 2), Space((8, 8, 8), np.eye(4)))
        flood(noise.kji, (0, 0, 1), 1.0, 1.0)
        patch_from_mask(labels, mask, label.number).apply(labels)
        stroke = Stroke(image, labels, Brush(1.0, low=0.0, high=1.0), label.number)
        stroke.to((1.0, 1.0, 1.0))
        stroke.finish()
        measure_labels(image, labels)
        pieces_of(labels, label.number)
        label_field(labels, label.number)
        image_field(image)
    whole = Patch(np.zeros(1, np.int64), np.full(1, 64, np.int32), np.arange(64, dtype=np.uint16), np.arange(64, dtype=np.uint16))
    whole.apply(labels)


def warm_demo() -> None:
    """The kernels that make the demo animal."""
    from .demo import animal, anatomy, lattice, scans, truth

    made = animal.Animal("warm", np.zeros((anatomy.FIELDS, 3, 3, 3), np.float32), *(np.zeros((3, 3, 3), np.float32) for _ in range(2)), 1)
    space = scans.Space((2, 2, 2), np.eye(4))
    scans.scan_mr(made, space)
    scans.scan_ct(made, space)
    truth.true_volume(made, "Skull", space)
    truth.true_labels(made, ["Skull"], space)
    field = np.zeros((anatomy.FIELDS, 1, 2, 2), np.float32)
    lattice.fill_lattice(field, np.zeros((4, 4, 4, 4), np.float32), animal.LOW, animal.STEP, np.ones(3), 0, 1)


def kernels_are_kept() -> bool:
    """Whether the grow kernel has compiled code on disk for CT values, and so, most likely, all have."""
    from .outline.runs import _join

    return any(Path(_join._cache._cache_path).glob("runs._join-*.nbc"))


def warm_beside() -> subprocess.Popen | None:
    """Start compiling in another process when the kernels are missing; this one stays quick."""
    if kernels_are_kept():
        return None
    return subprocess.Popen([sys.executable, "-m", "kestrelmist.warm"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


if __name__ == "__main__":
    warm()
    if "--demo" in sys.argv:
        warm_demo()
