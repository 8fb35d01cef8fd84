"""Checks of whose an image is, whether that still shows, and whether it is in the study twice."""

from __future__ import annotations

from ..gather.burned_text import text_in
from ..gather.deidentify import TEXT_LOOKED_FOR
from .notice import Mend, Notice, Subject, check

NAMES = {
    "PatientName": "name",
    "PatientBirthDate": "birth date",
    "PatientAddress": "address",
    "OtherPatientIDs": "other identifiers",
    "ReferringPhysicianName": "referring physician",
    "OperatorsName": "operator",
    "InstitutionName": "institution",
}
"""Elements that tell whose an image is, in a person's words."""
MOST_LOOKED_AT = 12


@check("gather", "outline", "measure")
def labels_of_another(subject: Subject) -> list[Notice]:
    """Labels that came from a file of another subject."""
    owners = (
        sorted({row.subject for row in subject.labels.table if row.subject and row.subject != subject.image.subject})
        if subject.labels
        else []
    )
    table = subject.labels.table if owners and subject.labels is not None else ()
    names = [row.name for row in table if row.subject in owners]
    if not owners:
        return []
    what = f"“{names[0]}”" + (f" and {len(names) - 1} more" if len(names) > 1 else "")
    return [
        Notice(
            "wrong",
            f"{what} came from {', '.join(owners)}, and this image is of {subject.image.subject}.",
            Mend("It is right", "claim-labels"),
            "labels_of_another",
        )
    ]


@check("gather", "report", rank=1)
def doubled_image(subject: Subject) -> list[Notice]:
    """The same values, or the same series, twice in the study."""
    own = next((r for r in subject.records if r.id == subject.record_id), None)
    if own is None:
        return []
    other = next((r for r in subject.records if r.id != own.id and (r.hash == own.hash or _same_series(r, own))), None)
    if other is None:
        return []
    whose = f" of {other.subject}" if other.subject != own.subject else ""
    level = "wrong" if other.subject != own.subject else "look"
    return [
        Notice(
            level,
            f"The same series is in the study as “{other.name}”{whose}.",
            Mend("Take it off", "take-off"),
            "doubled_image",
        )
    ]


def _same_series(one, other) -> bool:
    """Whether two records were taken from the same DICOM series: its identifier, and the part of it that was taken."""
    if not one.format == other.format == "DICOM" or one.space.shape != other.space.shape:
        return False
    same = all(
        one.facts.get(fact, "") == other.facts.get(fact, "")
        for fact in ("SeriesInstanceUID", "EchoNumbers", "ImageType")
    )
    return same and bool(one.facts.get("SeriesInstanceUID")) and _part(one) == _part(other)


def _part(record) -> str:
    """What stands behind the series' name: its echo, magnitude or phase."""
    return record.name.rpartition(", ")[2] if ", " in record.name else ""


@check("gather", "report", rank=1)
def identity_in_header(subject: Subject) -> list[Notice]:
    """Elements of the header that tell whose it is."""
    facts = subject.image.facts
    if facts.get("PatientIdentityRemoved") == "YES":
        return []
    there = [words for key, words in NAMES.items() if facts.get(key, "").strip(" ^")]
    if not there:
        return []
    text = there[0] if len(there) == 1 else f"{', '.join(there[:-1])} and {there[-1]}"
    return [
        Notice(
            "look",
            f"The header still holds {text}.",
            Mend("Remove identity", "deidentify-image", ask=True),
            "identity_in_header",
        )
    ]


@check("gather", "report", rank=1)
def words_in_pixels(subject: Subject) -> list[Notice]:
    """Words that are likely burned into the pixels."""
    whole = subject.series
    flagged = whole.facts.get("BurnedInAnnotation") == "YES"
    found = {}
    if not flagged and (whole.modality in TEXT_LOOKED_FOR or whole.colour) and not whole.levels:
        found = text_in(whole, subject.progress, most=MOST_LOOKED_AT)
    if not flagged and not found:
        return []
    sentence = (
        "Its header says that words are burned into the picture."
        if flagged
        else f"Picture {min(found) + 1} likely holds words burned into its pixels."
    )
    return [Notice("look", sentence, Mend("Remove identity", "deidentify-image", ask=True), "words_in_pixels")]
