"""Radiographs of the head: two without a source of their own, and one with a marker of known size."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from pydicom.uid import DigitalXRayImageStorageForPresentation

from ...core.space import Space
from ..dicom_files import dataset_for, put_pixels, shuffled
from ..scene import Station, scene

BALL, MAGNIFIED = 3.0, 1.18
"""Diameter of the marker, mm, and how much larger things are at the detector."""


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
    return [*paths, _with_marker(folder, shots[0], subject, rng)]


def _with_marker(folder: Path, shot: tuple, subject: str, rng: np.random.Generator) -> Path:
    """The first of them as rays see it that come from a point: all is `MAGNIFIED` at the detector, and a steel ball of
    `BALL` mm lies beside the head, in the plane of its middle."""
    _, path_length, spacing, sides, photometric = shot
    rows, columns = path_length.shape
    wide = np.zeros((rows, columns + int(2.5 * BALL / spacing[1])), np.float32)
    wide[:, :columns] = path_length
    v, u = np.indices(wide.shape)
    x = (u - wide.shape[1] + 1.2 * BALL / spacing[1]) * spacing[1]
    y = (v - rows * 0.6) * spacing[0]
    away = (BALL / 2 - np.hypot(x, y)) / max(spacing)
    density = -np.log(np.maximum(rng.poisson(2e4 * np.exp(-wide)), 1) / 2e4)
    density = density * np.clip(0.5 - away, 0, 1) + 2.7 * np.clip(0.5 + away, 0, 1)  # steel lets nothing through
    ds = dataset_for(DigitalXRayImageStorageForPresentation, subject, "Head with a marker", 9, 1)
    ds.Modality, ds.ImageType, ds.PatientOrientation = "DX", ["ORIGINAL", "PRIMARY"], sides
    ds.ImagerPixelSpacing = [f"{MAGNIFIED * s:.6g}" for s in spacing]
    ds.BodyPartExamined, ds.BurnedInAnnotation = "HEAD", "NO"
    put_pixels(ds, np.rint(np.clip(density / 3.0, 0, 1) * 4000).astype(np.uint16), photometric)
    ds.BitsStored, ds.HighBit = 12, 11
    return shuffled(ds, folder, rng, "xray3")


@scene("Radiographs", 15)
def radiographs(station: Station) -> None:
    write_radiographs(station.incoming, station.head_ct, station.ct_space, station.animal.name)
    station.truth["marker"] = {"ball_mm": BALL, "magnified": MAGNIFIED}
