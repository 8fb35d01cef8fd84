"""Words planted in headers: with the settings as they come none is left."""

from __future__ import annotations

import random
from pathlib import Path

import pydicom
from pydicom.datadict import DicomDictionary
from pydicom.dataset import Dataset
from pydicom.tag import Tag

from kestrelmist.gather.clean_header import Cleaner
from kestrelmist.gather.deidentify import deidentify_files
from kestrelmist.gather.identity_profile import Rules
from tests.making import dicom_folder, two_balls
from tests.test_planted import BYTES, NEEDED, TEXT, plain, raw

from .case import case, require

LETTERS = ("wal", "DEMAR", "ius", "Qu", "x7", "Ölmüller", "大夫", "O'Neil")
PARTS = (*LETTERS, "+49 171", "3.12.", "^", " ", "-")


@case("words: planted in a header")
def planted(rng: random.Random, place: Path) -> str:
    # a bare number may well stand where numbers belong
    word = rng.choice(LETTERS) + "".join(rng.choice(PARTS) for _ in range(rng.randrange(1, 4)))
    word = word.strip() + str(rng.randrange(10**4, 10**6))
    dicom_folder(place / "scans", two_balls())
    source = sorted(p for p in (place / "scans").rglob("*") if p.is_file())[0]
    ds = pydicom.dcmread(source)
    ds.SpecificCharacterSet = rng.choice(("ISO_IR 192", "ISO_IR 100", "ISO_IR 144"))
    value = word.encode() + b" " * (len(word.encode()) % 2)
    elements = [(t, e) for t, e in DicomDictionary.items() if e[4] and e[4] not in NEEDED and plain(t)]
    inner = Dataset()
    for tag, (vr, _, _, _, _) in rng.sample(elements, 400):
        kind = vr.split(" or ")[-1]
        if kind in TEXT + BYTES:
            rng.choice((ds, inner))._dict[Tag(tag)] = raw(tag, kind, value)
    ds.SourceImageSequence = [inner]
    ds.file_meta._dict[Tag(0x00020016)] = raw(0x00020016, "AE", value)
    with pydicom.config.disable_value_validation():
        ds.save_as(place / "planted.dcm", enforce_file_format=True)
    rules = Rules(dates=rng.choice(("remove", "shift")), safe_private=rng.random() < 0.5)
    deidentify_files([place / "planted.dcm"], place / "clean", Cleaner(rules, b"key"), None, check_pixels=False)
    found = (place / "clean" / "00001.dcm").read_bytes()
    for encoding in ("utf-8", "utf-16-le", "utf-16-be"):
        at = found.find(word.encode(encoding))
        require(at < 0, f"“{word}” is left: {found[max(0, at - 30) : at + 30]!r}")
    return f"dates {rules.dates}"
