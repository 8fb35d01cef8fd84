"""Runs of recipes that are cut short, in every way: nothing is lost, nothing is done twice, nothing is half kept."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import time
from pathlib import Path

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.study.recipes import editing
from kestrelmist.study.recipes.book import book
from kestrelmist.study.recipes.recipe import Recipe, Slot
from kestrelmist.study.recipes.text import write_recipe
from kestrelmist.study.study import Study
from tests.making import straight_space, write_nifti

from .case import case, require
from .disks import small_disk, tried
from .kills import children_of, command
from .local_cluster import local_cluster

SUBJECTS = 3


def _recipe() -> Recipe:
    made = editing.with_step(Recipe(title="Trial"), "smooth", settings={"fwhm": 3.0})
    made = editing.with_slot(made, Slot("Scan", "image", "in"), "Image")
    made = editing.with_step(made, "threshold", settings={"label": "Bright", "low": 0.1, "high": 9.0})
    made = editing.with_step(made, "close-label", settings={"label": "Bright", "by": 1.0})
    return editing.with_step(made, "measure-labels")


def _study(place: Path, size: int = 48) -> tuple[Path, Path]:
    with Study(place / "study", create=True) as study:
        for n in range(SUBJECTS):
            (place / f"{n}").mkdir()
            values = np.random.default_rng(n).normal(size=(size,) * 3).astype(np.float32)
            write_nifti(place / f"{n}" / "in.nii", values, straight_space((size,) * 3))
            study.run("gather", folder=place / f"{n}" / "in.nii", subject=f"T-{n}")
    write_recipe(place / "recipe.yaml", _recipe())
    return place / "study", place / "recipe.yaml"


def _require_whole(folder: Path, subjects: int = SUBJECTS) -> None:
    """Everybody has each thing once, and as it would have been without the trouble."""
    with Study(folder) as study:
        require(not list(folder.glob(".side-*")), "side folders were left")
        steps = [s for s in study.logbook.entries() if not s.undone]
        for name in ("smooth", "threshold", "close-label", "measure-labels"):
            whose = [s.subject for s in steps if s.operation == name]
            require(len(whose) == len(set(whose)) == subjects, f"{name} was done for {whose}")
        for record in study.items.of_kind("image"):
            study.image(record.id).content_hash()  # it is there, whole
        maps = study.items.of_kind("label map")
        require(len(maps) == subjects, f"{len(maps)} label maps of {subjects}")
        for one in maps:
            image = study.image(one.of)  # type: ignore[arg-type]
            bright = (image.data >= 0.1) & (image.data <= 9.0)
            require(bool((study.label_map(one.id).data[bright] > 0).all()), "a label map lacks what was in range")


@case("recipes: the runner is killed", long=True)
def runner(rng: random.Random, place: Path) -> str:
    """By kill -9, at any moment, several times; resumed each time."""
    folder, recipe = _study(place)
    words = command("recipe", recipe, "--each-subject", "--workers", 2, "--study", folder)
    kills = 0
    for _ in range(rng.randrange(1, 4)):
        run = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(rng.uniform(1.0, 4.0))
        if run.poll() is None:
            run.kill()
            kills += 1
        run.wait()
        time.sleep(0.8)
        try:
            book(folder)
            words = command("resume-run", "--workers", 2, "--study", folder)
        except Trouble:
            continue  # it had not begun
    done = subprocess.run(words, check=False, capture_output=True, text=True)
    require(done.returncode == 0, done.stderr[-300:])
    _require_whole(folder)
    return f"{kills} kills"


@case("recipes: a worker is killed")
def worker(rng: random.Random, place: Path) -> str:
    folder, recipe = _study(place)
    words = command("recipe", recipe, "--each-subject", "--workers", 2, "--study", folder)
    run = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
    end = time.monotonic() + 30
    while run.poll() is None and len(children_of(run.pid)) < 2 and time.monotonic() < end:
        time.sleep(0.05)
    time.sleep(rng.uniform(0.5, 3.0))
    killed = 0
    for process in children_of(run.pid)[-1:]:
        try:
            os.kill(process, signal.SIGKILL)
            killed += 1
        except ProcessLookupError:
            continue
    _, said = run.communicate(timeout=200)
    if run.returncode != 0:  # told, and then gone on with
        require("Traceback" not in said, said[-300:])
        again = subprocess.run(command("resume-run", "--study", folder), check=False, capture_output=True, text=True)
        require(again.returncode == 0, again.stderr[-300:])
    _require_whole(folder)
    return "killed" if killed else "over before"


@case("recipes: the disk runs full")
def full(rng: random.Random, place: Path) -> str:
    source, recipe = _study(place, 48)
    with small_disk(place, rng.randrange(1800, 4200)) as disk:
        if disk is None:
            return "no small disk here"
        folder = disk / "study"
        subprocess.run(["cp", "-r", str(source), str(folder)], check=True)
        run = tried(command("recipe", recipe, "--each-subject", "--workers", 1, "--study", folder), disk, 0)
        subprocess.run(["cp", "-r", str(folder), str(place / "saved")], check=True)
    if run.returncode == 0:
        _require_whole(place / "saved")
        return "found room"
    words = command("recipe", recipe, "--each-subject", "--workers", 1, "--study", place / "saved")
    again = subprocess.run(words, check=False, capture_output=True, text=True)
    require(again.returncode == 0, again.stderr[-300:])
    _require_whole(place / "saved")
    return "ran full, then whole"


@case("recipes: a cluster goes away", long=True)
def cluster(rng: random.Random, place: Path) -> str:
    """A worker or the scheduler of a Dask cluster is killed; the run ends in a sentence and is resumed without it."""

    folder, recipe = _study(place)
    gone = rng.choice(("worker", "scheduler"))
    with local_cluster() as there:
        words = command("recipe", recipe, "--each-subject", "--cluster", there.scheduler_address, "--study", folder)
        run = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
        time.sleep(rng.uniform(3.0, 7.0))
        if gone == "worker":
            os.kill(next(iter(there.workers.values())).process.pid, signal.SIGKILL)
        else:
            there.close()
        _, said = run.communicate(timeout=200)
    require("Traceback" not in said, said[-400:])
    if run.returncode != 0:
        require(run.returncode == 1 and said.strip().endswith("."), said[-300:])
        try:
            book(folder)
            words = command("resume-run", "--workers", 1, "--study", folder)
        except Trouble:
            words = command("recipe", recipe, "--each-subject", "--study", folder)
        again = subprocess.run(words, check=False, capture_output=True, text=True)
        require(again.returncode == 0, again.stderr[-300:])
    _require_whole(folder)
    return f"{gone}, {'resumed' if run.returncode else 'whole at once'}"
