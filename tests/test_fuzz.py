"""Damaged files of every kind: always a sentence, never a crash, a hang, or memory out of all proportion."""

import json
import os
import random
import subprocess
import sys
import unittest
from pathlib import Path

import imagecodecs
import nibabel
import numpy as np
import tifffile
from PIL import Image as Opened

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import silent
from kestrelmist.core.space import picture_space
from kestrelmist.formats.dicom.labels import read_dicom_labels
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.gather.plan import plan_folder
from kestrelmist.scene.showing import display_range
from tests.making import PlaceCase, tilted_space

ROUNDS = int(os.environ.get("KESTRELMIST_FUZZ", "100"))
"""Damaged copies a file kind; with the kinds below more than 2,000 in all."""


def specimens(place: Path) -> list[Path]:
    """A small sound file of every kind."""
    from tests.dicom_making import enhanced, segmentation, stack, structures
    from tests.minc_making import write_minc1, write_minc2

    rng = np.random.default_rng(5)
    space = tilted_space((12, 10, 6))
    volume = Image(
        rng.integers(0, 999, (12, 10, 6, 2)).astype(np.int16), space, "Fuzz", axes=(Axis.even("time", 2, 1.0, "s"),)
    )
    flat = Image(rng.integers(0, 255, (24, 20, 1)).astype(np.uint8), picture_space(24, 20, (0.1, 0.1)), "Flat")
    heights = Image(
        rng.normal(0, 1, (24, 20, 1)).astype(np.float32), picture_space(24, 20, (0.1, 0.1)), "Heights", unit="m"
    )
    for name in ("a.nii", "a.nii.gz", "a.nrrd", "a.mha", "a.ome.tif"):
        save_image(place / name, volume)
    save_image(place / "p.png", flat)
    save_image(place / "h.x3p", heights)
    (place / "j.jpg").write_bytes(imagecodecs.jpeg_encode(rng.integers(0, 255, (20, 24, 3)).astype(np.uint8)))
    (place / "b.bmp").write_bytes(imagecodecs.bmp_encode(rng.integers(0, 255, (20, 24, 3)).astype(np.uint8)))
    (place / "m.txt").write_text(
        "# Width: 5 µm\n# Height: 4 µm\n"
        + "\n".join(" ".join(f"{v:.4f}" for v in row) for row in heights.data[:, :, 0].T)
    )
    nibabel.save(nibabel.MGHImage(rng.integers(0, 99, (12, 10, 6)).astype(np.int16), space.affine), place / "g.mgz")
    write_minc1(place / "o.mnc", rng.integers(0, 255, (2, 6, 10, 12)).astype(np.uint8))
    write_minc2(place / "t.mnc", rng.integers(0, 255, (6, 10, 12)).astype(np.uint8))
    stack(place / "one", volume.data[..., 0].astype(np.uint16), space)
    (place / "one" / "0002").rename(place / "d.dcm")
    enhanced(place / "e.dcm", rng.integers(0, 99, (2, 6, 10, 12)).astype(np.uint16), space)
    mask = np.zeros((12, 10, 6), bool)
    mask[3:8, 2:7, 1:4] = True
    segmentation(place / "seg.dcm", {"A": mask}, space, "1.2.3", "1.2.4")
    structures(
        place / "rt.dcm", {"A": [space.to_world(np.array([[2.0, 2, 2], [8, 2, 2], [8, 7, 2], [2, 7, 2]]))]}, "1.2.4"
    )
    odd_specimens(place, rng)
    for path in list(place.iterdir()):
        if path.is_dir():
            for inner in path.iterdir():
                inner.unlink()
            path.rmdir()
    return sorted(p for p in place.iterdir() if p.is_file())


def odd_specimens(place: Path, rng: np.random.Generator) -> None:
    """What says more than most do: palettes, inks, orientation, units, several pictures, frames without a place."""
    from tests.dicom_making import enhanced

    colours = Opened.fromarray(rng.integers(0, 255, (20, 24, 3)).astype(np.uint8))
    palette, exif = colours.convert("P"), Opened.Exif()
    exif[274] = 6
    palette.save(place / "palette.tif")
    palette.save(place / "palette.png", exif=exif)
    colours.save(place / "turned.jpg", exif=exif)
    colours.convert("CMYK").save(place / "inks.tif")
    colours.convert("CMYK").save(place / "inks.jpg")
    colours.convert("YCbCr").save(place / "luma.tif", compression="tiff_lzw")
    with tifffile.TiffWriter(place / "slide.ome.tif", ome=True) as writer:
        for size in (10, 40):
            facts = {"axes": "CYX", "PhysicalSizeX": 0.5, "PhysicalSizeXUnit": "nm", "Channel": {"Name": ["a", "b"]}}
            writer.write(rng.integers(0, 99, (2, size, size + 3)).astype(np.uint16), metadata=facts)
    values = rng.integers(0, 99, (4, 5, 6)).astype(np.uint8)
    head = "NRRD0005\ntype: uint8\ndimension: 3\nsizes: 6 5 4\nspace: left-posterior-superior\n"
    head += 'space directions: (1,0,0) (0,1,0) (0,0,2)\nspace units: "um" "um" "um"\nencoding: ascii\n\n'
    (place / "units.nrrd").write_text(head + " ".join(map(str, values.ravel())))
    head = "ObjectType = Image\nNDims = 3\nBinaryData = False\nDimSize = 6 5 4\nElementSpacing = 1 1 2\n"
    text = f"{head}DistanceUnits = um\nElementType = MET_UCHAR\nElementDataFile = LOCAL\n"
    (place / "text.mha").write_text(text + " ".join(map(str, values.ravel())))
    ds = enhanced(
        place / "noplace.dcm", rng.integers(0, 99, (1, 6, 10, 12)).astype(np.uint16), tilted_space((12, 10, 6))
    )
    for groups in ds.PerFrameFunctionalGroupsSequence:
        del groups.PlanePositionSequence
    ds.save_as(place / "noplace.dcm")


def damaged(data: bytes, chance: random.Random) -> bytes:
    """The bytes cut, flipped, doubled, or with a number in the header made huge."""
    data = bytearray(data)
    kind = chance.randrange(5)
    if kind == 0:
        return bytes(data[: chance.randrange(len(data))])
    if kind == 1:
        for _ in range(chance.choice((1, 3, 20))):
            data[chance.randrange(len(data))] = chance.randrange(256)
    elif kind == 2:  # within the header, where it hurts most
        for _ in range(chance.choice((1, 2, 5))):
            data[chance.randrange(min(len(data), 512))] = chance.choice((0, 1, 127, 128, 255))
    elif kind == 3:
        at = chance.randrange(max(1, len(data) - 4))
        data[at : at + 4] = chance.choice(
            (b"\xff\xff\xff\x7f", b"\x00\x00\x00\x80", b"\xff\xff\xff\xff", b"\x00\x00\x01\x00")
        )
    else:
        at, length = chance.randrange(len(data)), chance.randrange(1, 200)
        data[at:at] = data[at : at + length]
    return bytes(data)


def read_all(path: Path) -> str:
    """Open a file by every way that applies; returns "read" or the sentence."""
    try:
        if path.name.startswith(("seg", "rt")):
            labels = read_dicom_labels(path, tilted_space((12, 10, 6)))
            return f"read {int(labels.counts[1:].sum())}"
        image = open_image(path)
        for index in list(image.indices())[:3]:
            image.frame(index).fetch(silent())
        display_range(image)
        plan_folder(path)
        return "read"
    except Trouble as trouble:
        assert str(trouble).endswith(".") and "Traceback" not in str(trouble)
        return str(trouble)


def run_all(place: Path, rounds: int) -> dict:
    """Damage and read every specimen; how many were read, how many refused, and what went wrong."""
    chance, found = random.Random(8), {"read": 0, "refused": 0, "wrong": []}
    (place / "sound").mkdir()
    (place / "work").mkdir()
    for specimen in specimens(place / "sound"):
        data = specimen.read_bytes()
        for n in range(rounds):
            path = place / "work" / specimen.name
            path.write_bytes(damaged(data, chance))
            try:
                said = read_all(path)
                found["read" if said.startswith("read") else "refused"] += 1
            except BaseException as error:  # anything but a sentence is what is looked for
                found["wrong"].append(f"{specimen.name} {n}: {type(error).__name__}: {error}"[:200])
            path.unlink()
    found["peak"] = (
        next(
            int(line.split()[1])
            for line in Path("/proc/self/status").read_text().splitlines()
            if line.startswith("VmHWM")
        )
        // 1024
    )
    found["outside"] = sorted(p.name for p in place.iterdir() if p.name not in ("sound", "work"))
    return found


class FuzzTest(PlaceCase):
    def test_damaged_files_are_a_sentence(self):
        # in a process of its own: a decoder that brings it down is seen, and its memory is its own
        ran = subprocess.run(
            [sys.executable, "-m", "tests.test_fuzz", str(self.place), str(ROUNDS)],
            capture_output=True,
            text=True,
            timeout=420,
        )
        self.assertEqual(ran.returncode, 0, ran.stderr[-2000:])
        found = json.loads(ran.stdout.strip().splitlines()[-1])
        self.assertEqual(found["wrong"], [])
        self.assertGreaterEqual(found["read"] + found["refused"], 2000 if ROUNDS >= 100 else 1)
        self.assertGreater(found["refused"], 0.3 * (found["read"] + found["refused"]))
        self.assertLess(found["peak"], 900)  # MB: the libraries themselves take about 300
        self.assertEqual(found["outside"], [])

    def test_damaged_zarr_folders(self):
        import shutil

        chance = random.Random(4)
        space = picture_space(40, 30, (0.1, 0.1))
        save_image(self.place / "z.ome.zarr", Image(np.zeros((40, 30, 1), np.uint16) + 7, space))
        for _n in range(120):
            shutil.rmtree(self.place / "w.ome.zarr", ignore_errors=True)
            shutil.copytree(self.place / "z.ome.zarr", self.place / "w.ome.zarr")
            victim = chance.choice(sorted(p for p in (self.place / "w.ome.zarr").rglob("*") if p.is_file()))
            victim.write_bytes(damaged(victim.read_bytes(), chance))
            try:
                open_image(self.place / "w.ome.zarr").fetch(silent())
            except Trouble as trouble:
                self.assertTrue(str(trouble).endswith("."))

    def test_an_array_outside_the_folder_is_not_followed(self):
        import zarr

        zarr.open_array(str(self.place / "secret"), mode="w", shape=(4, 4), dtype="u2")[:] = 9
        group = zarr.open_group(str(self.place / "t.zarr"), mode="w")
        axes = [{"name": n, "type": "space", "unit": "micrometer"} for n in "yx"]
        for path in ("../secret", str(self.place / "secret")):
            group.attrs["ome"] = {"version": "0.5", "multiscales": [{"axes": axes, "datasets": [{"path": path}]}]}
            with self.assertRaisesRegex(Trouble, "outside its own folder"):
                open_image(self.place / "t.zarr")
        (self.place / "t.zarr" / "link").symlink_to(self.place / "secret")
        group.attrs["ome"] = {"version": "0.5", "multiscales": [{"axes": axes, "datasets": [{"path": "link"}]}]}
        with self.assertRaisesRegex(Trouble, "outside its own folder"):
            open_image(self.place / "t.zarr")


if __name__ == "__main__" and len(sys.argv) == 3:
    import warnings

    warnings.simplefilter("ignore")
    print(json.dumps(run_all(Path(sys.argv[1]), int(sys.argv[2]))))
elif __name__ == "__main__":
    unittest.main()
