"""Writing an image as a new DICOM series: one file a slice for whole numbers and colours, one file for real numbers."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import numpy as np

from ...core.claim import claimed
from ...core.errors import Trouble
from ...core.image import Image
from ...core.progress import Progress, silent
from ...core.safe_write import write_trouble
from ..acquisition import elements_of, gradient_elements
from ..exact_planes import exact_planes, number_type
from ..format import Format, register
from .header import FROM_DICOM_AXES

CT, MR, SECONDARY, PARAMETRIC = (
    "1.2.840.10008.5.1.4.1.1.2",
    "1.2.840.10008.5.1.4.1.1.4",
    "1.2.840.10008.5.1.4.1.1.7",
    "1.2.840.10008.5.1.4.1.1.30",
)
LONGEST_CODE = 16
"""Letters of a unit that an element of codes holds."""
EXPLICIT_LITTLE = "1.2.840.10008.1.2.1"


def save_dicom(folder: Path, image: Image, progress: Progress | None = None) -> None:
    """Write an image into a new folder as a DICOM series with new identifiers.

    Whole numbers become stored pixels (with a rescale intercept where they need one); real numbers become a parametric
    map, whose pixels are floats, so that every value is exact.

    Raises
    ------
    Trouble
        When the folder holds something already, the image has more than one axis beyond space, or cannot be written.
    """
    progress = progress or silent()
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise Trouble("This folder holds something already", "name a new one", folder)
    if image.image_planes > 1 and not (image.space.sides_known and image.space.unit == "mm"):
        raise Trouble(
            f"“{image.name}” does not know its sides, so its slices have no place in a series",
            "choose .nii.gz or .ome.tif",
            folder,
        )
    if len(image.axes) > 1:
        raise Trouble(
            f"“{image.name}” has more than one axis beyond space, which a series cannot say", "choose .nii.gz", folder
        )
    dtype = np.dtype(np.uint8) if image.colour else number_type(image, progress.part(0.0, 0.3))
    try:
        with claimed(folder) as beside:
            beside.mkdir(parents=True)
            common = common_header(image)
            if dtype.kind == "f" or dtype.itemsize == 8:
                _parametric_map(beside / "00001.dcm", common, image, dtype, progress)
            else:
                _slices(beside, common, image, dtype, progress)
            if folder.exists():
                folder.rmdir()
            beside.rename(folder)
    except OSError as error:
        raise write_trouble(error, folder) from error


def common_header(image: Image):
    """The elements that all files of a new series share."""
    from pydicom.dataset import Dataset
    from pydicom.uid import generate_uid

    now = datetime.now()
    ds = Dataset()
    ds.SpecificCharacterSet = "ISO_IR 192"
    ds.StudyInstanceUID = image.facts.get("StudyInstanceUID") or generate_uid()
    ds.SeriesInstanceUID = generate_uid()
    # images that lie in one world of ours do so in their files; it is not to be read out of them which one
    world = image.space.world.id
    ours = generate_uid(entropy_srcs=[f"world {world}"]) if world else generate_uid()
    ds.FrameOfReferenceUID = image.facts.get("FrameOfReferenceUID") or ours
    ds.Modality = image.modality or "OT"
    ds.PatientName = image.facts.get("PatientName", image.subject)
    ds.PatientID, ds.PatientBirthDate, ds.PatientSex = (
        image.subject,
        image.facts.get("PatientBirthDate", ""),
        image.facts.get("PatientSex", ""),
    )
    ds.StudyDate, ds.StudyTime = image.facts.get("StudyDate", ""), image.facts.get("StudyTime", "")
    ds.SeriesDate = ds.ContentDate = now.strftime("%Y%m%d")
    ds.SeriesTime = ds.ContentTime = now.strftime("%H%M%S")
    ds.StudyID, ds.AccessionNumber, ds.ReferringPhysicianName = image.facts.get("StudyID", ""), "", ""
    ds.SeriesNumber, ds.SeriesDescription = 901, image.name[:64]
    ds.Manufacturer, ds.ManufacturerModelName = "Kestrelmist", "Kestrelmist"
    ds.PositionReferenceIndicator = ""
    return ds


def _place(ds, image: Image, k: int, known: bool) -> None:
    affine = FROM_DICOM_AXES @ image.space.affine
    spacing = image.space.spacing
    if known:
        ds.ImagePositionPatient = [f"{v:.10g}"[:16] for v in affine[:3] @ [0, 0, k, 1]]
        ds.ImageOrientationPatient = [
            f"{v:.10g}"[:16] for v in (*(affine[:3, 0] / spacing[0]), *(affine[:3, 1] / spacing[1]))
        ]
    if image.space.unit == "mm":
        ds.PixelSpacing = [f"{spacing[1]:.10g}", f"{spacing[0]:.10g}"]
        ds.SliceThickness = f"{spacing[2]:.10g}"
        if known:
            ds.SpacingBetweenSlices = ds.SliceThickness


def _slices(folder: Path, common, image: Image, dtype: np.dtype, progress: Progress) -> None:
    from pydicom.uid import generate_uid

    known = image.space.sides_known and image.space.unit == "mm"
    depth, total = image.space.shape[2], image.image_planes
    sop = (
        CT
        if image.modality == "CT" and dtype.itemsize == 2 and not image.colour
        else MR
        if image.modality == "MR" and dtype.itemsize == 2 and not image.colour
        else SECONDARY
    )
    time, gradients = image.axes[0] if image.axes else None, gradient_elements(image)
    taken = elements_of(image)
    for n, plane in enumerate(exact_planes(image, dtype, progress)):
        progress.at(0.3 + 0.7 * n / total, "Writing slices")
        ds = _copied(common)
        ds.SOPClassUID, ds.SOPInstanceUID, ds.InstanceNumber = sop, generate_uid(), n + 1
        ds.ImageType = ["DERIVED", "SECONDARY"] + ([] if sop == SECONDARY else ["AXIAL"] if sop == CT else ["M"])
        if sop == SECONDARY:
            ds.ConversionType = "WSD"
        if sop == MR:
            ds.ScanningSequence, ds.SequenceVariant, ds.ScanOptions, ds.MRAcquisitionType = (
                "RM",
                "NONE",
                "",
                "2D" if depth == 1 else "3D",
            )
            ds.EchoTime, ds.EchoTrainLength = image.facts.get("EchoTime", ""), ""
            ds.RepetitionTime = image.facts.get("RepetitionTime", "")
        if sop == CT:
            ds.KVP, ds.AcquisitionNumber = image.facts.get("KVP", ""), 1
        for name, value in taken.items():
            setattr(ds, name, value)
        _place(ds, image, n % depth, known)
        if time is not None:
            ds.AcquisitionNumber = n // depth + 1
            if gradients:
                for name, number in gradients[n // depth].items():
                    setattr(ds, name, number)
            else:
                ds.TemporalPositionIdentifier, ds.NumberOfTemporalPositions = n // depth + 1, time.size
            if time.step and time.unit == "s":
                ds.RepetitionTime = ds.TemporalResolution = f"{1000 * time.step:.10g}"
        _pixels(ds, plane, image)
        _save(ds, folder / f"{n + 1:05d}.dcm")


def _pixels(ds, plane: np.ndarray, image: Image) -> None:
    ds.Rows, ds.Columns = plane.shape[:2]
    bits = 8 * plane.dtype.itemsize
    ds.SamplesPerPixel, ds.PhotometricInterpretation = (3, "RGB") if image.colour else (1, "MONOCHROME2")
    if image.colour:
        ds.PlanarConfiguration = 0
    ds.PixelRepresentation = int(plane.dtype.kind == "i")
    if bits == 8 and plane.dtype.kind == "i":
        plane, bits = plane.astype("<i2"), 16
    ds.BitsAllocated, ds.BitsStored, ds.HighBit = bits, bits, bits - 1
    if not image.colour:
        ds.RescaleIntercept, ds.RescaleSlope, ds.RescaleType = (
            "0",
            "1",
            image.unit if 0 < len(image.unit) <= LONGEST_CODE else "US",
        )
    data = plane.tobytes()
    ds.PixelData = data + b"\0" * (len(data) % 2)
    ds["PixelData"].VR = "OB" if bits == 8 else "OW"


def _parametric_map(path: Path, common, image: Image, dtype: np.dtype, progress: Progress) -> None:
    """One file with pixels as floats (PS3.3 A.75), the place of each in its functional groups."""
    from pydicom.dataset import Dataset
    from pydicom.sequence import Sequence
    from pydicom.uid import generate_uid

    double = dtype == np.float64 or dtype.kind in "iu"
    kind = "<f8" if double else "<f4"
    planes = []
    for n, plane in enumerate(exact_planes(image, dtype, progress)):
        progress.at(0.3 + 0.5 * n / image.image_planes, "Writing slices")
        planes.append(plane.astype(kind))
    ds = _copied(common)
    ds.SOPClassUID, ds.SOPInstanceUID, ds.InstanceNumber = PARAMETRIC, generate_uid(), 1
    ds.Modality = image.modality or "OT"
    for name, value in elements_of(image).items():
        setattr(ds, name, value)
    ds.ImageType, ds.ContentLabel, ds.ContentDescription, ds.ContentCreatorName = (
        ["DERIVED", "PRIMARY", "VOLUME", "NONE"],
        "MAP",
        image.name[:64],
        "",
    )
    ds.NumberOfFrames, ds.Rows, ds.Columns = len(planes), *planes[0].shape
    ds.SamplesPerPixel, ds.PhotometricInterpretation, ds.BitsAllocated = 1, "MONOCHROME2", 8 * np.dtype(kind).itemsize
    known = image.space.sides_known and image.space.unit == "mm"
    shared, mapping, unit = Dataset(), Dataset(), Dataset()
    code = {"µm": "um", "": "1"}.get(image.unit, image.unit)
    unit.CodeValue, unit.CodingSchemeDesignator = code if len(code) <= LONGEST_CODE else "1", "UCUM"
    unit.CodeMeaning = image.unit[:64] or "no units"
    mapping.DoubleFloatRealWorldValueFirstValueMapped, mapping.DoubleFloatRealWorldValueLastValueMapped = (
        -1.7e308,
        1.7e308,
    )
    mapping.RealWorldValueSlope, mapping.RealWorldValueIntercept = 1.0, 0.0
    mapping.LUTLabel, mapping.LUTExplanation, mapping.MeasurementUnitsCodeSequence = "none", "none", Sequence([unit])
    shared.RealWorldValueMappingSequence = Sequence([mapping])
    frames = []
    for n in range(len(planes)):
        own, place = Dataset(), Dataset()
        _place(place, image, n % image.space.shape[2], known)
        content, measures, position, orientation = Dataset(), Dataset(), Dataset(), Dataset()
        content.StackID, content.InStackPositionNumber = "1", n % image.space.shape[2] + 1
        if image.axes:
            content.TemporalPositionIndex = n // image.space.shape[2] + 1
        own.FrameContentSequence = Sequence([content])
        if known:
            position.ImagePositionPatient, orientation.ImageOrientationPatient = (
                place.ImagePositionPatient,
                place.ImageOrientationPatient,
            )
            own.PlanePositionSequence, shared.PlaneOrientationSequence = Sequence([position]), Sequence([orientation])
        if image.space.unit == "mm":
            measures.PixelSpacing, measures.SliceThickness = place.PixelSpacing, place.SliceThickness
            shared.PixelMeasuresSequence = Sequence([measures])
        frames.append(own)
    ds.SharedFunctionalGroupsSequence, ds.PerFrameFunctionalGroupsSequence = Sequence([shared]), Sequence(frames)
    if double:
        ds.DoubleFloatPixelData = b"".join(p.tobytes() for p in planes)
    else:
        ds.FloatPixelData = b"".join(p.tobytes() for p in planes)
    _save(ds, path)


def _copied(common):
    from pydicom.dataset import Dataset

    ds = Dataset()
    ds.update(common)
    return ds


def _save(ds, path: Path) -> None:
    from pydicom.dataset import FileMetaDataset

    ds.file_meta = FileMetaDataset()
    ds.file_meta.MediaStorageSOPClassUID, ds.file_meta.MediaStorageSOPInstanceUID = ds.SOPClassUID, ds.SOPInstanceUID
    ds.file_meta.TransferSyntaxUID = EXPLICIT_LITTLE
    ds.save_as(path, enforce_file_format=True, implicit_vr=False, little_endian=True)


register(Format("DICOM", (".dicom",), None, save_dicom, folder=True, holds=("image",)))
