"""Carry out the confidentiality profile on a parsed DICOM header."""

from __future__ import annotations

import hashlib
import hmac
import re
from collections import Counter
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from ..formats.dicom.times import DAY, day_of, moment_of
from .checked_values import BINARY, are_numbers, checked_code, is_safe_private, is_table, sound_values
from .identity_profile import (
    BYTES,
    CHECKED,
    DATE,
    DESCRIPTIONS,
    DUMMY,
    EMPTY,
    IDENTIFIER,
    INSIDE,
    KEEP,
    KNOWN_CREATORS,
    NEEDED,
    PIXELS,
    REMOVE,
    SUBJECT,
    TIME,
    Rules,
)
from .identity_words import PHRASE, IdentityWords
from .telling_numbers import COUNTED, NUMBERS, telling_digits, tells

STANDARD_ROOT = "1.2.840.10008."
"""Identifiers that the standard itself gives; they name kinds of things, not things."""
IDENTIFIERS = frozenset(("PatientID", "OtherPatientIDs", "AccessionNumber", "AdmissionID", "IssuerOfPatientID"))
PLACES = frozenset(("InstitutionName", "PatientAddress", "InstitutionAddress", "PatientTelephoneNumbers"))
MACHINES = frozenset(("StationName", "DeviceSerialNumber"))
"""Elements whose words must not be found anywhere in the result, besides names of persons and days of birth."""


META = (
    "FileMetaInformationGroupLength",
    "FileMetaInformationVersion",
    "MediaStorageSOPClassUID",
    "MediaStorageSOPInstanceUID",
    "TransferSyntaxUID",
    "ImplementationClassUID",
    "ImplementationVersionName",
)
IMPLEMENTATION = "2.25.121733812950327113105338103411338263127"
"""This program, as the maker of a file."""
CLOCK = re.compile(r"\d{2}(?:\d{2}(?:\d{2}(?:\.\d{1,6})?)?)?")
MOMENT = re.compile(r"\d{8}(?:\d{2}(?:\d{2}(?:\d{2}(?:\.\d{1,6})?)?)?)?(?:[+-]\d{4})?")
"""How the standard writes a time of the day, and a date with or without one."""
DATED = {"AcquisitionTime": "AcquisitionDate", "ContentTime": "ContentDate"}
"""Times with a date beside them."""
CODED = ("CS", "LO", "SH", "ST", "LT", "UT", "UC", "UR")


def _began(ds) -> tuple[int, int | None]:
    """The earliest moment that a header tells of its series: microseconds of the day, and the day."""
    found = [moment_of(ds.get("AcquisitionDateTime"), ds.get("AcquisitionTime"), ds.get("AcquisitionDate"))]
    found += [moment_of(None, ds.get(f"{of}Time"), ds.get(f"{of}Date")) for of in ("Content", "Series")]
    told = [(micro, day) for micro, day in found if micro is not None]
    dated = [(day, micro) for micro, day in told if day is not None]
    if dated:
        day, micro = min(dated)
        return micro, day
    return min((micro for micro, _ in told), default=0), None


@dataclass
class Cleaner:
    """Cleans the files of one piece of work. The same key gives the same new identifiers.

    Parameters
    ----------
    rules : Rules
    key : bytes
        Secret that new identifiers and day shifts are made from.
    subject : str
        New name and identifier of the subject; made from the old one when empty.
    """

    rules: Rules
    key: bytes
    subject: str = ""
    done: Counter = field(default_factory=Counter)
    """How many files had an element treated in a way: (keyword, tag, action) -> count."""
    words: IdentityWords = field(default_factory=IdentityWords)
    """Words of identity met so far."""
    kept: Counter = field(default_factory=Counter)
    """Texts that an option has kept, as they were before words were taken out: (text, keyword) -> count."""
    meanings: set[str] = field(default_factory=set)
    """Meanings that codes were given."""
    _starts: dict[str, tuple[int, int | None]] = field(default_factory=dict)
    """When each series began: microseconds of the day, and the day."""

    def clean(self, ds) -> None:
        """Clean a data set in place, and say in its header what was done."""
        patient = str(ds.get("PatientID", "") or ds.get("PatientName", ""))
        gather_words(ds, self.rules, self.words)
        self._start = self._starts.setdefault(str(ds.get("SeriesInstanceUID", "")), _began(ds))
        self._dates = {name: day_of(ds.get(of)) for name, of in DATED.items()}
        self._days = 1 + self._number("days", patient) % 3650
        self._new_subject = self.subject or f"S-{self._number('subject', patient) % 16**6:06x}"
        self._seen: set = set()
        self._others = self.words.without(self._new_subject)
        self._digits = telling_digits(ds)
        self._inside(ds)
        self.done.update(self._seen)
        self._say(ds)

    def uid(self, old: str) -> str:
        """The new identifier for an old one: 2.25 and a number made from both it and the key (ISO/IEC 9834-8)."""
        if not old or (old.startswith(STANDARD_ROOT) and is_standard(old)):
            return old
        return f"2.25.{self._number('uid', old)}"

    def _number(self, what: str, text: str) -> int:
        return int.from_bytes(hmac.new(self.key, f"{what}:{text}".encode(), hashlib.sha256).digest()[:15], "big")

    def _inside(self, ds) -> None:
        changed, sound = checked_code(ds, self.rules.descriptions)
        if "CodeMeaning" in sound:
            self.meanings.add(str(ds.get("CodeMeaning", "")))
        if changed:
            self._seen.add(("Code", "", "cleaned"))
        for tag in list(ds.keys()):
            try:
                element = ds[tag]
            except Exception:  # a number or a date that is none: what it is instead nobody knows
                del ds[tag]
                self._seen.add(("not readable", str(tag), "removed"))
                continue
            if tag.is_private:
                action = self._private(ds, tag)
            elif element.keyword in sound:
                continue
            elif tag.element == 0:
                action = REMOVE  # group lengths would be wrong
            else:
                action = self.rules.action(element)
            said = self._number_that_tells(ds, tag, element, action) or self._do(ds, tag, element, action)
            if said and action != INSIDE:
                self._seen.add((name_of(element), str(tag), said))

    def _number_that_tells(self, ds, tag, element, action: str) -> str:
        """Take away a number that is an identifier or a date; a series gets another one. Returns what is to be said."""
        if action in (REMOVE, EMPTY, SUBJECT, DATE, TIME) or element.VR not in NUMBERS or element.value is None:
            return ""
        values = list(element.value) if element.VM > 1 else [element.value]
        if not any(tells(element.keyword, str(v), self._digits) for v in values):
            return ""
        if element.keyword in COUNTED and element.VM == 1:
            element.value = 1 + self._number(element.keyword, str(element.value)) % 999
            return "replaced"
        del ds[tag]
        return "removed"

    def _private(self, ds, tag) -> str:
        if tag.is_private_creator:
            creator, block = str(ds[tag].value), tag.element << 8
            own = (t for t in ds.keys() if t.group == tag.group and block <= t.element < block + 0x100)
            return KEEP if any(self._stays(ds, other, creator) for other in own) else REMOVE
        return KEEP if self._stays(ds, tag, str(ds[tag].private_creator or "")) else REMOVE

    def _stays(self, ds, tag, creator: str) -> bool:
        """Whether a private element is known to be safe, and is what it should be."""
        if self.rules.private_action(creator, tag) != KEEP:
            return False
        try:
            return is_safe_private(ds[tag])
        except Exception:  # a number that is none
            return False

    def _do(self, ds, tag, element, action: str) -> str:
        """Treat an element; returns what is to be said of it, "" for nothing."""
        keyword = element.keyword
        if action == INSIDE:
            for item in element.value or ():
                for inner in [t for t in item.keys() if t.group == PIXELS]:
                    del item[inner]  # a picture in a picture
                self._inside(item)
            return ""
        if action == REMOVE:
            del ds[tag]
            return "removed"
        if action == EMPTY:
            had, element.value = bool(element.value), None
            return "emptied" if had else ""
        if action == SUBJECT:
            element.value = self._new_subject
            return "replaced"
        if action == IDENTIFIER:
            values = [element.value] if element.VM < 2 else list(element.value)
            new = [self.uid(str(v)) for v in values if v is not None]
            if new == [str(v) for v in values]:
                return ""
            element.value = new if element.VM > 1 else new[0] if new else None
            return "replaced"
        if action in (DATE, TIME):
            return self._moment(ds, tag, element, action)
        if action == CHECKED:
            return self._checked(ds, tag, element)
        if action == DUMMY:
            if keyword in DESCRIPTIONS and self.rules.descriptions:
                return "cleaned" if self._cleaned(element) else "kept"
            element.value = "REMOVED" if element.VR != "PN" else "REMOVED^"
            return "replaced"
        if element.VR in CODED and not tag.is_private and self._cleaned(element):
            return "cleaned"
        return (
            "kept"
            if action == KEEP and (keyword.startswith("Patient") or tag.is_private) and not tag.is_private_creator
            else ""
        )

    def _checked(self, ds, tag, element) -> str:
        """Keep what is found to be a term, a number or a known text; of other text what an option keeps, without words
        of identity."""
        if element.VR in BYTES or element.VR in BINARY:
            if is_table(ds, element) if element.VR in BYTES else are_numbers(element):
                return ""
            del ds[tag]
            return "removed"
        keyword, said = element.keyword, "kept" if element.keyword.startswith("Patient") else ""
        values = [] if element.value is None else list(element.value) if element.VM > 1 else [element.value]
        sound = sound_values(element.VR, [str(v) for v in values])
        if all(v is not None for v in sound):
            return said
        if self.rules.keeps_text(keyword) and element.VR not in ("DS", "IS", "AS"):
            return "cleaned" if self._cleaned(element) else "kept"
        if keyword in ("ImageType", "FrameType"):  # each place of them has a meaning
            element.value = [v or "OTHER" for v in sound]
            return "cleaned"
        left = [v for v in sound if v]
        if left and element.VR == "CS":
            element.value = left if len(left) > 1 else left[0]
            return "cleaned"
        if keyword in NEEDED:
            number = str(ds.get("SegmentNumber", ds.get("ROINumber", "")))
            what = "Segment" if "SegmentNumber" in ds else "ROI"
            element.value = f"{what} {number}" if number.isdecimal() and number.isascii() else "REMOVED"
            return "replaced"
        del ds[tag]
        return "removed"

    def _moment(self, ds, tag, element, action: str) -> str:
        text = str(element.value or "")
        if not text:
            return ""
        if self.rules.dates == "shift":
            if action == TIME:
                times = list(element.value) if element.VM > 1 else [element.value]
                if all(CLOCK.fullmatch(str(v).strip()) for v in times if v):
                    return "kept"
                element.value = None  # something else was typed where a time belongs
                return "emptied"
            element.value = (
                [shifted(str(v), self._days) for v in element.value] if element.VM > 1 else shifted(text, self._days)
            )
            return "shifted"
        if element.keyword in (
            "AcquisitionTime",
            "ContentTime",
            "AcquisitionDateTime",
            "FrameAcquisitionDateTime",
            "FrameReferenceDateTime",
        ):
            # order and distance in time are kept, the hour is not
            day, rest = divmod(self._since(element), DAY)
            hours, rest = divmod(rest, 3_600_000_000)
            minutes, rest = divmod(rest, 60_000_000)
            clock = f"{hours:02d}{minutes:02d}{rest / 1e6:09.6f}"
            first = datetime(1900, 1, 1) + timedelta(days=min(day, 36500))
            element.value = clock if element.VR == "TM" else f"{first:%Y%m%d}{clock}"
            return "counted from the start"
        if element.keyword in ("StudyDate", "StudyTime", "ContentDate"):
            element.value = None
            return "emptied"
        del ds[tag]
        return "removed"

    def _since(self, element) -> int:
        """Microseconds from when the series began; 0 for what is no time, or was before."""
        text = str(element.value)
        micro, on = moment_of(text, None, None) if element.VR == "DT" else moment_of(None, text, None)
        on = self._dates.get(element.keyword) if on is None else on
        start, day = self._start
        if micro is None:
            return 0
        since = micro - start
        if on is not None and day is not None:
            since += (on - day) * DAY
        elif since < -DAY // 2:  # over midnight
            since += DAY
        return max(0, since)

    def _cleaned(self, element) -> bool:
        """Take what tells of somebody out of a text that an option keeps; what is left is noted."""
        values = [str(v) for v in element.value] if element.VM > 1 else [str(element.value or "")]
        new = []
        for text, sound in zip(values, sound_values(element.VR, values)):
            left = text if sound is not None else self._others.taken_out(text) or "REMOVED"
            new.append(left)
            if sound is None and text:
                self.kept[text, element.keyword] += 1
        if new == values:
            return False
        element.value = new if element.VM > 1 else new[0]
        return True

    def _say(self, ds) -> None:
        from pydicom.dataset import Dataset
        from pydicom.sequence import Sequence

        ds.PatientIdentityRemoved = "YES"
        ds.DeidentificationMethod = "Kestrelmist, PS3.15 basic profile"
        items = []
        for code, meaning in self.rules.codes:
            item = Dataset()
            item.CodeValue, item.CodingSchemeDesignator, item.CodeMeaning = code, "DCM", meaning[:64]
            items.append(item)
        ds.DeidentificationMethodCodeSequence = Sequence(items)
        ds.LongitudinalTemporalInformationModified = "MODIFIED" if self.rules.dates == "shift" else "REMOVED"
        if getattr(ds, "file_meta", None) is not None:
            for element in list(ds.file_meta):
                if element.tag.group != 2 or element.keyword not in META:
                    del ds.file_meta[element.tag]
            ds.file_meta.ImplementationClassUID = IMPLEMENTATION
            ds.file_meta.ImplementationVersionName = "KESTRELMIST"
            if "MediaStorageSOPInstanceUID" in ds.file_meta:
                ds.file_meta.MediaStorageSOPInstanceUID = ds.SOPInstanceUID
        ds.preamble = b"\0" * 128  # may hold the start of another file


def is_standard(identifier: str) -> bool:
    """Whether an identifier is one that the standard gives; others under its root are somebody's."""
    from pydicom.uid import UID_dictionary

    return identifier in UID_dictionary


def name_of(element) -> str:
    """What the report calls an element."""
    if element.tag.is_private:
        creator = str(element.private_creator or (element.value if element.tag.is_private_creator else ""))
        # the words of one that nobody knows may be anybody's
        return f"private, {creator}" if creator in KNOWN_CREATORS else "private"
    return element.keyword or f"unknown {element.name}".strip()


def gather_words(ds, rules: Rules, into: IdentityWords) -> None:
    """Gather what tells who it is from a header, from lists in it too; what the rules keep is left out."""
    for tag in list(ds.keys()):
        try:
            element = ds[tag]
            value, keyword = element.value, element.keyword
        except Exception:  # a value that is none; it is removed as it stands
            continue
        if element.VR == "SQ":
            for item in value or ():
                gather_words(item, rules, into)
            continue
        known = element.VR == "PN" or keyword in _TELLING
        if not known or not value or (keyword in MACHINES and rules.device):
            continue
        for one in [str(v) for v in value] if element.VM > 1 else [str(value)]:
            if element.VR == "PN":
                into.add_name(one)
            elif keyword == "PatientBirthDate":
                into.add_phrase(one)
                into.names.setdefault(one[:4], one[:4])
            elif keyword == "PatientAge":
                if not rules.characteristics:
                    into.add_phrase(one)
                    into.names.setdefault(one.lstrip("0").casefold(), one)
            elif keyword in IDENTIFIERS:
                into.add_identifier(one)
            else:
                for phrase in PHRASE.split(one):
                    into.add_phrase(phrase)


_TELLING = IDENTIFIERS | PLACES | MACHINES | {"PatientBirthDate", "PatientAge"}


def shifted(text: str, days: int) -> str:
    """A DICOM date, or date and time, moved to the past by some days; emptied when it is no date."""
    if not MOMENT.fullmatch(text.strip()):
        return ""
    try:
        moved = datetime.strptime(text[:8], "%Y%m%d") - timedelta(days=days)
    except ValueError:
        return ""
    return f"{moved:%Y%m%d}" + text[8:]
