"""Numbers that tell who it is: identifiers and dates that stand again where a plain number belongs."""

from __future__ import annotations

import re

SOURCES = frozenset(
    """
PatientID OtherPatientIDs AccessionNumber AdmissionID StudyID PatientBirthDate PatientName IssuerOfPatientID
MedicalRecordLocator FillerOrderNumberImagingServiceRequest PlacerOrderNumberImagingServiceRequest
RequestedProcedureID ScheduledProcedureStepID PerformedProcedureStepID ServiceEpisodeID
""".split()
)
"""Elements whose digits tell who it is, besides all dates."""
COUNTED = frozenset(("SeriesNumber", "AcquisitionNumber"))
"""Numbers that a person or a machine may choose freely."""
CHOSEN, ANY = 4, 6
"""Digits from which a number that is part of an identifier is taken to be it: of those, and of all others."""
NEEDED = frozenset(
    """
Rows Columns NumberOfFrames BitsAllocated BitsStored HighBit SamplesPerPixel PixelRepresentation TotalPixelMatrixColumns
TotalPixelMatrixRows SmallestImagePixelValue LargestImagePixelValue FileMetaInformationGroupLength
""".split()
)
"""Without these, which count pixels and bits, there is no picture."""
WHOLE = re.compile(r"[+-]?0*(\d+)(?:\.0*)?")
NUMBERS = ("IS", "DS", "US", "SS", "UL", "SL", "SV", "UV", "FL", "FD")


def telling_digits(ds) -> list[str]:
    """Runs of digits that tell who it is, dates in the orders in which people write them too."""
    from pydicom.datadict import keyword_for_tag

    found: dict[str, None] = {}
    for tag in list(ds.keys()):
        keyword = keyword_for_tag(tag)
        if keyword not in SOURCES and not keyword.endswith("Date"):
            continue
        try:
            text = str(ds[tag].value or "")
        except Exception:  # a value that is none
            continue
        for run in re.findall(r"\d+", text):
            if len(run) >= CHOSEN:
                found[run] = None
        if keyword.endswith("Date") and re.fullmatch(r"\d{8}", text):
            year, month, day = text[:4], text[4:6], text[6:]
            found |= dict.fromkeys((text[2:], day + month + year, day + month + year[2:], month + day + year))
        elif digits := re.sub(r"\D", "", text):
            found |= dict.fromkeys([digits] if len(digits) >= CHOSEN else [])
    return list(found)


def tells(keyword: str, value: str, digits: list[str]) -> bool:
    """Whether a number is an identifier or a date, or a long part of one."""
    whole = WHOLE.fullmatch(value.strip())
    if whole is None or keyword in NEEDED:
        return False
    least = CHOSEN if keyword in COUNTED else ANY
    number = whole.group(1)
    return len(number) >= least and any(number in run or (len(run) >= ANY and run in number) for run in digits)
