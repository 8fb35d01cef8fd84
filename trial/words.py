"""Words planted in headers: with the settings as they come none is left, and none that nobody has seen with others."""

from __future__ import annotations

import gzip
import random
from dataclasses import replace
from pathlib import Path

import numpy as np
import pydicom
from pydicom.datadict import DicomDictionary
from pydicom.dataset import Dataset
from pydicom.tag import Tag

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Asks
from kestrelmist.core.image import Image
from kestrelmist.core.world import World
from kestrelmist.formats.saving import save_image
from kestrelmist.gather.clean_header import Cleaner
from kestrelmist.gather.deidentify import deidentify_files
from kestrelmist.gather.identity_profile import Rules
from kestrelmist.gather.identity_words import TOKEN, folded, pieces
from kestrelmist.gather.remove_identity import Cleaning, deidentify
from kestrelmist.study.study import Study
from tests.making import dicom_folder, straight_space, two_balls
from tests.test_planted import BYTES, NEEDED, TEXT, plain, raw

from .case import case, require

LETTERS = ("wal", "DEMAR", "ius", "Qu", "x7", "Ölmüller", "大夫", "O'Neil")
PARTS = (*LETTERS, "+49 171", "3.12.", "^", " ", "-")


@case("words: names and identifiers in names, numbers, creators and after the pixels")
def outside_of_texts(rng: random.Random, place: Path) -> str:
    word = rng.choice(LETTERS[:3]).upper() + str(rng.randrange(10**4, 10**6))
    number, date = str(rng.randrange(10**5, 10**9)), f"19{rng.randrange(10, 99)}0{rng.randrange(1, 9)}17"
    dicom_folder(place / "scans", two_balls())
    for path in sorted(p for p in (place / "scans").rglob("*") if p.is_file()):
        ds = pydicom.dcmread(path)
        ds.PatientName, ds.PatientID, ds.PatientBirthDate, ds.SeriesDescription = word, number, date, f"Head {word}"
        ds.SeriesNumber, ds.AcquisitionNumber = rng.choice(((number, date), (date, number), (number[:6], number[1:])))
        ds.private_block(0x0011, f"{word} 1", create=True).add_new(1, "LO", word)
        for tag in rng.sample((0x7FE00020, 0x7FE00030, 0x7FE00070, 0xFFFCFFFC), 2):
            ds._dict[Tag(tag)] = raw(tag, "UC", word.encode() + b" " * (len(word) % 2))
        ds.save_as(path, enforce_file_format=True)
    with Study(place / "study", create=True) as study:
        study.run("gather", folder=place / "scans")
        (record,) = study.records()
        study.run("deidentify-image", image=record.id)
        new = next(r for r in study.records() if r.id != record.id)
        for ending in (".dicom", ".nii.gz", ".ome.tif"):
            study.run("convert", image=new.id, to=str(place / "out" / f"a{ending}"))
        said = [t.name for t in study.tables()] + [str(study.table(t.id).rows) for t in study.tables()]
    deidentify(place / "scans", place / "out" / "folder")
    written = b"".join(p.read_bytes() for p in (place / "out").rglob("*") if p.is_file() and p.suffix != ".gz")
    written += b"".join(gzip.decompress(p.read_bytes()) for p in (place / "out").rglob("*.gz"))
    for secret in (word, date, number):
        require(secret.encode() not in written, f"“{secret}” is left in what was written")
        require(secret not in new.name + "".join(said), f"“{secret}” stands in the new name or a report")
    return f"{word}, {number}"


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


NAMES = ("Waldemar", "Qu", "Ölmüller", "Щукин", "大夫", "O'Neil", "Zoë", "Hopkinson", "Li")
FORMS = ("{0}", "{1}", "{2}", "{0}CT", "CT{3}", "{0}2", "x_{0}", "{0}, thin", "sag {1}", "({0})", "for {0}.", "{0}{4}")
HARMLESS = ("Chest thin", "T1 weighted", "Lung 1 mm", "sag", "b 1000", "localiser")
DESCRIBING = ("SeriesDescription", "StudyDescription", "ProtocolName", "ImageComments", "SequenceName")


@case("words: names in descriptions that are kept")
def described(rng: random.Random, place: Path) -> str:
    dicom_folder(place / "scans", two_balls())
    source = sorted(p for p in (place / "scans").rglob("*") if p.is_file())[0]
    ds = pydicom.dcmread(source)
    ds.SpecificCharacterSet = "ISO_IR 192"
    last, first = rng.sample(NAMES, 2)
    number = f"{rng.choice('KTZ')}-{rng.randrange(1000, 9999)}"
    ds.PatientName, ds.PatientID, ds.OperatorsName = f"{last}^{first}", number, rng.choice(NAMES)
    for keyword in DESCRIBING:
        name = rng.choice((last, first, number, str(ds.OperatorsName)))
        form = rng.choice(FORMS).format(name, name.upper(), name.lower(), name.title(), rng.randrange(10, 99))
        more = rng.choice(("", "3.12.1961", "+49 171 2345678"))
        setattr(ds, keyword, f"{rng.choice(HARMLESS)} {form} {more}".strip())
    ds.save_as(place / "planted.dcm", enforce_file_format=True)
    try:
        deidentify(place / "planted.dcm", place / "clean", how=Cleaning(keep_descriptions=True))
        return "nothing to look at"
    except Asks as asks:
        shown = {str(row[0]) for row in asks.table.rows}
        deidentify(place / "planted.dcm", place / "clean", how=Cleaning(keep_descriptions=True, reviewed=asks.answer))
    found = pydicom.dcmread(place / "clean" / "00001.dcm")
    for keyword in DESCRIBING:
        text = str(found.get(keyword, ""))
        tokens = [folded(t) for run in TOKEN.findall(text) for t in (run, *pieces(run))]
        for word in (last, first, number, str(ds.OperatorsName), "1961", "2345678"):
            inside = len(word) > 2 or not word.isascii()
            left = folded(word) in folded(text) if inside else folded(word) in tokens
            require(not left, f"“{word}” is left in {keyword}: {text!r} of {ds.get(keyword)!r}")
        require(text in shown | {"", "REMOVED"}, f"{keyword} holds {text!r}, which nobody was shown")
    return "looked through"


@case("words: in other formats")
def elsewhere(rng: random.Random, place: Path) -> str:
    word = rng.choice(LETTERS) + rng.choice(("marius", "Ölmann", "кинский")) + str(rng.randrange(10**4))
    values = np.arange(2 * 6 * 5 * 4, dtype=np.uint16).reshape(6, 5, 4, 2)
    image = Image(
        lambda index, progress: values[..., index[0]],
        replace(straight_space((6, 5, 4)), world=World(f"scanner of {word}")),
        word,
        word,
        unit=word[:8],
        facts={"Artist": word},
        axes=(Axis("channel", 2, labels=(word, "lipid")),),
    )
    (place / "in").mkdir()
    name = rng.choice(("a.nii.gz", "a.nii", "a.nrrd", "a.ome.tif", "a.ome.zarr"))
    save_image(place / "in" / name, image)
    if name == "a.nii" and rng.random() < 0.5:  # in the fields of the header that nobody reads
        data = bytearray((place / "in" / name).read_bytes())
        data[148:228] = word.encode()[:79].ljust(80, b"\0")
        data[228:252] = word.encode()[:23].ljust(24, b"\0")
        (place / "in" / name).write_bytes(data)
    deidentify(
        place / "in",
        place / "out",
        how=Cleaning(keep_descriptions=rng.random() < 0.5, dates=rng.choice(("remove", "shift"))),
    )
    made = [p for p in (place / "out").rglob("*") if p.is_file()]
    require(len(made) > 1, "nothing was written")
    for path in made:
        data = path.read_bytes()
        data += gzip.decompress(data) if path.suffix == ".gz" else b""
        for encoding in ("utf-8", "utf-16-le", "latin-1"):
            sought = word.encode(encoding, "ignore")
            require(len(sought) < 6 or sought not in data, f"“{word}” is left in {path.name} of {name}")
        require(word.casefold() not in str(path.relative_to(place / "out")).casefold(), f"{path.name} tells who it is")
    return "nothing left"
