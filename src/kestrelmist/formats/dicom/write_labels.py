"""Labels as DICOM: segmentation objects (PS3.3 A.51) and RT structure sets (A.19)."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.mark import Mark
from ...core.image import Image
from ...core.label_boxes import boxes_of
from ...core.labels import Label, LabelMap
from ...core.progress import Progress
from ...core.safe_write import written_whole
from .header import FROM_DICOM_AXES
from .write import EXPLICIT_LITTLE, common_header

SEGMENTATION, STRUCTURES = "1.2.840.10008.5.1.4.1.1.66.4", "1.2.840.10008.5.1.4.1.1.481.3"
TISSUE = ("85756007", "SCT", "Tissue")
MOST_FRAMES = 1 << 16


def write_segmentation(path: Path, labels: LabelMap, image: Image | None, progress: Progress) -> None:
    """Write labels as a binary segmentation: a frame for each label and slice that it lies in.

    Raises
    ------
    Trouble
        When nothing is drawn, or the labels have no place in a body.
    """
    rows = _drawn(labels)
    ds = _header(labels, image, "SEG", SEGMENTATION)
    ds.ImageType, ds.ContentLabel, ds.ContentDescription = ["DERIVED", "PRIMARY"], "LABELS", labels.name[:64]
    ds.ContentCreatorName, ds.SegmentationType = "", "BINARY"
    ds.SegmentsOverlap, ds.LossyImageCompression = "NO", "00"
    ds.SoftwareVersions, ds.DeviceSerialNumber, ds.BodyPartExamined = "0", "1", ""
    ni, nj, nk = labels.space.shape
    ds.Rows, ds.Columns = nj, ni
    ds.SamplesPerPixel, ds.PhotometricInterpretation, ds.PixelRepresentation = 1, "MONOCHROME2", 0
    ds.BitsAllocated = ds.BitsStored = 1
    ds.HighBit = 0
    ds.SegmentSequence = _sequence(_segment(row, n) for n, row in enumerate(rows, 1))
    shared, space = _dataset(), labels.space
    affine = FROM_DICOM_AXES @ space.affine
    measures, orientation = _dataset(), _dataset()
    measures.PixelSpacing = [_decimal(space.spacing[1]), _decimal(space.spacing[0])]
    measures.SliceThickness = measures.SpacingBetweenSlices = _decimal(space.spacing[2])
    orientation.ImageOrientationPatient = _orientation(affine, space.spacing)
    shared.PixelMeasuresSequence = _sequence([measures])
    shared.PlaneOrientationSequence = _sequence([orientation])
    ds.SharedFunctionalGroupsSequence = _sequence([shared])
    dimension = _dataset()
    dimension.DimensionOrganizationUID = _uid()
    ds.DimensionOrganizationSequence = _sequence([dimension])
    ds.DimensionIndexSequence = _sequence(
        _index(dimension.DimensionOrganizationUID, *one) for one in ((0x0062000B, 0x0062000A), (0x00200032, 0x00209113))
    )
    references = _references(image, nk)
    frames, bits = [], []
    boxes = boxes_of(labels.kji)
    for n, row in enumerate(progress.over(rows, what="Writing segments"), 1):
        for k in range(boxes[row.number][0].start, boxes[row.number][0].stop):
            plane = labels.kji[k] == row.number
            if plane.any():
                frames.append(_frame(affine, n, k, references))
                bits.append(plane.ravel())
        if len(frames) > MOST_FRAMES:
            raise Trouble("These labels take too many slices for one segmentation", "export fewer of them", path)
    ds.PerFrameFunctionalGroupsSequence = _sequence(frames)
    ds.NumberOfFrames = len(frames)
    packed = np.packbits(np.concatenate(bits), bitorder="little").tobytes()
    ds.PixelData = packed + b"\0" * (len(packed) % 2)
    if references:
        ds.ReferencedSeriesSequence = _sequence([_series(image, references)])
    _save(ds, path)


def write_structures(
    path: Path, labels: LabelMap, contours: list[Mark], image: Image | None, progress: Progress
) -> None:
    """Write contours of labels as a structure set; those of holes follow the one they lie in, as the even-odd rule of
    readers wants.

    Parameters
    ----------
    contours : list of Mark
        Polygons in slices of the grid's third axis, each with the number of its label as its class.

    Raises
    ------
    Trouble
        When nothing is drawn, or the labels have no place in a body.
    """
    rows = _drawn(labels)
    ds = _header(labels, image, "RTSTRUCT", STRUCTURES)
    ds.StructureSetLabel, ds.StructureSetName = labels.name[:16] or "LABELS", labels.name[:64]
    ds.StructureSetDate, ds.StructureSetTime = ds.ContentDate, ds.ContentTime
    ds.ApprovalStatus = "UNAPPROVED"
    references = _references(image, labels.space.shape[2])
    frame = _dataset()
    frame.FrameOfReferenceUID = ds.FrameOfReferenceUID
    if references and image is not None:
        study, series = _dataset(), _dataset()
        study.ReferencedSOPClassUID = "1.2.840.10008.3.1.2.3.1"
        study.ReferencedSOPInstanceUID = ds.StudyInstanceUID
        series.SeriesInstanceUID = image.facts.get("SeriesInstanceUID") or _uid()
        series.ContourImageSequence = _sequence(_referenced(r) for r in references if r)
        study.RTReferencedSeriesSequence = _sequence([series])
        frame.RTReferencedStudySequence = _sequence([study])
    ds.ReferencedFrameOfReferenceSequence = _sequence([frame])
    regions, drawn, observed = [], [], []
    turn = np.linalg.inv(FROM_DICOM_AXES[:3, :3])
    for n, row in enumerate(progress.over(rows, what="Writing structures"), 1):
        region, contour, observation = _dataset(), _dataset(), _dataset()
        region.ROINumber, region.ROIName, region.ROIGenerationAlgorithm = n, row.name[:64], "MANUAL"
        region.ReferencedFrameOfReferenceUID = ds.FrameOfReferenceUID
        regions.append(region)
        contour.ReferencedROINumber, contour.ROIDisplayColor = n, _rgb(row.colour)
        rings = []
        for mark in (m for m in contours if m.cls == row.number):
            ring = _dataset()
            points = mark.array @ turn.T
            ring.ContourGeometricType, ring.NumberOfContourPoints = "CLOSED_PLANAR", len(points)
            ring.ContourData = [_decimal(v) for v in points.ravel()]
            k = int(np.floor(labels.space.to_voxel(mark.array)[:, 2].mean() + 0.5))
            if references and references[k]:
                ring.ContourImageSequence = _sequence([_referenced(references[k])])
            rings.append(ring)
        contour.ContourSequence = _sequence(rings)
        drawn.append(contour)
        observation.ObservationNumber = observation.ReferencedROINumber = n
        observation.RTROIInterpretedType, observation.ROIInterpreter = "", ""
        observed.append(observation)
    ds.StructureSetROISequence, ds.ROIContourSequence = _sequence(regions), _sequence(drawn)
    ds.RTROIObservationsSequence = _sequence(observed)
    _save(ds, path)


def _drawn(labels: LabelMap) -> list[Label]:
    if not labels.space.sides_known or labels.space.unit != "mm":
        raise Trouble(
            f"“{labels.name}” has no place in a body, which DICOM wants", "export it as PNG, TIFF, COCO or GeoJSON"
        )
    rows = [row for row in labels.table if labels.counts[row.number]]
    if not rows:
        raise Trouble(f"“{labels.name}” has no label that is drawn", "draw one first")
    return rows


def _header(labels: LabelMap, image: Image | None, modality: str, sop: str) -> Any:
    like = image if image is not None else Image(np.zeros((1, 1, 1), np.uint8), labels.space.resized((1, 1, 1)))
    ds = common_header(like)
    ds.Modality, ds.SOPClassUID, ds.SOPInstanceUID, ds.InstanceNumber = modality, sop, _uid(), 1
    ds.SeriesDescription = labels.name[:64]
    ds.PatientID = labels.subject or ds.PatientID
    return ds


def _dataset() -> Any:
    from pydicom.dataset import Dataset

    return Dataset()


def _sequence(items) -> Any:
    from pydicom.sequence import Sequence

    return Sequence(list(items))


def _uid() -> str:
    from pydicom.uid import generate_uid

    return generate_uid()


def _decimal(value: float) -> str:
    return f"{value:.10g}"[:16]


def _orientation(affine: np.ndarray, spacing) -> list[str]:
    return [_decimal(v) for v in (*(affine[:3, 0] / spacing[0]), *(affine[:3, 1] / spacing[1]))]


def _rgb(colour: str) -> list[int]:
    return [int(colour[n : n + 2], 16) for n in (1, 3, 5)]


def _segment(row: Label, n: int) -> Any:
    segment, code = _dataset(), _dataset()
    segment.SegmentNumber, segment.SegmentLabel, segment.SegmentAlgorithmType = n, row.name[:64], "MANUAL"
    code.CodeValue, code.CodingSchemeDesignator, code.CodeMeaning = TISSUE
    segment.SegmentedPropertyCategoryCodeSequence = _sequence([code])
    segment.SegmentedPropertyTypeCodeSequence = _sequence([code])
    segment.RecommendedDisplayCIELabValue = _lab(row.colour)
    return segment


def _lab(colour: str) -> list[int]:
    """A colour as DICOM's scaled CIELab (PS3.3 C.10.7.1.1)."""
    from skimage.color import rgb2lab

    light, a, b = rgb2lab(np.array(_rgb(colour), float).reshape(1, 1, 3) / 255).ravel()
    return [round(light * 65535 / 100), round((a + 128) * 65535 / 255), round((b + 128) * 65535 / 255)]


def _index(organisation: str, tag: int, group: int) -> Any:
    found = _dataset()
    found.DimensionOrganizationUID, found.DimensionIndexPointer = organisation, tag
    found.FunctionalGroupPointer = group
    return found


def _frame(affine: np.ndarray, segment: int, k: int, references: list) -> Any:
    own, content, position, which = _dataset(), _dataset(), _dataset(), _dataset()
    content.DimensionIndexValues = [segment, k + 1]
    position.ImagePositionPatient = [_decimal(v) for v in affine[:3] @ [0, 0, k, 1]]
    which.ReferencedSegmentNumber = segment
    own.FrameContentSequence, own.PlanePositionSequence = _sequence([content]), _sequence([position])
    own.SegmentIdentificationSequence = _sequence([which])
    if references and references[k]:
        derived, source, purpose, made = _dataset(), _referenced(references[k]), _dataset(), _dataset()
        purpose.CodeValue, purpose.CodingSchemeDesignator = "121322", "DCM"
        purpose.CodeMeaning = "Source image for image processing operation"
        made.CodeValue, made.CodingSchemeDesignator, made.CodeMeaning = "113076", "DCM", "Segmentation"
        source.PurposeOfReferenceCodeSequence = _sequence([purpose])
        derived.SourceImageSequence, derived.DerivationCodeSequence = _sequence([source]), _sequence([made])
        own.DerivationImageSequence = _sequence([derived])
    return own


def _references(image: Image | None, slices: int) -> list[tuple[str, str]]:
    """Class and identifier of the file of every slice, where there is one file each; none otherwise."""
    if image is None or not image.origin.format.startswith("DICOM") or len(image.origin.files) != slices:
        return []
    import pydicom

    found: dict[int, tuple[str, str]] = {}
    wanted = ["SOPClassUID", "SOPInstanceUID", "ImagePositionPatient"]
    for file in image.origin.files:
        try:
            ds = pydicom.dcmread(file, stop_before_pixels=True, specific_tags=wanted)
            place = FROM_DICOM_AXES[:3, :3] @ np.array(ds.ImagePositionPatient, float)
        except Exception:  # the labels stand without it
            return []
        found[int(np.floor(image.space.to_voxel(place)[2] + 0.5))] = str(ds.SOPClassUID), str(ds.SOPInstanceUID)
    return [found[k] for k in range(slices)] if sorted(found) == list(range(slices)) else []


def _referenced(reference: tuple[str, str]) -> Any:
    found = _dataset()
    found.ReferencedSOPClassUID, found.ReferencedSOPInstanceUID = reference
    return found


def _series(image: Image | None, references: list[tuple[str, str]]) -> Any:
    found = _dataset()
    assert image is not None
    found.SeriesInstanceUID = image.facts.get("SeriesInstanceUID") or _uid()
    found.ReferencedInstanceSequence = _sequence(_referenced(r) for r in references)
    return found


def _save(ds: Any, path: Path) -> None:
    from pydicom import dcmwrite
    from pydicom.dataset import FileMetaDataset

    ds.file_meta = FileMetaDataset()
    ds.file_meta.MediaStorageSOPClassUID, ds.file_meta.MediaStorageSOPInstanceUID = ds.SOPClassUID, ds.SOPInstanceUID
    ds.file_meta.TransferSyntaxUID = EXPLICIT_LITTLE
    with written_whole(path) as stream:
        dcmwrite(stream, ds, enforce_file_format=True, implicit_vr=False, little_endian=True)
