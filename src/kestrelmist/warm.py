"""Kernels compiled once and kept, so that no first click waits for a compiler.

Run as `python -m kestrelmist.warm`. The set-up compiles what the first pane needs (`--first`); the window compiles the
rest beside itself when it is first idle, in processes of its own, and loads what draws in a thread.
"""

from __future__ import annotations

import importlib
import subprocess
import sys
import time
from collections.abc import Callable

import numpy as np

from .core import kernel
from .core.progress import Progress

PARTS = ("panes", "outline", "solid", "tools", "demo")
"""What can be compiled by itself, so that two cores have something to do."""

SOLID = (
    "scene.slab",
    *("core.surface.depth", "core.surface.march", "core.surface.smoothing", "core.surface.blocks"),
    *("core.surface.inside", "scene.solid.coarse_field", "scene.solid.volume", "scene.solid.rays"),
    *("scene.solid.rays_of_one", "scene.solid.hits"),
)
"""Rooms of the kernels that make surfaces and draw volumes."""
FIRST = ("_plane_values", "_values", "_over_values", "_plane_nearest", "_volume_nearest", "_over_numbers")
"""Kernels that draw a volume and its labels."""


def warm_first() -> None:
    """What the first pane of a volume needs."""
    from .scene.drawing import warm

    with kernel.used_here():  # small pictures would be drawn without kernels
        warm(whole=False)


def warm_panes() -> None:
    """Every kernel that draws, for each number type it meets."""
    from .scene.drawing import warm

    with kernel.used_here():
        warm()


def warm_outline() -> None:
    """Every kernel that outlines and measures, called once on next to nothing with each number type it meets."""
    from .core.axis import Axis
    from .core.image import KERNEL_TYPES, Image
    from .core.labels import LabelMap, LabelTable
    from .core.patch import Patch, patch_from_mask
    from .core.space import Space
    from .measure.correlate import correlate
    from .measure.regions.measure_labels import measure_labels
    from .outline.brush import Brush, Stroke
    from .outline.flood import flood
    from .outline.pieces import pieces_of
    from .scene.solid.coarse_field import image_field

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
        measure_labels(image, labels, "all", overlap=labels)
        measure_labels(image, labels, each="label and slice")
        pieces_of(labels, label.number)
        image_field(image)
    series = Image(
        np.asfortranarray(np.random.default_rng(1).random((2, 2, 2, 5), np.float32)),
        Space((2, 2, 2), np.eye(4)),
        axes=(Axis("time", 5),),
    )
    correlate(series, LabelMap(series.space), (0.0, 0.0, 0.0))
    numbers = np.arange(64, dtype=np.uint16)
    Patch(np.zeros(1, np.int64), np.full(1, 64, np.int32), numbers, numbers).apply(labels)


def warm_solid() -> None:
    """Every kernel that makes surfaces and draws volumes, for each number type it meets."""
    from .core.image import KERNEL_TYPES, Image
    from .core.labels import LabelMap, LabelTable
    from .core.space import Space
    from .core.surface.blocks import block_surface, states_of
    from .core.surface.inside import voxels_within
    from .core.surface.of_label import surfaces_of
    from .scene.slab import slab_values
    from .scene.solid.cast_volumes import FINENESS, Bundle
    from .scene.solid.coarse_field import image_field
    from .scene.solid.eye import Camera, Eye, Frame
    from .scene.solid.hits import first_hit
    from .scene.solid.volume import DrawnVolume, coarser, levels_of
    from .scene.solid.volume_look import WAYS, VolumeLook
    from .scene.view import AXIAL, CORONAL, SAGITTAL, View, plane_view

    space = Space((12, 12, 12), np.eye(4))
    ball = ((np.indices((12, 12, 12)) - 5.5) ** 2).sum(0) < 16
    labels = LabelMap(space, ball.astype(np.uint16), LabelTable().with_new("ball")[0])
    one = surfaces_of(labels).parts[0]
    states_of(labels, 1)
    block_surface(labels, 1, (0, 0, 0))
    voxels_within(one, space)
    first_hit(one.corners, one.triangles, np.zeros(3), np.array((0.0, 0.0, 1.0)), np.zeros((0, 4)))
    eye = Eye(Camera(), Frame((5.5, 5.5, 5.5), 9.0), 16, 16)
    for kind in KERNEL_TYPES:
        image = Image(np.asfortranarray((ball * 100).astype(kind)), space)
        image_field(image)
        for plane in (AXIAL, CORONAL, SAGITTAL):
            slab_values(plane_view(plane, (5.5, 5.5, 5.5), 1.0, 12, 12), image, 3.0, "highest", True)
        askew = View((5.5, 5.5, 5.5), (0.8, 0.6, 0.0), (0.0, 0.0, -1.0), 1.0, 12, 12)
        slab_values(askew, image, 3.0, "highest", True)
        levels = levels_of(image, labels)
        coarser(levels, 6)
    for way in WAYS:
        drawn = DrawnVolume(levels, VolumeLook(((0.0, "#000000", 0.0), (100.0, "#FFFFFF", 0.9)), way))
        for several in ([drawn], [drawn, drawn]):
            Bundle(several).cast(eye, FINENESS["usual"], np.zeros((0, 4)))


def warm_tools() -> None:
    """The kernels of every other tool that outlines."""
    from .outline.first_calls import use_all

    use_all()


def warm_demo() -> None:
    """The kernels that make the demo animal."""
    from .core.space import Space
    from .demo import anatomy, animal, lattice, scans, truth
    from .demo.scenes import whole_section

    one, other = (np.zeros((3, 3, 3), np.float32) for _ in range(2))
    made = animal.Animal("warm", np.zeros((anatomy.FIELDS, 3, 3, 3), np.float32), one, other, 1)
    space = Space((2, 2, 2), np.eye(4))
    scans.scan_mr(made, space)
    scans.scan_ct(made, space)
    truth.true_volume(made, "Skull", space)
    truth.true_labels(made, ["Skull"], space)
    field = np.zeros((anatomy.FIELDS, 1, 2, 2), np.float32)
    part, shape = np.zeros((2, 2, 3), np.uint8), np.ones((2, 2), np.float32)
    whole_section.paint(part, 0, 0, shape, whole_section.cells_near(0, 0, 2, 2), 2, 0.5)
    whole_section.halved(part, np.zeros((1, 1, 3), np.uint8))
    lattice.fill_lattice(field, np.zeros((4, 4, 4, 4), np.float32), animal.LOW, animal.STEP, np.ones(3), 0, 1)


def all_kept(first: bool = False) -> bool:
    """Whether compiled code lies in the cache: for what the first pane needs, or for all that a person may use."""
    modules = ["scene.sampling", "scene.colouring", "scene.colour_mixing", "scene.bent"]
    if not first:
        from .outline.first_calls import PARTS as tools

        modules += ["core.patch", "outline.brush", "outline.runs", *SOLID]
        modules += [f"measure.regions.{room}" for room in ("sums", "feret", "intensities", "overlapping", "slices")]
        modules += [f"outline.{tool}" for tool in tools]
    names = {importlib.import_module(f"{__package__}.{m}").__name__ for m in modules}
    taken_in = {inner for one in kernel.KERNELS for inner in one.calls().values()}  # compiled with those that call them
    wanted = [k for k in kernel.KERNELS if k.__module__ in names and k not in taken_in]
    if first:
        wanted = [k for k in wanted if k.__name__ in FIRST]
    return all(k.kept for k in wanted)


def warm_beside(parts: tuple[str, ...] = ("panes", "outline", "solid", "tools")) -> list[subprocess.Popen]:
    """Start compiling in other processes, one a part, when kernels are missing; this one stays quick."""
    if all_kept():
        return []
    command = [sys.executable, "-m", "kestrelmist.warm"]
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    return [subprocess.Popen([*command, part], **quiet) for part in parts]  # type: ignore[call-overload]


def load_drawing(progress: Progress) -> None:
    """Load what draws into this process, so that panes are drawn by kernels from then on; for a thread. When it is not
    in the cache, another process compiles it first, so that this one stays quick."""
    if not all_kept(first=True):
        process = subprocess.Popen([sys.executable, "-m", "kestrelmist.warm", "first"], stderr=subprocess.DEVNULL)
        try:
            while process.poll() is None:
                progress.at(0.0)
                time.sleep(0.1)
        finally:
            process.kill()
        if not all_kept(first=True):
            kernel.expect(False)
            return  # there is no place for compiled code: numpy goes on drawing
    warm_first()
    kernel.say_ready()
    all_kept()  # asked here first, as it loads every module that has kernels


WORK: dict[str, Callable[[], None]] = {
    "first": warm_first,
    "panes": warm_panes,
    "outline": warm_outline,
    "solid": warm_solid,
    "tools": warm_tools,
    "demo": warm_demo,
}


def main(words: list[str]) -> None:
    """Compile the parts that are named, or all, two at a time."""
    parts = words or list(PARTS)
    if len(parts) == 1:
        WORK[parts[0]]()
        return
    running = [subprocess.Popen([sys.executable, "-m", "kestrelmist.warm", part]) for part in parts]
    if sum(process.wait() for process in running):
        raise SystemExit(1)


if __name__ == "__main__":
    main(sys.argv[1:])
