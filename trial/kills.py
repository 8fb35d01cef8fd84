"""Runs that are killed at some moment: what was said to be kept is kept, and the next run makes it whole."""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path

import numpy as np

from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.study.study import Study
from tests.making import dicom_folder, straight_space, two_balls, write_nifti

from .case import case, require
from .studies import made

WINDOW = """
import random, sys
from kestrelmist.desk import app
rng = random.Random(int(sys.argv[2]))
program = app.application()
window = app.open_window(sys.argv[1])
window.show()
window.start()
desk, study = window.desk, window.desk.study
desk.viewing.show_image(study.records()[0].id)
left = [10_000]
def next_one(*_):
    print(len(study.catalogue.rows("SELECT 1 FROM change WHERE kind = 'labels'")), flush=True)
    if left[0]:
        left[0] -= 1
        if rng.random() < 0.2:
            desk.session.undo()
        point = tuple(rng.uniform(-7, 7) for _ in range(3))
        desk.run("paint", {"label": "L", "point": point, "diameter": rng.uniform(1, 3)}, next_one)
next_one()
program.exec()
"""


def command(*words: object) -> list[str]:
    return [sys.executable, "-m", "kestrelmist.cli", *map(str, words)]


def killed_after(words: list[str], seconds: float) -> int:
    """Start something, kill it after some seconds; returns its exit code when it had ended before, else -9."""
    run = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    time.sleep(seconds)
    run.kill()
    return run.wait()


def done(words: list[str]) -> str:
    """Run to the end; fails unless it ends well. Returns what was said."""
    run = subprocess.run(words, check=False, capture_output=True, text=True, timeout=120)
    require(run.returncode == 0 and "Traceback" not in run.stderr, f"{words[3]} ends with {run.stderr[-300:]}")
    return run.stdout + run.stderr


@case("kills: a window that is painted in")
def window(rng: random.Random, place: Path) -> str:
    folder = made(place)
    words = [sys.executable, "-c", WINDOW, str(folder), str(rng.randrange(1 << 30))]
    unseen = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    run = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, env=unseen)
    assert run.stdout is not None
    said = [run.stdout.readline().strip()]
    time.sleep(rng.uniform(0.0, 1.5))
    run.kill()
    said += [line for line in run.stdout.read().split("\n") if line.isdecimal()]
    run.wait()
    run.stdout.close()
    require(said[0].isdecimal(), "the window did not begin")
    with Study(folder) as study:
        kept = len(study.catalogue.rows("SELECT 1 FROM change WHERE kind = 'labels'"))
        count = int(study.labels("balls").counts[1])
        study.history.undo()
        study.history.redo()
        require(int(study.labels("balls").counts[1]) == count, "undo and redo do not come back to the same")
    require(kept >= int(said[-1]), f"{said[-1]} gestures were said to be kept, {kept} are")
    return "nothing lost"


def children_of(process: int) -> list[int]:
    """Processes that it has begun, and those have."""
    parents = {}
    for stat in Path("/proc").glob("[0-9]*/stat"):
        with suppress(OSError, ValueError, IndexError):
            parents[int(stat.parent.name)] = int(stat.read_text().rpartition(")")[2].split()[1])
    found, begun = [], [process]
    while begun:
        begun = [child for child, parent in parents.items() if parent in begun]
        found += begun
    return found


@case("kills: processes that work for one that is killed")
def workers(rng: random.Random, place: Path) -> str:
    """They end with it, and the next start finds nothing of theirs."""
    what = rng.choice(("radiographs", "set", "cohort"))
    if what == "radiographs":
        words = command("radiographs", place / "many", "--count", 5000)
    elif what == "set":
        done(command("radiographs", place / "many", "--count", 80))
        words = command("picture-set", place / "many" / "boxes.csv", "--folder", place / "many", "--to", place / "set")
    else:
        with Study(place / "study", create=True) as study:
            for n in range(6):
                (place / f"{n}").mkdir()
                values = np.random.default_rng(n).normal(size=(120, 120, 120)).astype(np.float32)
                write_nifti(place / f"{n}" / "in.nii", values, straight_space((120, 120, 120)))
                study.run("gather", folder=place / f"{n}" / "in.nii", subject=f"T-{n}")
        recipe = place / "recipe.yaml"
        step = {"operation": "reduce-noise", "inputs": {"image": "$image 1"}, "settings": {}}
        slots = {"image 1": {"kind": "image", "name": "in"}}
        recipe.write_text(json.dumps({"recipe": 2, "slots": slots, "steps": [step]}))
        words = command("recipe", recipe, "--each-subject", "--workers", 2, "--study", place / "study")
    run = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    begun: list[int] = []
    end = time.monotonic() + 20
    while len(begun) < 2 and time.monotonic() < end and run.poll() is None:
        begun = children_of(run.pid)
        time.sleep(0.05)
    time.sleep(rng.uniform(0, 1.5))
    begun = children_of(run.pid) or begun
    run.kill()
    run.wait()
    time.sleep(2.0)
    left = [process for process in begun if Path(f"/proc/{process}").exists() and not _is_zombie(process)]
    for process in left:
        os.kill(process, 9)
    require(not left, f"{len(left)} of {len(begun)} processes live on after {what}")
    if what == "cohort":
        with Study(place / "study"):
            sides = [p.name for p in (place / "study").glob(".side-*")]
        require(not sides, f"left behind: {sides}")
    return f"{what}: {'none had begun' if not begun else 'all ended'}"


def _is_zombie(process: int) -> bool:
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0] == "Z"
    except OSError:
        return True


@case("kills: images that are taken in")
def gather(rng: random.Random, place: Path) -> str:
    source, folder = place / "in", place / "study"
    source.mkdir()
    numbers = np.random.default_rng(rng.randrange(1 << 30))
    values = [numbers.normal(size=(80, 80, 60)).astype(np.float32) for _ in range(5)]
    for n, one in enumerate(values):
        write_nifti(source / f"v{n}.nii.gz", one, straight_space((80, 80, 60)))
    if rng.random() < 0.5:
        words = command("gather", source, "--study", folder)
    else:  # line by line, as the window does it
        program = (
            "import sys; from kestrelmist.study.study import Study\n"
            "from kestrelmist.study.gathering import take_lines; from kestrelmist.gather.plan import plan_folder\n"
            "with Study(sys.argv[2], create=True) as study: take_lines(study, plan_folder(sys.argv[1]))"
        )
        words = [sys.executable, "-c", program, str(source), str(folder)]
    killed_after(words, rng.uniform(0.2, 2.0))
    there = 0
    if (folder / "study.db").exists():
        with Study(folder) as study:
            there = len(study.records())
            for record in study.records():
                right = np.array_equal(study.image(record.id).data, values[int(record.name[1:])])
                require(bool(right), f"{record.name} is half taken in")
    if there < len(values):
        done(command("gather", source, "--study", folder))
    with Study(folder) as study:
        names = sorted(r.name for r in study.records())
        require(names == [f"v{n}" for n in range(5)], f"after going on these are there: {names}")
        for record in study.records():
            right = np.array_equal(study.image(record.id).data, values[int(record.name[1:])])
            require(bool(right), f"{record.name} is another image")
        ids = {str(r.id) for r in study.records()}
    left = [p.name for p in (folder / "images").iterdir() if p.name not in ids]
    require(not left, f"left behind: {left}")
    return f"{there} were in"


@case("kills: a conversion")
def convert(rng: random.Random, place: Path) -> str:
    image = two_balls(straight_space((120, 120, 80), 0.2))
    save_image(place / "in.nii", image)
    target = place / rng.choice(("out.ome.zarr", "out.ome.tif", "out.nii.gz", "out.nrrd", "out.dicom"))
    words = command("convert", place / "in.nii", "--replace", "--to", target)
    killed_after(words, rng.uniform(0.3, 1.6))
    if target.exists():
        require(bool(np.array_equal(open_image(target).data, image.data)), f"{target.name} is half written")
        if target.is_dir():
            shutil.rmtree(target)
    done(words)
    require(bool(np.array_equal(open_image(target).data, image.data)), f"{target.name} is another image")
    left = [p.name for p in place.iterdir() if p.name.startswith(".")]
    require(not left, f"left behind: {left}")
    return "done again"


@case("kills: identity that is removed")
def deidentify(rng: random.Random, place: Path) -> str:
    dicom_folder(place / "scans", two_balls(straight_space((60, 60, 120))))
    target = place / "clean"
    words = command("deidentify", place / "scans", "--to", target)
    killed_after(words, rng.uniform(0.5, 3.5))
    count = sum(p.is_file() for p in (place / "scans").rglob("*"))
    ended = target.exists()
    if ended:
        require(len(list(target.glob("*.dcm"))) == count, "half a folder was left under its name")
        shutil.rmtree(target)
    done(words)
    require(len(list(target.glob("*.dcm"))) == count, "files are missing")
    left = [p.name for p in place.iterdir() if p.name.startswith(".")]
    require(not left, f"left behind: {left}")
    return "had ended" if ended else "done again"
