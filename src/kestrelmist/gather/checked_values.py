"""Values of header elements, looked at one by one: what is a term, a number or a known code stays."""

from __future__ import annotations

import re
import struct

from .defined_terms import AGE, is_meaningful_text, is_number, is_term, meaning_of
from .what_stays import allowed_count, is_text

REMOVED = "REMOVED"
MR_SPECTROSCOPY = "1.2.840.10008.5.1.4.1.1.4.2"
BINARY = {"US": 2, "SS": 2, "AT": 4, "UL": 4, "SL": 4, "FL": 4, "FD": 8, "SV": 8, "UV": 8}
"""Kinds of elements that hold numbers as they are in memory, with their bytes."""
FORMS = {"US": "H", "SS": "h", "UL": "I", "SL": "i", "FL": "f", "FD": "d", "SV": "q", "UV": "Q"}
MOST_PRIVATE = 512
"""Numbers in a private element that is known to be safe."""
RATIO = re.compile(r"[\d.]+:[\d.]+")
VALUES = ("CodeValue", "LongCodeValue", "URNCodeValue")


def sound_values(vr: str, values: list[str]) -> list[str | None]:
    """The values that mean something by themselves, None in the place of each other one; empty ones are sound."""
    sound = {"CS": is_term, "DS": is_number, "IS": is_number, "AS": lambda v: bool(AGE.fullmatch(v.strip()))}
    known = sound.get(vr, is_meaningful_text)
    return [v if not v.strip() or known(v) else None for v in values]


PARTS = (*VALUES, "CodingSchemeDesignator", "CodeMeaning", "CodingSchemeVersion")


def checked_code(item, keep_others: bool) -> tuple[bool, frozenset[str]]:
    """Look at an item that is a code: one of a known scheme gets the meaning that the scheme gives it, any other one is
    blanked, unless `keep_others`.

    Returns
    -------
    Whether something was changed, and the keywords of those parts that mean something by themselves.
    """
    if not any(name in item for name in PARTS):
        return False, frozenset()
    keyword = next((k for k in VALUES if k in item), None)
    scheme = str(item.get("CodingSchemeDesignator", "") or "")
    code = str(item.get(keyword, "") or "") if keyword else ""
    meaning = meaning_of(scheme, code)
    before = {name: str(item.get(name, "")) for name in PARTS}
    sound = set(PARTS if meaning or not keep_others else ())
    if meaning is None and not keep_others:
        for name in VALUES:
            if name in item:
                setattr(item, name, REMOVED)
        if "CodingSchemeDesignator" in item:
            item.CodingSchemeDesignator = "99REMOVED"
    elif meaning == "" and keep_others:
        sound = {keyword or "", "CodingSchemeDesignator"}
    if "CodeMeaning" in item and (meaning or not keep_others) and str(item.CodeMeaning) != meaning:
        item.CodeMeaning = (meaning or REMOVED)[:64]
    if "CodingSchemeVersion" in item and not str(item.CodingSchemeVersion).replace(".", "").isdigit():
        del item.CodingSchemeVersion
    return before != {k: str(item.get(k, "")) for k in before}, frozenset(sound)


def is_table(item, element) -> bool:
    """Whether bytes are the look-up table that the descriptor beside them tells of, of a picture that needs one."""
    keyword = element.keyword
    if keyword == "SpectroscopyData":
        return str(item.get("SOPClassUID", "")) == MR_SPECTROSCOPY
    descriptor = item.get("LUTDescriptor" if keyword == "LUTData" else keyword.replace("Data", "Descriptor"))
    if keyword != "LUTData" and str(item.get("PhotometricInterpretation", "")) != "PALETTE COLOR":
        return False
    if descriptor is None or len(descriptor) != 3:
        return False
    entries = int(descriptor[0]) or 65536
    return len(element.value or b"") in (entries + entries % 2, 2 * entries)


def are_numbers(element) -> bool:
    """Whether an element of binary numbers holds as many as the standard allows, and no letters in their place."""
    from pydicom.datadict import dictionary_VM

    values = _values(element)
    try:
        count = dictionary_VM(element.tag)
    except KeyError:  # a repeating group, of which nobody says how many
        count = "1-n"
    return not values or (allowed_count(count, len(values)) and not is_text(_bytes_of(element.VR, values)))


def is_safe_private(element) -> bool:
    """Whether a private element that is known to hold numbers does so."""
    values = _values(element)
    if element.VR in BINARY:
        return len(values) <= MOST_PRIVATE and not is_text(_bytes_of(element.VR, values))
    texts = [str(v).strip() for v in values]
    if element.VR in ("DS", "IS"):
        return len(values) <= MOST_PRIVATE and all(is_number(t) for t in texts)
    if element.VR in ("CS", "SH", "LO"):
        return all(is_term(t) or is_number(t) or RATIO.fullmatch(t) for t in texts)
    return False


def _values(element) -> list:
    if element.value is None or element.value == "":
        return []
    return list(element.value) if element.VM > 1 else [element.value]


def _bytes_of(vr: str, values: list) -> bytes:
    if vr == "AT":
        return b"".join(struct.pack("<I", int(v)) for v in values)
    return struct.pack(f"<{len(values)}{FORMS[vr]}", *values)
