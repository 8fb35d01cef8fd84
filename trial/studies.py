"""Studies that are killed, damaged, or worked on by two processes."""

from __future__ import annotations

import random
import shutil
import subprocess
import sys
import time
from pathlib import Path

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.study.rebuild import rebuild
from kestrelmist.study.study import Study
from tests.making import two_balls, write_nifti

from .case import case, require

PAINT = """
import random, sys
from kestrelmist.study.study import Study
rng = random.Random(int(sys.argv[2]))
with Study(sys.argv[1]) as study:
    for n in range(10_000):
        point = [rng.uniform(-7, 7) for _ in range(3)]
        study.run("paint", image="balls", label="L", point=tuple(point), diameter=rng.uniform(1, 3))
        if rng.random() < 0.2:
            study.history.undo()
        print(int(study.labels("balls").counts[1]), flush=True)
"""


def made(place: Path) -> Path:
    """A small study with an image and a label."""
    image = two_balls()
    write_nifti(place / "balls.nii.gz", image.data, image.space)
    with Study(place / "study", create=True) as study:
        study.run("gather", folder=place / "balls.nii.gz", subject="T-1")
        study.run("threshold", image="balls", label="L", low=500.0, high=2000.0)
    return place / "study"


@case("study: killed while it is painted on")
def killed(rng: random.Random, place: Path) -> str:
    folder = made(place)
    words = [sys.executable, "-c", PAINT, str(folder), str(rng.randrange(1 << 30))]
    run = subprocess.Popen(words, stdout=subprocess.PIPE, text=True)
    assert run.stdout is not None
    said = [run.stdout.readline().strip()]
    time.sleep(rng.uniform(0.0, 0.6))
    run.kill()
    said += [line for line in run.stdout.read().split("\n") if line]
    run.wait()
    run.stdout.close()
    with Study(folder) as study:
        count = int(study.labels("balls").counts[1])
        require(not study.read_only, "the lock of a killed process is held")
        study.history.undo()
        study.history.redo()
        require(int(study.labels("balls").counts[1]) == count, "undo and redo do not come back to the same")
        kept = len(study.catalogue.rows("SELECT 1 FROM change WHERE kind = 'labels'"))
    require(kept >= len(said), f"{len(said)} gestures were said to be kept, {kept} are")
    return "nothing lost"


@case("study: its catalogue damaged")
def damaged(rng: random.Random, place: Path) -> str:
    folder = made(place)
    path = folder / "study.db"
    whole = bytearray(path.read_bytes())
    if rng.random() < 0.25:
        whole = whole[: rng.randrange(len(whole))]
    else:
        for _ in range(rng.choice((1, 8, 60, 900))):
            whole[rng.randrange(len(whole))] = rng.randrange(256)
    path.write_bytes(whole)
    came = "opened all the same"
    try:
        with Study(folder) as study:
            for record in study.records():
                study.labels(record.id)
            study.logbook.entries()
    except Trouble:
        came = "a sentence, and rebuilt"
    rebuild(folder, "accept")
    with Study(folder) as study:
        records = study.records()
        require(len(records) == 1, f"{len(records)} images after rebuilding")
        require(bool(np.array_equal(study.image(records[0].id).data, two_balls().data)), "the image is another one")
    return came


@case("study: two processes at once")
def two_at_once(rng: random.Random, place: Path) -> str:
    folder = made(place)
    words = [sys.executable, "-m", "kestrelmist.cli", "smooth", "balls", "--study", str(folder), "--fwhm"]
    runs = []
    for n in range(2):
        runs.append(subprocess.Popen([*words, str(1 + n)], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True))
        time.sleep(rng.uniform(0, 0.5))
    ended = [run.communicate(timeout=60) for run in runs]
    for run, (_, error) in zip(runs, ended):
        require(run.returncode in (0, 1) and "Traceback" not in error, error[-300:])
    with Study(folder) as study:
        made_ = len(study.records()) - 1
    kept = sum(run.returncode == 0 for run in runs)
    require(made_ == kept, f"{kept} said to have kept an image, {made_} are there")
    return f"{kept} of 2 kept"


@case("study: its folder gone while it is open")
def gone(rng: random.Random, place: Path) -> str:
    folder = made(place)
    study = Study(folder)
    before = study.labels("balls").data.copy()
    if rng.random() < 0.5:
        shutil.rmtree(folder)
    else:
        folder.rename(place / "away")
    try:
        study.run("paint", image="balls", label="L", point=(0.0, 6.0, 0.0), diameter=2.0)
        require(False, "a step without a study was called kept")
    except Trouble:
        pass
    require(bool(np.array_equal(study.labels("balls").data, before)), "what is in memory is another state")
    study.catalogue.close()
    return "said"
