"""DICOM data sets of many kinds for the tests."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pydicom
from pydicom.dataset import Dataset
from pydicom.sequence import Sequence
from pydicom.uid import generate_uid

from kestrelmist.core.space import Space
from kestrelmist.demo.dicom_files import dataset_for, place_on, put_pixels
from tests.making import tilted_space

MR, CT, SC, ENHANCED_MR = (
    "1.2.840.10008.5.1.4.1.1.4",
    "1.2.840.10008.5.1.4.1.1.2",
    "1.2.840.10008.5.1.4.1.1.7",
    "1.2.840.10008.5.1.4.1.1.4.1",
)
SEGMENTATION, STRUCTURES = "1.2.840.10008.5.1.4.1.1.66.4", "1.2.840.10008.5.1.4.1.1.481.3"


def one(
    path: Path,
    pixels: np.ndarray,
    modality="MR",
    sop=MR,
    photometric="MONOCHROME2",
    space: Space | None = None,
    k=0,
    description="Made",
    number=1,
    instance=1,
    **elements,
) -> Dataset:
    """A file with some pixels; with a space it gets the place of slice k. Other elements by keyword; None leaves one
    out."""
    ds = dataset_for(sop, "T-5", description, number, instance)
    ds.Modality, ds.ImageType = modality, ["ORIGINAL", "PRIMARY", "OTHER"]
    if space is not None:
        place_on(ds, space, k)
    put_pixels(ds, pixels, photometric)
    for name, value in elements.items():
        setattr(ds, name, value)
    path.parent.mkdir(parents=True, exist_ok=True)
    ds.save_as(path, enforce_file_format=True)
    return ds


def item(**elements) -> Dataset:
    ds = Dataset()
    for name, value in elements.items():
        setattr(
            ds, name, Sequence(value) if isinstance(value, list) and value and isinstance(value[0], Dataset) else value
        )
    return ds


def enhanced(path: Path, volumes: np.ndarray, space: Space, order=None, stacks=1, **shared) -> Dataset:
    """An enhanced multi-frame MR file of volumes [t, k, row, column], frames in any `order`, with per-frame
    positions."""
    times, depth = volumes.shape[:2]
    frames = [(t, k) for t in range(times) for k in range(depth)]
    frames = [frames[n] for n in (order if order is not None else range(len(frames)))]
    ds = dataset_for(ENHANCED_MR, "T-5", "Enhanced", 4, 1)
    ds.Modality, ds.ImageType = "MR", ["ORIGINAL", "PRIMARY", "OTHER", "M"]
    put_pixels(ds, np.stack([volumes[t, k] for t, k in frames]))
    plane = Dataset()
    place_on(plane, space, 0)
    ds.SharedFunctionalGroupsSequence = Sequence(
        [
            item(
                PixelMeasuresSequence=[item(PixelSpacing=plane.PixelSpacing, SliceThickness=plane.SliceThickness)],
                PlaneOrientationSequence=[item(ImageOrientationPatient=plane.ImageOrientationPatient)],
                PixelValueTransformationSequence=[item(RescaleSlope="2", RescaleIntercept="-5", RescaleType="US")],
                **shared,
            )
        ]
    )
    own = []
    for t, k in frames:
        place_on(plane, space, k)
        content = item(StackID=str(1 + k * stacks // depth), InStackPositionNumber=k + 1, TemporalPositionIndex=t + 1)
        own.append(
            item(
                PlanePositionSequence=[item(ImagePositionPatient=plane.ImagePositionPatient)],
                FrameContentSequence=[content],
            )
        )
    ds.PerFrameFunctionalGroupsSequence = Sequence(own)
    for name in ("PixelSpacing", "ImagePositionPatient", "ImageOrientationPatient"):
        if name in ds:
            delattr(ds, name)
    ds.save_as(path, enforce_file_format=True)
    return ds


def segmentation(path: Path, masks: dict[str, np.ndarray], space: Space, series_uid: str, frame_uid: str) -> None:
    """A binary segmentation object: masks [i, j, k] by name, empty planes left out."""
    ds = dataset_for(SEGMENTATION, "T-5", "Outlines", 8, 1)
    ds.Modality, ds.ImageType, ds.SegmentationType, ds.FrameOfReferenceUID = (
        "SEG",
        ["DERIVED", "PRIMARY"],
        "BINARY",
        frame_uid,
    )
    ds.SegmentSequence = Sequence(
        [item(SegmentNumber=n, SegmentLabel=name, SegmentAlgorithmType="MANUAL") for n, name in enumerate(masks, 1)]
    )
    plane, own, bits = Dataset(), [], []
    place_on(plane, space, 0)
    for n, mask in enumerate(masks.values(), 1):
        for k in range(space.shape[2]):
            if mask[:, :, k].any():
                place_on(plane, space, k)
                bits.append(mask[:, :, k].T)
                own.append(
                    item(
                        PlanePositionSequence=[item(ImagePositionPatient=plane.ImagePositionPatient)],
                        SegmentIdentificationSequence=[item(ReferencedSegmentNumber=n)],
                    )
                )
    ds.SharedFunctionalGroupsSequence = Sequence(
        [
            item(
                PixelMeasuresSequence=[item(PixelSpacing=plane.PixelSpacing, SliceThickness=plane.SliceThickness)],
                PlaneOrientationSequence=[item(ImageOrientationPatient=plane.ImageOrientationPatient)],
            )
        ]
    )
    ds.PerFrameFunctionalGroupsSequence = Sequence(own)
    ds.ReferencedSeriesSequence = Sequence([item(SeriesInstanceUID=series_uid)])
    ds.NumberOfFrames, ds.Rows, ds.Columns, ds.SamplesPerPixel, ds.PhotometricInterpretation = (
        len(bits),
        space.shape[1],
        space.shape[0],
        1,
        "MONOCHROME2",
    )
    ds.BitsAllocated = ds.BitsStored = 1
    ds.HighBit = ds.PixelRepresentation = 0
    packed = np.packbits(np.stack(bits).ravel(), bitorder="little").tobytes()
    ds.PixelData = packed + b"\0" * (len(packed) % 2)
    ds["PixelData"].VR = "OB"
    ds.save_as(path, enforce_file_format=True)


def structures(path: Path, outlines: dict[str, list[np.ndarray]], frame_uid: str) -> None:
    """An RT structure set: closed outlines by name, points (n, 3) in the world."""
    ds = dataset_for(STRUCTURES, "T-5", "Structures", 9, 1)
    ds.Modality = "RTSTRUCT"
    ds.ReferencedFrameOfReferenceSequence = Sequence([item(FrameOfReferenceUID=frame_uid)])
    ds.StructureSetROISequence = Sequence(
        [item(ROINumber=n, ROIName=name, ReferencedFrameOfReferenceUID=frame_uid) for n, name in enumerate(outlines, 1)]
    )
    ds.ROIContourSequence = Sequence(
        [
            item(
                ReferencedROINumber=n,
                ROIDisplayColor=[200, 30, 60],
                ContourSequence=[
                    item(
                        ContourGeometricType="CLOSED_PLANAR",
                        NumberOfContourPoints=len(points),
                        ContourData=[f"{v:.9g}" for v in (points * (-1, -1, 1)).ravel()],
                    )
                    for points in loops
                ],
            )
            for n, loops in enumerate(outlines.values(), 1)
        ]
    )
    ds.save_as(path, enforce_file_format=True)


def stack(
    folder: Path,
    values: np.ndarray,
    space: Space | None = None,
    start: int = 0,
    sop=MR,
    modality="MR",
    description="Stack",
    number=1,
    **elements,
) -> Space:
    """One file a slice of values [i, j, k]; elements may be functions of k. Returns the space."""
    space = space or tilted_space(values.shape)
    for k in range(values.shape[2]):
        given = {name: value(k) if callable(value) else value for name, value in elements.items()}
        one(
            folder / f"{start + k:04d}",
            np.ascontiguousarray(values[:, :, k].T),
            modality,
            sop,
            space=space,
            k=k,
            description=description,
            number=number,
            instance=start + k + 1,
            **given,
        )
    return space


def reread(path: Path):
    return pydicom.dcmread(path)


__all__ = [
    "CT",
    "ENHANCED_MR",
    "MR",
    "SC",
    "enhanced",
    "generate_uid",
    "item",
    "one",
    "reread",
    "segmentation",
    "stack",
    "structures",
]
