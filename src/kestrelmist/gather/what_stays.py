"""Which standard elements of a header may stay when identity is removed, and why: by what they are about, and by the
kind of value they hold.

An element stays only when both have a reason. The table of all of them is in docs/identity-elements.md; it is made from
this module and compared with it by a test.
"""

from __future__ import annotations

GROUPS: dict[int, str] = {
    0x0008: "what the object is, which codes and other objects it refers to",
    0x0010: "the subject: only what a name is replaced in, the species and how a body lies",
    0x0012: "that identity was removed, and how",
    0x0018: "how it was acquired",
    0x0020: "where and in which order the pictures lie",
    0x0022: "how an eye was photographed",
    0x0024: "how a field of vision was measured",
    0x0028: "what the pixels are",
    0x0040: "dose, specimen, slide, real-world values, and content that is coded or a number",
    0x0048: "how a slide was scanned",
    0x0050: "sizes of instruments in the picture",
    0x0052: "how a vessel was scanned from within",
    0x0054: "how radioactivity was counted",
    0x0060: "histograms of the pixels",
    0x0062: "segments",
    0x0064: "deformations between images",
    0x0066: "surfaces and tracks",
    0x0070: "how the picture is to be shown",
    0x0080: "how a surface was scanned",
    0x2050: "how the picture is to be shown",
    0x3002: "images of radiotherapy",
    0x3004: "dose",
    0x3006: "contours",
    0x300A: "numbers of a plan of radiotherapy",
    0x300C: "which parts of a plan are referred to",
    0x5200: "facts that are shared by pictures, or of each",
    0x5600: "spectra",
    0x7FE0: "pixels, and where each picture begins",
}
"""What the groups of elements are about that an image may need; all other groups go."""
PIXELS = frozenset((0x0001, 0x0002, 0x0003, 0x0008, 0x0009, 0x0010))
"""Of group 7FE0: where each picture begins, and the pixels themselves; what comes after them is none."""
SUBJECT_STAYS = frozenset(
    ("PatientSpeciesCodeSequence", "PatientBreedCodeSequence", "AnatomicalOrientationType", "QualityControlSubject")
)
TRIAL_STAYS = frozenset(("PatientIdentityRemoved", "DeidentificationMethod", "DeidentificationMethodCodeSequence"))
CONTENT = (
    (0x0300, 0x0318),
    (0x0500, 0x0AFF),
    (0x8300, 0x83FF),
    (0x9090, 0x92FF),
    (0xA000, 0xADFF),
    (0xDB00, 0xDBFF),
)
"""Of group 0040 what is not about orders, schedules, performers, bills and where things are fetched from."""
GONE = (
    (0x00080006, 0x00080006),  # the language
    (0x00080050, 0x00080056),  # the order, questions to an archive
    (0x00080220, 0x00080220),  # who has made a list of codes
    (0x00080300, 0x000804FF),  # what private elements are said to be, inventories
    (0x00081100, 0x00081111),  # results, the study and the step it was made in
    (0x00081125, 0x00081125),  # the visit
    (0x00081190, 0x0008119B),  # where it is fetched from, what failed
    (0x30020100, 0x300201FF),  # radiotherapy as it is recorded in group 3010, which goes
)
"""Elements of groups that stay which tell of the archive and the visit, or belong to what goes."""
KINDS: dict[str, str] = {
    "CS": "a term, which stays when it is one of the standard's",
    "DS": "a number, which stays when it is written as one",
    "IS": "a number, which stays when it is written as one",
    "AS": "an age, which stays when it is written as one",
    "UI": "an identifier; a new one takes its place, but for those that the standard gives",
    "DA": "a date, removed or shifted",
    "DT": "a date, removed or shifted",
    "TM": "a time, made one since the start, removed or, with shifted dates, kept when it is one",
    "SQ": "a list; what is in it is looked at in the same way",
    **dict.fromkeys(("US", "SS", "UL", "SL", "SV", "UV"), "whole numbers, as many as the standard allows"),
    **dict.fromkeys(("FL", "FD"), "numbers, as many as the standard allows"),
    "AT": "names of other elements",
}
CODES = "part of a code; stays when it is of a known scheme, with the meaning that the scheme gives it"
TEXTS = "a short text, which stays when it means something by itself: a unit, a nucleus, a small number"
PICTURES = "pixels, or where each picture begins; comments and what is no picture is taken out"
TABLE = "a table that the pixels need, which stays when its size is right"
NEEDS = "a name that readers need; another one takes its place"
NAMED = "who it is; the new name takes its place"


def may_stay(tag: int, keyword: str) -> bool:
    """Whether there is a reason for an element to stay by what it is about."""
    group, element = tag >> 16, tag & 0xFFFF
    if not keyword or group not in GROUPS or keyword.endswith("Trial"):
        return False
    if group == 0x0010:
        return keyword in SUBJECT_STAYS
    if group == 0x0012:
        return keyword in TRIAL_STAYS
    if group == 0x0040:
        return any(low <= element <= high for low, high in CONTENT)
    if group == 0x7FE0:
        return element in PIXELS
    return not any(low <= tag <= high for low, high in GONE)


def allowed_count(multiplicity: str, count: int) -> bool:
    """Whether an element may have so many values; "2-2n" stands for even numbers of them."""
    low, _, high = multiplicity.partition("-")
    if not high:
        return not low.isdigit() or count == int(low)
    if high.endswith("n"):
        step = int(high[:-1] or 1)
        return count >= int(low) and count % step == 0
    return int(low) <= count <= int(high)


def is_text(raw: bytes) -> bool:
    """Whether the bytes of numbers are letters rather than numbers."""
    if len(raw) < 8:
        return False
    letters = sum(65 <= b <= 90 or 97 <= b <= 122 for b in raw)
    return letters * 2 >= len(raw) and all(32 <= b <= 126 or b >= 0xC2 or b == 0 for b in raw)
