"""Words planted everywhere in a header: with the settings as they come, none of them is left."""

import gzip
import io
import struct
import unittest
from dataclasses import replace

import numpy as np
import pydicom
from pydicom.datadict import DicomDictionary
from pydicom.dataelem import RawDataElement
from pydicom.dataset import Dataset
from pydicom.encaps import encapsulate, generate_frames
from pydicom.sequence import Sequence
from pydicom.tag import Tag
from pydicom.uid import JPEG2000Lossless, JPEGBaseline8Bit, JPEGLSLossless, RLELossless

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.world import World
from kestrelmist.formats.dicom.header import read_header
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.gather.clean_header import Cleaner
from kestrelmist.gather.deidentify import deidentify_files
from kestrelmist.gather.identity_profile import Rules
from kestrelmist.gather.identity_words import IdentityWords
from kestrelmist.gather.remove_identity import deidentify
from kestrelmist.gather.sought_words import SoughtWords
from tests.making import PlaceCase, dicom_folder, straight_space, two_balls

TEXT = ("AE", "AS", "CS", "DA", "DS", "DT", "IS", "LO", "LT", "PN", "SH", "ST", "TM", "UC", "UI", "UR", "UT")
BYTES = ("OB", "OW", "UN", "OF", "OD", "OL", "OV")
WORDS = ("WALDEMARIUS", "Zß大夫 +49", "Xq 3.12.1961")
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


class PlantedCase(PlaceCase):
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


class PlantedTest(PlantedCase):
    def test_after_the_pixels(self):
        word = "WALDEMARIUS"
        for form, value in (("OB", word.encode() + b"\0"), ("UC", word.encode() + b" ")):
            ds = pydicom.dcmread(self.path)
            for tag in (0x7FE00020, 0x7FE00030, 0x7FE00040, 0xFFFCFFFC):
                ds._dict[Tag(tag)] = raw(tag, form, value)
            found = self.cleaned(ds)
            self.require_gone(word, found)
            read = pydicom.dcmread(io.BytesIO(found))
            self.assertEqual([t for t in read.keys() if t > 0x7FE00010], [])
            np.testing.assert_array_equal(read.pixel_array, ds.pixel_array)

    def test_what_comes_after_the_pixels_is_searched_too(self):
        ds = pydicom.dcmread(self.path)
        ds.save_as(self.place / "tail.dcm", enforce_file_format=True)
        with open(self.place / "tail.dcm", "ab") as stream:
            stream.write(b"WALDEMARIUS")
        header, words = read_header(self.place / "tail.dcm"), IdentityWords()
        words.add_name("Waldemarius")
        sought = SoughtWords(words)
        found = sought.first_in_dicom(self.place / "tail.dcm", header.offset, False, header.bytes_needed)
        self.assertEqual(found.casefold(), "waldemarius")

    def test_a_private_creator_stays_out_of_the_report(self):
        ds = pydicom.dcmread(self.path)
        block = ds.private_block(0x0011, "WALDEMARIUS 7", create=True)
        block.add_new(0x01, "LO", "nothing")
        source = self.place / "private"
        source.mkdir()
        ds.save_as(source / "a.dcm", enforce_file_format=True)
        shown = deidentify(source, self.place / "out")
        for text in ((self.place / "out" / "identity-report.csv").read_text(encoding="utf-8"), str(shown.rows)):
            self.assertNotIn("WALDEMARIUS", text)
            self.assertIn("private", text)

    def test_identifiers_and_dates_as_numbers(self):
        ds = pydicom.dcmread(self.path)
        ds.PatientID, ds.StudyDate, ds.PatientBirthDate, ds.AccessionNumber = (
            "A-47119",
            "20260317",
            "19611203",
            "778812",
        )
        told = {"SeriesNumber": 4711, "AcquisitionNumber": 20260317, "InstanceNumber": 778812}
        told |= {"AcquisitionsInSeries": 3121961, "ImagesInAcquisition": 31261}
        for keyword, value in told.items():
            setattr(ds, keyword, value)
        ds.EchoTrainLength, ds.Rows = 4711, ds.Rows
        ds.RepetitionTime, ds.ImagingFrequency = "2026.0", "123.196112"
        found = self.cleaned(ds)
        read = pydicom.dcmread(io.BytesIO(found))
        for keyword, value in told.items():
            if keyword != "ImagesInAcquisition":  # five digits of no date
                self.assertNotEqual(read.get(keyword), value, keyword)
        self.assertTrue(1 <= read.SeriesNumber < 1000)
        self.assertEqual((read.EchoTrainLength, read.RepetitionTime, read.ImagingFrequency), (4711, 2026, 123.196112))
        again = pydicom.dcmread(io.BytesIO(self.cleaned(ds)))
        self.assertEqual(again.SeriesNumber, read.SeriesNumber)

    def test_in_every_element_of_text(self):
        for word in WORDS:
            self.require_gone(word, self.cleaned(self.planted(word, TEXT)))
        for date in ("20240311waldi7", "101500Waldi.7"):  # a date, or a time, with something behind it
            found = self.cleaned(self.planted(date, ("DA", "DT", "TM")), Rules(dates="shift"))
            self.require_gone(date[-6:], found)

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


class PixelCarrierTest(PlaceCase):
    """Pixel data carries more than pixels."""

    WORD = b"WALDEMARIUS"

    def file(self, syntax: str = "", shape=(64, 48), bits: int = 8) -> Dataset:
        values = np.random.default_rng(3).integers(0, 200, shape).astype(np.uint8 if bits == 8 else np.uint16)
        values[4:12] = 7
        dicom_folder(self.place / "source", two_balls())
        ds = pydicom.dcmread(sorted(p for p in (self.place / "source").rglob("*") if p.is_file())[0])
        ds.Rows, ds.Columns, ds.BitsAllocated, ds.BitsStored, ds.HighBit = *shape, bits, bits, bits - 1
        ds.PixelRepresentation, ds.PixelData = 0, values.tobytes()
        for keyword in ("RescaleIntercept", "RescaleSlope"):
            if keyword in ds:
                delattr(ds, keyword)
        if syntax:
            ds.compress(syntax, generate_instance_uid=False)
        self.values = values
        return ds

    def frame(self, ds) -> bytes:
        return next(generate_frames(ds.PixelData, number_of_frames=1))

    def cleaned(self, ds) -> Dataset:
        source = self.place / "planted.dcm"
        ds.save_as(source, enforce_file_format=True)
        self.assertIn(self.WORD, source.read_bytes())
        target = self.place / f"clean {len(list(self.place.iterdir()))}"
        deidentify_files([source], target, Cleaner(Rules(), b"secret"), None, check_pixels=False)
        found = (target / "00001.dcm").read_bytes()
        self.assertNotIn(self.WORD, found)
        return pydicom.dcmread(target / "00001.dcm")

    def same(self, ds) -> None:
        np.testing.assert_array_equal(pydicom.pixels.pixel_array(ds, raw=True), self.values)

    def test_after_the_last_pixel(self):
        ds = self.file()
        ds.PixelData = ds.PixelData + self.WORD + b" "
        self.same(self.cleaned(ds))

    def test_in_a_picture_in_a_picture(self):
        ds = self.file()
        inner = Dataset()
        inner.Rows, inner.Columns, inner.BitsAllocated, inner.PixelData = 1, 12, 8, self.WORD + b" "
        ds.SourceImageSequence = [inner]
        self.same(self.cleaned(ds))

    def test_in_comments_of_packed_pictures(self):
        comment = b"\xff\xfe" + struct.pack(">H", len(self.WORD) + 2) + self.WORD
        camera = b"\xff\xe1" + struct.pack(">H", len(self.WORD) + 8) + b"Exif\0\0" + self.WORD
        j2k = b"\xff\x64" + struct.pack(">HH", len(self.WORD) + 4, 1) + self.WORD
        for syntax, put in (
            (JPEGLSLossless, lambda d: d[:2] + comment + camera + d[2:]),
            (JPEG2000Lossless, lambda d: _before(d, b"\xff\x90", j2k)),
            (JPEG2000Lossless, lambda d: _in_tile(d, j2k)),
        ):
            for bits in (8, 16):
                ds = self.file(syntax, bits=bits)
                ds.PixelData = encapsulate([put(self.frame(ds))])
                self.same(self.cleaned(ds))

    def test_a_lossy_picture_keeps_its_coded_bytes(self):
        import imagecodecs

        ds = self.file()
        packed = imagecodecs.jpeg8_encode(self.values, level=80)
        before = imagecodecs.jpeg8_decode(packed)
        comment = b"\xff\xfe" + struct.pack(">H", len(self.WORD) + 2) + self.WORD
        ds.file_meta.TransferSyntaxUID = JPEGBaseline8Bit
        ds.PixelData = encapsulate([packed[:2] + comment + packed[2:] + b"\0" + self.WORD])
        ds["PixelData"].is_undefined_length = True
        found = self.cleaned(ds)
        np.testing.assert_array_equal(imagecodecs.jpeg8_decode(self.frame(found)), before)

    def test_after_the_end_and_in_another_fragment(self):
        for syntax in (JPEGLSLossless, JPEG2000Lossless, RLELossless):
            ds = self.file(syntax, bits=16)
            ds.PixelData = encapsulate([self.frame(ds) + self.WORD + b" "])
            self.same(self.cleaned(ds))
            ds = self.file(syntax)
            ds.PixelData = encapsulate([self.frame(ds), self.WORD + b" "])
            self.same(self.cleaned(ds))

    def test_a_stream_that_is_none_is_refused(self):
        ds = self.file(JPEG2000Lossless)
        ds.PixelData = encapsulate([self.WORD * 4])
        with self.assertRaises(Trouble):
            self.cleaned(ds)


class OtherFormatsTest(PlaceCase):
    WORD = "WALDEMARIUS"

    def test_text_of_other_formats_goes(self):
        values = np.arange(2 * 6 * 5 * 4, dtype=np.uint16).reshape(6, 5, 4, 2)
        image = Image(
            lambda index, progress: values[..., index[0]],
            replace(straight_space((6, 5, 4)), world=World(f"scanner of {self.WORD}")),
            self.WORD,
            self.WORD,
            unit=self.WORD[:8],
            facts={"Artist": self.WORD, "Make": self.WORD},
            axes=(Axis("channel", 2, labels=(self.WORD, "lipid")),),
        )
        (self.place / "in").mkdir()
        for name in ("a.nii.gz", "a.nii", "a.nrrd", "a.ome.tif", "a.ome.zarr"):
            save_image(self.place / "in" / name, image)
        deidentify(self.place / "in", self.place / "out")
        made = sorted(p for p in (self.place / "out").iterdir() if p.name != "identity-report.csv")
        self.assertEqual(len(made), 5)
        for path in (self.place / "out").rglob("*"):
            self.assertNotIn(self.WORD[:8].lower(), str(path.relative_to(self.place)).lower())
            if path.is_file():
                data = path.read_bytes()
                data += gzip.decompress(data) if path.suffix == ".gz" else b""
                self.assertNotIn(self.WORD[:8].encode(), data, path.name)
        for path in made:
            back = open_image(path)
            for n in range(2):
                np.testing.assert_array_equal(np.squeeze(back.stored((n,)).exact()), values[..., n])


class NumbersTest(PlantedCase):
    def test_letters_packed_into_numbers(self):
        """Eight letters are a number too, but not one that anybody has measured."""
        ds = pydicom.dcmread(self.path)
        word = b"WALDEMARIUSXYZQU"
        for tag, (vr, vm, _, _, keyword) in DicomDictionary.items():
            kind = vr.split(" or ")[-1]
            size = {"FD": 8, "UL": 4, "US": 2, "FL": 4, "SL": 4, "SS": 2, "SV": 8, "UV": 8, "AT": 4}.get(kind)
            if size and keyword and keyword not in NEEDED and plain(tag) and "OW" not in vr:
                count = 16 if vm.endswith("n") else int(vm.split("-")[-1])
                part = (word * 16)[: size * count]
                if len(part) >= 8:
                    ds._dict[Tag(tag)] = raw(tag, kind, part)
        self.require_gone("WALDEMAR", self.cleaned(ds))

    def test_more_numbers_than_the_standard_allows(self):
        ds = pydicom.dcmread(self.path)
        ds._dict[Tag(0x00181310)] = raw(0x00181310, "US", b"\1\0\2\0\3\0\4\0")  # four, as it should be
        ds._dict[Tag(0x00189087)] = raw(0x00189087, "FD", struct.pack("<3d", 1.0, 2.0, 3.0))  # one is allowed
        found = pydicom.dcmread(io.BytesIO(self.cleaned(ds)))
        self.assertEqual(list(found.AcquisitionMatrix), [1, 2, 3, 4])
        self.assertNotIn("DiffusionBValue", found)

    def test_private_elements_known_to_be_safe_are_looked_at(self):
        from kestrelmist.gather.identity_profile import SAFE_PRIVATE

        ds = pydicom.dcmread(self.path)
        good, bad = [], []
        for n, (creator, group, element) in enumerate(sorted(SAFE_PRIVATE)):
            block = ds.private_block(group, creator, create=True)
            vr, value = ("FD", 1.5) if n % 3 == 0 else ("LO", "WALDEMARIUS") if n % 3 == 1 else ("DS", "12")
            block.add_new(element, vr, value)
            (bad if vr == "LO" else good).append(block.get_tag(element))
        found = pydicom.dcmread(io.BytesIO(self.cleaned(ds)))
        self.assertEqual([t for t in good if t not in found], [])
        self.assertEqual([t for t in bad if t in found], [])

    def test_an_option_keeps_numbers_only_where_numbers_belong(self):
        ds = self.planted("WALDEMARIUS", ("DS", "IS", "AS", "CS", "DA", "TM"))
        self.require_gone("WALDEMARIUS", self.cleaned(ds, Rules(characteristics=True, device=True)))


class CameraTest(PlaceCase):
    """Pictures know where they were taken."""

    def gps(self) -> bytes:
        """Facts of a camera (EXIF 2.3), as a TIFF of their own: latitude 51° N, and who has taken it."""
        name = b"WALDEMARIUS\0"
        head = b"II*\0\x08\0\0\0" + struct.pack("<H", 2)
        head += struct.pack("<HHII", 0x013B, 2, len(name), 100)  # Artist
        head += struct.pack("<HHII", 0x8825, 4, 1, 50) + b"\0\0\0\0"
        place = struct.pack("<H", 2) + struct.pack("<HHI4s", 1, 2, 2, b"N\0\0\0")
        place += struct.pack("<HHII", 2, 5, 3, 120) + b"\0\0\0\0"
        rationals = struct.pack("<6I", 51, 1, 28, 1, 385151, 10000)
        return head.ljust(50, b"\0") + place.ljust(50, b"\0") + name.ljust(20, b"\0") + rationals

    def test_where_a_picture_was_taken_goes(self):
        import imagecodecs
        import tifffile

        values = np.random.default_rng(4).integers(0, 255, (40, 50, 3)).astype(np.uint8)
        folder = self.place / "in"
        folder.mkdir()
        packed = imagecodecs.jpeg8_encode(values, level=95)
        exif = b"Exif\0\0" + self.gps()
        camera = b"\xff\xe1" + struct.pack(">H", len(exif) + 2) + exif
        comment = b"\xff\xfe" + struct.pack(">H", 13) + b"WALDEMARIUS"
        (folder / "photo.jpg").write_bytes(packed[:2] + camera + comment + packed[2:])
        place = struct.pack("<I", 385151)
        tags = [(65000, 4, 1, 0x11223344, True), (315, 2, 12, "WALDEMARIUS", True)]
        tifffile.imwrite(folder / "photo.tif", values, extratags=tags, description="WALDEMARIUS")
        data = (folder / "photo.tif").read_bytes()
        at = len(data) + len(data) % 2  # the place lies behind, as a directory of its own
        entry = struct.pack("<HHI", 34853, 4, 1) + struct.pack("<I", at + 50)
        data = data.replace(struct.pack("<HHII", 65000, 4, 1, 0x11223344), entry).ljust(at, b"\0") + self.gps()
        (folder / "photo.tif").write_bytes(data)
        with tifffile.TiffFile(folder / "photo.tif") as file:
            self.assertEqual(file.pages[0].tags[34853].value["GPSLatitudeRef"], "N")
        for path in folder.iterdir():
            self.assertTrue(place in path.read_bytes(), path.name)
        deidentify(folder, self.place / "out")
        made = [p for p in (self.place / "out").iterdir() if p.suffix != ".csv"]
        self.assertEqual(len(made), 2)
        for path in made:
            data = path.read_bytes()
            for left in (place, b"WALDEMARIUS", b"Exif"):
                self.assertFalse(left in data, f"{path.name}: {left!r}")
            self.assertEqual(open_image(path).rgb().shape, (50, 40, 1, 3))


def _before(data: bytes, marker: bytes, what: bytes) -> bytes:
    at = data.index(marker)
    return data[:at] + what + data[at:]


def _in_tile(data: bytes, what: bytes) -> bytes:
    """A comment in the header of the first part of a tile, its length put right."""
    at = data.index(b"\xff\x90")
    length = struct.unpack_from(">I", data, at + 6)[0]
    head = data[:at] + data[at : at + 6] + struct.pack(">I", length + len(what) if length else 0)
    return head + data[at + 10 : at + 12] + what + data[at + 12 :]


if __name__ == "__main__":
    unittest.main()
