"""A 4D MR series: how the front of the brain answers an odour."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from pydicom.uid import MRImageStorage, generate_uid
from scipy import ndimage

from ...core.space import Space
from ..animal import Animal
from ..dicom_files import dataset_for, place_on, put_pixels, shuffled
from ..scans import scan_mr
from ..scene import Station, scene


def odour_space() -> Space:
    """Grid of the odour run: 16 axial slices of 48 × 48, the uppermost first."""
    affine = np.diag([0.45, -0.45, -1.1, 1.0])
    affine[:3, 3] = (-10.6, 9.6, 10.0)
    return Space((48, 48, 16), affine)


def write_odour_run(folder: Path, animal: Animal, subject: str, times: int = 40, repeat: float = 1.4) -> list[Path]:
    """A 4D MR series, each volume a square of tiles in one file; the front of the brain answers in blocks of ten
    volumes."""
    rng = np.random.default_rng(animal.seed + 9)
    space = odour_space()
    base = ndimage.gaussian_filter(scan_mr(animal, space, 0.0).astype(np.float32), 0.5)
    i, j, k = np.indices(space.shape)
    x, y, z = (space.affine[n, n] * v + space.affine[n, 3] for n, v in enumerate((i, j, k)))
    answers = np.exp(-((x / 2.2) ** 2) - ((y - 6.5) / 1.6) ** 2 - ((z - 2.5) / 1.6) ** 2)
    paths = []
    timing = [float(v) for v in np.argsort(np.argsort([n % 2 * 100 + n for n in range(16)])) * 1000 * repeat / 16]
    for t in range(times):
        on = (t // 10) % 2
        noisy = [base * (1 + 0.03 * on * answers) + rng.normal(0, 9, space.shape), rng.normal(0, 9, space.shape)]
        volume = np.rint(np.hypot(*noisy)).astype(np.uint16)
        square = np.zeros((192, 192), np.uint16)
        for n in range(16):
            square[n // 4 * 48 : n // 4 * 48 + 48, n % 4 * 48 : n % 4 * 48 + 48] = volume[:, :, n].T
        ds = dataset_for(MRImageStorage, subject, "Odour run", 9, t + 1)
        ds.Modality, ds.ImageType, ds.PatientPosition = "MR", ["ORIGINAL", "PRIMARY", "M", "ND", "MOSAIC"], "HFP"
        ds.RepetitionTime, ds.EchoTime, ds.FlipAngle, ds.MagneticFieldStrength = f"{1000 * repeat:g}", "14", "60", "9.4"
        ds.ScanningSequence, ds.SequenceVariant, ds.MRAcquisitionType, ds.InPlanePhaseEncodingDirection = (
            "EP",
            "SK",
            "2D",
            "COL",
        )
        ds.AcquisitionNumber, ds.AcquisitionMatrix = t + 1, [48, 0, 0, 48]
        seconds = 9 * 3600 + 20 * 60 + repeat * t
        ds.AcquisitionTime = f"{int(seconds // 3600):02d}{int(seconds % 3600 // 60):02d}{seconds % 60:09.6f}"
        place_on(ds, space, 0)
        # the header of such a square gives the place of its corner as if the whole square were one slice
        axes = np.array([float(v) for v in ds.ImageOrientationPatient]).reshape(2, 3)
        corner = np.array([float(v) for v in ds.ImagePositionPatient]) + axes.sum(0) * 0.45 * (48 - 192) / 2
        ds.ImagePositionPatient = [f"{v:.8g}" for v in corner]
        ds.SpacingBetweenSlices = "1.1"
        block = ds.private_block(0x0019, "HOLLOWMERE MR HEADER", create=True)
        block.add_new(0x0A, "US", 16)
        block.add_new(0x28, "FD", 54.253)
        block.add_new(0x29, "FD", timing)
        put_pixels(ds, square)
        paths.append(shuffled(ds, folder, rng, f"o{generate_uid()[-6:]}{t:02d}"))
    return paths


@scene("Odour run", 40)
def odour_run(station: Station) -> None:
    write_odour_run(station.incoming, station.animal, station.animal.name)
