"""Files that hold many pictures: enhanced multi-frame, clips, planar detectors, tiled volumes. Each becomes its own
`Slice`."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from ...core.errors import let_through
from ..neuro_files import nibabel
from .header import Slice

VECTORS = {
    0x00540010: ("EnergyWindowVector", "energy window"),
    0x00540020: ("DetectorVector", "detector"),
    0x00540030: ("PhaseVector", "phase"),
    0x00540050: ("RotationVector", "rotation"),
    0x00540060: ("RRIntervalVector", "interval"),
    0x00540070: ("TimeSlotVector", "time slot"),
    0x00540080: ("SliceVector", "slice"),
    0x00540090: ("AngularViewVector", "angle"),
    0x00540100: ("TimeSliceVector", "time"),
}
"""Elements that say, frame by frame, where a nuclear medicine picture stands (PS3.3 C.8.4.8)."""


def slices_of(found: Slice) -> list[Slice]:
    """All pictures of a file: itself when it holds just one."""
    header = found.header
    if is_mosaic(found):
        return _tiles(found)
    if not header.get("thorough") and int(found.number("NumberOfFrames", 1)) <= 1:
        return [found]
    if found.cut_short or "Rows" not in header:
        return [found]
    import pydicom

    try:
        dataset = pydicom.dcmread(found.path, stop_before_pixels=True, force=True)
        return _expanded(found, dataset)
    except BaseException as error:  # whatever is wrong with the groups of frames, the file is of no use
        let_through(error)
        return [replace(found, cut_short=True)]


def _expanded(found: Slice, dataset) -> list[Slice]:
    count = max(1, int(found.number("NumberOfFrames", 1)))
    shared = (dataset.get("SharedFunctionalGroupsSequence") or [None])[0]
    each = dataset.get("PerFrameFunctionalGroupsSequence") or []
    header = found.header | _regions(dataset) | _mapping(dataset) | _modality_table(dataset)
    if count > 100_000:
        raise ValueError("frames")
    if shared is not None or each:
        return [_from_groups(found, header, shared, each[n] if n < len(each) else None, n) for n in range(count)]
    pictures = [replace(found, header=dict(header), frame=n, places={}) for n in range(count)]
    _along_vectors(pictures, dataset)
    return pictures


# functional groups (enhanced multi-frame)


def _from_groups(found: Slice, header: dict, shared, own, n: int) -> Slice:
    header = dict(header)
    groups = {}
    for source in (shared, own):
        for element in source or ():
            if element.VR == "SQ" and element.value:
                groups[element.keyword] = element.value[0]

    def put(name: str, group: str, keyword: str | None = None, kind=float):
        value = groups[group].get(keyword or name) if group in groups else None
        if value not in (None, ""):
            header[name] = [kind(v) for v in value] if kind is not str and hasattr(value, "__len__") else kind(value)

    put("PixelSpacing", "PixelMeasuresSequence")
    put("SliceThickness", "PixelMeasuresSequence")
    put("SpacingBetweenSlices", "PixelMeasuresSequence")
    put("ImagePositionPatient", "PlanePositionSequence")
    put("ImageOrientationPatient", "PlaneOrientationSequence")
    put("RescaleSlope", "PixelValueTransformationSequence")
    put("RescaleIntercept", "PixelValueTransformationSequence")
    put("RescaleType", "PixelValueTransformationSequence", kind=str)
    put("EchoTime", "MREchoSequence", "EffectiveEchoTime")
    put("RepetitionTime", "MRTimingAndRelatedParametersSequence")
    put("TemporalPositionIdentifier", "FrameContentSequence", "TemporalPositionIndex", int)
    put("AcquisitionDateTime", "FrameContentSequence", "FrameAcquisitionDateTime", str)
    put("StackID", "FrameContentSequence", kind=str)
    put("DiffusionBValue", "MRDiffusionSequence")
    put("ComplexImageComponent", "MRImageFrameTypeSequence", kind=str)
    put("SegmentNumber", "SegmentIdentificationSequence", "ReferencedSegmentNumber", int)
    put("TriggerTime", "CardiacSynchronizationSequence", "NominalCardiacTriggerDelayTime")
    if "MRDiffusionSequence" in groups:
        direction = groups["MRDiffusionSequence"].get("DiffusionGradientDirectionSequence") or [{}]
        if direction[0].get("DiffusionGradientOrientation") is not None:
            header["DiffusionGradientOrientation"] = [float(v) for v in direction[0].DiffusionGradientOrientation]
    if "RealWorldValueMappingSequence" in groups and "RescaleSlope" not in header:
        header |= _mapping_of(groups["RealWorldValueMappingSequence"])
    picture = replace(found, header=header, frame=n, places={}, position=None, orientation=None)
    picture.set_place(header.get("ImagePositionPatient"), header.get("ImageOrientationPatient"))
    return picture


def _mapping(dataset) -> dict:
    """A real-world value map in the header itself, used when there is no rescale slope."""
    sequence = dataset.get("RealWorldValueMappingSequence")
    return _mapping_of(sequence[0]) if sequence and "RescaleSlope" not in dataset else {}


def _mapping_of(item) -> dict:
    if item.get("RealWorldValueSlope") is None:
        table = item.get("RealWorldValueLUTData")
        first = item.get("RealWorldValueFirstValueMapped")
        return (
            {}
            if table is None or first is None
            else {"ValueTable": [float(first), *map(float, table)], "RealWorld": True}
        )
    unit = (item.get("MeasurementUnitsCodeSequence") or [{}])[0].get("CodeValue", "")
    return {
        "RescaleSlope": float(item.RealWorldValueSlope),
        "RescaleIntercept": float(item.get("RealWorldValueIntercept", 0.0)),
        "RescaleType": {"um": "µm"}.get(str(unit), str(unit)),
        "RealWorld": True,
    }


def _modality_table(dataset) -> dict:
    """A modality look-up table: first value mapped, then the table."""
    sequence = dataset.get("ModalityLUTSequence")
    if not sequence:
        return {}
    descriptor, data = sequence[0].LUTDescriptor, sequence[0].LUTData
    table = list(np.frombuffer(data, "<u2")) if isinstance(data, bytes) else list(data)
    first = int(descriptor[1])
    if int(dataset.get("PixelRepresentation", 0)) and first > 32767:
        first -= 65536
    return {
        "ValueTable": [float(first), *map(float, table)],
        "RescaleType": str(sequence[0].get("ModalityLUTType", "")),
    }


def _regions(dataset) -> dict:
    """Pixel spacing of an ultrasound picture, from its largest two-dimensional region (PS3.3 C.8.5.5)."""
    best, spacing = 0, {}
    for region in dataset.get("SequenceOfUltrasoundRegions") or ():
        area = (region.get("RegionLocationMaxX1", 0) - region.get("RegionLocationMinX0", 0)) * (
            region.get("RegionLocationMaxY1", 0) - region.get("RegionLocationMinY0", 0)
        )
        in_cm = region.get("PhysicalUnitsXDirection") == 3 and region.get("PhysicalUnitsYDirection") == 3
        across, down = (abs(float(region.get(f"PhysicalDelta{a}", 0) or 0)) * 10 for a in "XY")
        if in_cm and region.get("RegionSpatialFormat") == 1 and area > best and across > 0 and down > 0:
            best, spacing = area, {"PixelSpacing": [down, across], "SpacingFrom": "ultrasound region"}
    return spacing


# frames along vectors (nuclear medicine, clips, dose grids)


def _along_vectors(pictures: list[Slice], dataset) -> None:
    pointer = dataset.get("FrameIncrementPointer")
    tags = (
        []
        if pointer is None
        else list(pointer)
        if hasattr(pointer, "__iter__") and not isinstance(pointer, int)
        else [pointer]
    )
    offsets = dataset.get("GridFrameOffsetVector")
    first = pictures[0]
    if offsets is not None and first.orientation is not None and len(offsets) == len(pictures):
        normal = np.cross(*first.orientation)
        for picture, offset in zip(pictures, offsets):
            picture.position = first.position + normal * (float(offset) - float(offsets[0]))
        return _scaled_dose(pictures, dataset)
    names = dict(VECTORS)
    for tag in tags:
        keyword, axis = names.get(int(tag), ("", ""))
        values = dataset.get(keyword) if keyword else None
        values = [values] if isinstance(values, (int, float)) else values
        if values is not None and len(values) == len(pictures):
            for picture, value in zip(pictures, values):
                picture.places[axis] = float(value)
    if any("slice" in p.places for p in pictures):
        _stacked(pictures, dataset)
    for picture in pictures:
        detector = picture.places.get("detector")
        if detector is not None and (words := _detector_words(dataset, int(detector))):
            picture.header.setdefault("Detectors", {})[int(detector)] = words
    if len(pictures) > 1 and not any(p.places for p in pictures):
        _timed(pictures, dataset)
    if pictures[0].position is None and first.get("Modality") == "NM":
        _directed(pictures, dataset)
    return None


def _directed(pictures: list[Slice], dataset) -> None:
    """Which way each planar picture looks. One taken from the other side is marked to be turned over, so that sides
    agree."""
    axes = [
        [float(v) for v in i.get("ImageOrientationPatient") or ()]
        for i in dataset.get("DetectorInformationSequence") or ()
    ]
    first: Any = None
    for picture in pictures:
        number = int(picture.places.get("detector", 1))
        own = axes[number - 1] if 0 < number <= len(axes) and len(axes[number - 1]) == 6 else None
        first = first or own
        if own is not None:
            picture.header["DetectorOrientation"] = first
            picture.header["Mirrored"] = float(np.dot(own[:3], first[:3])) < -0.5


def _scaled_dose(pictures: list[Slice], dataset) -> None:
    if dataset.get("DoseGridScaling") is not None:
        for picture in pictures:
            picture.header |= {
                "RescaleSlope": float(dataset.DoseGridScaling),
                "RescaleIntercept": 0.0,
                "RescaleType": str(dataset.get("DoseUnits", "")).title(),
            }


def _stacked(pictures: list[Slice], dataset) -> None:
    """Slices of a reconstructed nuclear medicine volume get their positions from the detector and the slice spacing."""
    information = (dataset.get("DetectorInformationSequence") or [None])[0]
    if information is None:
        return
    axes, start = information.get("ImageOrientationPatient"), information.get("ImagePositionPatient")
    if not axes or not start:
        return
    step = float(dataset.get("SpacingBetweenSlices") or dataset.get("SliceThickness") or 1.0)
    for picture in pictures:
        picture.set_place([float(v) for v in start], [float(v) for v in axes])
        if picture.orientation is not None:
            place = float(picture.places.pop("slice", 1.0))
            picture.position = picture.position + np.cross(*picture.orientation) * step * (place - 1)


def _detector_words(dataset, number: int) -> str:
    """How the detector looks at the body: front or back, from its view code or its orientation."""
    sequence = dataset.get("DetectorInformationSequence") or []
    if number > len(sequence):
        return ""
    information = sequence[number - 1]
    view = (information.get("ViewCodeSequence") or [{}])[0]
    meaning = str(view.get("CodeMeaning", "")).strip().lower()
    if meaning:
        for side, begins in (("front", ("anterior", "antero")), ("back", ("posterior", "postero"))):
            if meaning.startswith(begins) and "oblique" not in meaning:
                return side
        return meaning
    axes = information.get("ImageOrientationPatient")
    if axes is not None and len(axes) == 6:
        toward = np.cross([float(v) for v in axes[:3]], [float(v) for v in axes[3:]])
        if abs(toward[1]) > 0.7:
            return "front" if toward[1] > 0 else "back"
    return ""


def _timed(pictures: list[Slice], dataset) -> None:
    """Frames of a clip follow each other in time, evenly or as a vector of steps says (ms)."""
    steps = dataset.get("FrameTimeVector")
    if steps is not None and hasattr(steps, "__len__") and len(steps) == len(pictures):
        times: np.ndarray | None = np.cumsum([float(s) for s in steps]) / 1000
    else:
        frame = dataset.get("FrameTime")
        rate = dataset.get("CineRate") or dataset.get("RecommendedDisplayFrameRate")
        step = float(frame) / 1000 if frame else 1.0 / float(rate) if rate else None
        times = None if not step or not math.isfinite(step) else np.arange(len(pictures)) * step
    for n, picture in enumerate(pictures):
        picture.places["time" if times is not None else "frame"] = (
            float(times[n]) if times is not None else float(n + 1)
        )


# volumes as tiles of one large picture


def is_mosaic(found: Slice) -> bool:
    return "MOSAIC" in str(found.get("ImageType")).upper().split("\\") and found.tile is None


def _tiles(found: Slice) -> list[Slice]:
    """The slices of a volume stored as a square of tiles.

    The header's position is that of the whole square as if it were one slice around the volume's axis; each tile's
    own position is that, moved by half the difference in size.
    """
    rows, columns = int(found.number("Rows")), int(found.number("Columns"))
    count = int(found.number("TilesInMosaic"))
    if count > 0:
        side = math.ceil(math.sqrt(count))
    else:
        matrix = (
            [int(v) for v in found.get("AcquisitionMatrix", [])]
            if isinstance(found.get("AcquisitionMatrix", []), list)
            else []
        )
        size = max([v for v in matrix if v > 0], default=0)
        side = rows // size if size else 0
        count = side * side
    spacing = found.get("PixelSpacing", None)
    if (
        side < 1
        or rows % side
        or columns % side
        or found.orientation is None
        or not isinstance(spacing, list)
        or len(spacing) != 2
    ):
        return [found]
    high, wide = rows // side, columns // side
    along, down = found.orientation
    start = found.position + along * spacing[1] * (columns - wide) / 2 + down * spacing[0] * (rows - high) / 2
    step = found.number("SpacingBetweenSlices", 0.0) or found.number("SliceThickness", 1.0)
    normal = np.cross(along, down) * (-1 if _tiles_run_back(found) else 1)
    return [
        replace(found, tile=(n // side * high, n % side * wide, high, wide), position=start + normal * step * n)
        for n in range(count)
    ]


def _tiles_run_back(found: Slice) -> bool:
    """Whether the tiles follow each other against the normal of rows and columns, as a private block of the header may
    say."""
    try:
        import pydicom

        block = pydicom.dcmread(found.path, specific_tags=[(0x0029, 0x1010)], stop_before_pixels=True, force=True).get(
            (0x0029, 0x1010)
        )
        if block is None:
            return False
        normal = private_block_reader().read(block.value)["tags"]["SliceNormalVector"]["items"]
        return float(np.dot(np.array(normal, float), np.cross(*found.orientation))) < 0
    except BaseException as error:  # no such block, or not what it seems
        let_through(error)
        return False


def private_block_reader():
    """The reader of one maker's private blocks; it warns that it is young whenever it is loaded."""
    import warnings

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        nibabel()
        from nibabel.nicom import csareader
    return csareader


def listed_in_directory(path: Path) -> tuple[list[Path], list[str]]:
    """Files that a DICOMDIR names and that are there, and the names of those that are not. None outside its folder is
    followed."""
    import pydicom

    here, missing = [], []
    root = path.parent.resolve()
    for record in pydicom.dcmread(path).get("DirectoryRecordSequence") or ():
        parts = record.get("ReferencedFileID")
        if not parts:
            continue
        parts = [parts] if isinstance(parts, str) else list(parts)
        target = root.joinpath(*map(str, parts))
        if root in target.resolve().parents and target.is_file():
            here.append(target)
        else:
            missing.append("/".join(map(str, parts)))
    return here, missing
