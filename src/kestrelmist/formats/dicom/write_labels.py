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
from .header import FROM_DICOM_AXES
from .objects import cielab, dataset, decimal, new_uid, referenced, rgb, save_object, sequence
from .write import common_header

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
    ds.SegmentSequence = sequence(_segment(row, n) for n, row in enumerate(rows, 1))
    shared, space = dataset(), labels.space
    affine = FROM_DICOM_AXES @ space.affine
    measures, orientation = dataset(), dataset()
    measures.PixelSpacing = [decimal(space.spacing[1]), decimal(space.spacing[0])]
    measures.SliceThickness = measures.SpacingBetweenSlices = decimal(space.spacing[2])
    orientation.ImageOrientationPatient = _orientation(affine, space.spacing)
    shared.PixelMeasuresSequence = sequence([measures])
    shared.PlaneOrientationSequence = sequence([orientation])
    ds.SharedFunctionalGroupsSequence = sequence([shared])
    dimension = dataset()
    dimension.DimensionOrganizationUID = new_uid()
    ds.DimensionOrganizationSequence = sequence([dimension])
    ds.DimensionIndexSequence = sequence(
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
    ds.PerFrameFunctionalGroupsSequence = sequence(frames)
    ds.NumberOfFrames = len(frames)
    packed = np.packbits(np.concatenate(bits), bitorder="little").tobytes()
    ds.PixelData = packed + b"\0" * (len(packed) % 2)
    if references:
        ds.ReferencedSeriesSequence = sequence([_series(image, references)])
    save_object(ds, path)


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
    frame = dataset()
    frame.FrameOfReferenceUID = ds.FrameOfReferenceUID
    if references and image is not None:
        study, series = dataset(), dataset()
        study.ReferencedSOPClassUID = "1.2.840.10008.3.1.2.3.1"
        study.ReferencedSOPInstanceUID = ds.StudyInstanceUID
        series.SeriesInstanceUID = image.facts.get("SeriesInstanceUID") or new_uid()
        series.ContourImageSequence = sequence(referenced(r) for r in references if r)
        study.RTReferencedSeriesSequence = sequence([series])
        frame.RTReferencedStudySequence = sequence([study])
    ds.ReferencedFrameOfReferenceSequence = sequence([frame])
    regions, drawn, observed = [], [], []
    turn = np.linalg.inv(FROM_DICOM_AXES[:3, :3])
    for n, row in enumerate(progress.over(rows, what="Writing structures"), 1):
        region, contour, observation = dataset(), dataset(), dataset()
        region.ROINumber, region.ROIName, region.ROIGenerationAlgorithm = n, row.name[:64], "MANUAL"
        region.ReferencedFrameOfReferenceUID = ds.FrameOfReferenceUID
        regions.append(region)
        contour.ReferencedROINumber, contour.ROIDisplayColor = n, rgb(row.colour)
        rings = []
        for mark in (m for m in contours if m.cls == row.number):
            ring = dataset()
            points = mark.array @ turn.T
            ring.ContourGeometricType, ring.NumberOfContourPoints = "CLOSED_PLANAR", len(points)
            ring.ContourData = [decimal(v) for v in points.ravel()]
            k = int(np.floor(labels.space.to_voxel(mark.array)[:, 2].mean() + 0.5))
            if references and references[k]:
                ring.ContourImageSequence = sequence([referenced(references[k])])
            rings.append(ring)
        contour.ContourSequence = sequence(rings)
        drawn.append(contour)
        observation.ObservationNumber = observation.ReferencedROINumber = n
        observation.RTROIInterpretedType, observation.ROIInterpreter = "", ""
        observed.append(observation)
    ds.StructureSetROISequence, ds.ROIContourSequence = sequence(regions), sequence(drawn)
    ds.RTROIObservationsSequence = sequence(observed)
    save_object(ds, path)


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
    ds.Modality, ds.SOPClassUID, ds.SOPInstanceUID, ds.InstanceNumber = modality, sop, new_uid(), 1
    ds.SeriesDescription = labels.name[:64]
    ds.PatientID = labels.subject or ds.PatientID
    return ds


def _orientation(affine: np.ndarray, spacing) -> list[str]:
    return [decimal(v) for v in (*(affine[:3, 0] / spacing[0]), *(affine[:3, 1] / spacing[1]))]


def _segment(row: Label, n: int) -> Any:
    segment, code = dataset(), dataset()
    segment.SegmentNumber, segment.SegmentLabel, segment.SegmentAlgorithmType = n, row.name[:64], "MANUAL"
    code.CodeValue, code.CodingSchemeDesignator, code.CodeMeaning = TISSUE
    segment.SegmentedPropertyCategoryCodeSequence = sequence([code])
    segment.SegmentedPropertyTypeCodeSequence = sequence([code])
    segment.RecommendedDisplayCIELabValue = cielab(row.colour)
    return segment


def _index(organisation: str, tag: int, group: int) -> Any:
    found = dataset()
    found.DimensionOrganizationUID, found.DimensionIndexPointer = organisation, tag
    found.FunctionalGroupPointer = group
    return found


def _frame(affine: np.ndarray, segment: int, k: int, references: list) -> Any:
    own, content, position, which = dataset(), dataset(), dataset(), dataset()
    content.DimensionIndexValues = [segment, k + 1]
    position.ImagePositionPatient = [decimal(v) for v in affine[:3] @ [0, 0, k, 1]]
    which.ReferencedSegmentNumber = segment
    own.FrameContentSequence, own.PlanePositionSequence = sequence([content]), sequence([position])
    own.SegmentIdentificationSequence = sequence([which])
    if references and references[k]:
        derived, source, purpose, made = dataset(), referenced(references[k]), dataset(), dataset()
        purpose.CodeValue, purpose.CodingSchemeDesignator = "121322", "DCM"
        purpose.CodeMeaning = "Source image for image processing operation"
        made.CodeValue, made.CodingSchemeDesignator, made.CodeMeaning = "113076", "DCM", "Segmentation"
        source.PurposeOfReferenceCodeSequence = sequence([purpose])
        derived.SourceImageSequence, derived.DerivationCodeSequence = sequence([source]), sequence([made])
        own.DerivationImageSequence = sequence([derived])
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


def _series(image: Image | None, references: list[tuple[str, str]]) -> Any:
    found = dataset()
    assert image is not None
    found.SeriesInstanceUID = image.facts.get("SeriesInstanceUID") or new_uid()
    found.ReferencedInstanceSequence = sequence(referenced(r) for r in references)
    return found
