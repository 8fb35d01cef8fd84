"""What was measured of marks as a structured report beside a series: an imaging measurement report (PS3.16 TID 1500),
each mark a measurement group (TID 1501) with its values, where they were inferred from, and how sure they are."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from ...core.geometry.mark import Mark
from ...core.geometry.marks import Marks
from ...core.geometry.measured import Measured
from ...core.image import Image
from ...core.names import printable
from .marks_on_files import Drawn, beside, drawn_on, headers_of
from .objects import dataset, new_uid, referenced, save_object, sequence

REPORT = "1.2.840.10008.5.1.4.1.1.88.33"
Code = tuple[str, str, str]
NAMES: dict[str, Code] = {
    "length": ("410668003", "SCT", "Length"),
    "area": ("42798000", "SCT", "Area"),
    "perimeter": ("131191004", "SCT", "Perimeter"),
    "diameter": ("81827009", "SCT", "Diameter"),
    "angle": ("1483009", "SCT", "Angle"),
}
"""What is measured, by the codes of the standard; what has none is left out."""
UNITS: dict[str, Code] = {
    "mm": ("mm", "UCUM", "millimeter"),
    "mm2": ("mm2", "UCUM", "square millimeter"),
    "deg": ("deg", "UCUM", "degree"),
    "px": ("{pixels}", "UCUM", "pixels"),
    "pixels": ("{pixels}", "UCUM", "pixels"),
}


def write_report(
    path: Path, marks: Marks, image: Image, measured_of: Callable[[Mark], Sequence[Measured]]
) -> tuple[list[Drawn], list[Mark]]:
    """Write what was measured of marks; returns what was drawn, and what lies in no slice.

    Raises
    ------
    Trouble
        When the image does not come from DICOM files of a slice each, or the file cannot be written.
    """
    headers = headers_of(image)
    drawn, outside = drawn_on(marks, image, headers)
    ds = beside(image, headers, "SR", REPORT, marks.name)
    ds.ContentLabel = "MARKS"
    ds.CompletionFlag, ds.VerificationFlag, ds.PreliminaryFlag = "PARTIAL", "UNVERIFIED", "PRELIMINARY"
    ds.PerformedProcedureCodeSequence = sequence([])
    ds.ReferencedPerformedProcedureStepSequence = sequence([])
    first: dict[int, Drawn] = {}
    for one in drawn:  # of a mark of several parts the first tells where
        first.setdefault(one.mark.id, one)
    used = {str(one.file.SOPInstanceUID): one.file for one in first.values()}
    study, series = dataset(), dataset()
    study.StudyInstanceUID, series.SeriesInstanceUID = ds.StudyInstanceUID, headers[0].SeriesInstanceUID
    series.ReferencedSOPSequence = sequence(_reference(one) for one in used.values())
    study.ReferencedSeriesSequence = sequence([series])
    ds.CurrentRequestedProcedureEvidenceSequence = sequence([study])
    groups = []
    for one in first.values():
        told = [found for found in measured_of(one.mark) if found.name in NAMES and found.unit in UNITS]
        if told:
            groups.append(_group(one, told))
    root = _container(("126000", "DCM", "Imaging Measurement Report"), "")
    for name, value in root.items():
        ds[name] = value
    template = dataset()
    template.MappingResource, template.TemplateIdentifier = "DCMR", "1500"
    ds.ContentTemplateSequence = sequence([template])
    language = _code_item(("121049", "DCM", "Language of Content Item and Descendants"), "HAS CONCEPT MOD",
                          ("en", "RFC5646", "English"))  # fmt: skip
    observer = _code_item(("121005", "DCM", "Observer Type"), "HAS OBS CONTEXT", ("121007", "DCM", "Device"))
    device = _item("UIDREF", ("121012", "DCM", "Device Observer UID"), "HAS OBS CONTEXT")
    device.UID = new_uid()
    procedure = _code_item(("121058", "DCM", "Procedure reported"), "HAS CONCEPT MOD",
                           ("363679005", "SCT", "Imaging procedure"))  # fmt: skip
    findings = _container(("126010", "DCM", "Imaging Measurements"), "CONTAINS")
    findings.ContentSequence = sequence(groups)
    ds.ContentSequence = sequence([language, observer, device, procedure, findings])
    save_object(ds, path)
    return drawn, outside


def _reference(header: Any) -> Any:
    return referenced((str(header.SOPClassUID), str(header.SOPInstanceUID)))


def _group(one: Drawn, told: Sequence[Measured]) -> Any:
    group = _container(("125007", "DCM", "Measurement Group"), "CONTAINS")
    template = dataset()
    template.MappingResource, template.TemplateIdentifier = "DCMR", "1501"
    group.ContentTemplateSequence = sequence([template])
    name = _item("TEXT", ("112039", "DCM", "Tracking Identifier"), "HAS OBS CONTEXT")
    name.TextValue = printable(one.mark.name) or f"{one.mark.shape} {one.mark.id}"
    identity = _item("UIDREF", ("112040", "DCM", "Tracking Unique Identifier"), "HAS OBS CONTEXT")
    identity.UID = new_uid()
    group.ContentSequence = sequence([name, identity, *(_value(one, found) for found in told)])
    return group


def _value(one: Drawn, found: Measured) -> Any:
    value, number = _item("NUM", NAMES[found.name], "CONTAINS"), dataset()
    number.NumericValue = f"{found.value:.10g}"[:16]
    number.FloatingPointValue = float(found.value)
    number.MeasurementUnitsCodeSequence = sequence([_code(UNITS[found.unit])])
    value.MeasuredValueSequence = sequence([number])
    place, image = _item("SCOORD", None, "INFERRED FROM"), _item("IMAGE", None, "SELECTED FROM")
    place.GraphicType, place.GraphicData = one.kind, [float(v) for v in one.points.ravel()]
    image.ReferencedSOPSequence = sequence([_reference(one.file)])
    place.ContentSequence = sequence([image])
    inside = [place]
    if found.sure > 0:
        comment = _item("TEXT", ("121106", "DCM", "Comment"), "HAS PROPERTIES")
        comment.TextValue = f"{found.words} (95 %)"
        inside.append(comment)
    value.ContentSequence = sequence(inside)
    return value


def _code(code: Code) -> Any:
    found = dataset()
    found.CodeValue, found.CodingSchemeDesignator, found.CodeMeaning = code
    return found


def _item(kind: str, name: Code | None, relationship: str) -> Any:
    item = dataset()
    if relationship:
        item.RelationshipType = relationship
    item.ValueType = kind
    if name is not None:
        item.ConceptNameCodeSequence = sequence([_code(name)])
    return item


def _code_item(name: Code, relationship: str, value: Code) -> Any:
    item = _item("CODE", name, relationship)
    item.ConceptCodeSequence = sequence([_code(value)])
    return item


def _container(name: Code, relationship: str) -> Any:
    item = _item("CONTAINER", name, relationship)
    item.ContinuityOfContent = "SEPARATE"
    return item
