"""A colour ultrasound clip of the heart."""

from __future__ import annotations

import math
from pathlib import Path

import imagecodecs
import numpy as np
from pydicom.dataset import Dataset
from pydicom.encaps import encapsulate
from pydicom.sequence import Sequence
from pydicom.uid import JPEGBaseline8Bit, UltrasoundMultiFrameImageStorage
from scipy import ndimage

from ..burned_words import burn
from ..dicom_files import dataset_for, put_pixels, shuffled
from ..scene import Station, scene

KEEPER = "KEEPER R. ALDER"
BEATS_A_SECOND = 0.7
"""A dormouse's heart is slow in its winter sleep."""


def write_clip(folder: Path, subject: str, frames: int = 48, seed: int = 3) -> Path:
    """A colour ultrasound clip of the heart: a sector of speckle, two chambers that beat, flow in colour, and words
    burned in."""
    rng = np.random.default_rng(seed)
    rows, columns, centimetres = 360, 480, 0.006
    y, x = np.mgrid[:rows, :columns].astype(np.float32)
    depth, across = y - 24, x - columns / 2
    radius, angle = np.hypot(depth, across), np.arctan2(across, depth)
    sector = (np.abs(angle) < 0.62) & (radius < 315) & (radius > 12)
    # speckle of fully developed scatterers: the envelope of complex noise is Rayleigh (Burckhardt, IEEE Trans. Sonics
    # Ultrason. 25, 1978)
    scatter = [ndimage.gaussian_filter(rng.standard_normal((rows, columns)), (1.0, 2.2)) for _ in range(2)]
    speckle = np.hypot(*scatter) / np.std(scatter[0])
    layers = ndimage.gaussian_filter(rng.standard_normal((rows, columns)), (5, 14))
    layers = np.exp(0.7 * layers / layers.std()) * (0.5 + 0.9 * np.exp(-(((radius - 255) / 9) ** 2)))
    packed = []
    for n in range(frames):
        beat = 0.5 - 0.5 * math.cos(2 * math.pi * BEATS_A_SECOND * n / 12)
        tissue = 0.30 * np.exp(-radius / 300) * layers
        for cx, cy, a, b in ((-34, 168, 34, 56), (38, 160, 27, 46)):
            inside = np.hypot((across - cx) / (a * (1 - 0.22 * beat)), (depth - cy) / (b * (1 - 0.16 * beat)))
            wall = np.exp(-(((inside - 1.12) / 0.14) ** 2))
            tissue = np.where(inside < 1, 0.006, tissue) + 0.42 * wall
        moved = ndimage.shift(speckle, (1.5 * beat, 0), order=1, mode="nearest")
        level = np.clip(20 * np.log10(np.maximum(tissue * moved, 1e-4)) + 44, 0, 50) / 50 * 235
        picture = np.repeat(np.where(sector, level, 0)[..., None], 3, 2)
        flow = np.exp(-(((across + 34) / 15) ** 2) - ((depth - 200) / 34) ** 2) * (1 - beat)
        back = np.exp(-(((across - 38) / 12) ** 2) - ((depth - 190) / 28) ** 2) * beat
        picture += np.stack([230 * flow, 60 * flow, 235 * back], -1) * (
            sector[..., None] * np.clip(moved, 0.5, 1.3)[..., None]
        )
        picture = np.clip(picture, 0, 255).astype(np.uint8)
        burn(picture, f"{subject} DORMOUSE", 8, 8, (235, 235, 210))
        burn(picture, KEEPER, 28, 8, (235, 235, 210))
        burn(picture, "14.02.2031", 8, 350, (235, 235, 210))
        picture[60:340:28, 468:476] = (200, 200, 200)
        packed.append(
            imagecodecs.jpeg_encode(picture, level=90, colorspace="rgb", outcolorspace="ycbcr", subsampling="444")
        )
    ds = dataset_for(UltrasoundMultiFrameImageStorage, subject, "Heart clip", 5, 1)
    ds.Modality, ds.ImageType, ds.PatientOrientation = "US", ["ORIGINAL", "PRIMARY"], ""
    region = Dataset()
    region.RegionSpatialFormat, region.RegionDataType, region.RegionFlags = 1, 1, 0
    region.RegionLocationMinX0, region.RegionLocationMinY0, region.RegionLocationMaxX1, region.RegionLocationMaxY1 = (
        0,
        20,
        columns - 1,
        rows - 1,
    )
    region.PhysicalUnitsXDirection = region.PhysicalUnitsYDirection = 3
    region.PhysicalDeltaX = region.PhysicalDeltaY = centimetres
    ds.SequenceOfUltrasoundRegions = Sequence([region])
    ds.FrameTime, ds.FrameIncrementPointer, ds.BurnedInAnnotation = f"{1000 / 12:.6g}", 0x00181063, "YES"
    put_pixels(ds, np.zeros((frames, rows, columns, 3), np.uint8), "YBR_FULL")
    ds.LossyImageCompression, ds.file_meta.TransferSyntaxUID = "01", JPEGBaseline8Bit
    ds.PixelData = encapsulate(packed)
    ds["PixelData"].VR = "OB"
    ds["PixelData"].is_undefined_length = True
    return shuffled(ds, folder, rng, "clip")


@scene("Heart clip", 50)
def heart_clip(station: Station) -> None:
    write_clip(station.incoming, station.animal.name)
