"""Disks that run full, or go: on a small disk of its own where that is allowed, else by a limit on what is written."""

from __future__ import annotations

import os
import random
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.study.elsewhere import save_elsewhere
from kestrelmist.study.study import Study
from tests.making import dicom_folder, straight_space, two_balls, write_nifti

from .case import Failed, case, require
from .kills import command
from .studies import made

LIMITED = """
import resource, signal, sys
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (int(sys.argv[1]), int(sys.argv[1])))
sys.argv[1:2] = []
from kestrelmist.cli import main
main()
"""


@contextmanager
def small_disk(place: Path, kilobytes: int) -> Iterator[Path | None]:
    """A disk with little room; None where it cannot be had."""
    disk = place / "disk"
    disk.mkdir()
    options = ["mount", "-t", "tmpfs", "-o", f"size={kilobytes}k", "tmpfs", str(disk)]
    if os.geteuid() != 0 or subprocess.run(options, check=False, capture_output=True).returncode:
        yield None
        return
    try:
        yield disk
    finally:
        subprocess.run(["umount", "-l", str(disk)], check=False, capture_output=True)


def tried(words: list[str], disk: Path | None, kilobytes: int) -> subprocess.CompletedProcess[str]:
    """Run a command, with a limit on what may be written where there is no small disk."""
    if disk is None:
        words = [sys.executable, "-c", LIMITED, str(kilobytes << 10), *words[3:]]
    run = subprocess.run(words, check=False, capture_output=True, text=True, timeout=120)
    require("Traceback" not in run.stderr, run.stderr[-400:])
    require(run.returncode in (0, 1), f"ended with {run.returncode}: {run.stderr[-300:]}")
    return run


@case("disks: a study runs full")
def study(rng: random.Random, place: Path) -> str:
    source = made(place)
    with small_disk(place, rng.randrange(400, 1500)) as disk:
        if disk is None:
            return "no small disk here"
        folder = disk / "study"
        subprocess.run(["cp", "-r", str(source), str(folder)], check=True)
        said, full = 0, False
        opened = Study(folder)
        try:
            for n in range(3000):
                point = tuple(rng.uniform(-7, 7) for _ in range(3))
                opened.run("paint", image="balls", label=f"L{n % 9}", point=point, diameter=rng.uniform(1, 6))
                said += 1
                if n % 7 == 0:
                    (disk / f"other {n}").write_bytes(bytes(20_000))  # somebody else fills it too
        except (Trouble, OSError) as trouble:
            full = "full" in str(trouble) or isinstance(trouble, OSError)
            require(full, f"a full disk is called: {trouble}")
        try:
            opened.close()
        except Trouble as trouble:
            require("kept" in str(trouble), f"closing on a full disk: {trouble}")
        state = None
        for other in disk.glob("other *"):
            other.unlink()
        again = Study(folder)
        kept = len(again.catalogue.rows("SELECT 1 FROM change WHERE kind = 'labels'"))
        state = again.labels("balls").counts.copy()
        again.run("paint", image="balls", label="last", point=(0.0, 0.0, 0.0), diameter=2.0)
        require(not np.array_equal(again.labels("balls").counts, state), "nothing can be painted with room made")
        with suppress(Trouble):  # there may still be no room for the files of the label maps
            again.close()
        require(kept >= said, f"{said} gestures were said to be kept, {kept} are")
        return "full, nothing lost" if full else "had room"


@case("disks: images are taken in until it is full")
def gather(rng: random.Random, place: Path) -> str:
    source = place / "in"
    source.mkdir()
    numbers = np.random.default_rng(rng.randrange(1 << 30))
    values = [numbers.normal(size=(40, 40, 40)).astype(np.float32) for _ in range(4)]
    for n, one in enumerate(values):
        write_nifti(source / f"v{n}.nii", one, straight_space((40, 40, 40)))
    room = rng.randrange(150, 1400)
    with small_disk(place, room) as disk:
        folder = (disk or place) / "study"
        run = tried(command("gather", source, "--study", folder), disk, room)
        if run.returncode == 0:
            with Study(folder, read_only=True) as found:
                require(len(found.records()) == 4, "not all are in")
            return "had room"
        require("full" in run.stderr or "disk" in run.stderr, run.stderr[-300:])
        if not (folder / "study.db").exists() or not (folder / "study.db").stat().st_size:
            return "full at once"
        with Study(folder, read_only=True) as found:
            records = found.records()
            for record in records:
                right = np.array_equal(found.image(record.id).data, values[int(record.name[1:])])
                require(bool(right), f"{record.name} is half taken in")
        told = " ".join(run.stderr.split())
        unsaid = [record.name for record in records if f"“{record.name}”" not in told.partition("Not taken in")[0]]
        require(not unsaid, f"{unsaid} are in, and nobody says so: {told[-300:]}")
        there = [p.name for p in (folder / "images").iterdir()] if (folder / "images").exists() else []
        left = set(there) - {str(record.id) for record in records}
        require(not left, f"left behind: {left}")
        return "full, nothing half"


@case("disks: files are written until it is full")
def written(rng: random.Random, place: Path) -> str:
    room = rng.randrange(30, 700)
    image = two_balls(straight_space((60, 60, 60)))
    write_nifti(place / "in.nii", image.data, image.space)
    dicom_folder(place / "scans", two_balls())
    with small_disk(place, room) as disk:
        there = disk or place / "out"
        there.mkdir(exist_ok=True)
        if rng.random() < 0.3:
            target = there / "clean"
            words = command("deidentify", place / "scans", "--to", target)
        else:
            target = there / rng.choice(
                ("out.nii.gz", "out.nii", "out.ome.tif", "out.ome.zarr", "out.nrrd", "out.dicom")
            )
            words = command("convert", place / "in.nii", "--to", target)
        run = tried(words, disk, room)
        if run.returncode == 0:
            require(target.exists(), f"{target.name} was said to be written")
            return "had room"
        require("full" in run.stderr or "disk" in run.stderr, run.stderr[-300:])
        left = [p.name for p in there.iterdir()]
        require(not left, f"left behind: {left}")
        return "full, nothing half"


@case("disks: it goes while a study is open")
def gone(rng: random.Random, place: Path) -> str:
    source = made(place)
    with small_disk(place, 20_000) as disk:
        if disk is None:
            return "no small disk here"
        folder = disk / "study"
        subprocess.run(["cp", "-r", str(source), str(folder)], check=True)
        opened = Study(folder)
        for _ in range(rng.randrange(3)):
            opened.run("paint", image="balls", label="L", point=(rng.uniform(-5, 5), 0.0, 0.0), diameter=2.0)
        before = opened.labels("balls").data.copy()
        opened.image("balls").data  # noqa: B018  (in memory, as in a window)
        subprocess.run(["umount", "-l", str(disk)], check=True)
        try:
            opened.run("paint", image="balls", label="L", point=(0.0, 6.0, 0.0), diameter=2.0)
            raise Failed("a step on a disk that is gone was called kept")
        except Trouble:
            pass
        require(bool(np.array_equal(opened.labels("balls").data, before)), "what is in memory is another state")
        save_elsewhere(opened, place / "saved")
        opened.catalogue.close()
        with Study(place / "saved") as saved:
            require(
                bool(np.array_equal(saved.labels("balls").data, before)), "what was saved elsewhere is another state"
            )
        return "said, and saved elsewhere"
