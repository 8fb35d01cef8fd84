"""Bringing data in and out: packed NIfTI, the plan of a folder of 20,000 files, removing identity from a clip of 1,000
pictures."""

from __future__ import annotations

import tempfile
from pathlib import Path

import nibabel
import numpy as np
import pydicom

from kestrelmist.core.space import Space
from kestrelmist.demo.dicom_files import dataset_for, put_pixels, write_series
from kestrelmist.demo.scans import head_ct_space
from kestrelmist.formats.nifti import read_nifti, save_nifti
from kestrelmist.gather.clean_header import Cleaner
from kestrelmist.gather.clean_pixels import PixelRule
from kestrelmist.gather.deidentify import deidentify_files
from kestrelmist.gather.identity_profile import Rules
from kestrelmist.gather.plan import plan_folder

from .row import Row, in_turn

FILES, CLIP = 20_000, 1000


def rows() -> list[Row]:
    with tempfile.TemporaryDirectory() as place:
        return [*_packed(Path(place)), _plan(Path(place) / "many"), _identity(Path(place))]


def _packed(place: Path) -> list[Row]:
    """A head CT, enlarged to 300 × 512 × 512, from a plain file to a packed one."""
    from scipy import ndimage

    from kestrelmist.demo.animal import make_animal
    from kestrelmist.demo.scans import scan_ct

    small = scan_ct(make_animal("bench", 3), head_ct_space(256, 150))
    values = ndimage.zoom(small, 2, order=1)
    values += np.random.default_rng(1).normal(0, 12, values.shape).astype(np.int16)
    affine = head_ct_space(512, 300).affine
    nibabel.save(nibabel.Nifti1Image(values, affine), place / "plain.nii")

    def ours():
        save_nifti(place / "ours.nii.gz", read_nifti(place / "plain.nii"))

    array = _values(place / "plain.nii")

    def baseline():
        nibabel.save(nibabel.Nifti1Image(array, affine), place / "theirs.nii.gz")

    mine, theirs = in_turn(ours, baseline, 2)
    assert np.array_equal(_values(place / "ours.nii.gz"), array)
    sizes = [(place / f"{n}.nii.gz").stat().st_size / 1e6 for n in ("ours", "theirs")]
    return [
        Row(
            "300 × 512 × 512 read and written as gz NIfTI",
            mine,
            theirs,
            "nibabel's own save of the array",
            "ratio ≤ 0.25",
            met=mine <= 0.25 * theirs,
        ),
        Row(
            "size of that file", sizes[0], sizes[1], "nibabel's", "ratio ≤ 1.15", "MB", met=sizes[0] <= 1.15 * sizes[1]
        ),
    ]


def _values(path: Path) -> np.ndarray:
    opened = nibabel.load(path)
    assert isinstance(opened, nibabel.Nifti1Image)
    return np.asarray(opened.dataobj)


def _plan(folder: Path) -> Row:
    space = Space((16, 16, 100), np.eye(4))
    values = np.zeros(space.shape, np.int16)
    for n in range(FILES // 100):
        write_series(folder, values, space, f"B-{n % 20:02d}", f"Series {n}", n + 1, seed=n)
    files = [p for p in folder.rglob("*") if p.is_file()]
    found = {}

    def ours():
        found["lines"] = plan_folder(folder)

    def baseline():
        for path in files:
            pydicom.dcmread(path, stop_before_pixels=True)

    mine, theirs = in_turn(ours, baseline, 2)
    assert len(found["lines"]) == FILES // 100 and sum(len(line.files) for line in found["lines"]) == FILES
    return Row(
        f"plan of {FILES:,} DICOM files ({FILES / mine:,.0f} files/s)",
        mine,
        theirs,
        "bare pydicom header loop",
        "ratio ≤ 0.5",
        met=mine <= 0.5 * theirs,
    )


def _identity(place: Path) -> Row:
    ds = dataset_for("1.2.840.10008.5.1.4.1.1.3.1", "B-01", "Clip", 1, 1)
    ds.Modality, ds.FrameTime, ds.FrameIncrementPointer = "US", "40", 0x00181063
    put_pixels(ds, np.random.default_rng(2).integers(0, 255, (CLIP, 300, 400), np.uint8))
    ds.save_as(place / "clip.dcm", enforce_file_format=True)
    count = {"n": 0}

    def ours():
        count["n"] += 1
        cleaner = Cleaner(Rules(), b"bench")
        deidentify_files(
            [place / "clip.dcm"],
            place / f"clean{count['n']}",
            cleaner,
            PixelRule("keep", (20, 40, 360, 240)),
            check_pixels=False,
        )

    def baseline():
        pydicom.dcmread(place / "clip.dcm").save_as(place / "copy.dcm")

    mine, theirs = in_turn(ours, baseline, 5)
    cleaned = pydicom.dcmread(place / "clean1" / "00001.dcm").pixel_array
    assert not cleaned[:, :40].any() and cleaned[:, 40:280, 20:380].any()
    return Row(
        f"identity off header and pixels of {CLIP:,} pictures",
        mine,
        theirs,
        "pydicom read and write alone",
        "ratio ≤ 1.3",
        met=mine <= 1.3 * theirs,
    )
