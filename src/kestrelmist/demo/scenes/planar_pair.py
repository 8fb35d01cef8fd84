"""A whole-body tracer picture of another animal, from two sides."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
from pydicom.dataset import Dataset
from pydicom.sequence import Sequence
from pydicom.uid import NuclearMedicineImageStorage
from scipy import ndimage

from ..dicom_files import dataset_for, put_pixels, shuffled
from ..scene import Station, scene


def write_planar_pair(folder: Path, subject: str) -> Path:
    """A whole-body tracer picture from the front and the back: two detectors, counts with Poisson noise."""
    rng = np.random.default_rng(8)
    rows, columns = 320, 128
    y, x = np.mgrid[:rows, :columns].astype(np.float32)
    x -= columns / 2 - 0.5

    def blob(cx, cy, a, b):
        return np.exp(-0.5 * (((x - cx) / a) ** 2 + ((y - cy) / b) ** 2))

    width = 15 + 15 * blob(0, 190, 1e9, 60) + 4 * blob(0, 60, 1e9, 28)
    body = (
        1
        / (1 + np.exp((np.abs(x) - width) / 1.6))
        * (1 / (1 + np.exp(-(y - 22) / 3)))
        * (1 / (1 + np.exp((y - 292) / 4)))
    )
    # organ: place, size, counts, depth below the front in cm
    organs = (
        (0, 128, 7, 9, 60, 0.9),
        (9, 172, 11, 8, 160, 0.7),
        (-11, 205, 5, 8, 120, 1.9),
        (11, 207, 5, 8, 110, 1.9),
        (0, 266, 8, 6, 240, 0.8),
    )
    frames = []
    for front in (True, False):
        counts = 6.0 * body
        for cx, cy, a, b, activity, deep in organs:
            path = deep if front else 2.8 - deep
            counts = counts + activity * math.exp(-0.15 * path) * blob(cx, cy, a, b)
        picture = rng.poisson(ndimage.gaussian_filter(counts, 2.2)).astype(np.uint16)
        frames.append(picture if front else picture[:, ::-1])
    ds = dataset_for(NuclearMedicineImageStorage, subject, "Tracer, whole body", 11, 1)
    ds.Modality, ds.ImageType, ds.PixelSpacing = "NM", ["ORIGINAL", "PRIMARY", "WHOLE BODY", "EMISSION"], ["0.4", "0.4"]
    ds.FrameIncrementPointer = [0x00540010, 0x00540020]
    ds.EnergyWindowVector, ds.DetectorVector, ds.NumberOfEnergyWindows, ds.NumberOfDetectors = [1, 1], [1, 2], 1, 2
    detectors = []
    for meaning, axes in (("Anterior", [1, 0, 0, 0, 0, -1]), ("Posterior", [-1, 0, 0, 0, 0, -1])):
        detector, view = Dataset(), Dataset()
        view.CodeValue, view.CodingSchemeDesignator, view.CodeMeaning = (
            ("255549009" if meaning == "Anterior" else "255551008"),
            "SCT",
            meaning,
        )
        detector.ViewCodeSequence, detector.CollimatorType, detector.ImageOrientationPatient = (
            Sequence([view]),
            "PARA",
            axes,
        )
        detectors.append(detector)
    ds.DetectorInformationSequence = Sequence(detectors)
    ds.ActualFrameDuration = 600000
    put_pixels(ds, np.stack(frames))
    return shuffled(ds, folder, rng, "planar")


@scene("Tracer picture", 60)
def planar_pair(station: Station) -> None:
    write_planar_pair(station.incoming, "HM-08")
