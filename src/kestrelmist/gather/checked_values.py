"""Values of header elements, looked at one by one: what is a term, a number or a known code stays."""

from __future__ import annotations

from .defined_terms import AGE, is_meaningful_text, is_number, is_term, meaning_of

REMOVED = "REMOVED"
MR_SPECTROSCOPY = "1.2.840.10008.5.1.4.1.1.4.2"
VALUES = ("CodeValue", "LongCodeValue", "URNCodeValue")


def sound_values(vr: str, values: list[str]) -> list[str | None]:
    """The values that mean something by themselves, None in the place of each other one; empty ones are sound."""
    sound = {"CS": is_term, "DS": is_number, "IS": is_number, "AS": lambda v: bool(AGE.fullmatch(v.strip()))}
    known = sound.get(vr, is_meaningful_text)
    return [v if not v.strip() or known(v) else None for v in values]


def checked_code(item, keep_others: bool) -> bool:
    """Look at an item that is a code: one of a known scheme gets the meaning that the scheme gives it, any other one is
    blanked, unless `keep_others`. Returns whether something was changed."""
    names = (*VALUES, "CodingSchemeDesignator", "CodeMeaning", "CodingSchemeVersion")
    if keep_others or not any(name in item for name in names):
        return False
    keyword = next((k for k in VALUES if k in item), None)
    scheme = str(item.get("CodingSchemeDesignator", "") or "")
    code = str(item.get(keyword, "") or "") if keyword else ""
    meaning = meaning_of(scheme, code)
    before = {name: str(item.get(name, "")) for name in names}
    if meaning is None:
        for name in VALUES:
            if name in item:
                setattr(item, name, REMOVED)
        if "CodingSchemeDesignator" in item:
            item.CodingSchemeDesignator = "99REMOVED"
    if "CodeMeaning" in item and str(item.CodeMeaning) != meaning:
        item.CodeMeaning = (meaning or REMOVED)[:64]
    if "CodingSchemeVersion" in item and not str(item.CodingSchemeVersion).replace(".", "").isdigit():
        del item.CodingSchemeVersion
    return before != {k: str(item.get(k, "")) for k in before}


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
