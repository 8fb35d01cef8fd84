"""Two radiographs of the head."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from pydicom.uid import DigitalXRayImageStorageForPresentation

from ...core.space import Space
from ..dicom_files import dataset_for, put_pixels, shuffled
from ..scene import Station, scene


def write_radiographs(folder: Path, ct: np.ndarray, space: Space, subject: str) -> list[Path]:
    """Two projections of the head CT: from above, dense bone bright, and from the left, dense bone dark (MONOCHROME1).

    Rays run in parallel; attenuation follows Lambert–Beer with 0.05 a mm for water, and counts are Poisson.
    """
    rng = np.random.default_rng(5)
    thickness = space.spacing
    attenuation = 0.05 * np.maximum(ct.astype(np.float32) / 1000 + 1, 0)
    # grid axes of the head CT: i to the right, j down, k to the front
    shots = (
        (
            "Head from above",
            attenuation.sum(1).T[::-1] * thickness[1],
            (thickness[2], thickness[0]),
            ["R", "P"],
            "MONOCHROME2",
        ),
        (
            "Head from the left",
            attenuation.sum(0) * thickness[0],
            (thickness[1], thickness[2]),
            ["A", "F"],
            "MONOCHROME1",
        ),
    )
    paths = []
    for n, (description, path_length, spacing, sides, photometric) in enumerate(shots):
        counts = rng.poisson(2e4 * np.exp(-path_length)).astype(np.float32)
        density = -np.log(np.maximum(counts, 1) / 2e4)
        stored = np.clip(density / 3.0, 0, 1) * 4000
        ds = dataset_for(DigitalXRayImageStorageForPresentation, subject, description, 7 + n, 1)
        ds.Modality, ds.ImageType, ds.PatientOrientation = "DX", ["ORIGINAL", "PRIMARY"], sides
        ds.ImagerPixelSpacing = [f"{s:.6g}" for s in spacing]
        ds.BodyPartExamined, ds.BurnedInAnnotation = "HEAD", "NO"
        put_pixels(
            ds, np.rint(4000 - stored if photometric == "MONOCHROME1" else stored).astype(np.uint16), photometric
        )
        ds.BitsStored, ds.HighBit = 12, 11
        paths.append(shuffled(ds, folder, rng, f"xray{n + 1}"))
    return paths


@scene("Radiographs", 15)
def radiographs(station: Station) -> None:
    write_radiographs(station.incoming, station.head_ct, station.ct_space, station.animal.name)
