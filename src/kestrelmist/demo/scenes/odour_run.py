"""A 4D MR series: how the front of the brain answers an odour, with its single volume and its field map."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from pydicom.uid import MRImageStorage, generate_uid

from ...core.space import Space
from ..animal import Animal
from ..dicom_files import dataset_for, place_on, put_pixels, shuffled
from ..functional_files import write_truth_of_run
from ..functional_run import ECHO, MAP_ECHOES, REPEAT, SPACING, FunctionalRun, slice_times
from ..off_resonance import FIELD_STRENGTH
from ..scene import Station, scene

START = 9 * 3600 + 20 * 60
"""When the first volume is taken, s of the day."""


def write_odour_run(folder: Path, animal: Animal, subject: str, times: int = 40) -> list[Path]:
    """A 4D MR series, each volume a square of tiles in one file; the front of the brain answers in blocks of five
    volumes."""
    return write_squares(folder, FunctionalRun(animal, times), subject)


def write_squares(folder: Path, run: FunctionalRun, subject: str) -> list[Path]:
    """The volumes of a run, a file each."""
    volumes = (run.volume(n) for n in range(run.times))
    return [_square(folder, run, subject, "Odour run", 9, n, values) for n, values in enumerate(volumes)]


def _square(folder: Path, run: FunctionalRun, subject: str, what: str, number: int, n: int, volume: np.ndarray) -> Path:
    columns, rows, slices = run.space.shape
    across = int(np.ceil(np.sqrt(slices)))
    square = np.zeros((across * rows, across * columns), np.uint16)
    for k in range(slices):
        top, left = k // across * rows, k % across * columns
        square[top : top + rows, left : left + columns] = volume[:, :, k].T
    ds = _mr(subject, what, number, n + 1, ["ORIGINAL", "PRIMARY", "M", "ND", "MOSAIC"], ECHO)
    ds.RepetitionTime, ds.FlipAngle = f"{1000 * REPEAT:g}", "60"
    ds.ScanningSequence, ds.SequenceVariant, ds.InPlanePhaseEncodingDirection = "EP", "SK", "COL"
    ds.AcquisitionNumber, ds.AcquisitionMatrix = n + 1, [columns, 0, 0, rows]
    seconds = START + REPEAT * n - (60 if number == 8 else 0)
    ds.AcquisitionTime = f"{int(seconds // 3600):02d}{int(seconds % 3600 // 60):02d}{seconds % 60:09.6f}"
    place_on(ds, run.space, 0)
    # the header of such a square gives the place of its corner as if the whole square were one slice
    axes = np.array([float(v) for v in ds.ImageOrientationPatient]).reshape(2, 3)
    half = (1 - across) / 2 * np.array([run.space.spacing[0] * columns, run.space.spacing[1] * rows])
    corner = np.array([float(v) for v in ds.ImagePositionPatient]) + half @ axes
    ds.ImagePositionPatient = [f"{v:.8g}" for v in corner]
    ds.SpacingBetweenSlices = f"{run.space.spacing[2]:g}"
    block = ds.private_block(0x0019, "HOLLOWMERE MR HEADER", create=True)
    block.add_new(0x0A, "US", slices)
    block.add_new(0x28, "FD", round(1 / (SPACING * rows), 3))
    block.add_new(0x29, "FD", [float(1000 * t) for t in slice_times(slices)])
    put_pixels(ds, square)
    return shuffled(ds, folder, run.rng, f"o{generate_uid()[-6:]}{number}{n:02d}")


def write_field_map(folder: Path, run: FunctionalRun, subject: str) -> None:
    """Two magnitudes and one phase difference, a file a slice."""
    sizes, _, difference = run.field_map()
    for n, (echo, values) in enumerate(zip(MAP_ECHOES, sizes)):
        _slices(folder, run, subject, ("Field map", 10, "M"), echo, n + 1, values)
    _slices(folder, run, subject, ("Field map, phase difference", 11, "P"), MAP_ECHOES[1], 2, difference)


def _slices(folder: Path, run: FunctionalRun, subject: str, what, echo: float, number: int, values: np.ndarray) -> None:
    name, series, component = what
    space: Space = run.map_space
    for k in range(space.shape[2]):
        instance = k + 1 + (number - 1) * space.shape[2]
        ds = _mr(subject, name, series, instance, ["ORIGINAL", "PRIMARY", component, "ND"], echo)
        ds.RepetitionTime, ds.FlipAngle = "320", "35"
        ds.ScanningSequence, ds.SequenceVariant = "GR", "SP"
        place_on(ds, space, k)
        if component == "P":  # kept in twelve bits
            put_pixels(ds, ((values[:, :, k].T.astype(np.int32) + 4096) // 2).astype(np.uint16))
            ds.RescaleSlope, ds.RescaleIntercept, ds.RescaleType = "2", "-4096", "US"
        else:
            put_pixels(ds, values[:, :, k].T)
        shuffled(ds, folder, run.rng, f"f{generate_uid()[-6:]}{series}{number}{k:02d}")


def _mr(subject: str, what: str, number: int, instance: int, kind: list[str], echo: float):
    ds = dataset_for(MRImageStorage, subject, what, number, instance)
    ds.Modality, ds.ImageType, ds.PatientPosition = "MR", kind, "HFP"
    ds.EchoTime, ds.MagneticFieldStrength, ds.MRAcquisitionType = f"{1000 * echo:g}", f"{FIELD_STRENGTH:g}", "2D"
    return ds


@scene("Odour run", 40)
def odour_run(station: Station) -> None:
    subject = station.animal.name
    write_squares(station.incoming, station.run, subject)
    _square(station.incoming, station.run, subject, "Odour run, single volume", 8, 0, station.run.reference())
    write_field_map(station.incoming, station.run, subject)
    write_truth_of_run(station.folder / "truth" / "odour run", station.run)
