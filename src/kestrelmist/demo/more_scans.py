"""Scans of other kinds: a colour ultrasound clip, radiographs, an odour run as tiled volumes, a planar pair, a section."""

from __future__ import annotations

import math
from pathlib import Path

import imagecodecs
import numpy as np
from pydicom.dataset import Dataset
from pydicom.encaps import encapsulate
from pydicom.sequence import Sequence
from pydicom.uid import (DigitalXRayImageStorageForPresentation, JPEGBaseline8Bit, MRImageStorage, NuclearMedicineImageStorage,
                         UltrasoundMultiFrameImageStorage, generate_uid)
from scipy import ndimage

from ..core.axis import Axis
from ..core.image import Image
from ..core.space import Space, picture_space
from ..formats.tiff_write import save_ome_tiff
from .animal import Animal
from .burned_words import burn
from .dicom_files import dataset_for, place_on, put_pixels, shuffled
from .scans import scan_mr

KEEPER = "KEEPER R. ALDER"
BEATS_A_SECOND = 0.7
"""A dormouse's heart is slow in its winter sleep."""


def write_clip(folder: Path, subject: str, frames: int = 48, seed: int = 3) -> Path:
    """A colour ultrasound clip of the heart: a sector of speckle, two chambers that beat, flow in colour, and words burned in."""
    rng = np.random.default_rng(seed)
    rows, columns, centimetres = 360, 480, 0.006
    y, x = np.mgrid[:rows, :columns].astype(np.float32)
    depth, across = y - 24, x - columns / 2
    radius, angle = np.hypot(depth, across), np.arctan2(across, depth)
    sector = (np.abs(angle) < 0.62) & (radius < 315) & (radius > 12)
    # speckle of fully developed scatterers: the envelope of complex noise is Rayleigh (Burckhardt, IEEE Trans. Sonics Ultrason. 25, 1978)
    scatter = [ndimage.gaussian_filter(rng.standard_normal((rows, columns)), (1.0, 2.2)) for _ in range(2)]
    speckle = np.hypot(*scatter) / np.std(scatter[0])
    layers = ndimage.gaussian_filter(rng.standard_normal((rows, columns)), (5, 14))
    layers = np.exp(0.7 * layers / layers.std()) * (0.5 + 0.9 * np.exp(-((radius - 255) / 9) ** 2))
    packed = []
    for n in range(frames):
        beat = 0.5 - 0.5 * math.cos(2 * math.pi * BEATS_A_SECOND * n / 12)
        tissue = 0.30 * np.exp(-radius / 300) * layers
        for cx, cy, a, b in ((-34, 168, 34, 56), (38, 160, 27, 46)):
            inside = np.hypot((across - cx) / (a * (1 - 0.22 * beat)), (depth - cy) / (b * (1 - 0.16 * beat)))
            wall = np.exp(-((inside - 1.12) / 0.14) ** 2)
            tissue = np.where(inside < 1, 0.006, tissue) + 0.42 * wall
        moved = ndimage.shift(speckle, (1.5 * beat, 0), order=1, mode="nearest")
        level = np.clip(20 * np.log10(np.maximum(tissue * moved, 1e-4)) + 44, 0, 50) / 50 * 235
        picture = np.repeat(np.where(sector, level, 0)[..., None], 3, 2)
        flow = np.exp(-((across + 34) / 15) ** 2 - ((depth - 200) / 34) ** 2) * (1 - beat)
        back = np.exp(-((across - 38) / 12) ** 2 - ((depth - 190) / 28) ** 2) * beat
        picture += np.stack([230 * flow, 60 * flow, 235 * back], -1) * (sector[..., None] * np.clip(moved, 0.5, 1.3)[..., None])
        picture = np.clip(picture, 0, 255).astype(np.uint8)
        burn(picture, f"{subject} DORMOUSE", 8, 8, (235, 235, 210))
        burn(picture, KEEPER, 28, 8, (235, 235, 210))
        burn(picture, "14.02.2031", 8, 350, (235, 235, 210))
        picture[60:340:28, 468:476] = (200, 200, 200)
        packed.append(imagecodecs.jpeg_encode(picture, level=90, colorspace="rgb", outcolorspace="ycbcr", subsampling="444"))
    ds = dataset_for(UltrasoundMultiFrameImageStorage, subject, "Heart clip", 5, 1)
    ds.Modality, ds.ImageType, ds.PatientOrientation = "US", ["ORIGINAL", "PRIMARY"], ""
    region = Dataset()
    region.RegionSpatialFormat, region.RegionDataType, region.RegionFlags = 1, 1, 0
    region.RegionLocationMinX0, region.RegionLocationMinY0, region.RegionLocationMaxX1, region.RegionLocationMaxY1 = 0, 20, columns - 1, rows - 1
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


def write_radiographs(folder: Path, ct: np.ndarray, space: Space, subject: str) -> list[Path]:
    """Two projections of the head CT: from above, dense bone bright, and from the left, dense bone dark (MONOCHROME1).

    Rays run in parallel; attenuation follows Lambert–Beer with 0.05 a mm for water, and counts are Poisson.
    """
    rng = np.random.default_rng(5)
    thickness = space.spacing
    attenuation = 0.05 * np.maximum(ct.astype(np.float32) / 1000 + 1, 0)
    # grid axes of the head CT: i to the right, j down, k to the front
    shots = (("Head from above", attenuation.sum(1).T[::-1] * thickness[1], (thickness[2], thickness[0]), ["R", "P"], "MONOCHROME2"),
             ("Head from the left", attenuation.sum(0) * thickness[0], (thickness[1], thickness[2]), ["A", "F"], "MONOCHROME1"))
    paths = []
    for n, (description, path_length, spacing, sides, photometric) in enumerate(shots):
        counts = rng.poisson(2e4 * np.exp(-path_length)).astype(np.float32)
        density = -np.log(np.maximum(counts, 1) / 2e4)
        stored = np.clip(density / 3.0, 0, 1) * 4000
        ds = dataset_for(DigitalXRayImageStorageForPresentation, subject, description, 7 + n, 1)
        ds.Modality, ds.ImageType, ds.PatientOrientation = "DX", ["ORIGINAL", "PRIMARY"], sides
        ds.ImagerPixelSpacing = [f"{s:.6g}" for s in spacing]
        ds.BodyPartExamined, ds.BurnedInAnnotation = "HEAD", "NO"
        put_pixels(ds, np.rint(4000 - stored if photometric == "MONOCHROME1" else stored).astype(np.uint16), photometric)
        ds.BitsStored, ds.HighBit = 12, 11
        paths.append(shuffled(ds, folder, rng, f"xray{n + 1}"))
    return paths


def odour_space() -> Space:
    """Grid of the odour run: 16 axial slices of 48 × 48, the uppermost first."""
    affine = np.diag([0.45, -0.45, -1.1, 1.0])
    affine[:3, 3] = (-10.6, 9.6, 10.0)
    return Space((48, 48, 16), affine)


def write_odour_run(folder: Path, animal: Animal, subject: str, times: int = 40, repeat: float = 1.4) -> list[Path]:
    """A 4D MR series, each volume a square of tiles in one file; the front of the brain answers in blocks of ten volumes."""
    rng = np.random.default_rng(animal.seed + 9)
    space = odour_space()
    base = ndimage.gaussian_filter(scan_mr(animal, space, 0.0).astype(np.float32), 0.5)
    i, j, k = np.indices(space.shape)
    x, y, z = (space.affine[n, n] * v + space.affine[n, 3] for n, v in enumerate((i, j, k)))
    answers = np.exp(-(x / 2.2) ** 2 - ((y - 6.5) / 1.6) ** 2 - ((z - 2.5) / 1.6) ** 2)
    paths = []
    timing = [float(v) for v in np.argsort(np.argsort([n % 2 * 100 + n for n in range(16)])) * 1000 * repeat / 16]
    for t in range(times):
        on = (t // 10) % 2
        noisy = [base * (1 + 0.03 * on * answers) + rng.normal(0, 9, space.shape), rng.normal(0, 9, space.shape)]
        volume = np.rint(np.hypot(*noisy)).astype(np.uint16)
        square = np.zeros((192, 192), np.uint16)
        for n in range(16):
            square[n // 4 * 48:n // 4 * 48 + 48, n % 4 * 48:n % 4 * 48 + 48] = volume[:, :, n].T
        ds = dataset_for(MRImageStorage, subject, "Odour run", 9, t + 1)
        ds.Modality, ds.ImageType, ds.PatientPosition = "MR", ["ORIGINAL", "PRIMARY", "M", "ND", "MOSAIC"], "HFP"
        ds.RepetitionTime, ds.EchoTime, ds.FlipAngle, ds.MagneticFieldStrength = f"{1000 * repeat:g}", "14", "60", "9.4"
        ds.ScanningSequence, ds.SequenceVariant, ds.MRAcquisitionType, ds.InPlanePhaseEncodingDirection = "EP", "SK", "2D", "COL"
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


def write_planar_pair(folder: Path, subject: str) -> Path:
    """A whole-body tracer picture from the front and the back: two detectors, counts with Poisson noise."""
    rng = np.random.default_rng(8)
    rows, columns = 320, 128
    y, x = np.mgrid[:rows, :columns].astype(np.float32)
    x -= columns / 2 - 0.5

    def blob(cx, cy, a, b):
        return np.exp(-0.5 * (((x - cx) / a) ** 2 + ((y - cy) / b) ** 2))

    width = 15 + 15 * blob(0, 190, 1e9, 60) + 4 * blob(0, 60, 1e9, 28)
    body = 1 / (1 + np.exp((np.abs(x) - width) / 1.6)) * (1 / (1 + np.exp(-(y - 22) / 3))) * (1 / (1 + np.exp((y - 292) / 4)))
    # organ: place, size, counts, depth below the front in cm
    organs = ((0, 128, 7, 9, 60, 0.9), (9, 172, 11, 8, 160, 0.7), (-11, 205, 5, 8, 120, 1.9), (11, 207, 5, 8, 110, 1.9), (0, 266, 8, 6, 240, 0.8))
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
        view.CodeValue, view.CodingSchemeDesignator, view.CodeMeaning = ("399348003" if meaning == "Anterior" else "255561001"), "SCT", meaning
        detector.ViewCodeSequence, detector.CollimatorType, detector.ImageOrientationPatient = Sequence([view]), "PARA", axes
        detectors.append(detector)
    ds.DetectorInformationSequence = Sequence(detectors)
    ds.ActualFrameDuration = 600000
    put_pixels(ds, np.stack(frames))
    return shuffled(ds, folder, rng, "planar")


def section(seed: int = 12, side: int = 1536) -> tuple[np.ndarray, int]:
    """A brown-fat section, two channels [channel, row, column] uint16 (lipid, nuclei), and how many nuclei it shows."""
    rng = np.random.default_rng(seed)
    cells = []
    for _ in range(6000):  # cell centres no closer than a cell's width
        at = rng.uniform(20, side - 20, 2)
        if not cells or np.min(np.hypot(*(np.array(cells) - at).T)) > 52:
            cells.append(at)
    lipid, nuclei = np.zeros((side, side), np.float32), np.zeros((side, side), np.float32)

    def add(target, at, radii, height, turn=0.0, soft=1.6):
        reach = int(max(radii) + 5)
        if not (0 <= at[0] < side and 0 <= at[1] < side):
            return
        top, left = (max(int(v) - reach, 0) for v in at)
        y, x = np.mgrid[top:min(int(at[0]) + reach, side), left:min(int(at[1]) + reach, side)] - np.array(at)[:, None, None]
        u, v = y * math.cos(turn) + x * math.sin(turn), x * math.cos(turn) - y * math.sin(turn)
        far = (np.hypot(u / radii[0], v / radii[1]) - 1) * min(radii)
        part = height / (1 + np.exp(np.clip(far / soft, -40, 40)))
        block = target[top:top + y.shape[0], left:left + y.shape[1]]
        np.maximum(block, part, out=block)

    for at in cells:
        for _ in range(int(rng.integers(14, 30))):
            add(lipid, at + rng.normal(0, 15, 2), [rng.uniform(2.2, 7.5)] * 2, rng.uniform(0.55, 1.0))
        add(nuclei, at + rng.normal(0, 4, 2), rng.uniform((6.5, 8.0), (8.5, 11.0)), rng.uniform(0.6, 1.0), rng.uniform(0, np.pi), 1.2)
    lipid *= 1 - 0.9 * np.minimum(nuclei, 1)
    texture = ndimage.gaussian_filter(rng.standard_normal((side, side)), 1.5)
    nuclei *= 1 + 0.12 * texture / texture.std()
    y, x = np.mgrid[-1:1:side * 1j, -1:1:side * 1j]
    light = 1 - 0.25 * (x**2 + y**2)
    clean = np.stack([120 + 3400 * ndimage.gaussian_filter(lipid, 0.8), 90 + 2600 * ndimage.gaussian_filter(nuclei, 0.8)]) * light
    counts = rng.poisson(clean / 4) * 4 + rng.normal(0, 8, clean.shape)
    return np.clip(np.rint(counts), 0, 65535).astype(np.uint16), len(cells)


def write_section(path: Path) -> int:
    """The section as OME-TIFF, 0.5 µm a pixel; returns how many nuclei it shows."""
    values, count = section()
    side = values.shape[1]
    image = Image(values.transpose(2, 1, 0)[:, :, None, :], picture_space(side, side, (0.0005, 0.0005)), "Brown fat, section 3",
                  axes=(Axis("channel", 2, labels=("lipid", "nuclei")),))
    save_ome_tiff(path, image)
    return count
