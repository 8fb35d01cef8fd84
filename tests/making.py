"""Small images, label maps, DICOM folders and studies for the tests."""

from __future__ import annotations

import atexit
import os
import shutil
import tempfile
import unittest
from functools import cache
from pathlib import Path

import numpy as np

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.progress import silent
from kestrelmist.core.space import Space
from kestrelmist.demo.dicom_files import write_series
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.gather.gather import chosen_lines
from kestrelmist.study.keeping import keep, keep_image, step_of
from kestrelmist.study.store import store_for
from kestrelmist.study.study import Study
from kestrelmist.study.task import Made, Task


def tilted_space(shape=(20, 24, 16), spacing=(0.5, 0.4, 0.7), degrees=20.0) -> Space:
    """A grid turned about the up axis, with one axis flipped."""
    a = np.radians(degrees)
    turn = np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]]) @ np.diag([1, -1, 1])
    affine = np.eye(4)
    affine[:3, :3] = turn * np.array(spacing)
    affine[:3, 3] = (3.0, -2.0, 7.5)
    return Space(shape, affine)


def straight_space(shape=(40, 36, 32), spacing=0.5) -> Space:
    """A grid along the world's axes with its centre at the origin."""
    affine = np.diag([spacing, spacing, spacing, 1.0])
    affine[:3, 3] = -spacing * (np.array(shape) - 1) / 2
    return Space(shape, affine)


def two_balls(space: Space | None = None, unit: str = "HU") -> Image:
    """Two balls of 1000 HU (radius 4 mm at x = −4 and 3 mm at x = +4) joined by a rod of radius 0.8 mm, in 0 HU."""
    space = space or straight_space()
    i = np.indices(space.shape).reshape(3, -1).T
    x, y, z = space.to_world(i).T
    inside = (
        ((x + 4) ** 2 + y**2 + z**2 <= 16)
        | ((x - 4) ** 2 + y**2 + z**2 <= 9)
        | ((np.abs(x) <= 4) & (y**2 + z**2 <= 0.64))
    )
    return Image(np.where(inside, 1000, 0).astype(np.int16).reshape(space.shape), space, "Two balls", "T-1", "CT", unit)


def labelled(image: Image, *names: str) -> LabelMap:
    """An empty label map on an image, with a table."""
    table = LabelTable()
    for name in names:
        table, _ = table.with_new(name)
    return LabelMap(image.space, table=table, subject=image.subject)


def dicom_folder(place: Path, image: Image, description: str = "Two balls", number: int = 2) -> list[Path]:
    """The image as shuffled, nested single-slice DICOM files; returned in the order of the slices."""
    return write_series(place, image.data, image.space, image.subject, description, number)


def opened(folder: Path, series: str | None = None, subject: str | None = None, along: str = "time") -> list[Image]:
    """The images of a folder, as gathering reads them."""
    lines = [line for line in chosen_lines(folder, series, subject) if line.is_image]
    for line in lines:
        line.along = along
    return [line.open() for line in lines]


@cache
def _balls() -> Path:
    """A folder with the two balls as scans, and a study that has taken them in."""
    made = Path(tempfile.mkdtemp(dir=os.environ.get("KESTRELMIST_HOME")))
    atexit.register(shutil.rmtree, made, ignore_errors=True)
    dicom_folder(made / "scans", two_balls())
    with Study(made / "study", create=True) as study:
        study.run("gather", folder=made / "scans")
    return made


class PlaceCase(unittest.TestCase):
    """A test with a folder of its own."""

    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.place = Path(holder.name)

    def study_with_balls(self) -> Study:
        """A study with the two balls on the Shelf; made once, and copied for each test."""
        shutil.copytree(_balls(), self.place, dirs_exist_ok=True)
        return Study(self.place / "study")

    def nifti(self, image: Image, name: str = "balls.nii.gz") -> Path:
        write_nifti(self.place / name, image.data, image.space)
        return self.place / name


def keep_thing(study, thing) -> int:
    """Take an image or a transform into a study as it is, without a file; returns its id."""
    task = Task("gather" if isinstance(thing, Image) else "open-transform", {}, {})
    if isinstance(thing, Image):
        return keep_image(study, thing, step_of(task))[0]
    prepared = store_for("transform").prepare(study, thing, silent())
    return keep(study, task, Made({"transform": thing}, {"transform": [prepared]}))["transform"]
