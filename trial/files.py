"""Files that are damaged, and runs that are killed while they write."""

from __future__ import annotations

import random
import subprocess
import sys
import time
from pathlib import Path

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import picture_space
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.gather.plan import plan_folder
from tests.making import dicom_folder, straight_space, two_balls

from .case import Failed, case, require

ENDINGS = (".nii", ".nii.gz", ".nrrd", ".mha", ".ome.tif", ".png", ".x3p")
MOST_SECONDS = 20


@case("files: one of many, damaged")
def damaged(rng: random.Random, place: Path) -> str:
    image = two_balls(straight_space((20, 20, 20)))
    ending = rng.choice((*ENDINGS, "dicom"))
    if ending == "dicom":
        dicom_folder(place / "scans", image)
        path = rng.choice(sorted(p for p in (place / "scans").rglob("*") if p.is_file()))
    else:
        path = place / f"image{ending}"
        kind = np.uint8 if ending == ".png" else np.float32
        flat = Image(image.data[:, :, 10:11].astype(kind, order="F"), picture_space(20, 20, (0.1, 0.1)), unit="m")
        save_image(path, image if ending not in (".png", ".x3p") else flat)
    whole = bytearray(path.read_bytes())
    kind = rng.choice(("cut", "bytes", "zeros", "doubled"))
    if kind == "cut":
        whole = whole[: rng.randrange(len(whole))]
    elif kind == "bytes":
        for _ in range(rng.choice((1, 5, 40))):
            whole[rng.randrange(min(len(whole), rng.choice((400, len(whole)))))] = rng.randrange(256)
    elif kind == "zeros":
        at = rng.randrange(len(whole))
        whole[at : at + 200] = bytes(min(200, len(whole) - at))
    else:
        whole = whole + whole
    path.write_bytes(whole)
    started = time.monotonic()
    came = "opened"
    try:
        plan_folder(path.parent)
        opened = open_image(path)
        opened.stored((0,) * len(opened.axes))
    except Trouble:
        came = "a sentence"
    except Exception as error:
        raise Failed(f"{ending}, {kind}: {type(error).__name__}: {error}") from error
    taken = time.monotonic() - started
    require(taken < MOST_SECONDS, f"{ending}, {kind}: took {taken:.0f} s")
    return came


@case("files: a conversion killed, and done again")
def killed(rng: random.Random, place: Path) -> str:
    image = two_balls(straight_space((120, 120, 80), 0.2))
    save_image(place / "in.nii", image)
    target = place / rng.choice(("out.ome.zarr", "out.ome.tif", "out.nii.gz", "out.dicom"))
    convert = ["convert", str(place / "in.nii"), "--replace", "--to", str(target)]
    words = [sys.executable, "-m", "kestrelmist.cli", *convert]
    run = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    time.sleep(rng.uniform(0.3, 1.6))
    run.kill()
    run.wait()
    if target.exists():
        require(bool(np.array_equal(open_image(target).data, image.data)), f"{target.name} is half written")
        return "had ended"
    again = subprocess.run(words, check=False, capture_output=True, text=True)
    require(again.returncode == 0, again.stderr[-300:])
    require(bool(np.array_equal(open_image(target).data, image.data)), f"{target.name} is another image")
    left = [p.name for p in place.iterdir() if p.name.startswith(".") and "part" in p.name]
    require(target.suffix == ".gz" or not left, f"left behind: {left}")
    return "done again"
