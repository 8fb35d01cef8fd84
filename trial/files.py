"""Files that are damaged or no files at all: a sentence comes of them, soon, and without much memory."""

from __future__ import annotations

import os
import random
import socket
from pathlib import Path

from kestrelmist.core.errors import Trouble
from kestrelmist.formats.opening import open_image
from kestrelmist.gather.clean_header import Cleaner
from kestrelmist.gather.deidentify import deidentify_files
from kestrelmist.gather.identity_profile import Rules
from kestrelmist.gather.plan import plan_folder
from tests.making import two_balls, write_nifti

from .case import Failed, case, require
from .limits import within
from .samples import damage, sample, tiff, written


def looked_at(path: Path, what: str) -> str:
    """Plan the folder of a file and open it, then read it; returns what came of it."""
    inside = [path] if path.is_file() else [p for p in path.rglob("*") if p.is_file()]
    size = sum(p.stat().st_size for p in path.parent.rglob("*") if p.is_file())
    try:
        with within(f"{what}, planned", size):
            try:
                plan_folder(path.parent)
            except Trouble:
                pass
        with within(f"{what}, opened", size):
            opened = open_image(path)
        with within(f"{what}, read"):
            for index in list(opened.indices())[:3]:
                opened.stored(index)
        return "opened"
    except Trouble as trouble:
        text = str(trouble)
        require("Traceback" not in text and len(text) < 2000, f"{what}: no sentence but {text[:300]}")
        return "a sentence"
    except Failed:
        raise
    except BaseException as error:
        if isinstance(error, (KeyboardInterrupt, SystemExit)):
            raise
        raise Failed(f"{what}: {type(error).__name__}: {error}") from error
    finally:
        require(bool(inside), f"{what}: nothing was there")


@case("files: one of our own, damaged")
def damaged(rng: random.Random, place: Path) -> str:
    path = written(rng, place)
    inside = [path] if path.is_file() else sorted(p for p in path.rglob("*") if p.is_file())
    one = rng.choice(inside)
    return looked_at(path, f"{path.name}, {one.name}, {damage(rng, one)}")


@case("files: a TIFF, damaged")
def damaged_tiff(rng: random.Random, place: Path) -> str:
    path = tiff(rng, place)
    return looked_at(path, f"{path.name}, {damage(rng, path)}")


@case("files: a sample of a library, damaged")
def damaged_sample(rng: random.Random, place: Path) -> str:
    path = sample(rng, place)
    return looked_at(path, f"{path.name}, {damage(rng, path)}")


@case("files: a damaged DICOM file without identity")
def damaged_and_cleaned(rng: random.Random, place: Path) -> str:
    for _ in range(30):
        path = sample(rng, place)
        if path.suffix == ".dcm":
            break
    how = damage(rng, path)
    rules = Rules(rng.choice(("remove", "shift")), *(rng.random() < 0.5 for _ in range(4)))
    try:
        with within(f"{path.name}, {how}, cleaned"):
            deidentify_files([path], place / "clean", Cleaner(rules, b"key"), None, check_pixels=False)
        return "cleaned"
    except Trouble:
        require(not (place / "clean").exists(), f"{path.name}, {how}: something is left of a failed run")
        return "a sentence"
    except Failed:
        raise
    except Exception as error:
        raise Failed(f"{path.name}, {how}: {type(error).__name__}: {error}") from error


@case("files: odd things among them")
def odd(rng: random.Random, place: Path) -> str:
    folder = place / "scans"
    (folder / "deep").mkdir(parents=True)
    image = two_balls()
    write_nifti(folder / "good.nii.gz", image.data, image.space)
    other = folder / "deep"
    count = rng.randrange(1, 5)
    for n in range(count):
        name = (
            os.fsencode(other) + b"/" + rng.choice((b"a", b"\xff\xfe", b"x" * 200, b"<b>", b"=1+1", b"\n")) + b"%d" % n
        )
        name += rng.choice((b"", b".nii", b".dcm", b".tif", b".mhd", b".nrrd"))
        kind = rng.choice(("pipe", "socket", "device", "circle", "nothing", "bytes", "folder", "far"))
        if kind == "pipe":
            os.mkfifo(name)
        elif kind == "socket" and len(name) < 100:
            with socket.socket(socket.AF_UNIX) as one:
                one.bind(os.fsdecode(name))
        elif kind == "device":
            os.symlink("/dev/zero", name)
        elif kind == "circle":
            os.symlink(name, name)
        elif kind == "nothing":
            Path(os.fsdecode(name)).touch()
        elif kind == "folder":
            os.mkdir(name)
            os.symlink(os.fsencode(folder), name + b"/up")
        elif kind == "far":
            os.symlink(b"/nowhere/at/all", name)
        else:
            Path(os.fsdecode(name)).write_bytes(bytes(rng.randrange(256) for _ in range(600)))
    with within(f"{count} odd things"):
        lines = plan_folder(folder)
    good = [line for line in lines if line.name == "good"]
    require(len(good) == 1 and bool((good[0].open().data == image.data).all()), "the good one is not there")
    return f"{len(lines)} lines"
