"""Words planted everywhere in a header: with the settings as they come, none of them is left."""

import unittest

import pydicom
from pydicom.datadict import DicomDictionary
from pydicom.dataelem import RawDataElement
from pydicom.dataset import Dataset
from pydicom.sequence import Sequence
from pydicom.tag import Tag

from kestrelmist.gather.clean_header import Cleaner
from kestrelmist.gather.deidentify import deidentify_files
from kestrelmist.gather.identity_profile import Rules
from tests.making import PlaceCase, dicom_folder, two_balls

TEXT = ("AE", "AS", "CS", "DA", "DS", "DT", "IS", "LO", "LT", "PN", "SH", "ST", "TM", "UC", "UI", "UR", "UT")
BYTES = ("OB", "OW", "UN", "OF", "OD", "OL", "OV")
WORDS = ("WALDEMARIUS", "Zß大夫", "Xq", "waldi7", "+49 171 5550", "3.12.1961")
NEEDED = {
    "PixelData",
    "Rows",
    "Columns",
    "BitsAllocated",
    "BitsStored",
    "HighBit",
    "PixelRepresentation",
    "SamplesPerPixel",
    "PhotometricInterpretation",
    "SOPClassUID",
    "SOPInstanceUID",
    "ImagePositionPatient",
    "ImageOrientationPatient",
    "PixelSpacing",
    "SpecificCharacterSet",
}
"""What makes the file an image: a word in its place would make it none."""


def plain(tag: int) -> bool:
    group = tag >> 16
    return group not in (0x0000, 0x0002, 0x0004, 0xFFFE, 0x7FE0) and group & 0xFF00 not in (0x5000, 0x6000)


def raw(tag: int, vr: str, value: bytes) -> RawDataElement:
    return RawDataElement(Tag(tag), vr, len(value), value, 0, False, True)


class PlantedTest(PlaceCase):
    def setUp(self):
        super().setUp()
        dicom_folder(self.place / "scans", two_balls())
        self.path = sorted(p for p in (self.place / "scans").rglob("*") if p.is_file())[0]

    def planted(self, word: str, wanted) -> Dataset:
        """An image with a word in every element of the standard whose kind is wanted."""
        ds = pydicom.dcmread(self.path)
        ds.SpecificCharacterSet = "ISO_IR 192"
        value = word.encode() + b" " * (len(word.encode()) % 2)
        for tag, (vr, _, _, _, keyword) in DicomDictionary.items():
            kind = vr.split(" or ")[-1]
            if keyword and keyword not in NEEDED and plain(tag) and kind in wanted:
                ds._dict[Tag(tag)] = raw(tag, kind, value)
        return ds

    def cleaned(self, ds: Dataset, rules: Rules = Rules()) -> bytes:
        source = self.place / "planted"
        source.mkdir(exist_ok=True)
        with pydicom.config.disable_value_validation():
            ds.save_as(source / "a.dcm", enforce_file_format=True)
        target = self.place / f"clean {len(list(self.place.iterdir()))}"
        deidentify_files([source / "a.dcm"], target, Cleaner(rules, b"secret"), None, check_pixels=False)
        (path,) = target.glob("*.dcm")
        return path.read_bytes()

    def require_gone(self, word: str, found: bytes) -> None:
        for encoding in ("utf-8", "utf-16-le", "utf-16-be"):
            at = found.find(word.encode(encoding))
            self.assertEqual(at, -1, f"{word}: {found[max(0, at - 60) : at + 30]!r}")

    def test_in_every_element_of_text(self):
        for word in WORDS:
            self.require_gone(word, self.cleaned(self.planted(word, TEXT)))

    def test_in_every_element_of_bytes(self):
        self.require_gone("WALDEMARIUS", self.cleaned(self.planted("WALDEMARIUS", BYTES)))

    def test_in_every_sequence(self):
        word = "WALDEMARIUS"
        ds = pydicom.dcmread(self.path)
        code = Dataset()
        code.CodeValue, code.CodingSchemeDesignator, code.CodeMeaning = "113100", "DCM", word
        other = Dataset()
        other.CodeValue, other.CodingSchemeDesignator, other.CodeMeaning = word, "99" + word, word
        inner = Dataset()
        inner.ImageComments, inner.TextValue, inner.Modality, inner.DerivationCodeSequence = word, word, word, [other]
        inner.ReferencedSOPInstanceUID, inner.AnatomicRegionSequence = f"1.2.840.10008.{word}", [code]
        for tag, (vr, _, _, _, keyword) in DicomDictionary.items():
            if vr == "SQ" and keyword and plain(tag):
                ds.add_new(tag, "SQ", Sequence([inner, code, other]))
        self.require_gone(word, self.cleaned(ds))

    def test_in_the_file_meta_and_the_preamble(self):
        word = "WALDEMARIUS"
        ds = pydicom.dcmread(self.path)
        ds.file_meta.ImplementationVersionName = word
        ds.file_meta.ImplementationClassUID = "1.2.840.10008.999.77"
        ds.file_meta.SourceApplicationEntityTitle = word
        ds.file_meta.PrivateInformationCreatorUID = "1.2.3.77"
        ds.file_meta.PrivateInformation = word.encode() + b" "
        ds.file_meta._dict[Tag(0x00020026)] = raw(0x00020026, "UR", word.encode() + b" ")
        ds.file_meta._dict[Tag(0x000200FE)] = raw(0x000200FE, "LO", word.encode() + b" ")
        ds.preamble = word.encode().ljust(128)
        ds.ReferencedSOPClassUIDInFile = "1.2.840.10008.5.1.4.1.1.777.4711"
        found = self.cleaned(ds)
        self.require_gone(word, found)
        for identifier in ("1.2.840.10008.999.77", "1.2.840.10008.5.1.4.1.1.777.4711", "1.2.3.77"):
            self.require_gone(identifier, found)

    def test_the_terms_and_numbers_of_an_image_stay(self):
        ds = pydicom.dcmread(self.path)
        ds.ImageType, ds.BodyPartExamined, ds.ScanningSequence = ["ORIGINAL", "PRIMARY", "AXIAL"], "SKULL", ["GR", "IR"]
        ds.EchoTime, ds.KVP, ds.RescaleType, ds.StackID, ds.PatientPosition = "4.5", "60", "HU", "1", "HFP"
        region = Dataset()
        region.CodeValue, region.CodingSchemeDesignator, region.CodeMeaning = "69536005", "SCT", "whatever"
        ds.AnatomicRegionSequence = [region]
        self.cleaned(ds)
        path = max(self.place.glob("clean *"), key=lambda p: p.stat().st_mtime) / "00001.dcm"
        found = pydicom.dcmread(path)
        self.assertEqual(list(found.ImageType), ["ORIGINAL", "PRIMARY", "AXIAL"])
        self.assertEqual((found.BodyPartExamined, list(found.ScanningSequence)), ("SKULL", ["GR", "IR"]))
        self.assertEqual((found.EchoTime, found.KVP, found.RescaleType, found.StackID), (4.5, 60, "HU", "1"))
        self.assertEqual(found.AnatomicRegionSequence[0].CodeMeaning, "Head structure (body structure)")
        self.assertEqual(found.file_meta.ImplementationVersionName, "KESTRELMIST")


if __name__ == "__main__":
    unittest.main()
