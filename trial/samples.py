"""Files to be damaged: written by the project and by tifffile, and the sample files inside pydicom and nibabel."""

from __future__ import annotations

import random
import shutil
from functools import lru_cache
from pathlib import Path

import numpy as np

from kestrelmist.core.image import Image
from kestrelmist.core.space import picture_space
from kestrelmist.formats.saving import save_image
from tests.making import dicom_folder, straight_space, two_balls

WRITTEN = (".nii", ".nii.gz", ".nrrd", ".mha", ".ome.tif", ".ome.zarr", ".png", ".x3p", ".dicom")
LARGEST = 4 << 20
"""Sample files larger than this take too long to be tried many times."""


def written(rng: random.Random, place: Path) -> Path:
    """A file, or a folder, of the project's own writing."""
    image = two_balls(straight_space((20, 20, 20)))
    ending = rng.choice(WRITTEN)
    if ending == ".dicom":
        dicom_folder(place / "scans", image)
        return place / "scans"
    flat = ending in (".png", ".x3p")
    kind = np.uint8 if ending == ".png" else np.float32
    plane = Image(image.data[:, :, 10:11].astype(kind, order="F"), picture_space(20, 20, (0.1, 0.1)), unit="m")
    save_image(place / f"image{ending}", plane if flat else image)
    return place / f"image{ending}"


def tiff(rng: random.Random, place: Path) -> Path:
    """A TIFF in one of the ways that tifffile writes."""
    import tifffile

    numbers = np.random.default_rng(rng.randrange(1 << 30))
    shape = rng.choice(((40, 50), (3, 40, 50), (40, 50, 3), (2, 3, 40, 50)))
    values = numbers.integers(0, 255, shape).astype(rng.choice((np.uint8, np.uint16)))
    colour = shape[-1] == 3 and values.dtype == np.uint8
    tifffile.imwrite(
        place / "picture.tif",
        values,
        compression=rng.choice((None, "zlib", "lzw", "packbits")),
        tile=(16, 16) if rng.random() < 0.4 else None,
        photometric="rgb" if colour else "minisblack",
        bigtiff=rng.random() < 0.3,
        ome=rng.random() < 0.4 and not colour,
        byteorder=rng.choice("<>"),
        description="made up" if rng.random() < 0.5 else None,
    )
    return place / "picture.tif"


@lru_cache(maxsize=1)
def shipped() -> tuple[Path, ...]:
    """The sample files that lie inside libraries."""
    import nibabel
    import pydicom

    folders = (Path(pydicom.__file__).parent / "data" / "test_files", Path(nibabel.__file__).parent / "tests" / "data")
    found = [p for f in folders if f.is_dir() for p in f.rglob("*") if p.is_file() and p.suffix not in (".py", ".pyc")]
    return tuple(sorted(p for p in found if p.stat().st_size <= LARGEST))


def sample(rng: random.Random, place: Path) -> Path:
    """A copy of one of the sample files; with those of the same name that belong to it."""
    path = rng.choice(shipped())
    for other in path.parent.iterdir():
        if other.is_file() and other.name.split(".")[0] == path.name.split(".")[0] and other.stat().st_size <= LARGEST:
            shutil.copyfile(other, place / other.name)
    return place / path.name


def damage(rng: random.Random, path: Path) -> str:
    """Damage a file in place; returns how."""
    whole = bytearray(path.read_bytes())
    if not whole:
        return "empty"
    kind = rng.choice(("cut", "bytes", "zeros", "doubled", "numbers", "words", "none"))
    near = min(len(whole), rng.choice((400, 4000, len(whole))))
    if kind == "cut":
        whole = whole[: rng.randrange(len(whole))]
    elif kind == "bytes":
        for _ in range(rng.choice((1, 5, 40))):
            whole[rng.randrange(near)] = rng.randrange(256)
    elif kind == "zeros":
        at = rng.randrange(len(whole))
        whole[at : at + 200] = bytes(min(200, len(whole) - at))
    elif kind == "doubled":
        whole = whole + whole
    elif kind == "numbers":  # numbers in text that promise more than there is, or nothing
        digits = [n for n in range(near) if chr(whole[n]).isdecimal()]
        for at in rng.sample(digits, min(len(digits), rng.choice((1, 3)))):
            whole[at : at + 1] = rng.choice((b"999999999", b"0", b"-1", b"1e300", b"9"))
    elif kind == "words":  # binary numbers at their ends
        for _ in range(rng.choice((1, 3))):
            size = rng.choice((2, 4, 8))
            at = rng.randrange(max(1, near // size)) * size
            whole[at : at + size] = rng.choice((b"\xff" * size, b"\xff" * (size - 1) + b"\x7f", b"\0" * size))
    path.write_bytes(whole)
    return kind
