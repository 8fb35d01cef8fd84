"""Identity: header, pixels, words burned in, and the check that nothing was left."""

import csv
import importlib.util
import shutil
from pathlib import Path
from unittest import mock

import numpy as np
import pydicom
from pydicom.uid import JPEG2000Lossless

from kestrelmist.core.errors import Asks, Trouble
from kestrelmist.core.image import Image
from kestrelmist.demo.burned_words import burn
from kestrelmist.demo.scenes.heart_clip import KEEPER, write_clip
from kestrelmist.demo.scenes.planar_pair import write_planar_pair
from kestrelmist.formats.dicom.scan import scan_folder
from kestrelmist.formats.dicom.series import series_image
from kestrelmist.formats.nifti import read_nifti
from kestrelmist.formats.opening import open_image
from kestrelmist.gather.burned_text import text_boxes, text_in
from kestrelmist.gather.clean_header import Cleaner, shifted
from kestrelmist.gather.clean_pixels import PixelRule
from kestrelmist.gather.deidentify import deidentify_files
from kestrelmist.gather.identity_profile import Rules
from kestrelmist.gather.remove_identity import Cleaning, deidentify, deidentify_image
from kestrelmist.study.study import Study
from tests.dicom_making import CT, item, stack
from tests.making import PlaceCase, labelled, straight_space

RNG = np.random.default_rng(31)
NAMES = {
    "PatientName": "Alder^Robin",
    "PatientID": "K-7781",
    "PatientBirthDate": "19600705",
    "PatientSex": "F",
    "PatientAge": "071Y",
    "PatientWeight": "70",
    "AccessionNumber": "ACC4471",
    "InstitutionName": "Hollowmere Infirmary",
    "InstitutionAddress": "1 Mere Lane",
    "ReferringPhysicianName": "Birch^Ada",
    "OperatorsName": "Rowan^Kit",
    "OtherPatientIDs": ["K-1", "NHS9981"],
    "StudyID": "ST77",
    "StudyDescription": "Alder, follow-up",
    "SeriesDescription": "Chest Alder thin",
    "DeviceSerialNumber": "SN-5512",
    "StationName": "CTROOM2",
    "StudyDate": "20240311",
    "SeriesDate": "20240311",
    "AcquisitionDate": "20240311",
    "ContentDate": "20240311",
    "StudyTime": "101500",
    "PatientComments": "Brother of K-7780",
    "ImageComments": "for Dr Birch",
    "RequestedProcedureDescription": "Thorax",
    "PatientTelephoneNumbers": "555 0100",
}


class IdentityCase(PlaceCase):
    def setUp(self):
        super().setUp()
        self.folder = self.place / "scans"
        self.folder.mkdir()

    def series(self, **more):
        values = RNG.integers(0, 3000, (9, 8, 4)).astype(np.uint16)
        self.space = stack(
            self.folder, values, sop=CT, modality="CT", AcquisitionTime=lambda k: f"1015{10 + k:02d}", **(NAMES | more)
        )
        for path in self.folder.iterdir():
            ds = pydicom.dcmread(path)
            block = ds.private_block(0x0099, "HOLLOWMERE", create=True)
            block.add_new(1, "LO", "Alder was here")
            safe = ds.private_block(0x0019, "HOLLOWMERE MR HEADER", create=True)
            safe.add_new(0x28, "FD", 12.5)
            ds.RequestAttributesSequence = [item(ScheduledProcedureStepDescription="Thorax Alder")]
            ds.SourceImageSequence = [
                item(
                    ReferencedSOPClassUID=CT,
                    ReferencedSOPInstanceUID="1.2.3.4.5",
                    PersonIdentificationCodeSequence=[item(CodeValue="1", CodeMeaning="x")],
                )
            ]
            ds.save_as(path)
        return values

    def clean(self, rules=Rules(), subject="", pixels=None, key=b"secret"):
        files = sorted(p for p in self.folder.rglob("*") if p.is_file())
        place = self.place / f"clean{len(list(self.place.iterdir()))}"
        outcome = deidentify_files(files, place, Cleaner(rules, key, subject), pixels)
        return [pydicom.dcmread(p) for p in outcome.files.values()], outcome, place


class HeaderTest(IdentityCase):
    def test_nothing_that_names_anybody_is_left(self):
        self.series()
        found, outcome, place = self.clean()
        for path in place.iterdir():
            raw = path.read_bytes()
            for word in (
                b"Alder",
                b"Robin",
                b"K-7781",
                b"19600705",
                b"ACC4471",
                b"Hollowmere Infirmary",
                b"Birch",
                b"Rowan",
                b"NHS9981",
                b"ST77",
                b"SN-5512",
                b"CTROOM2",
                b"20240311",
                b"101500",
                b"Brother",
                b"555 0100",
                b"Mere Lane",
                b"071Y",
            ):
                self.assertNotIn(word, raw)
        ds = found[0]
        self.assertEqual(
            (ds.PatientIdentityRemoved, ds.LongitudinalTemporalInformationModified, ds.PatientSex),
            ("YES", "REMOVED", ""),
        )
        self.assertRegex(str(ds.PatientID), r"^S-[0-9a-f]{6}$")
        self.assertEqual(str(ds.PatientID), str(ds.PatientName))
        self.assertEqual(ds.DeidentificationMethodCodeSequence[0].CodeValue, "113100")
        self.assertNotIn("PatientSpeciesDescription", ds)
        self.assertNotIn("RequestAttributesSequence", ds)
        self.assertEqual(ds.SourceImageSequence[0].ReferencedSOPClassUID, CT)
        self.assertRegex(ds.SourceImageSequence[0].ReferencedSOPInstanceUID, r"^2\.25\.\d+$")
        self.assertEqual(ds[0x0019, 0x1028].value, 12.5)
        self.assertNotIn((0x0099, 0x1001), ds)
        self.assertEqual(outcome.done[("PatientName", "(0010,0010)", "replaced")], 4)
        self.assertEqual(outcome.done[("InstitutionName", "(0008,0080)", "removed")], 4)

    def test_pixels_places_and_the_original_are_untouched(self):
        values = self.series()
        before = {p: p.read_bytes() for p in self.folder.iterdir()}
        _, _, place = self.clean()
        image = series_image(scan_folder(place)[0])
        for voxel in np.ndindex(9, 8, 4):
            self.assertEqual(image.data[image.space.nearest_voxel(self.space.to_world(voxel))], values[voxel])
        self.assertEqual({p: p.read_bytes() for p in self.folder.iterdir()}, before)

    def test_identifiers_are_new_and_the_same_each_time(self):
        self.series()
        old = {
            k: {str(pydicom.dcmread(p)[k].value) for p in self.folder.iterdir()}
            for k in ("StudyInstanceUID", "SeriesInstanceUID", "SOPInstanceUID", "FrameOfReferenceUID")
        }
        first, second, other = self.clean()[0], self.clean()[0], self.clean(key=b"another")[0]
        for keyword, values in old.items():
            new = [str(ds[keyword].value) for ds in first]
            self.assertEqual(len(set(new)), len(values))
            self.assertTrue(all(len(n) <= 64 and n.startswith("2.25.") for n in new))
            self.assertFalse(set(new) & values)
            self.assertEqual(new, [str(ds[keyword].value) for ds in second])
            self.assertNotEqual(new, [str(ds[keyword].value) for ds in other])
        self.assertEqual(first[0].file_meta.MediaStorageSOPInstanceUID, first[0].SOPInstanceUID)

    def test_dates_shifted_keep_their_distance(self):
        self.series()
        path = sorted(self.folder.iterdir())[0]
        ds = pydicom.dcmread(path)
        ds.ContentDate, ds.AcquisitionDateTime = "20240318", "20240311101510.5"
        ds.save_as(path)
        ds = self.clean(Rules(dates="shift"))[0][0]
        self.assertNotEqual(ds.StudyDate, "20240311")
        self.assertEqual(shifted("20240318", 7), "20240311")
        days = lambda text: np.datetime64(f"{text[:4]}-{text[4:6]}-{text[6:8]}")  # noqa: E731
        self.assertEqual(days(ds.ContentDate) - days(ds.StudyDate), np.timedelta64(7, "D"))
        self.assertEqual(
            (ds.AcquisitionTime, ds.AcquisitionDateTime[8:], ds.LongitudinalTemporalInformationModified),
            ("101510", "101510.5", "MODIFIED"),
        )
        self.assertLess(days(ds.StudyDate), days("20240311"))

    def test_times_become_times_since_the_start(self):
        self.series()
        self.assertEqual([ds.AcquisitionTime for ds in self.clean()[0]], [f"0000{n:02d}.000000" for n in range(4)])

    def test_options_keep_what_they_say(self):
        self.series()
        ds = self.clean(Rules(characteristics=True, device=True, descriptions=True, safe_private=False), "HM-99")[0][0]
        self.assertEqual(
            (ds.PatientSex, ds.PatientAge, ds.PatientWeight, ds.DeviceSerialNumber, ds.StationName),
            ("F", "071Y", 70, "SN-5512", "CTROOM2"),
        )
        self.assertEqual((ds.SeriesDescription, ds.PatientID), ("Chest thin", "HM-99"))
        self.assertNotIn((0x0019, 0x1028), ds)
        self.assertEqual(
            [i.CodeValue for i in ds.DeidentificationMethodCodeSequence], ["113100", "113108", "113109", "113105"]
        )

    def test_words_typed_where_codes_belong_are_taken_out(self):
        self.series()
        for path in self.folder.iterdir():
            ds = pydicom.dcmread(path)
            ds.ImageType, ds.ConvolutionKernel = ["ORIGINAL", "PRIMARY", "ALDER"], "B30 for alder"
            ds.save_as(path)
        found, outcome, _ = self.clean()
        self.assertEqual(list(found[0].ImageType), ["ORIGINAL", "PRIMARY", "OTHER"])
        self.assertNotIn("ConvolutionKernel", found[0])
        self.assertEqual(outcome.done[("ImageType", "(0008,0008)", "cleaned")], 4)
        found, _, _ = self.clean(Rules(descriptions=True))
        self.assertEqual(
            (list(found[0].ImageType), found[0].ConvolutionKernel), (["ORIGINAL", "PRIMARY", "REMOVED"], "B30 for")
        )

    def test_what_would_leak_is_refused_and_nothing_is_kept(self):
        from kestrelmist.gather import clean_header, identity_profile

        self.series()
        wrong = {("HOLLOWMERE", 0x0099, 0x01)}  # as if the list of safe ones were wrong
        with mock.patch.object(identity_profile, "SAFE_PRIVATE", wrong):
            _, _, place = self.clean()  # its form says that it is no number
            self.assertNotIn("HOLLOWMERE", str(pydicom.dcmread(next(place.iterdir()))))
            shutil.rmtree(place)
            with mock.patch.object(clean_header, "is_safe_private", lambda element: True):
                with self.assertRaisesRegex(Trouble, "“Alder” still stands in the result"):
                    self.clean()
        self.assertEqual([p.name for p in self.place.iterdir()], ["scans"])

    def test_short_numbers_as_identifiers_are_no_hindrance(self):
        self.series(PatientID="001", StationName="CT1")
        (ds, *_), _, _ = self.clean()
        self.assertNotEqual(str(ds.PatientID), "001")

    def test_a_broken_file_stops_it_whole(self):
        self.series()
        path = sorted(self.folder.iterdir())[2]
        path.write_bytes(path.read_bytes()[:150])
        with self.assertRaises(Trouble) as caught:
            self.clean()
        self.assertIn(path.name, str(caught.exception))
        self.assertEqual([p.name for p in self.place.iterdir()], ["scans"])
        table = deidentify(self.folder, self.place / "rest")  # of a folder the others are done, and the report says so
        (line,) = [row for row in table.rows if row[0] == path.name]
        self.assertIn("left out: ", line[2])
        self.assertEqual(len(list((self.place / "rest").glob("*.dcm"))), 3)
        self.assertIn("left out", (self.place / "rest" / "identity-report.csv").read_text())
        for one in self.folder.iterdir():
            one.write_bytes(one.read_bytes()[:150])
        with self.assertRaises(Trouble):
            deidentify(self.folder, self.place / "none")
        self.assertFalse((self.place / "none").exists())


class ProfileTest(IdentityCase):
    """The table itself, against the standard's dictionary of elements."""

    def elements(self):
        from types import SimpleNamespace

        from pydicom.datadict import DicomDictionary
        from pydicom.tag import Tag

        for number, (vr, _, _, _, keyword) in DicomDictionary.items():
            if keyword and Tag(number).group not in (2, 4):
                yield SimpleNamespace(keyword=keyword, VR=vr.split(" ")[0], tag=Tag(number))

    def test_every_keyword_is_one_of_the_standard(self):
        from pydicom.datadict import tag_for_keyword

        from kestrelmist.gather import identity_profile as profile

        for table in (
            profile.REMOVED,
            profile.EMPTIED,
            profile.DUMMIES,
            profile.CHARACTERISTICS,
            profile.DEVICE,
            profile.DESCRIPTIONS,
            profile.SAFE,
        ):
            self.assertEqual([k for k in table if tag_for_keyword(k) is None], [])

    def test_every_element_has_a_reason_to_stay_or_goes(self):
        from kestrelmist.gather import identity_profile as profile
        from kestrelmist.gather.stays_table import standard_elements, what_stays

        stays = {row[1]: row for row in what_stays().rows}
        self.assertGreater(len(stays), 2000)
        free = (*profile.FREE_TEXT, "PN", "AE", "UN")
        named = profile.SAFE | profile.NEEDED | profile.DUMMIES | profile.CODE_PARTS | profile.SUBJECTS
        for element in standard_elements():
            action, row = Rules().action(element), stays.get(element.keyword)
            self.assertEqual(row is None, action in (profile.REMOVE, profile.EMPTY), element.keyword)
            if row is not None and element.VR in free:
                self.assertIn(element.keyword, named)
            if row is not None and element.VR in profile.BYTES:
                self.assertTrue(element.tag.group == profile.PIXELS or element.keyword in profile.TABLES)
        for keyword in (
            *("AcquisitionDeviceProcessingDescription", "EthnicGroupCodeSequence", "PersonIdentificationCodeSequence"),
            *("ReferencedStudySequence", "ReferencedPerformedProcedureStepSequence", "ROIObservationLabel"),
            *("PatientBodyMassIndex", "DischargeDiagnosisCodeSequence", "ScheduledProcedureStepSequence"),
            *("EncryptedAttributesSequence", "GPSLatitude", "OverlayRows", "BillingItemSequence", "WaveformSequence"),
        ):
            self.assertNotIn(keyword, stays)

    def test_the_table_in_the_documents_is_the_one_in_force(self):
        place = Path(__file__).parents[1] / "docs"
        spec = importlib.util.spec_from_file_location("elements", place / "elements.py")
        elements = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(elements)
        self.assertEqual((place / "identity-elements.md").read_text(encoding="utf-8"), elements.text())

    def test_no_person_date_identifier_or_free_text_slips_through(self):
        from kestrelmist.gather import identity_profile as profile

        rules, kept = Rules(), []
        for element in self.elements():
            action = rules.action(element)
            if element.VR in ("PN", "AE", "UN"):
                self.assertNotEqual(action, profile.KEEP, element.keyword)
            if element.VR in ("DA", "DT", "TM", "UI"):
                self.assertNotIn(action, (profile.KEEP, profile.DUMMY), element.keyword)
            if element.VR in profile.FREE_TEXT and action == profile.KEEP:
                kept.append(element.keyword)
        self.assertLessEqual(set(kept), profile.CODE_PARTS)
        for keyword in (
            "PatientName",
            "PatientID",
            "TextValue",
            "UnformattedTextValue",
            "ImageComments",
            "OperatorsName",
            "PatientAddress",
            "InstitutionName",
            "DeviceSerialNumber",
        ):
            self.assertNotIn(keyword, kept)
        for keyword in (
            "Rows",
            "PixelSpacing",
            "ImagePositionPatient",
            "RescaleSlope",
            "EchoTime",
            "PatientPosition",
            "CodeMeaning",
            "StackID",
            "BodyPartExamined",
        ):
            element = next(e for e in self.elements() if e.keyword == keyword)
            self.assertIn(rules.action(element), (profile.KEEP, profile.CHECKED), keyword)

    def test_a_real_world_header_keeps_what_an_image_needs(self):
        from tests.dicom_making import enhanced

        space = straight_space((7, 9, 6))
        enhanced(
            self.folder / "e",
            RNG.integers(0, 99, (2, 6, 9, 7)).astype(np.uint16),
            space,
            MREchoSequence=[item(EffectiveEchoTime=42.0)],
        )
        before = series_image(scan_folder(self.folder)[0])
        _, _, place = self.clean()
        after = series_image(scan_folder(place)[0])
        self.assertEqual(after.shape, before.shape)
        np.testing.assert_allclose(after.space.affine, before.space.affine)
        for t in range(2):
            np.testing.assert_array_equal(after.stored((t,)).exact(), before.stored((t,)).exact())


class PixelsTest(IdentityCase):
    def test_keep_an_area_of_every_picture_of_a_packed_clip(self):
        write_clip(self.folder, "T-5", frames=5)
        before = series_image(scan_folder(self.folder)[0])
        (ds,), outcome, place = self.clean(pixels=PixelRule("keep", (0, 60, 468, 300)))
        after = series_image(scan_folder(place)[0])
        self.assertEqual(outcome.pictures_changed, 5)
        for t in range(5):
            kept = after.rgb((t,))[:, :, 0]
            self.assertEqual(int(kept[:, :60].max()), 0)
            self.assertEqual(int(kept[468:].max()), 0)
            np.testing.assert_array_equal(kept[:468, 60:], before.rgb((t,))[:468, 60:, 0])
        self.assertEqual((outcome.texts, ds.BurnedInAnnotation, ds.PhotometricInterpretation), ([], "NO", "RGB"))
        self.assertIn("113101", [i.CodeValue for i in ds.DeidentificationMethodCodeSequence])

    def test_words_that_are_left_are_said_and_flagged(self):
        write_clip(self.folder, "T-5", frames=5)
        path = next(p for p in self.folder.rglob("clip"))
        ds = pydicom.dcmread(path)
        ds.BurnedInAnnotation = "NO"  # not true
        ds.save_as(path)
        (ds,), outcome, _ = self.clean()
        self.assertEqual(ds.BurnedInAnnotation, "YES")
        self.assertEqual(outcome.texts[0][1:], (1, 5))
        self.assertIn("Words likely left", outcome.report("x").rows[0][0])

    def test_blank_in_one_picture_only_and_in_packed_slices(self):
        values = self.series()
        big = RNG.integers(1, 3000, (64, 48, 3)).astype(np.uint16)
        for path in self.folder.iterdir():
            path.unlink()
        stack(self.folder, big, sop=CT, modality="CT", **NAMES)
        for path in self.folder.iterdir():
            ds = pydicom.dcmread(path)
            ds.compress(JPEG2000Lossless, generate_instance_uid=False)
            ds.save_as(path)
        found, outcome, _ = self.clean(pixels=PixelRule("blank", (4, 6, 10, 20), only=1, fill=7))
        self.assertEqual(outcome.pictures_changed, 1)
        for k, ds in enumerate(found):
            wanted = big[:, :, k].T.copy()
            if k == 1:
                wanted[6:26, 4:14] = 7
            np.testing.assert_array_equal(ds.pixel_array, wanted)
        self.assertEqual(values.shape[2], 4)

    def test_every_way_of_storing_is_blanked_alike(self):
        from pydicom.uid import (
            DeflatedExplicitVRLittleEndian,
            ExplicitVRBigEndian,
            ExplicitVRLittleEndian,
            ImplicitVRLittleEndian,
            RLELossless,
        )

        values = RNG.integers(1, 3000, (9, 7, 1)).astype(np.uint16)  # an odd number of pixels
        for syntax in (
            ExplicitVRLittleEndian,
            ImplicitVRLittleEndian,
            DeflatedExplicitVRLittleEndian,
            ExplicitVRBigEndian,
            RLELossless,
        ):
            for path in self.folder.iterdir():
                path.unlink()
            stack(self.folder, values, sop=CT, modality="CT", **NAMES)
            path = self.folder / "0000"
            ds = pydicom.dcmread(path)
            if syntax == RLELossless:
                ds.compress(syntax, generate_instance_uid=False)
                ds.save_as(path)
            else:
                if syntax == ExplicitVRBigEndian:
                    ds.PixelData = ds.pixel_array.astype(">u2").tobytes()
                ds.file_meta.TransferSyntaxUID = syntax
                pydicom.dcmwrite(
                    path,
                    ds,
                    implicit_vr=syntax.is_implicit_VR,
                    little_endian=syntax.is_little_endian,
                    force_encoding=True,
                )
            with self.subTest(syntax=syntax.name):
                for rule in (PixelRule("blank", (2, 1, 3, 4), fill=7), None):
                    (found,), _, _ = self.clean(pixels=rule)
                    wanted = values[:, :, 0].T.copy()
                    if rule:
                        wanted[1:5, 2:5] = 7
                    np.testing.assert_array_equal(found.pixel_array, wanted)
                    self.assertEqual(
                        (found.PatientIdentityRemoved, [float(v) for v in found.PixelSpacing]), ("YES", [0.4, 0.5])
                    )

    def test_an_area_outside_is_refused(self):
        self.series()
        with self.assertRaisesRegex(Trouble, "lies outside the picture of 9 × 8"):
            self.clean(pixels=PixelRule("blank", (100, 100, 5, 5)))

    def test_inside_or_outside_a_region_drawn_by_hand(self):
        values = self.series()
        image = series_image(scan_folder(self.folder)[0])
        labels = labelled(image, "Face")
        labels.kji[1:3, 2:5, 3:7] = 1
        labels.counts[:2] = (labels.kji.size - int((labels.kji == 1).sum()), int((labels.kji == 1).sum()))
        inside = labels.data == 1
        for what, filled in (("blank the area", inside), ("keep the area", ~inside)):
            made, _ = deidentify_image(image, labels, region="Face", how=Cleaning(pixels=what, fill=5))
            np.testing.assert_array_equal(made.data, np.where(filled, 5, image.data))
        self.assertEqual(values.shape, made.shape)

    def test_planar_pair_keeps_its_two_sides(self):
        write_planar_pair(self.folder, "T-5")
        before = series_image(scan_folder(self.folder)[0])
        _, _, place = self.clean(pixels=PixelRule("blank", (0, 0, 10, 10)))
        after = series_image(scan_folder(place)[0])
        np.testing.assert_array_equal(after.data[10:118], before.data[10:118])
        self.assertEqual(after.axes[0].labels, ("front", "back"))

    def test_no_words_is_said_only_after_a_look_at_every_picture(self):
        """Words in one slice of sixty, which a sample would pass by."""
        values = np.zeros((120, 60, 60), np.uint16)
        picture = np.zeros((60, 120), np.uint16)
        burn(picture, "ALDER R.", 30, 8, 3000, 2)
        values[:, :, 31] = picture.T
        stack(self.folder, values, sop=CT, modality="CT", **NAMES)
        found, outcome, _ = self.clean(pixels=PixelRule("blank", (0, 0, 10, 10)))
        self.assertEqual([t[2] for t in outcome.texts], [1])
        self.assertEqual({ds.BurnedInAnnotation for ds in found}, {"YES"})

    def test_an_area_is_that_of_the_picture_as_it_is_seen(self):
        """The back view of a planar pair is stored the other way round, and the slices of a tiled volume lie side by
        side in a file."""
        from kestrelmist.demo import anatomy
        from kestrelmist.demo.animal import Animal
        from kestrelmist.demo.scenes.odour_run import write_odour_run

        animal = Animal(
            "plain", np.full((anatomy.FIELDS, 3, 3, 3), -1, np.float32), *(np.zeros((3, 3, 3), np.float32),) * 2, 4
        )
        write_planar_pair(self.folder / "nm", "T-5")
        write_odour_run(self.folder / "mr", animal, "T-5", times=2)
        for name in ("nm", "mr"):
            image = series_image(scan_folder(self.folder / name)[0])
            for what in ("blank the area", "keep the area"):
                made, _ = deidentify_image(
                    image, labelled(image), how=Cleaning(pixels=what, area=(3, 5, 20, 30), fill=1)
                )
                inside = np.zeros(image.space.shape, bool)
                inside[3:23, 5:35] = True
                for index in image.indices():
                    np.testing.assert_array_equal(
                        made.stored(index).exact(),
                        np.where(inside == (what == "blank the area"), 1, image.stored(index).exact()),
                    )


class TextFinderTest(IdentityCase):
    def test_words_of_many_sizes_and_both_ways_are_found(self):
        found = 0
        for trial in range(40):
            picture = (
                (60 * RNG.random((200, 300)) + 40).astype(np.uint8) if trial % 2 else np.zeros((200, 300), np.uint8)
            )
            size, word = 1 + trial % 4, ("ALDER R", "HM-0731", "14:05:22", "KEEPER", "BORN 1960")[trial % 5]
            row, column = (
                int(RNG.integers(0, 200 - 7 * size - 2)),
                int(RNG.integers(0, max(1, 300 - 6 * size * len(word)))),
            )
            picture[max(row - 3, 0) : row + 7 * size + 3, max(column - 3, 0) : column + 6 * size * len(word) + 3] = (
                20 if trial % 3 else 235
            )
            burn(picture, word, row, column, 240 if trial % 3 else 10, size)
            boxes = text_boxes(picture[None])
            found += any(
                b.row <= row + 2 and b.row + b.rows >= row + 7 * size - 2 and b.column <= column + 8 * size
                for b in boxes
            )
        self.assertGreaterEqual(found, 38)

    def test_pictures_without_words_stay_quiet(self):
        from scipy import ndimage

        for trial in range(30):
            noise = RNG.standard_normal((200, 200))
            picture = (noise, ndimage.gaussian_filter(noise, 1.2), ndimage.gaussian_filter(noise, 4))[trial % 3]
            self.assertEqual(text_boxes(picture[None]), [], trial)

    def test_letters_that_move_are_no_text_but_those_that_stand_still_are(self):
        frames = (80 * RNG.random((8, 120, 200))).astype(np.uint8)
        for t in range(8):
            burn(frames[t], "ALDER", 20, 10 + 12 * t, 255, 2)
        self.assertEqual([b for b in text_boxes(frames) if b.row > 60], [])
        for t in range(8):
            burn(frames[t], KEEPER, 80, 10, 255, 2)
        (box,) = [b for b in text_boxes(frames) if b.row > 60]
        self.assertLess(abs(box.row - 80) + abs(box.column - 10), 4)

    def test_one_picture_of_many_is_named(self):
        volume = np.zeros((60, 140, 9), np.uint8).transpose(1, 0, 2).copy()
        picture = np.zeros((60, 140), np.uint8)
        burn(picture, "ALDER R.", 20, 10, 255, 2)
        volume[:, :, 6] = picture.T
        self.assertEqual(list(text_in(Image(volume, straight_space(volume.shape)))), [6])


class DoorsTest(IdentityCase):
    def test_a_folder_of_everything(self):
        self.series()
        from kestrelmist.formats.nifti import write_nifti

        write_nifti(
            self.folder / "brain of Alder.nii.gz",
            RNG.integers(0, 99, (5, 6, 7)).astype(np.int16),
            straight_space((5, 6, 7)),
            "Robin Alder",
        )
        table = deidentify(self.folder, self.place / "out", subject="HM-99")
        with open(self.place / "out" / "identity-report.csv") as stream:
            self.assertEqual(len(list(csv.reader(stream))), len(table.rows) + 1)
        self.assertNotIn("lder", (self.place / "out" / "identity-report.csv").read_text())
        stripped = read_nifti(self.place / "out" / "image 001.nii.gz")
        self.assertEqual(stripped.shape, (5, 6, 7))
        for path in (self.place / "out").iterdir():
            self.assertNotIn("lder", path.name)
        self.assertNotIn(b"Alder", bytes(str(stripped.facts), "utf8"))
        self.assertEqual(open_image(self.place / "out" / "00001.dcm").subject, "HM-99")
        with self.assertRaisesRegex(Trouble, "something of this name already"):
            deidentify(self.folder, self.place / "out")

    def test_texts_that_stay_are_looked_at_first(self):
        self.series(SeriesDescription="Chest Alder thin, Wren", ProtocolName="Lung 1 mm")
        with self.assertRaises(Asks) as caught:
            deidentify(self.folder, self.place / "out", how=Cleaning(keep_descriptions=True))
        asks = caught.exception
        self.assertFalse((self.place / "out").exists())
        texts = {row[0]: row[1:] for row in asks.table.rows}
        self.assertEqual(texts["Chest thin, Wren"], ("SeriesDescription", 4))
        self.assertEqual(texts["Lung 1 mm"], ("ProtocolName", 4))
        self.assertEqual([t for t in texts if "lder" in t or "Birch" in t], [])
        self.assertEqual((asks.setting, asks.more), ("reviewed", "take_out"))
        with self.assertRaises(Asks) as caught:  # other texts, another mark: a look at one list is none at the next
            deidentify(
                self.folder,
                self.place / "out",
                how=Cleaning(keep_descriptions=True, reviewed=asks.answer, take_out="wren"),
            )
        again = caught.exception
        self.assertNotEqual(again.answer, asks.answer)
        self.assertIn("Chest thin", [row[0] for row in again.table.rows])
        deidentify(
            self.folder,
            self.place / "out",
            how=Cleaning(keep_descriptions=True, reviewed=again.answer, take_out="wren"),
        )
        found = pydicom.dcmread(self.place / "out" / "00001.dcm")
        self.assertEqual((found.SeriesDescription, found.ProtocolName), ("Chest thin", "Lung 1 mm"))
        kept = set(again.table.column("text"))
        for element in found:
            if element.VR in ("LO", "SH", "LT", "ST", "UT") and not element.tag.is_private:
                known = {"", "REMOVED", "None", str(found.PatientID), str(found.DeidentificationMethod)}
                self.assertTrue(str(element.value) in kept | known, f"{element.keyword}: {element.value}")

    def test_a_word_in_one_file_is_taken_out_of_the_texts_of_all(self):
        self.series(SeriesDescription="Chest for Finch")
        path = sorted(self.folder.iterdir())[-1]
        ds = pydicom.dcmread(path)
        ds.OperatorsName = "Finch^Pat"
        ds.save_as(path)
        with self.assertRaises(Asks) as caught:
            deidentify(self.folder, self.place / "out", how=Cleaning(keep_descriptions=True))
        self.assertEqual([row for row in caught.exception.table.rows if "Finch" in str(row)], [])
        deidentify(
            self.folder, self.place / "out", how=Cleaning(keep_descriptions=True, reviewed=caught.exception.answer)
        )
        for path in (self.place / "out").glob("*.dcm"):
            self.assertEqual(pydicom.dcmread(path).SeriesDescription, "Chest for")

    def test_the_report_says_what_was_not_looked_into(self):
        self.series()
        table = deidentify(self.folder, self.place / "out")
        unseen = {row[0]: row[3] for row in table.rows if row[2] == "not looked into"}
        self.assertEqual(unseen["values of pixels, where words may be drawn"], 4)

    def test_cancel_in_the_middle_leaves_no_folder(self):
        from kestrelmist.core.errors import Cancelled
        from kestrelmist.core.progress import Progress
        from kestrelmist.formats.nifti import write_nifti

        self.series()
        for n in range(3):
            write_nifti(self.folder / f"{n}.nii", np.full((5, 6, 7), n, np.int16), straight_space((5, 6, 7)))
        for share in (0.3, 0.75, 0.9):
            progress = Progress()
            progress.listener = lambda f, what, p=progress, s=share: p.cancel() if f > s else None
            with self.assertRaises(Cancelled):
                deidentify(self.folder, self.place / "out", progress=progress)
            self.assertEqual([p.name for p in self.place.iterdir()], ["scans"])

    def test_an_image_of_a_study_becomes_a_new_one_and_the_old_is_deleted_by_its_name(self):
        self.series()
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.folder)
            (name,) = [r.name for r in study.records()]
            study.run("deidentify-image", image=name, subject="HM-99", key="tell nobody")
            self.assertNotIn("tell nobody", str([e.settings for e in study.logbook.entries()]))
            old, new = study.find("K-7781/" + name), study.find("HM-99/Series 1, without identity")
            self.assertIn("Alder", name)  # the old name may not stand in the new one, nor in the report's
            self.assertFalse([t for t in study.tables() if "Alder" in t.name])
            np.testing.assert_array_equal(study.image(new.id).data, study.image(old.id).data)
            self.assertNotIn("Alder", str(new.facts))
            self.assertTrue(any("PatientName" in str(study.table(t.id).rows) for t in study.tables()))
            with self.assertRaisesRegex(Trouble, "not the name"):
                study.delete(old.id, "something")
            files = [study.folder / "images" / str(old.id)]
            self.assertTrue(files[0].exists())
            study.delete(old.id, name)
            self.assertFalse(files[0].exists())
            self.assertEqual([r.id for r in study.records()], [new.id])
        with Study(self.place / "study") as study:
            self.assertEqual(study.image(new.id).data.shape, (9, 8, 4))

    def test_other_formats_lose_their_facts_and_areas(self):
        from kestrelmist.core.space import picture_space

        image = Image(
            RNG.integers(0, 255, (12, 10, 1)).astype(np.uint8),
            picture_space(12, 10, None),
            "Photo of Alder",
            facts={"Artist": "Alder"},
        )
        made, report = deidentify_image(
            image, labelled(image), how=Cleaning(pixels="blank the area", area=(2, 3, 4, 5))
        )
        self.assertNotIn("Alder", made.name + report.title)
        wanted = image.data.copy()
        wanted[2:6, 3:8] = 0
        np.testing.assert_array_equal(made.data, wanted)
        self.assertEqual(made.facts, {})
